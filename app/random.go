package app

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"math/big"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/labdir"
)

// MakeUp makes up the values of [let] that are to be, and are not there yet, writes them into their environment files,
// and reads the lab again. What is there stays. Where stacks are named, only their own values are made up. It returns
// which were made up, as FILE: KEY.
func (w *Workspace) MakeUp(stacks ...string) (other *Workspace, made []string, err error) {
	if len(w.wanting(stacks)) == 0 {
		return w, nil, nil
	}
	unlock, err := labdir.Lock(w.Dir)
	if err != nil {
		return nil, nil, usage("the lab cannot be written: %s", labdir.InWords(err))
	}
	defer unlock()
	// Another process may have made them up meanwhile.
	if w, err = w.Overlay(nil); err != nil {
		return nil, nil, err
	}
	for _, one := range w.wanting(stacks) {
		if err := w.writeValue(one); err != nil {
			return nil, made, err
		}
		made = append(made, one.file+": "+one.key)
	}
	other, err = w.Overlay(nil)
	return other, made, err
}

// wanted is a value that is to be made up.
type wanted struct {
	file, key string
	length    int
}

// wanting returns the values of some stacks (none named: of the whole lab) that are to be made up and are not there,
// each once.
func (w *Workspace) wanting(stacks []string) []wanted {
	var all []wanted
	add := func(dir string, lets []declare.Let) {
		for _, l := range lets {
			path, ok := declare.EnvPath(dir, l.EnvFile.Value)
			if l.MadeUp() == 0 || !ok || !declare.IsVariable(l.Key.Value) || strings.Contains(l.EnvFile.Value, "${") {
				continue
			}
			file, read := w.decl.EnvFiles[path]
			if read && file == nil {
				continue // it cannot be read: what is in it is not known
			}
			there := false
			if file != nil {
				_, there = file.Get(l.Key.Value)
			}
			if !there && !slices.ContainsFunc(all, func(o wanted) bool { return o.file == path && o.key == l.Key.Value }) {
				all = append(all, wanted{path, l.Key.Value, l.MadeUp()})
			}
		}
	}
	if len(stacks) == 0 {
		add("", w.decl.Let)
	}
	for _, st := range w.decl.Stacks {
		if len(stacks) == 0 || slices.Contains(stacks, st.Name) {
			add(st.Name, st.Let)
		}
	}
	return all
}

// writeValue adds a value to its file, which only its owner may read where it is new.
func (w *Workspace) writeValue(one wanted) error {
	was, err := labdir.ReadIn(w.Dir, one.file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return usage("%s cannot be read: %s", one.file, labdir.InWords(err))
	}
	// A file that is there and was not read, or has the key after all, is left alone.
	if file, _ := declare.ParseEnvFile(source.NewFile(one.file, was)); file != nil {
		if _, there := file.Get(one.key); there {
			return nil
		}
	}
	text := was
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return writeFile(one.file, w.Dir, one.file, was, text+one.key+"="+characters(one.length)+"\n", SecretMode)
}

// SecretMode is that of new files with secrets.
const SecretMode fs.FileMode = 0o600

// alphabet has no character that means something to a shell, a URL, or a file of ours.
const alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"

// characters makes up a value from the system's random source.
func characters(n int) string {
	var b strings.Builder
	for range n {
		i, err := rand.Int(rand.Reader, big.NewInt(int64(len(alphabet))))
		if err != nil {
			panic(err) // crypto/rand says that it never fails
		}
		b.WriteByte(alphabet[i.Int64()])
	}
	return b.String()
}
