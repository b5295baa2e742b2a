package lab

import (
	"errors"
	"io/fs"
	"path"
	"strings"
	"unicode/utf8"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// File is a file or folder of the stack's folder that goes into the container.
type File struct {
	declare.File
	Path               string    // of its source, in the lab
	UID, GID           survey.ID // inside
	OwnerKnown         bool
	Entries            []Entry // what was found there, a folder before what is in it
	SourceAt, TargetAt source.Span
	ModeAt             source.Span // where no mode is written, that of the source
}

// Secret reports whether a secret is filled into it.
func (f File) Secret() bool {
	for _, e := range f.Entries {
		if e.Content.Secret() {
			return true
		}
	}
	return false
}

// Entry is a file or folder as it stands inside the container.
type Entry struct {
	Path    string
	Folder  bool
	Mode    uint32
	Content secret.Text

	From    string // its path in the lab
	Written string // what stands there, before anything is filled in
}

// Reload is how a service gets to know that its files have changed, instead of being replaced.
type Reload struct {
	Signal  string        // such as SIGHUP; else
	Command []secret.Text // is run inside
	At      source.Span
}

// mostFilled is how long a file may become into which values are filled, in bytes.
const mostFilled = 1 << 20

// stackFiles works out what goes into the container, and how it gets to know of it.
func (r *resolver) stackFiles(s *Service, d *declare.Settings, in *scope) {
	for _, t := range d.Files {
		v := r.expand(t, in)
		if v.Unknown {
			continue
		}
		parsed, err := declare.ParseFile(v.Text)
		if err != nil {
			r.syntax(err, v)
			continue
		}
		part := func(at [2]int) source.Span { return v.Part(at[0], at[0]+at[1]) }
		f := File{
			File: parsed, Path: path.Join(s.Stack.Name, parsed.Source),
			SourceAt: part(parsed.SourceAt), TargetAt: part(parsed.TargetAt), ModeAt: part(parsed.SourceAt),
		}
		if f.Mode != nil {
			f.ModeAt = part(parsed.ModeAt)
		}
		f.own(s)
		if f.Entries, err = r.entries(f, in); err != nil {
			r.problem("files-missing", f.SourceAt, "%s", err)
			continue
		}
		s.Files = append(s.Files, f)
	}
	switch {
	case d.Reload.IsSet():
		if v, ok := r.known(d.Reload, in); ok {
			signal, err := declare.ParseSignal(v.Text)
			if err != nil {
				r.syntax(err, v)
				return
			}
			s.Reload = &Reload{Signal: signal, At: v.Part(0, len(v.Text))}
		}
	case d.ReloadCommand != nil:
		if words := r.words(s, "reload", d.ReloadCommand, in); len(words) > 0 {
			s.Reload = &Reload{Command: words, At: d.ReloadCommand[0].Span}
		}
	}
}

// own works out to whom the files belong inside: what the line says, else who the service works as, else root.
func (f *File) own(s *Service) {
	f.OwnerKnown = true
	switch {
	case f.File.UID != nil:
		f.UID, f.GID = survey.ID(*f.File.UID), survey.ID(*f.File.GID)
	case s.RunAs != nil:
		f.UID, f.GID, f.OwnerKnown = s.RunAs.UID, s.RunAs.GID, s.RunAs.Known
	case s.InsideUser != "":
		f.UID, f.GID, f.OwnerKnown = imageUser(s.InsideUser)
	case s.OwnerUID != "" && s.Owner != nil:
		f.UID, f.GID, f.OwnerKnown = s.Owner.UID, s.Owner.GID, s.Owner.Known
	}
}

// entries reads what a line of files names. The error is for the person.
func (r *resolver) entries(f File, in *scope) ([]Entry, error) {
	found, err := r.decl.Tree(f.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, errors.New("there is no " + f.Path + " in the lab")
	case errors.Is(err, fs.ErrPermission):
		return nil, errors.New(f.Path + " may not be read")
	case err != nil:
		return nil, err
	}
	entries := make([]Entry, 0, len(found))
	for _, t := range found {
		e := Entry{
			Path: path.Join(f.Target, t.Name), Folder: t.Folder, Content: secret.Plain(t.Text),
			From: path.Join(f.Path, t.Name), Written: t.Text,
		}
		if f.Fill && !t.Folder {
			filled, err := r.fill(e.From, t.Text, in)
			if err != nil {
				return nil, err
			}
			e.Content = filled
		}
		e.Mode = f.modeOf(t, e.Content.Secret())
		entries = append(entries, e)
	}
	return entries, nil
}

// modeOf returns the mode that an entry gets. Without one in the files it does not depend on the machine that holds
// the lab, and only the owner reads a secret.
func (f File) modeOf(t declare.TreeEntry, hides bool) uint32 {
	mode := uint32(0o644)
	switch {
	case f.Mode != nil:
		if mode = *f.Mode; t.Folder {
			mode |= mode & 0o444 >> 2 // a folder that may be read may be walked through
		}
		return mode
	case hides && t.Executable:
		return 0o700
	case hides:
		return 0o600
	case t.Folder || t.Executable:
		return 0o755
	}
	return mode
}

// fill replaces the references in a file. The error is for the person; what is wrong with a reference is reported at
// its own line.
func (r *resolver) fill(name, text string, in *scope) (secret.Text, error) {
	if !strings.Contains(text, "${") {
		return secret.Plain(text), nil
	}
	if !utf8.ValidString(text) {
		return secret.Text{}, errors.New(name + " is no text in UTF-8, so nothing can be filled in")
	}
	file := source.NewFile(name, text)
	v := r.expandUpTo(declare.FileText(file), in, mostFilled)
	for _, p := range v.pieces {
		if !p.reference { // what stands beside a reference may be a secret to the letter
			file.Span(p.from, p.to).Hide()
		}
	}
	if v.Unknown || r.notHere(v) {
		return secret.Plain(""), nil // reported
	}
	return v.all(), nil
}
