package app

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"syscall"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/prepare"
	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/labdir"
)

// Preparation is what has to change in folders, so that services can work.
type Preparation struct {
	Steps []prepare.Step
	Open  []prepare.Open

	lab   *Workspace
	named Targets
	host  string
}

// Prepare works out what has to change for the services of the named stacks, or of all. The lab has to be surveyed.
// It changes nothing yet.
func (w *Workspace) Prepare(ctx context.Context, named Targets, onHost string) (*Preparation, error) {
	return w.prepare(ctx, named, onHost, wasKilled(w.Dir))
}

// wasKilled reports whether the last preparation has no end.
func wasKilled(dir string) bool {
	all, _ := journals(dir)
	if len(all) == 0 {
		return false
	}
	notes, err := readJournal(all[len(all)-1])
	return err == nil && !slices.ContainsFunc(notes, func(n folders.Note) bool { return n.End })
}

func (w *Workspace) prepare(ctx context.Context, named Targets, onHost string, killed bool) (*Preparation, error) {
	if _, err := w.StacksOf(named, onHost); err != nil {
		return nil, err
	}
	// What lies in folders, and the way there, counts as well: all of it is looked at.
	w = w.lookCloser(ctx, func(h *lab.Host) []string { return w.Ask(h).Paths })
	stacks, err := w.StacksOf(named, onHost)
	if err != nil {
		return nil, err
	}
	p := &Preparation{lab: w, named: named, host: onHost}
	var elsewhere error
	here := false
	for _, h := range w.HostsOf(onHost) {
		own := slices.DeleteFunc(slices.Clone(stacks), func(st *lab.Stack) bool { return st.Host != h })
		if len(own) == 0 {
			continue
		}
		if err := w.Unreached[h.Name]; err != nil {
			return nil, unreachable(h.Name, err)
		}
		if err := w.canChange(ctx, h, "prepare"); err != nil {
			elsewhere = err
			continue
		}
		here = true
		steps, open := prepare.Steps(w.Lab, h, own, killed)
		p.Steps, p.Open = append(p.Steps, steps...), append(p.Open, open...)
	}
	switch {
	case elsewhere != nil && !here:
		return nil, elsewhere
	case elsewhere != nil:
		w.warn("%s", elsewhere)
	}
	p.Open = slices.CompactFunc(p.Open, func(a, b prepare.Open) bool { return a == b })
	return p, nil
}

// Changes returns all changes in words, in their order.
func (p *Preparation) Changes() []prepare.Change {
	all := []prepare.Change{}
	for _, s := range p.Steps {
		all = append(all, s.Changes...)
	}
	return all
}

// Carry carries the steps out, each written down before it is done, and looks again: an error where a service still
// lacks something.
func (p *Preparation) Carry(ctx context.Context, report func(done string)) error {
	unlock, err := labdir.Lock(p.lab.Dir)
	if err != nil {
		return usage("the lab cannot be written: %s", labdir.InWords(err))
	}
	defer unlock()
	j, err := openJournal(p.lab.Dir)
	if err != nil {
		return err
	}
	defer j.close()
	team := p.lab.team("prepare")
	defer team.close()
	if err := team.gather(ctx, p.Steps); err != nil {
		return err
	}
	for _, s := range p.Steps {
		if ctx.Err() != nil {
			return &Error{Kind: Interrupted, Message: "interrupted; lantern prepare goes on, --undo takes back what was done"}
		}
		name := s.Changes[0].Host
		if err := team.of[name].Carry(ctx, s, func(n folders.Note) error {
			n.Host = name
			return j.note(n)
		}); err != nil {
			return notPrepared(s, err)
		}
		report(s.Will.Path)
	}
	now, err := p.lab.Survey(ctx, p.host).prepare(ctx, p.named, p.host, false)
	if err != nil {
		return err
	}
	if len(now.Steps) > 0 {
		c := now.Changes()[0]
		return &Error{Kind: Manual, Message: fmt.Sprintf("%s still lacks something: %s", c.Path, c.Why)}
	}
	return j.end()
}

// notPrepared words why a step was not done.
func notPrepared(s prepare.Step, err error) error {
	e := &Error{Kind: Stopped, Message: s.Will.Path + " could not be changed", Because: err.Error(), Err: err,
		Do: "lantern prepare --undo takes back what was done before it"}
	switch {
	case errors.Is(err, fs.ErrPermission):
		e.Because, e.Do = "you may not do that", "run it as root: sudo lantern prepare"
	case errors.Is(err, syscall.ENOTSUP):
		e.Because = "its file system knows no access control lists"
		e.Do = fmt.Sprintf("give it to the service: chown %d:%d '%s'", s.Will.UID, s.Will.GID, s.Will.Path)
	case errors.Is(err, folders.ErrMeanwhile):
		e.Do = "run lantern prepare again"
	}
	return e
}
