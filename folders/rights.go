// Package folders changes folders of the machine that it runs on: rights, as a preparation has worked them out, and what
// a backup holds.
package folders

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"

	"proudlantern.example/lantern/core/access"
	"proudlantern.example/lantern/core/prepare"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

// Here is this machine.
type Here struct{}

// Note is one thing that is about to be done, written down before it is.
type Note struct {
	Host  string           `json:"host,omitempty"`
	Path  string           `json:"path"`
	Made  bool             `json:"made,omitempty"`
	Inode uint64           `json:"inode,omitempty"`
	Was   *hostconn.Rights `json:"was,omitempty"`
	End   bool             `json:"end,omitempty"` // all is done
}

// ErrMeanwhile is that somebody else has changed something between the look and the change.
var ErrMeanwhile = errors.New("somebody has changed it meanwhile")

// place is where a step works: the path without links.
func place(p survey.Path) string { return cmp.Or(p.Real, p.Path) }

// Carry carries out one step of a preparation. Before each change write is told of it; what it could not write down is
// not done.
func (Here) Carry(ctx context.Context, s prepare.Step, write func(Note) error) error {
	at := place(s.Will)
	var h *hostconn.Handle
	var err error
	if s.Was.Kind == survey.Missing {
		if err = write(Note{Path: at, Made: true}); err != nil {
			return err
		}
		h, err = hostconn.MakeFolder(at, func(h *hostconn.Handle) error {
			// From now on it is known which one is ours.
			if err := write(Note{Path: at, Made: true, Inode: h.Inode}); err != nil {
				return err
			}
			return setRights(write, h, at, s)
		})
		if errors.Is(err, fs.ErrExist) {
			err = ErrMeanwhile
		}
	} else {
		h, err = hostconn.OpenHandle(at)
	}
	if err != nil {
		return err
	}
	defer h.Close()
	if s.Was.Kind != survey.Missing {
		if err := setRights(write, h, at, s); err != nil {
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
		return giveInside(write, in, filepath.Join(at, below), s.Inside)
	})
}

// setRights gives the path of a step the rights that it will have.
func setRights(write func(Note) error, h *hostconn.Handle, at string, s prepare.Step) error {
	now, err := h.Rights()
	if err != nil {
		return err
	}
	if s.Was.Kind != survey.Missing {
		seen := pathOf(h, now)
		if seen.UID != s.Was.UID || seen.GID != s.Was.GID || seen.Mode != s.Was.Mode || !slices.Equal(seen.ACL, s.Was.ACL) {
			return ErrMeanwhile
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
		if err := write(Note{Path: at, Inode: h.Inode, Was: &now}); err != nil {
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
func giveInside(write func(Note) error, h *hostconn.Handle, at string, grants []prepare.Grant) error {
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
	if err := write(Note{Path: at, Inode: h.Inode, Was: &now}); err != nil {
		return err
	}
	return h.SetRights(now.WithACL(will.ACL, access.ModeOf(will), nil, 0))
}
