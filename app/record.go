package app

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/labdir"
)

// Entries returns the entries of the logbook, of one stack or of all, oldest first.
func (w *Workspace) Entries(stack string) ([]history.Entry, error) {
	list, err := w.Book().List(stack)
	if err != nil {
		return nil, noLogbook(err)
	}
	return list, nil
}

// Entry finds an entry by its number as a person has written it, with the files of then.
func (w *Workspace) Entry(stack, number string) (history.Entry, []history.File, error) {
	n, err := strconv.Atoi(number)
	if err != nil {
		return history.Entry{}, nil, usage("%s is not the number of an entry", number)
	}
	e, files, err := w.Book().Find(stack, n)
	if errors.Is(err, history.ErrNoEntry) {
		return e, nil, usage("the logbook has no entry %d of %s (lantern logbook %s lists them)", n, stack, stack)
	}
	if err != nil {
		return e, nil, noLogbook(err)
	}
	return e, files, nil
}

// SaveFiles writes files into a folder that must not have them yet. Each calls back with the path once it is
// written.
func SaveFiles(dir string, files []history.File, each func(path string)) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return usage("%s cannot be made: %s", dir, labdir.InWords(err))
	}
	for _, f := range files {
		path := filepath.Join(dir, filepath.FromSlash(f.Path))
		err := labdir.WriteIn(dir, filepath.FromSlash(f.Path), "", f.Text, 0o600)
		if errors.Is(err, labdir.ErrChanged) {
			return usage("%s is there already; name a folder that is empty", path)
		}
		if err != nil {
			return usage("%s cannot be written: %s", path, labdir.InWords(err))
		}
		each(path)
	}
	return nil
}

// noLogbook words a logbook that cannot be used by a use case that is about it.
func noLogbook(err error) error {
	return &Error{Kind: Usage, Message: logbookTrouble(err), Err: err}
}

// logbookTrouble says what is wrong with a logbook.
func logbookTrouble(err error) string {
	switch {
	case errors.Is(err, history.ErrDamaged):
		return "the logbook (.lantern/logbook.db) is damaged; move it away, and a new one is begun"
	case errors.Is(err, history.ErrBusy):
		return "the logbook (.lantern/logbook.db) is held by another process"
	}
	return "the logbook (.lantern/logbook.db) cannot be used: " + labdir.InWords(err)
}

// files returns the files that a stack is declared by: lab.toml, its own, and environment files.
func (w *Workspace) files(stack string) []history.File {
	var list []history.File
	add := func(f *source.File) {
		if f == nil {
			return
		}
		mode := fs.FileMode(0o600)
		if info, err := os.Stat(filepath.Join(w.Dir, filepath.FromSlash(f.Path))); err == nil {
			mode = info.Mode().Perm()
		}
		list = append(list, history.File{Path: f.Path, Text: f.Text, Mode: mode})
	}
	add(w.decl.File)
	for _, st := range w.decl.Stacks {
		if st.Name == stack {
			add(st.File)
		}
	}
	for _, path := range slices.Sorted(maps.Keys(w.decl.EnvFiles)) {
		// One in another stack's folder is that stack's.
		if folder, _, inside := strings.Cut(path, "/"); !inside || folder == stack || w.Stack(folder) == nil {
			if e := w.decl.EnvFiles[path]; e != nil {
				add(e.File)
			}
		}
	}
	if st := w.Stack(stack); st != nil {
		for _, e := range keptFiles(w.Dir, st) {
			mode := fs.FileMode(0o644)
			if info, err := os.Stat(filepath.Join(w.Dir, filepath.FromSlash(e.From))); err == nil {
				mode = info.Mode().Perm()
			}
			list = append(list, history.File{Path: e.From, Text: e.Written, Mode: mode})
		}
	}
	return list
}

// mostKept is how much of the files that go into containers an entry of the logbook keeps, in bytes.
const mostKept = 8 << 20

// keptFiles returns the files of a stack that go into containers, or into its own images, and that the logbook keeps, each once: what is larger
// than any other file of a lab is not.
func keptFiles(dir string, st *lab.Stack) (kept []lab.Entry) {
	left, seen := mostKept, map[string]bool{}
	for _, s := range st.Services {
		for _, f := range s.Files {
			for _, e := range f.Entries {
				if n := len(e.Written); !e.Folder && !seen[e.From] && n <= labdir.MaxFile && n <= left {
					seen[e.From], left = true, left-n
					kept = append(kept, e)
				}
			}
		}
		if s.Build == nil || s.Build.Context == nil {
			continue
		}
		for _, f := range s.Build.Context.Files {
			from := path.Join(s.Build.Folder, f.Name)
			if f.Folder || f.Link != "" || seen[from] || f.Size > labdir.MaxFile || f.Size > int64(left) {
				continue
			}
			if text, err := labdir.ReadIn(dir, from); err == nil {
				seen[from], left = true, left-len(text)
				kept = append(kept, lab.Entry{From: from, Written: text})
			}
		}
	}
	return kept
}

// TextNow returns the text of a file of the lab as it is read now; "" when it is not there.
func (w *Workspace) TextNow(path string) string {
	text, err := labdir.ReadIn(w.Dir, path)
	if err != nil {
		return ""
	}
	return text
}

// lastEntry returns the highest number that the logbook knows for a stack. A logbook that cannot be read
// does not stop a deploy.
func (w *Workspace) lastEntry(stack string) int {
	last, err := w.Book().Last(stack)
	if err != nil {
		w.warn("%s", logbookTrouble(err))
	}
	return last
}

// record writes an entry. What goes wrong with that is said, and changes nothing.
func (w *Workspace) record(ctx context.Context, d *deploy.Deployer, e history.Entry, out deploy.Outcome) {
	e.Number, e.Host, e.Who, e.Result, e.Left, e.Seconds = out.Entry, d.Host, d.Self.Who, out.Result,
		out.Left, time.Since(e.Began).Round(time.Millisecond).Seconds()
	if out.Failure != nil {
		e.Why = out.Failure.Error()
		if w.caller.Hide != nil {
			e.Why = w.caller.Hide(e.Why)
		}
	}
	if out.Plan != nil {
		e.Services = servicesOf(context.WithoutCancel(ctx), d, *out.Plan)
	}
	files := w.files(e.Stack)
	for _, path := range e.Replaced {
		files = append(files, history.File{Path: history.Before + path, Text: w.TextNow(path), Mode: 0o600})
	}
	if err := w.Book().Add(e, files); err != nil {
		w.warn("this is not in the logbook: %s", logbookTrouble(err))
	}
}

// servicesOf says what a deploy did with each service, and which image a name stood for.
func servicesOf(ctx context.Context, d *deploy.Deployer, p plan.Stack) []history.Service {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	var list []history.Service
	for _, s := range p.Services {
		v := history.Service{Service: s.Name, Action: string(s.Action)}
		if s.Service != nil {
			v.Image = s.Container.Image
			if image, err := d.Engine.Image(ctx, v.Image); err == nil {
				v.ID, v.Digest = image.ID, image.Digest
			}
			if !s.LeftOut {
				v.ConfigDigest = s.Container.Digest(p.Stack.Name)
			}
		}
		list = append(list, v)
	}
	return list
}
