package app

import (
	"cmp"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/interchange"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/labdir"
)

// Import writes nothing yet: it makes a stack of a file in the open specification that docs/import.md names. Nothing outside of the
// file's folder is read.
func (w *Workspace) Import(file, stack string, profiles []string) (*Drafted, error) {
	if err := w.newStack(stack); err != nil {
		return nil, err
	}
	absolute, err := filepath.Abs(file)
	if err != nil {
		return nil, usage("%s: %s", file, err)
	}
	dir, name := filepath.Split(absolute)
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, usage("%s cannot be read: %s", file, labdir.InWords(err))
	}
	defer root.Close()
	text, err := labdir.Read(root, name)
	if err != nil {
		return nil, usage("%s cannot be read: %s", file, labdir.InWords(err))
	}
	env := map[string]string{}
	if beside, err := labdir.Read(root, ".env"); err == nil {
		env = interchange.DotEnv(beside)
	}
	from := source.NewFile(name, text)
	got, problem := interchange.Import(from, interchange.Input{
		Stack: stack, Folder: filepath.Clean(dir), Env: env, Profiles: profiles,
		Read: func(path string) (string, error) { return labdir.Read(root, path) },
		Exists: func(path string) bool {
			_, err := root.Stat(path)
			return err == nil
		},
	})
	if problem != nil {
		at := problem.At.Place()
		return nil, &Error{Kind: Stopped, Message: at.String() + ": " + problem.Message}
	}
	d := &Drafted{Stack: stack, Notes: []DraftNote{}, Files: []NewFile{{stack + "/" + declare.StackFile, 0o644, got.Text}}}
	for _, name := range slices.Sorted(maps.Keys(got.Env)) {
		d.Files = append(d.Files, NewFile{stack + "/" + name, SecretMode, got.Env[name]})
	}
	for _, n := range got.Notes {
		d.Notes = append(d.Notes, DraftNote{NoteAt{cmp.Or(n.File, name), n.Line}, n.Element, n.Text})
	}
	if w.caller.Learn != nil {
		for _, text := range got.Env {
			for _, value := range interchange.DotEnv(text) {
				w.caller.Learn(value)
			}
		}
	}
	return d, nil
}
