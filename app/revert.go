package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/labdir"
)

// Revert is the way back to an entry of the logbook.
type Revert struct {
	Entry history.Entry
	Run   *Run     // with the one plan of the stack; nil before Plan
	Files []string // that say something else today, and are written back

	now    *Workspace // as the files are
	then   *Workspace // as they were
	texts  map[string]string
	modes  map[string]fs.FileMode
	was    map[string]string // texts of today, by path
	inform func(format string, args ...any)
}

// Revert finds the way back of a stack to an entry, by its number as a person has written it; "" for the last
// deploy that succeeded and was different from what runs. WithLab also brings back files that other stacks
// share. What a person wants to know on the way is told to inform.
func (w *Workspace) Revert(stack, number string, withLab bool,
	inform func(format string, args ...any)) (*Revert, error) {
	if number == "" {
		var err error
		if number, err = w.entryBefore(stack, inform); err != nil {
			return nil, err
		}
	}
	e, files, err := w.Entry(stack, number)
	if err != nil {
		return nil, err
	}
	if e.Kind == history.Retire || e.Result != deploy.Done {
		return nil,
			usage("entry %d of %s is no deploy that succeeded: there is nothing to go back to", e.Number, stack)
	}
	r := &Revert{
		Entry:  e,
		now:    w,
		texts:  map[string]string{},
		modes:  map[string]fs.FileMode{},
		was:    map[string]string{},
		inform: inform,
	}
	for _, f := range files {
		if strings.HasPrefix(f.Path, stack+"/") || withLab && !strings.HasPrefix(f.Path, history.Before) {
			r.texts[f.Path], r.modes[f.Path] = f.Text, f.Mode
		}
	}
	return r, nil
}

// entryBefore returns the number of the last deploy that succeeded and left something else running than the
// last one did. After one that was put back that is the one that runs: only the files are something else;
// after a retirement it is the one that ran last.
func (w *Workspace) entryBefore(stack string, inform func(format string, args ...any)) (string, error) {
	list, err := w.Entries(stack)
	if err != nil {
		return "", err
	}
	if len(list) == 0 {
		if _, err := w.StacksOf(Targets{{Stack: stack}}, ""); err != nil {
			return "", usage("%s, and the logbook of this clone has no deploy of %s", err, stack)
		}
	}
	ended := len(list) > 0 &&
		(list[len(list)-1].Result == deploy.PutBack || list[len(list)-1].Kind == history.Retire)
	done := slices.DeleteFunc(slices.Clone(list), func(e history.Entry) bool {
		return e.Result != deploy.Done || e.Kind == history.Retire
	})
	if ended && len(done) > 0 {
		last := done[len(done)-1].Number
		inform("entry %d of %s ran last", last, stack)
		return fmt.Sprint(last), nil
	}
	for _, e := range slices.Backward(done) {
		if !maps.Equal(e.Runs(), done[len(done)-1].Runs()) {
			return fmt.Sprint(e.Number), nil
		}
	}
	return "",
		usage(
			"the logbook of this clone has no earlier deploy of %s that succeeded and "+
				"left something else running", stack)
}

// Plan checks the stack as it was then, and compares it with what runs. The returned lab is that of then,
// also with an error; the error may be a *[Refusal].
func (r *Revert) Plan(ctx context.Context, onHost string) (*Workspace, error) {
	stack := r.Entry.Stack
	then, err := r.now.Overlay(r.texts)
	if err != nil {
		return nil, err
	}
	if then, _, err = then.Admit(ctx, Targets{{Stack: stack}}, onHost,
		func(check.Finding) bool { return false }); err != nil {
		return then, err
	}
	if r.then, err = r.pin(ctx, then); err != nil {
		return then, err
	}
	st := r.then.Stack(stack)
	entry := history.Entry{Kind: history.Revert, RevertOf: r.Entry.Number}
	for _, path := range slices.Sorted(maps.Keys(r.texts)) {
		if now := r.then.TextNow(path); now != r.texts[path] {
			r.Files = append(r.Files, path)
			r.was[path] = now
			if now != "" {
				entry.Replaced = append(entry.Replaced, path)
			}
		}
	}
	if r.Run, err = r.then.Plan(ctx, []*lab.Stack{st}, RunOptions{Entry: entry}); err != nil {
		return r.then, err
	}
	r.sayWhatDiffers(r.Run.Plans[0])
	return r.then, nil
}

// pin lets names of images that stand for another image today stand for the one of then, by its digest.
func (r *Revert) pin(ctx context.Context, then *Workspace) (*Workspace, error) {
	st := then.Stack(r.Entry.Stack)
	d, err := then.deployer(ctx, st.Host, nil)
	if err != nil {
		return nil, err
	}
	defer d.Engine.Close()
	var edits [][]source.Edit
	for _, s := range st.Services {
		i := slices.IndexFunc(r.Entry.Services, func(v history.Service) bool {
			return v.Service == s.Name && v.Image == s.Image.Text
		})
		if i < 0 || r.Entry.Services[i].ID == "" || then.Builder(st.Host, s.Image.Text) != nil || strings.Contains(s.Image.Text, "@") {
			continue
		}
		was := r.Entry.Services[i]
		now, err := d.Engine.Image(ctx, s.Image.Text)
		if err != nil && !errors.Is(err, engine.ErrNotFound) {
			return nil, unreachable(st.Host.Name, err)
		}
		switch at := s.Image.Part(0, len(s.Image.Text)); {
		case err == nil && now.ID == was.ID:
		case was.Digest == "" || at.File == nil || at.File.Path != st.Name+"/"+declare.StackFile ||
			at.Text() != s.Image.Text:
			r.now.warn(
				"%s: %s is not the image any more that it was at entry %d, and nothing "+
					"tells where that one is", s.FullName(), s.Image.Text, r.Entry.Number)
		default:
			r.inform("%s: %s has moved since; the image of then is named by its digest", s.FullName(), s.Image.Text)
			edits = append(edits, []source.Edit{{At: at.File.Span(at.End, at.End), New: "@" + was.Digest}})
		}
	}
	if edits == nil {
		return then, nil
	}
	texts, _ := source.Apply(edits)
	maps.Copy(r.texts, texts)
	return then.Overlay(r.texts)
}

// sayWhatDiffers says which services are not what they were at the entry although their files are: lab.toml
// says something else today.
func (r *Revert) sayWhatDiffers(p plan.Stack) {
	for _, s := range p.Services {
		i := slices.IndexFunc(r.Entry.Services, func(v history.Service) bool { return v.Service == s.Name })
		if i < 0 || s.Service == nil || r.Entry.Services[i].ConfigDigest == "" ||
			strings.Contains(s.Container.Image, "@") {
			continue
		}
		if same, known := s.Container.SameDigest(r.Entry.Services[i].ConfigDigest, r.Entry.Stack); known && !same {
			r.now.warn(
				"%s is not wholly as it was at entry %d: lab.toml, a shared environment file or an account "+
					"of the host has changed since (--with-lab brings the files back)", s.Service.FullName(),
				r.Entry.Number)
		}
	}
}

// WriteBack writes the files as they were, and tells each.
func (r *Revert) WriteBack(each func(path string)) error {
	for _, path := range r.Files {
		if err := labdir.WriteIn(r.now.Dir, path, r.was[path], r.texts[path], r.modes[path]); err != nil {
			return &Error{
				Kind: Manual,
				Message: fmt.Sprintf(
					"%s runs as it was at entry %d, but %s could not be written: %s\n"+
						"  lantern logbook %s %d --save DIR writes the files elsewhere",
					r.Entry.Stack, r.Entry.Number, path, labdir.InWords(err), r.Entry.Stack, r.Entry.Number),
				Err: err,
			}
		}
		each(path)
	}
	return nil
}
