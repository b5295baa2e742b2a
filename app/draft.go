package app

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/draft"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/labdir"
)

// Drafted is a stack that was made out of something else.
type Drafted struct {
	Stack  string
	Stacks []string // instead, where there are several

	Profiles []string // of services of an imported file that were left out
	Files    []NewFile
	Notes    []DraftNote
	Lab      string   // tables that are added to lab.toml
	EnvFile  string   // of the secrets that are made up when it is written; "" where it has none
	Unknown  []string // what could not be found out about images
}

// DraftNote is what a person has to look at.
type DraftNote struct {
	At      NoteAt `json:"at"`
	Element string `json:"element"` // such as service.desk.ports
	Text    string `json:"text"`
}

// NoteAt is a place in a file.
type NoteAt struct {
	File string `json:"file"`
	Line int    `json:"line"` // from 1 on
}

// Draft writes nothing yet: it makes a stack of images for a host, from what these say of themselves.
func (w *Workspace) Draft(ctx context.Context, stack, onHost string, references []string) (*Drafted, error) {
	if err := w.newStack(stack); err != nil {
		return nil, err
	}
	hosts := w.HostsOf(onHost)
	switch {
	case len(hosts) > 1:
		var names []string
		for _, h := range hosts {
			names = append(names, h.Name)
		}
		return nil, usage("the lab has several hosts: --host says for which one the stack is: %s", strings.Join(names, ", "))
	case len(hosts) == 0:
		return nil, usage("the lab has no host")
	}
	w = w.Survey(ctx, hosts[0].Name)
	look, err := LookAtImages(ctx, w, hosts[0].Name, w.caller.NoHelpers)
	if err != nil {
		return nil, err
	}
	defer look.Close()
	references, chosen := look.withTags(ctx, references)
	facts, err := look.Images(ctx, references)
	if err != nil {
		return nil, &Error{Kind: Interrupted, Message: "interrupted; nothing was written"}
	}
	d := &Drafted{Stack: stack, Notes: []DraftNote{}}
	if look.NoEngine != nil {
		d.Unknown = append(d.Unknown, "no engine answers, so only registries were asked, and which ports are free is not known: "+
			look.NoEngine.Error())
	}
	var images []draft.Image
	var cards []NewFile
	for _, i := range facts {
		if i.Source == survey.Absent {
			do := "lantern image " + i.Reference + " shows more"
			if len(i.Near) > 0 {
				do = "what its registry has: " + strings.Join(i.Near, ", ")
			}
			return nil, &Error{Kind: Stopped, Message: i.Reference + " exists neither on the host nor in its registry", Do: do}
		}
		if i.Unknown != "" {
			d.Unknown = append(d.Unknown, i.Reference+": "+i.Unknown)
		}
		one := i.forDraft()
		one.Chosen = slices.Contains(chosen, i.Reference)
		images = append(images, one)
		if i.Card != nil && i.Card.From == FromRegistry {
			// From now on it is the lab's own: the check knows it without a registry, and it changes for nobody.
			card := NewFile{w.freeCardFile(i.Reference), 0o644, fromRegistry(i)}
			if !slices.ContainsFunc(cards, func(f NewFile) bool { return f.Path == card.Path }) {
				cards = append(cards, card)
			}
		}
	}
	file := stack + "/" + declare.StackFile
	drafted := draft.Stack(w.draftPlace(stack, onHost), images)
	d.Files = append([]NewFile{{file, 0o644, drafted.Text}}, cards...)
	if drafted.EnvFile != "" {
		d.EnvFile = stack + "/" + drafted.EnvFile
	}
	for _, n := range drafted.Notes {
		d.Notes = append(d.Notes, DraftNote{NoteAt{file, n.Line}, n.Element, n.Text})
	}
	return d, nil
}

// DraftLike writes nothing yet: it makes a stack like another one of the lab, on the same host.
func (w *Workspace) DraftLike(ctx context.Context, stack, like string) (*Drafted, error) {
	if err := w.newStack(stack); err != nil {
		return nil, err
	}
	st := w.Stack(like)
	if st == nil || st.Host == nil || st.Broken {
		return nil, usage("the lab has no stack %s that could be read", like)
	}
	w = w.Survey(ctx, st.Host.Name)
	st = w.Stack(like)
	c := draft.Like(w.draftPlace(stack, st.Host.Name), st, w.EnvFiles, characters)
	file := stack + "/" + declare.StackFile
	d := &Drafted{Stack: stack, Notes: []DraftNote{}, Files: []NewFile{{file, 0o644, c.Text}}}
	for _, name := range slices.Sorted(maps.Keys(c.Env)) {
		d.Files = append(d.Files, NewFile{stack + "/" + name, SecretMode, c.Env[name]})
	}
	for _, n := range c.Notes {
		d.Notes = append(d.Notes, DraftNote{NoteAt{file, n.Line}, n.Element, n.Text})
	}
	if err := w.Unreached[st.Host.Name]; err != nil {
		d.Unknown = append(d.Unknown, "no engine answers, so which ports are free is not known: "+err.Error())
	}
	return d, nil
}

// newStack makes sure that a stack of that name can be written.
func (w *Workspace) newStack(stack string) error {
	if !declare.IsName(stack) {
		return usage("%q cannot be the name of a stack: a small letter, then small letters, digits and -, at most 40", stack)
	}
	if _, err := os.Lstat(filepath.Join(w.Dir, stack)); !errors.Is(err, fs.ErrNotExist) {
		return usage("%s exists already, and nothing is written over", stack)
	}
	return nil
}

// draftPlace is what a draft has to know of the lab. It is surveyed.
func (w *Workspace) draftPlace(stack, onHost string) draft.Place {
	h := w.HostsOf(onHost)[0]
	taken := map[int]bool{}
	for _, u := range w.Ports(h) {
		taken[u.Port] = true
	}
	p := draft.Place{
		Stack: stack, Owner: w.decl.Owner.IsSet(), Taken: func(port int) bool { return taken[port] },
		Data: slices.ContainsFunc(w.decl.Folders, func(f declare.Named) bool { return f.Name == "data" }),
	}
	if len(w.Hosts) > 1 {
		p.Host = h.Name
	}
	return p
}

// forDraft returns what a draft has to know of an image.
func (i ImageFacts) forDraft() draft.Image {
	one := draft.Image{
		Reference: i.Reference, About: i.About(), Ports: i.Ports, Volumes: i.Volumes, User: i.User, Env: i.Env,
		Unknown: len(i.Platforms) == 0, // which each image declares
	}
	if i.Card != nil {
		one.Card = i.Card.card
	}
	return one
}

// addToLab adds tables at the end of lab.toml. What stands there stays.
func (w *Workspace) addToLab(tables string) error {
	was, err := labdir.ReadIn(w.Dir, declare.LabFile)
	if err != nil {
		return usage("%s cannot be read: %s", declare.LabFile, labdir.InWords(err))
	}
	text := was
	if !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return writeFile(declare.LabFile, w.Dir, declare.LabFile, was, text+tables, 0o644)
}

// WriteDraft writes the files of a draft, and makes up its secrets. It returns which were made up, as FILE: KEY.
func (w *Workspace) WriteDraft(d *Drafted) (made []string, err error) {
	if d.Lab != "" {
		if err := w.addToLab(d.Lab); err != nil {
			return nil, err
		}
	}
	for _, f := range d.Files {
		if err := labdir.WriteIn(w.Dir, f.Path, "", f.Text, f.Mode); err != nil {
			return nil, usage("%s cannot be written: %s", f.Path, labdir.InWords(err))
		}
	}
	now, err := w.Overlay(nil)
	if err != nil {
		return nil, err
	}
	if d.Stack == "" { // of several stacks, whose secrets are there
		return nil, nil
	}
	_, made, err = now.MakeUp(d.Stack)
	return made, err
}
