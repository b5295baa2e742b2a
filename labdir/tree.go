package labdir

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"syscall"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/internal/system"
)

// tree reads a file or folder of a lab as a whole, see [declare.Lab]. Links may not lead out of the lab, and none to a
// folder is followed. The texts of the overlay take the place of what the files say.
func tree(root *os.Root, overlay map[string]string, at string) ([]declare.TreeEntry, error) {
	t := treeReader{root: root, overlay: overlay, top: at, left: declare.MostBytesInFiles}
	if text, ok := overlay[at]; ok {
		return []declare.TreeEntry{{Text: text, Executable: isExecutable(root, at)}}, nil
	}
	err := t.read(at)
	for p, text := range overlay {
		name, below := strings.CutPrefix(p, at+"/")
		if !below || slices.ContainsFunc(t.found, func(e declare.TreeEntry) bool { return e.Name == name }) {
			continue
		}
		if errors.Is(err, fs.ErrNotExist) {
			t.found, err = append(t.found, declare.TreeEntry{Folder: true}), nil
		}
		for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
			if !slices.ContainsFunc(t.found, func(e declare.TreeEntry) bool { return e.Name == dir }) {
				t.found = append(t.found, declare.TreeEntry{Name: dir, Folder: true})
			}
		}
		t.found = append(t.found, declare.TreeEntry{Name: name, Text: text})
	}
	slices.SortFunc(t.found, func(a, b declare.TreeEntry) int { return strings.Compare(a.Name, b.Name) })
	return t.found, err
}

func isExecutable(root *os.Root, at string) bool {
	info, err := root.Stat(at)
	return err == nil && info.Mode()&0o100 != 0
}

// treeReader collects what is below a folder.
type treeReader struct {
	root    *os.Root
	overlay map[string]string
	top     string
	found   []declare.TreeEntry
	left    int64 // bytes that may still be read
}

func (t *treeReader) read(at string) error {
	name := strings.TrimPrefix(strings.TrimPrefix(at, t.top), "/")
	if len(t.found) == declare.MostInFiles {
		return fmt.Errorf("%s holds more than %d files and folders", t.top, declare.MostInFiles)
	}
	info, err := t.root.Stat(at)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission):
		return err
	case err != nil:
		return fmt.Errorf("%s cannot be read, or it is a link that leads out of the lab", at)
	case info.IsDir():
		if link, err := t.root.Lstat(at); err == nil && link.Mode()&fs.ModeSymlink != 0 {
			return fmt.Errorf("%s is a link to a folder, which is not followed", at)
		}
		t.found = append(t.found, declare.TreeEntry{Name: name, Folder: true})
		list, err := fs.ReadDir(t.root.FS(), at)
		if err != nil {
			return err
		}
		for _, e := range list {
			if err := t.read(at + "/" + e.Name()); err != nil {
				return inPlace(err, at+"/"+e.Name())
			}
		}
		return nil
	}
	text, ok := t.overlay[at]
	if !ok {
		if text, err = t.text(at); err != nil {
			return err
		}
	}
	t.left -= int64(len(text))
	t.found = append(t.found, declare.TreeEntry{Name: name, Executable: info.Mode()&0o100 != 0, Text: text})
	return nil
}

// inPlace says which file below a folder an error is about.
func inPlace(err error, at string) error {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%s is a link that leads nowhere, or is gone by now", at)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%s may not be read", at)
	}
	return err
}

func (t *treeReader) text(at string) (string, error) {
	f, err := t.root.OpenFile(at, os.O_RDONLY|system.NonBlock, 0)
	if errors.Is(err, syscall.ENXIO) {
		return "", fmt.Errorf("%s is no plain file", at)
	}
	if err != nil {
		return "", err
	}
	defer f.Close()
	text, err := read(f, t.left)
	switch {
	case errors.Is(err, ErrNotPlain):
		return "", fmt.Errorf("%s is no plain file", at)
	case errors.Is(err, ErrTooLarge):
		return "", fmt.Errorf("with %s, %s is larger than %d MiB", at, t.top, declare.MostBytesInFiles>>20)
	}
	return text, err
}
