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

// ImportCommand writes nothing yet: it makes a stack of a command line that starts a container.
func (w *Workspace) ImportCommand(line, stack, onHost string) (*Drafted, error) {
	if err := w.newStack(stack); err != nil {
		return nil, err
	}
	host, hosts := w.importHost(onHost)
	dir, err := os.Getwd()
	if err != nil {
		return nil, usage("where you are cannot be found out: %s", labdir.InWords(err))
	}
	got, problem := interchange.ImportCommand(source.NewFile("command line", line), interchange.Input{
		Stack: stack, Host: host, Hosts: hosts, Folder: dir, Env: map[string]string{},
		Read: func(path string) (string, error) { return labdir.ReadIn(dir, path) },
		Exists: func(path string) bool {
			_, err := os.Stat(filepath.Join(dir, path))
			return err == nil
		},
	})
	if problem != nil {
		return nil, &Error{Kind: Stopped, Message: problem.Message}
	}
	return w.imported(stack, "command line", got), nil
}

// Import writes nothing yet: it makes a stack of a file in the open specification that docs/import.md names. Nothing outside of the
// file's folder is read.
func (w *Workspace) Import(file, stack, onHost string, profiles []string) (*Drafted, error) {
	if err := w.newStack(stack); err != nil {
		return nil, err
	}
	host, hosts := w.importHost(onHost)
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
		Stack: stack, Host: host, Hosts: hosts, Folder: filepath.Clean(dir), Env: env, Profiles: profiles, Networks: w.networkNames(),
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
	return w.imported(stack, name, got), nil
}

// importHost returns the host that a stack is for, where the lab has several; or those, where nobody has said which.
func (w *Workspace) importHost(onHost string) (host string, hosts []string) {
	switch {
	case len(w.Hosts) < 2:
		return "", nil
	case onHost != "":
		return onHost, nil
	}
	for _, h := range w.Hosts {
		hosts = append(hosts, h.Name)
	}
	return "", hosts
}

// networkNames returns the names of the networks of the lab.
func (w *Workspace) networkNames() []string {
	var names []string
	for _, n := range w.Networks {
		names = append(names, n.Name)
	}
	return names
}

// imported returns what is to be written of an import. Its secrets are told to the caller.
func (w *Workspace) imported(stack, name string, got *interchange.Stack) *Drafted {
	d := &Drafted{Stack: stack, Notes: []DraftNote{}, Files: []NewFile{{stack + "/" + declare.StackFile, 0o644, got.Text}}}
	for _, file := range slices.Sorted(maps.Keys(got.Env)) {
		d.Files = append(d.Files, NewFile{stack + "/" + file, SecretMode, got.Env[file]})
	}
	d.Lab, d.Profiles = got.Lab, got.Profiles
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
	return d
}
