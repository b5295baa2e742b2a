package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"syscall"

	"proudlantern.example/lantern/core/access"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/prepare"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/hostconn"
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
// It changes nothing yet. Hosts are this machine: others are an error.
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
	return err == nil && !slices.ContainsFunc(notes, func(n note) bool { return n.End })
}

func (w *Workspace) prepare(ctx context.Context, named Targets, onHost string, killed bool) (*Preparation, error) {
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
		if err := w.isHere(ctx, h, "prepare"); err != nil {
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

// isHere makes sure that the files of a host are those of this machine.
func (w *Workspace) isHere(ctx context.Context, h *lab.Host, command string) error {
	e, err := engine.DialHost(ctx, h)
	if err != nil {
		return unreachable(h.Name, err)
	}
	defer e.Close()
	if e.Conn.Files != hostconn.Local {
		return usage("%s is another machine: run lantern %s there", h.Name, command)
	}
	if machine, err := e.Machine(ctx); err == nil && machine != nil {
		return usage("%s is a machine that the stand-in engine makes up: it has no folders", h.Name)
	}
	return nil
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
	for _, s := range p.Steps {
		if ctx.Err() != nil {
			return &Error{Kind: Interrupted, Message: "interrupted; lantern prepare goes on, --undo takes back what was done"}
		}
		if err := carry(ctx, j, s); err != nil {
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
	case errors.Is(err, errMeanwhile):
		e.Do = "run lantern prepare again"
	}
	return e
}

// errMeanwhile is that somebody else has changed something between the look and the change.
var errMeanwhile = errors.New("somebody has changed it meanwhile")

// place is where a step works: the path without links.
func place(p survey.Path) string { return cmp.Or(p.Real, p.Path) }

func carry(ctx context.Context, j *journal, s prepare.Step) error {
	at := place(s.Will)
	var h *hostconn.Handle
	var err error
	if s.Was.Kind == survey.Missing {
		if err = j.note(note{Path: at, Made: true}); err != nil {
			return err
		}
		h, err = hostconn.MakeFolder(at, func(h *hostconn.Handle) error {
			// From now on it is known which one is ours.
			if err := j.note(note{Path: at, Made: true, Inode: h.Inode}); err != nil {
				return err
			}
			return setRights(j, h, at, s)
		})
		if errors.Is(err, fs.ErrExist) {
			err = errMeanwhile
		}
	} else {
		h, err = hostconn.OpenHandle(at)
	}
	if err != nil {
		return err
	}
	defer h.Close()
	if s.Was.Kind != survey.Missing {
		if err := setRights(j, h, at, s); err != nil {
			return err
		}
	}
	if len(s.Inside) == 0 {
		return nil
	}
	return h.Walk(func(below string, in *hostconn.Handle) error {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return giveInside(j, in, filepath.Join(at, below), s.Inside)
	})
}

// setRights gives the path of a step the rights that it will have.
func setRights(j *journal, h *hostconn.Handle, at string, s prepare.Step) error {
	now, err := h.Rights()
	if err != nil {
		return err
	}
	if s.Was.Kind != survey.Missing {
		seen := pathOf(h, now)
		if seen.UID != s.Was.UID || seen.GID != s.Was.GID || seen.Mode != s.Was.Mode || !slices.Equal(seen.ACL, s.Was.ACL) {
			return errMeanwhile
		}
	}
	will := now
	will.UID, will.GID = s.Will.UID, s.Will.GID
	var defaults []string
	bits := uint32(0)
	if len(s.Inherit) > 0 {
		d := survey.Path{Kind: survey.Folder, UID: nobody, GID: s.Will.GID, Mode: fmt.Sprintf("%04o", access.Plain(s.Will))}
		if now.Default != nil {
			d.ACL, bits = hostconn.ParseACL(now.Default)
			d.Mode = fmt.Sprintf("%04o", bits)
		}
		for _, g := range s.Inherit {
			d = access.Grant(d, g.Who, g.Want)
		}
		defaults, bits = d.ACL, access.ModeOf(d)
	}
	will = will.WithACL(s.Will.ACL, access.ModeOf(s.Will), defaults, bits)
	if will.Same(now) {
		return nil
	}
	if s.Was.Kind != survey.Missing {
		if err := j.note(note{Path: at, Inode: h.Inode, Was: &now}); err != nil {
			return err
		}
	}
	return h.SetRights(will)
}

// nobody is the owner of what does not exist yet: whoever makes it.
const nobody = survey.ID(-1)

// pathOf returns what a survey would say.
func pathOf(h *hostconn.Handle, r hostconn.Rights) survey.Path {
	p := survey.Path{Kind: survey.Regular, UID: r.UID, GID: r.GID, Mode: fmt.Sprintf("%04o", r.Bits)}
	if h.Folder {
		p.Kind = survey.Folder
	}
	p.ACL, _ = hostconn.ParseACL(r.ACL)
	return p
}

// giveInside gives identities what they lack on one entry.
func giveInside(j *journal, h *hostconn.Handle, at string, grants []prepare.Grant) error {
	now, err := h.Rights()
	if err != nil {
		return err
	}
	p := pathOf(h, now)
	will := p
	for _, g := range grants {
		want := g.Want
		if h.Folder {
			want |= access.Enter
		}
		if got, _ := access.Check(will, g.Who, want); got != want {
			will = access.Grant(will, g.Who, want)
		}
	}
	if slices.Equal(will.ACL, p.ACL) && will.Mode == p.Mode {
		return nil
	}
	if err := j.note(note{Path: at, Inode: h.Inode, Was: &now}); err != nil {
		return err
	}
	return h.SetRights(now.WithACL(will.ACL, access.ModeOf(will), nil, 0))
}
