package app

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/wiring"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/hostconn"
)

// Status looks at what is named, or at all of the lab and at what is left of it on its hosts. The lab has to be
// surveyed.
//
// Hosts that cannot be reached are returned beside what is known of the others; where none can, that is the error.
func (w *Workspace) Status(ctx context.Context, named Targets, onHost string) (services []observe.Status,
	away []Missing, err error) {
	hosts, ahead := w.HostsOf(onHost), w.ahead
	w.ahead = nil // it holds once
	lists, errs := make([][]observe.Status, len(hosts)), make([]error, len(hosts))
	var wait sync.WaitGroup
	for i, h := range hosts {
		if err := w.Unreached[h.Name]; err != nil {
			errs[i] = unreachable(h.Name, err)
			continue
		}
		wait.Go(func() { lists[i], errs[i] = w.statusOn(ctx, h, named, ahead) })
	}
	wait.Wait()
	services = slices.Concat([]observe.Status{}, slices.Concat(lists...))
	for i, h := range hosts {
		if errs[i] != nil {
			away = append(away, missing(h.Name, nil, errs[i]))
		}
	}
	if len(hosts) > 0 && len(away) == len(hosts) {
		return nil, nil, MissingError(away)
	}
	for _, t := range named {
		if !slices.ContainsFunc(services, func(s observe.Status) bool {
			return (Targets{t}).Has(s.Stack, s.Service)
		}) {
			if _, err := w.StacksOf(Targets{t}, onHost); err != nil {
				return nil, away, err
			}
		}
	}
	return services, away, nil
}

// SurveyForStatus is as [Workspace.Survey], and looks at what runs meanwhile: for the status that is asked for next.
func (w *Workspace) SurveyForStatus(ctx context.Context, onHost string) *Workspace {
	var mu sync.Mutex
	var wait sync.WaitGroup
	ahead := map[string]*deploy.Deployer{}
	for _, h := range w.HostsOf(onHost) {
		if hostconn.Here(h.Engine) {
			continue // it takes no time
		}
		wait.Go(func() {
			d, err := w.deployer(ctx, h, nil)
			if err != nil {
				return // the survey says so
			}
			if d.Resources, err = d.FindAll(ctx); err != nil {
				d.Engine.Close()
				return
			}
			mu.Lock()
			defer mu.Unlock()
			ahead[h.Name] = d
		})
	}
	surveyed := w.Survey(ctx, onHost)
	wait.Wait()
	surveyed.ahead = ahead
	return surveyed
}

func (w *Workspace) statusOn(ctx context.Context, h *lab.Host, named Targets,
	ahead map[string]*deploy.Deployer) ([]observe.Status, error) {
	d, err := ahead[h.Name], error(nil)
	if d == nil {
		if d, err = w.deployer(ctx, h, nil); err != nil {
			return nil, err
		}
		d.Resources, err = d.FindAll(ctx)
	}
	defer d.Engine.Close()
	if err != nil {
		return nil, unreachable(h.Name, err)
	}
	names, err := d.Stacks(ctx)
	if err != nil {
		return nil, unreachable(h.Name, err)
	}
	for _, st := range w.Stacks {
		if st.Host == h {
			names = append(names, st.Name)
		}
	}
	slices.Sort(names)
	names = slices.DeleteFunc(slices.Compact(names), func(name string) bool { return !named.HasStack(name) })
	lists := make([][]observe.Status, len(names))
	var work errgroup.Group
	work.SetLimit(stacksAtOnce)
	for i, name := range names {
		work.Go(func() (err error) {
			lists[i], err = w.statusOf(ctx, &d.Observer, h, name, named)
			return err
		})
	}
	err = work.Wait()
	return slices.Concat(lists...), err
}

// statusOf looks at one stack on a host.
func (w *Workspace) statusOf(ctx context.Context, o *observe.Observer, h *lab.Host, stack string,
	named Targets) ([]observe.Status, error) {
	declared := w.Stack(stack)
	if declared != nil && declared.Host != h {
		declared = nil
	}
	list, err := o.Status(ctx, stack, declared, func() *lab.Stack { return w.deployedVersion(stack) })
	if err != nil {
		return nil, unreachable(h.Name, err)
	}
	list = slices.DeleteFunc(list, func(s observe.Status) bool { return !named.Has(s.Stack, s.Service) })
	for i, s := range list {
		if declared == nil || declared.Service(s.Service) == nil {
			continue
		}
		if c := declared.Service(s.Service).Card; c != nil && c.FirstLogin.IsSet() && w.deploysOf(stack) == 1 {
			list[i].FirstLogin = c.FirstLogin.Value
		}
	}
	return list, nil
}

// deploysOf returns how often a stack was deployed, by the logbook.
func (w *Workspace) deploysOf(stack string) int {
	entries, _ := w.Entries(stack)
	n := 0
	for _, e := range entries {
		if e.Result == deploy.Done && e.Kind != history.Retire {
			n++
		}
	}
	return n
}

// deployedVersion returns a stack as the logbook says that it was last deployed; nil where it does not say so.
func (w *Workspace) deployedVersion(stack string) *lab.Stack {
	entries, err := w.Entries(stack)
	if err != nil {
		return nil
	}
	for _, e := range slices.Backward(entries) {
		if e.Result != deploy.Done || e.Kind == history.Retire {
			continue
		}
		_, files, err := w.Entry(stack, strconv.Itoa(e.Number))
		if err != nil {
			return nil
		}
		texts := map[string]string{}
		for _, f := range files {
			if !strings.HasPrefix(f.Path, history.Before) {
				texts[f.Path] = f.Text
			}
		}
		then, err := w.Overlay(texts)
		if err != nil {
			return nil
		}
		return then.Stack(stack)
	}
	return nil
}

// Leftover is what a deploy that died has left of a stack.
type Leftover struct {
	Host, Stack string
	What        string // says whose it was, and what is to be done with it

	lab *Workspace
	on  *deploy.Deployer
}

// Leftover finds what a deploy that died has left of a stack; nil when that deploy is at work, or all is
// well. It has to be closed.
func (w *Workspace) Leftover(ctx context.Context, host, stack string,
	report func(deploy.Event)) (*Leftover, error) {
	d, err := w.deployer(ctx, w.Host(host), report)
	if err != nil {
		return nil, err
	}
	what, err := d.Leftover(ctx, stack)
	if err != nil || what == "" {
		d.Engine.Close()
		if err != nil {
			err = unreachable(host, err)
		}
		return nil, err
	}
	return &Leftover{Host: host, Stack: stack, What: what, lab: w, on: d}, nil
}

// Strangers returns what runs on the host under the lab's name and was not deployed from here.
func (l *Leftover) Strangers(ctx context.Context) (map[string][]deploy.Elsewhere, error) {
	return l.lab.strangersOf(ctx, map[string]*deploy.Deployer{l.Host: l.on})
}

// Recover finishes or undoes it, see [deploy.Deployer.Recover].
func (l *Leftover) Recover(ctx context.Context) (deploy.Outcome, error) {
	out, err := l.on.Recover(ctx, l.Stack)
	if err != nil {
		return out, unreachable(l.Host, err)
	}
	return out, nil
}

// Close ends the connection to the engine.
func (l *Leftover) Close() { l.on.Engine.Close() }

// Prove tests stacks, or services of theirs, at any time, and changes nothing.
func (w *Workspace) Prove(ctx context.Context, stacks []*lab.Stack, named Targets) ([]observe.Proven, error) {
	wires := wiring.Connections(w.Lab)
	var all []observe.Proven
	for _, st := range stacks {
		d, err := w.deployer(ctx, st.Host, nil)
		if err != nil {
			return nil, err
		}
		list, err := d.Prove(ctx, st, named.Services(st.Name), wires)
		d.Engine.Close()
		if err != nil {
			return nil, unreachable(st.Host.Name, err)
		}
		all = append(all, list...)
	}
	return all, nil
}
