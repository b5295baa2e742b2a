package app

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/draft"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/host"
	"proudlantern.example/lantern/labdir"
	"proudlantern.example/lantern/registry"
)

// Beginning is a lab that is about to be made.
type Beginning struct {
	Dir       string
	Lab       draft.Lab // good answers, to be changed
	Choices   draft.Choices
	Unreached error // why no engine answers
	Strangers int   // containers that run there, and are no lab's

	// KeptIgnoring tells that there is a file already that says what version control leaves alone: it stays.
	KeptIgnoring bool

	facts *survey.Survey
}

// NewFile is a file that is to be written, or was.
type NewFile struct {
	Path string      `json:"path"` // relative to the lab
	Mode fs.FileMode `json:"mode"`
	Text string      `json:"text,omitempty"` // left out where secrets are in it
}

// Begin looks at this machine, and at the engine at an address (the usual one where it is empty), for a new lab in a
// folder. Person is who is at work.
func Begin(ctx context.Context, dir, engineAddress, machine, person string) (*Beginning, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, usage("%s", err)
	}
	for at := dir; ; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, declare.LabFile)); err == nil {
			if at == dir {
				return nil, usage("%s is a lab already: it has a %s", dir, declare.LabFile)
			}
			return nil, usage("%s lies in the lab %s: a lab cannot lie in another one", dir, at)
		}
		if at == filepath.Dir(at) {
			break
		}
	}
	b := &Beginning{Dir: dir}
	_, err = os.Lstat(filepath.Join(dir, ignoreName))
	b.KeptIgnoring = !errors.Is(err, fs.ErrNotExist)
	look := func() {
		b.facts, b.Unreached = host.Survey(ctx, &lab.Host{Name: machine, Engine: engineAddress}, &registry.Logins{},
			func(*survey.Survey) survey.Ask { return survey.Ask{Paths: draft.Places} })
	}
	look()
	if sockets := b.facts.Sockets; engineAddress == "" && b.Unreached != nil && len(sockets) > 0 {
		engineAddress = sockets[0] // an engine that is elsewhere than usual
		look()
	}
	if ctx.Err() != nil {
		return nil, &Error{Kind: Interrupted, Message: "interrupted; nothing was written"}
	}
	b.Lab, b.Choices = draft.Suggest(b.facts, filepath.Base(dir), person)
	b.Lab.Engine = engineAddress
	for _, c := range b.facts.Containers {
		if c.Lab == "" && c.State == "running" {
			b.Strangers++
		}
	}
	return b, nil
}

// ignoreName is the file of what version control leaves alone (gitignore(5)).
const ignoreName = ".gitignore"

// Files are what is to be written: lab.toml, and a file that keeps secrets out of version control, where there is
// none yet.
func (b *Beginning) Files() []NewFile {
	files := []NewFile{{declare.LabFile, 0o644, b.Lab.File(b.facts)}}
	if !b.KeptIgnoring {
		files = append(files, NewFile{ignoreName, 0o644, draft.IgnoreFile})
	}
	return files
}

// Take puts answers that were given in place of the good ones.
func (b *Beginning) Take(given draft.Lab) {
	for _, a := range []struct {
		to *string
		of string
	}{{&b.Lab.Name, given.Name}, {&b.Lab.Host, given.Host}, {&b.Lab.Engine, given.Engine},
		{&b.Lab.Address, given.Address}, {&b.Lab.Timezone, given.Timezone}, {&b.Lab.Owner, given.Owner},
		{&b.Lab.Data, given.Data}} {
		if a.of != "" {
			*a.to = a.of
		}
	}
}

// Write makes the folder and its files. Nothing is written over.
func (b *Beginning) Write() error {
	if err := os.MkdirAll(b.Dir, 0o755); err != nil {
		return usage("the folder cannot be made: %s", labdir.InWords(err))
	}
	files := b.Files()
	slices.Reverse(files) // a lab is there once its lab.toml is
	for _, f := range files {
		if err := labdir.WriteIn(b.Dir, f.Path, "", f.Text, f.Mode); err != nil {
			return usage("%s cannot be written: %s", f.Path, labdir.InWords(err))
		}
	}
	return nil
}
