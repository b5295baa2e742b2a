package app

import (
	"os"
	"path/filepath"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/labdir"
)

// Tidied is a file in its canonical layout.
type Tidied struct {
	Was, Text string
	Problems  []source.Problem // why it has none

	dir, path, shown string
}

// Tidy lays out a file again, and writes nothing. Links may not lead out of the lab that it is in, nor out of
// its folder where it is in none. Shown is the path for messages.
func Tidy(path, shown string) (*Tidied, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	t := &Tidied{dir: filepath.Dir(path), shown: shown}
	for at := t.dir; at != filepath.Dir(at); at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, declare.LabFile)); err == nil {
			t.dir = at
			break
		}
	}
	if t.path, err = filepath.Rel(t.dir, path); err != nil {
		return nil, err
	}
	if t.Was, err = labdir.ReadIn(t.dir, t.path); err != nil {
		return nil, err
	}
	t.Text, t.Problems = declare.Tidy(source.NewFile(shown, t.Was))
	return t, nil
}

// Write puts the layout into the file.
func (t *Tidied) Write() error { return writeFile(t.shown, t.dir, t.path, t.Was, t.Text, 0o600) }

// TomlFiles returns the files of the lab that have a canonical layout.
func (w *Workspace) TomlFiles() []string {
	files := []string{filepath.Join(w.Dir, declare.LabFile)}
	for _, st := range w.Stacks {
		if st.Gate != nil {
			continue // lab.toml declares it
		}
		files = append(files, filepath.Join(w.Dir, st.Name, declare.StackFile))
	}
	for _, c := range w.decl.Cards {
		files = append(files, filepath.Join(w.Dir, filepath.FromSlash(c.File.Path)))
	}
	return files
}
