package app

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"slices"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// Sweeping is what lantern made on hosts and nothing needs any more.
type Sweeping struct {
	Found []observe.Sweepable

	lab   *Workspace
	on    map[string]*deploy.Deployer
	knows map[string]observe.Remembered
}

// Sweeping looks for leftovers on a host of the lab, or on all. It has to be closed.
func (w *Workspace) Sweeping(ctx context.Context, onHost string) (*Sweeping, error) {
	entries, err := w.Entries("")
	if err != nil {
		return nil, err
	}
	s := &Sweeping{
		Found: []observe.Sweepable{},
		lab:   w,
		on:    map[string]*deploy.Deployer{},
		knows: map[string]observe.Remembered{},
	}
	for _, h := range w.HostsOf(onHost) {
		d, err := w.deployer(ctx, h, nil)
		if err != nil {
			s.Close()
			return nil, err
		}
		s.on[h.Name] = d
		var list []observe.Sweepable
		known, err := w.remembered(ctx, d, h, entries)
		if err == nil {
			s.knows[h.Name] = known
			list, err = d.Sweepable(ctx, known)
		}
		if err != nil {
			s.Close()
			return nil, unreachable(h.Name, err)
		}
		kept, err := w.keptOn(ctx, d.Engine, h)
		if err != nil {
			w.warn("what restores have left on %s is not known: %s", h.Name, err)
		}
		for _, path := range kept {
			list = append(list, observe.Sweepable{
				Host: h.Name, Kind: observe.SweepFolder, Name: path, About: "what was there before a restore", Bytes: -1,
			})
		}
		s.Found = append(s.Found, list...)
	}
	return s, nil
}

// Strangers returns what runs on the hosts under the lab's name and was not deployed from here, by host.
func (s *Sweeping) Strangers(ctx context.Context) (map[string][]deploy.Elsewhere, error) {
	return s.lab.strangersOf(ctx, s.on)
}

// CarryOut removes what was found. What stays is told, and is in the error.
func (s *Sweeping) CarryOut(ctx context.Context) error {
	var left []error
	for _, f := range s.Found {
		if err := s.remove(ctx, f); err != nil {
			s.lab.warn("%s %s is still there: %s", f.Kind, f.Name, err)
			left = append(left, err)
		}
	}
	for _, d := range s.on {
		s.lab.clearHelpers(ctx, d.Engine)
	}
	if err := errors.Join(left...); err != nil {
		return &Error{Kind: Manual, Err: err}
	}
	return nil
}

// remove removes one thing, if it is still there to be removed.
func (s *Sweeping) remove(ctx context.Context, f observe.Sweepable) error {
	if f.Kind != observe.SweepFolder {
		return s.on[f.Host].Sweep(ctx, f, s.knows[f.Host])
	}
	e, h := s.on[f.Host].Engine, s.lab.Host(f.Host)
	if kept, err := s.lab.keptOn(ctx, e, h); err != nil || !slices.Contains(kept, f.Name) {
		return cmp.Or(err, errors.New("it is gone"))
	}
	above := []string{filepath.Dir(f.Name)}
	hands, err := s.lab.worker(ctx, e, h, "sweep", above, above)
	if err != nil {
		return err
	}
	defer hands.Close()
	return hands.Remove(ctx, []string{f.Name})
}

// Close ends the connections to the engines.
func (s *Sweeping) Close() {
	for _, d := range s.on {
		d.Engine.Close()
	}
}

// remembered gathers from the logbook what was left on a host, and what is still wanted there.
func (w *Workspace) remembered(ctx context.Context, d *deploy.Deployer, h *lab.Host,
	entries []history.Entry) (observe.Remembered, error) {
	known := observe.Remembered{Images: map[string]observe.RememberedImage{}, Keep: map[string]bool{}}
	done := map[string][]history.Entry{}
	for _, e := range entries {
		if e.Host != h.Name {
			continue
		}
		for _, s := range e.Services {
			if s.ID != "" {
				known.Images[s.ID] = observe.RememberedImage{
					Reference: s.Image,
					About:     s.Image + ", " + e.Stack + "/" + s.Service,
				}
			}
		}
		if e.Result == deploy.Done && e.Kind != history.Retire {
			done[e.Stack] = append(done[e.Stack], e)
		}
	}
	for _, list := range done {
		for _, e := range list[max(0, len(list)-2):] {
			for _, s := range e.Services {
				known.Keep[s.ID] = true
			}
		}
	}
	for _, st := range w.Stacks {
		if st.Host != h {
			continue
		}
		for _, s := range st.Services {
			image, err := d.Engine.Image(ctx, s.Image.Text)
			if err != nil && !errors.Is(err, engine.ErrNotFound) {
				return known, err
			}
			known.Keep[image.ID] = true
		}
	}
	return known, nil
}
