package app

import (
	"maps"
	"os"
	"path/filepath"
	"slices"

	"proudlantern.example/lantern/core/interchange"
	"proudlantern.example/lantern/labdir"
)

// Export returns a stack in the words of the specification that docs/import.md names, for handing it to somebody else.
func (w *Workspace) Export(stack string) (interchange.Exported, error) {
	st := w.Stack(stack)
	if st == nil || st.Broken {
		return interchange.Exported{}, usage("the lab has no stack %s that could be read", stack)
	}
	e, err := interchange.Export(st)
	if err != nil {
		return e, usage("%s cannot be written: %s", stack, err)
	}
	return e, nil
}

// WriteExport writes an export into a file, and its environment files beside it. Nothing is written over. It returns the
// files.
func WriteExport(file string, e interchange.Exported) ([]string, error) {
	dir := filepath.Dir(file)
	files := []NewFile{{filepath.Base(file), 0o644, e.Text}}
	for _, name := range slices.Sorted(maps.Keys(e.Env)) {
		files = append(files, NewFile{name, SecretMode, e.Env[name]})
	}
	var written []string
	for _, f := range files {
		if _, err := os.Lstat(filepath.Join(dir, f.Path)); err == nil {
			return written, usage("%s exists already, and nothing is written over", filepath.Join(dir, f.Path))
		}
	}
	for _, f := range files {
		if err := labdir.WriteIn(dir, f.Path, "", f.Text, f.Mode); err != nil {
			return written, usage("%s cannot be written: %s", f.Path, labdir.InWords(err))
		}
		written = append(written, filepath.Join(dir, f.Path))
	}
	return written, nil
}
