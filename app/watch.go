package app

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/labdir"
)

// How often is looked, beside what the engine tells by itself. What is asked of services shows in their own logs, so
// those that are well are asked seldom.
const (
	lookAtAll      = 5 * time.Second
	lookAtRestless = time.Second            // services that are about to become ready
	lookAtFiles    = 400 * time.Millisecond // whether they have changed
	lookAtUse      = 2 * time.Second
	lookAtNetworks = 30 * time.Second      // and volumes: they change with deploys only, and some engines list them slowly
	afterEvents    = 60 * time.Millisecond // most changes make several events
	usedAtOnce     = 8                     // services
)

// Watch looks at services again and again.
type Watch struct {
	Named  Targets
	OnHost string
	// Seen takes what was seen. It is called by several goroutines.
	Seen func(WatchNews)

	lab     atomic.Pointer[Workspace] // as its files say now
	showing atomic.Pointer[map[string]bool]
}

// WatchNews is what was seen of one host. What is nil has not been looked at.
type WatchNews struct {
	Host     string
	Stack    string           // of the services
	Services []observe.Status // all of the stack that are watched
	Used     map[string]Used  // by STACK/SERVICE, of all services on the host that run
	Lost     error            // the engine does not answer; nil again with the next news
	Files    error            // the files cannot be read now: those of before count
}

// Used is what a service uses, and the last that it said.
type Used struct {
	Usage engine.Usage
	Rates engine.Rates
	Rated bool   // there are rates
	Line  string // of its log; only of services that are shown
}

// Watch begins to look. It returns the first look at all of it, and what goes on looking until ctx ends.
func (w *Workspace) Watch(ctx context.Context, watch *Watch) (first []observe.Status, goOn func(), err error) {
	w = w.Survey(ctx, watch.OnHost)
	watch.lab.Store(w)
	watch.Show(nil)
	if first, _, err = w.Status(ctx, watch.Named, watch.OnHost); err != nil {
		return nil, nil, err
	}
	return first, func() {
		var work sync.WaitGroup
		for _, h := range w.HostsOf(watch.OnHost) {
			work.Go(func() { (&watchedHost{Watch: watch, host: h.Name, stacks: map[string]*watchedStack{}}).run(ctx) })
		}
		work.Go(func() { watch.files(ctx) })
		work.Wait()
	}, nil
}

// Lab returns the lab as its files say now.
func (w *Watch) Lab() *Workspace { return w.lab.Load() }

// Show says which services, by STACK/SERVICE, a person sees: only their logs are read.
func (w *Watch) Show(names map[string]bool) { w.showing.Store(&names) }

// files reads the files again when they have changed.
func (w *Watch) files(ctx context.Context) {
	stamp := ""
	for every(ctx, lookAtFiles) {
		now := w.Lab()
		switch s := labdir.Stamp(now.Dir, slices.Sorted(maps.Keys(now.decl.EnvFiles))); {
		case stamp == "":
			stamp = s
		case stamp != s:
			stamp = s
			other, err := now.Overlay(nil)
			if err == nil {
				w.lab.Store(other)
			}
			w.Seen(WatchNews{Files: err})
		}
	}
}

// every waits, and reports whether to go on.
func every(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// watchedHost is one host of a watch.
type watchedHost struct {
	*Watch
	host string
	on   *deploy.Deployer

	resources atomic.Pointer[observe.Resources]

	work   sync.WaitGroup
	mu     sync.Mutex
	stacks map[string]*watchedStack
	before map[string]engine.Usage // by STACK/SERVICE
}

// watchedStack is one stack of a host.
type watchedStack struct {
	name    string
	dirty   chan struct{} // it is to be looked at
	running []string      // services that use something, by STACK/SERVICE
}

// run looks at a host until ctx ends; where its engine goes away, again once it is back.
func (h *watchedHost) run(ctx context.Context) {
	for ctx.Err() == nil {
		w := h.Lab()
		on, err := w.deployer(ctx, w.Host(h.host), nil)
		if err == nil {
			h.on, h.before = on, map[string]engine.Usage{}
			err = h.connected(ctx)
			on.Engine.Close()
		}
		if ctx.Err() == nil {
			h.Seen(WatchNews{Host: h.host, Lost: err})
			every(ctx, lookAtRestless)
		}
	}
}

// connected looks until the engine does not answer any more.
func (h *watchedHost) connected(ctx context.Context) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer func() {
		stop(nil)
		h.work.Wait()
		clear(h.stacks)
	}()
	h.work.Go(func() {
		// What happened before it listened shows in the first look at all.
		err := h.on.Engine.Events(ctx, h.on.Lab, func() {}, func(stack, _ string) { h.look(ctx, stop, stack) })
		stop(unreachable(h.host, err))
	})
	h.work.Go(func() {
		for h.use(ctx) == nil && every(ctx, lookAtUse) {
		}
	})
	var last *Workspace
	var listed time.Time
	for began := time.Now(); ; {
		if time.Since(listed) >= lookAtNetworks {
			listed = time.Now()
			resources, err := h.on.FindResources(ctx)
			if err != nil {
				stop(unreachable(h.host, err))
			}
			h.resources.Store(resources)
		}
		if w := h.Lab(); w != last || time.Since(began) >= lookAtAll {
			last, began = w, time.Now()
			names, err := h.on.Stacks(ctx)
			if err != nil {
				stop(unreachable(h.host, err))
			}
			for _, st := range w.Stacks {
				if st.Host != nil && st.Host.Name == h.host {
					names = append(names, st.Name)
				}
			}
			for _, name := range names {
				h.look(ctx, stop, name)
			}
		}
		if !every(ctx, lookAtFiles) {
			return context.Cause(ctx)
		}
	}
}

// look has a stack looked at soon.
func (h *watchedHost) look(ctx context.Context, lost func(error), stack string) {
	if stack == "" || !h.Named.HasStack(stack) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	st := h.stacks[stack]
	if st == nil {
		if ctx.Err() != nil {
			return
		}
		st = &watchedStack{name: stack, dirty: make(chan struct{}, 1)}
		h.stacks[stack] = st
		h.work.Go(func() { h.watchStack(ctx, lost, st) })
	}
	poke(st.dirty)
}

// watchStack looks at a stack whenever it may have changed, by itself: a service that answers slowly holds up
// no other stack.
func (h *watchedHost) watchStack(ctx context.Context, lost func(error), st *watchedStack) {
	for {
		var soon <-chan time.Time
		w := h.Lab()
		o := h.on.Observer
		o.Resources = h.resources.Load()
		list, err := w.statusOf(ctx, &o, w.Host(h.host), st.name, h.Named)
		if ctx.Err() != nil {
			return
		}
		if err != nil {
			lost(err)
			return
		}
		h.mu.Lock()
		st.running = nil
		for _, s := range list {
			restless := s.State == observe.StateStarting || s.State == observe.StateDeploying
			if restless || s.Well() && s.State != observe.StateDone {
				st.running = append(st.running, s.Stack+"/"+s.Service)
			}
			if restless {
				soon = time.After(lookAtRestless)
			}
		}
		h.mu.Unlock()
		if list == nil {
			list = []observe.Status{} // all of it is gone
		}
		h.Seen(WatchNews{Host: h.host, Stack: st.name, Services: list})
		select {
		case <-ctx.Done():
			return
		case <-soon:
		case <-st.dirty:
			every(ctx, afterEvents)
		}
		select {
		case <-st.dirty: // came while waiting
		default:
		}
	}
}

// use looks at what services use, and at the ends of those logs that are shown.
func (h *watchedHost) use(ctx context.Context) error {
	h.mu.Lock()
	var names []string
	for _, st := range h.stacks {
		names = append(names, st.running...)
	}
	h.mu.Unlock()
	used, shown := map[string]Used{}, *h.showing.Load()
	var mu sync.Mutex
	var work errgroup.Group
	work.SetLimit(usedAtOnce)
	for _, name := range names {
		work.Go(func() error {
			one, ok := h.used(ctx, name, shown[name])
			mu.Lock()
			defer mu.Unlock()
			if ok {
				used[name] = one
			}
			return nil
		})
	}
	work.Wait()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	h.mu.Lock()
	for name, u := range used {
		h.before[name] = u.Usage
	}
	h.mu.Unlock()
	h.Seen(WatchNews{Host: h.host, Used: used})
	return nil
}

// used looks at one service. What cannot be seen is left out: its state says why.
func (h *watchedHost) used(ctx context.Context, name string, withLog bool) (Used, bool) {
	container := strings.Replace(name, "/", ".", 1) // as lab.Service.ContainerName
	u, err := h.on.Engine.Usage(ctx, container)
	if err != nil {
		return Used{}, false
	}
	h.mu.Lock()
	before := h.before[name]
	h.mu.Unlock()
	one := Used{Usage: u}
	one.Rates, one.Rated = u.Since(before)
	if withLog {
		h.on.Engine.Logs(ctx, container, engine.LogRange{Last: 1}, func(l engine.LogLine) error {
			one.Line = l.Text
			return nil
		})
	}
	return one, true
}
