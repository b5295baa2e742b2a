package app

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"path"
	"slices"
	"sync"

	"proudlantern.example/lantern/core/access"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/prepare"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/helper"
	"proudlantern.example/lantern/host"
	"proudlantern.example/lantern/hostconn"
)

// isReal makes sure that a host has folders.
func isReal(ctx context.Context, e *engine.Engine, h *lab.Host) error {
	if machine, err := e.Machine(ctx); err == nil && machine != nil {
		return usage("%s is a machine that the stand-in engine makes up: it has no folders", h.Name)
	}
	return nil
}

// worker returns who changes folders of a host: this machine itself, or a helper there. It sees the given paths, and may
// change what lies in some. It has to be closed.
func (w *Workspace) worker(ctx context.Context, e *engine.Engine, h *lab.Host, command string, sees, changes []string) (folders.Worker, error) {
	if err := isReal(ctx, e, h); err != nil {
		return nil, err
	}
	files := e.Conn.Files
	switch {
	case files == hostconn.Local:
		return folders.Here{}, nil
	case files == nil:
		return nil, usage("%s is another machine, whose folders are not reached by its engine's address: run lantern %s there, "+
			"or name it by ssh://", h.Name, command)
	case e.Rootless(ctx): // whose helper would know owners by other ids
		return nil, usage("%s is another machine, and its engine runs without root: run lantern %s there", h.Name, command)
	}
	var above []string
	for _, p := range changes {
		p = nearest(files, p)
		if p == "/" {
			return nil, usage("%s is another machine, and no helper may change what lies right below /: run lantern %s there", h.Name, command)
		}
		above = append(above, p)
	}
	k, err := w.startHelper(ctx, e, append(slices.Clone(sees), above...), above)
	if err != nil {
		return nil, noHelper(h, command, err)
	}
	return k, nil
}

// canChange makes sure that folders of a host can be changed from here.
func (w *Workspace) canChange(ctx context.Context, h *lab.Host, command string) error {
	e, err := engine.DialHost(ctx, h)
	if err != nil {
		return unreachable(h.Name, err)
	}
	defer e.Close()
	if e.Conn.Files != nil && e.Conn.Files != hostconn.Local && !e.Rootless(ctx) {
		return nil
	}
	k, err := w.worker(ctx, e, h, command, nil, nil) // starts nothing, here or where it cannot
	if err == nil {
		err = k.Close()
	}
	return err
}

// team is who changes folders of several hosts.
type team struct {
	lab     *Workspace
	command string
	of      map[string]folders.Worker
	engines []*engine.Engine
}

func (w *Workspace) team(command string) *team {
	return &team{lab: w, command: command, of: map[string]folders.Worker{}}
}

// add adds the worker of a host for some paths.
func (t *team) add(ctx context.Context, name string, paths []string) error {
	h := t.lab.Host(name)
	if h == nil {
		return usage("the lab has no host %s any more", name)
	}
	e, err := engine.DialHost(ctx, h)
	if err != nil {
		return unreachable(name, err)
	}
	t.engines = append(t.engines, e)
	t.of[name], err = t.lab.worker(ctx, e, h, t.command, paths, paths)
	if err != nil {
		delete(t.of, name)
	}
	return err
}

// gather adds the workers that steps of a preparation need.
func (t *team) gather(ctx context.Context, steps []prepare.Step) error {
	paths := map[string][]string{}
	for _, s := range steps {
		name, at := s.Changes[0].Host, place(s.Will)
		if s.Was.Kind == survey.Missing {
			at = path.Dir(at)
		}
		paths[name] = append(paths[name], at)
	}
	for _, name := range slices.Sorted(maps.Keys(paths)) {
		if err := t.add(ctx, name, paths[name]); err != nil {
			return err
		}
	}
	return nil
}

func (t *team) close() {
	for _, k := range t.of {
		k.Close()
	}
	for _, e := range t.engines {
		e.Close()
	}
}

// place is where a step works: the path without links.
func place(p survey.Path) string { return cmp.Or(p.Real, p.Path) }

// nearest is the closest folder to a path, or the path itself, that is seen to be there.
func nearest(files hostconn.Files, p string) string {
	for ; p != "/"; p = path.Dir(p) {
		if info, err := files.Stat(p); err == nil && info.Mode.IsDir() {
			if real, err := files.Real(p); err == nil {
				return real
			}
		}
	}
	return p
}

func (w *Workspace) startHelper(ctx context.Context, e *engine.Engine, sees, changes []string) (*helper.Helper, error) {
	platform, err := e.Platform(ctx)
	if err != nil {
		return nil, err
	}
	return helper.Start(ctx, e, w.caller.Version, platform, sees, changes)
}

// beside starts a helper in the network of a container.
func (w *Workspace) beside(ctx context.Context, e *engine.Engine, container string) (observe.Dialing, error) {
	platform, err := e.Platform(ctx)
	if err != nil {
		return nil, err
	}
	h, err := helper.Beside(ctx, e, w.caller.Version, platform, container)
	if err != nil {
		return nil, err // and no value of its own type
	}
	return h, nil
}

// clearHelpers takes the image of helpers away from an engine elsewhere. One that is in use stays for the next time.
func (w *Workspace) clearHelpers(ctx context.Context, e *engine.Engine) {
	if len(w.Gates) > 0 {
		helper.ClearGate(ctx, e) // those of before; one that is in use stays
	}
	if e.Rootless(ctx) || e.Conn.Files != nil && e.Conn.Files != hostconn.Local {
		helper.Clear(ctx, e)
	}
}

// noHelper words why there is none.
func noHelper(h *lab.Host, command string, err error) error {
	var none *helper.NoProgramError
	if errors.As(err, &none) {
		return &Error{
			Kind: Stopped, Message: "no helper can be started on " + h.Name, Because: none.Because,
			Do: none.Do + "; or run lantern " + command + " there", Err: err,
		}
	}
	return &Error{Kind: Stopped, Message: "no helper could be started on " + h.Name, Because: err.Error(), Err: err}
}

// lookCloser returns the workspace with what modes do not tell of paths on machines elsewhere: a helper looks there at
// their access control lists, and at what the account may not see. Where none can be started, that stays unknown.
func (w *Workspace) lookCloser(ctx context.Context, which func(*lab.Host) []string) *Workspace {
	other := *w
	other.Surveys = maps.Clone(w.Surveys)
	var mu sync.Mutex
	var looking sync.WaitGroup
	for _, h := range w.Hosts {
		s := w.Surveys[h.Name]
		if s == nil || s.Unknown[survey.UnknownACL] == "" || w.Unreached[h.Name] != nil {
			continue
		}
		paths := which(h)
		if len(paths) == 0 {
			continue
		}
		looking.Go(func() {
			closer := *s
			closer.Unknown, closer.Paths = maps.Clone(s.Unknown), slices.Clone(s.Paths)
			if err := w.lookAgain(ctx, h, &closer, paths); err != nil {
				closer.Unknown[survey.UnknownACL] += ", and no helper could be started that sees them: " + err.Error()
			}
			mu.Lock()
			defer mu.Unlock()
			other.Surveys[h.Name] = &closer
		})
	}
	looking.Wait()
	return other.resolved()
}

func (w *Workspace) lookAgain(ctx context.Context, h *lab.Host, s *survey.Survey, paths []string) error {
	e, err := engine.DialHost(ctx, h)
	if err != nil {
		return err
	}
	defer e.Close()
	sees := slices.Clone(paths)
	for _, p := range paths {
		if found, ok := s.Path(p); ok && found.Real != "" {
			sees = append(sees, found.Real)
		}
	}
	k, err := helper.Start(ctx, e, w.caller.Version, s.Platform, sees, nil)
	if err != nil {
		return err
	}
	seen, err := k.Look(ctx, paths)
	if err = errors.Join(err, k.Close()); err != nil {
		return err
	}
	if s.Engine.Rootless {
		seen = onlyLists(s, seen)
	}
	host.TakeOver(s, seen)
	return nil
}

// undecided returns what modes do not decide on a host.
func (w *Workspace) undecided(h *lab.Host) []string { return access.Undecided(w.Lab, h) }

// onlyLists takes access control lists alone from what a helper of an engine without root has seen: it knows owners by
// other ids, and most of them not at all.
func onlyLists(s *survey.Survey, seen []survey.Path) []survey.Path {
	var out []survey.Path
	for _, p := range seen {
		if had, ok := s.Path(p.Path); ok && had.Kind == p.Kind {
			had.ACL = access.OnHost(p.ACL, s.Engine)
			out = append(out, had)
		}
	}
	return out
}
