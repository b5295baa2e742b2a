package app

import (
	"context"
	"errors"
	"slices"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
)

// Running is stacks, or services of theirs, that are started or stopped.
type Running struct {
	lab    *Workspace
	stacks []runningStack // in the order in which they start
	hosts  map[string]*deploy.Deployer
}

type runningStack struct {
	deploy.Running
	on *deploy.Deployer
}

// Running connects to the hosts of what is named: stacks of the files, or such of which only containers are left.
// It has to be closed.
func (w *Workspace) Running(ctx context.Context, named Targets, onHost string,
	report func(deploy.Event)) (*Running, error) {
	r := &Running{lab: w, hosts: map[string]*deploy.Deployer{}}
	var declared []*lab.Stack
	names := named.stacks()
	for _, name := range names {
		st := w.Stack(name)
		if st == nil {
			continue
		}
		if _, err := w.StacksOf(Targets{{Stack: name}}, onHost); err != nil {
			return nil, err
		}
		for _, service := range named.Services(name) {
			if st.Service(service) == nil && !st.Broken {
				return nil, w.noService(st, service)
			}
		}
		declared = append(declared, st)
	}
	order := plan.Order(declared)
	place := func(name string) int {
		if i := slices.IndexFunc(order, func(st *lab.Stack) bool { return st.Name == name }); i >= 0 {
			return i
		}
		return len(order) // what is no longer in the files comes last
	}
	slices.SortStableFunc(names, func(a, b string) int { return place(a) - place(b) })
	for _, name := range names {
		d, err := w.whereStackIs(ctx, name, onHost, report)
		if err != nil {
			r.Close()
			return nil, err
		}
		if known := r.hosts[d.Host]; known != nil {
			d.Engine.Close()
			d = known
		}
		r.hosts[d.Host] = d
		one := runningStack{deploy.Running{Stack: name, Declared: w.Stack(name), Only: named.Services(name)}, d}
		if one.Declared != nil && one.Declared.Broken {
			one.Declared = nil
		}
		r.stacks = append(r.stacks, one)
	}
	return r, nil
}

// Strangers returns what runs on the hosts under the lab's name and was not deployed from here.
func (r *Running) Strangers(ctx context.Context) (map[string][]deploy.Elsewhere, error) {
	return r.lab.strangersOf(ctx, r.hosts)
}

// Start starts what does not run, in order. Each stack's outcome is told; an outcome that is not well ends it.
func (r *Running) Start(ctx context.Context, each func(host, stack string, out deploy.Outcome) error) error {
	return r.each(ctx, r.stacks, (*deploy.Deployer).Start, each)
}

// Stop stops what runs, in reverse order; see [Running.Start].
func (r *Running) Stop(ctx context.Context, each func(host, stack string, out deploy.Outcome) error) error {
	stacks := slices.Clone(r.stacks)
	slices.Reverse(stacks)
	return r.each(ctx, stacks, (*deploy.Deployer).Stop, each)
}

// Restart stops and starts one stack after the other; see [Running.Start].
func (r *Running) Restart(ctx context.Context, each func(host, stack string, out deploy.Outcome) error) error {
	return r.each(ctx, r.stacks, (*deploy.Deployer).Restart, each)
}

func (r *Running) each(ctx context.Context, stacks []runningStack,
	do func(*deploy.Deployer, context.Context, deploy.Running) (deploy.Outcome, error),
	each func(host, stack string, out deploy.Outcome) error) error {
	for _, st := range stacks {
		out, err := do(st.on, ctx, st.Running)
		if errors.Is(err, context.Canceled) {
			return &Error{
				Kind:    Interrupted,
				Message: "interrupted; lantern status " + st.Stack + " shows how it is",
			}
		}
		if err != nil {
			return unreachable(st.on.Host, err)
		}
		if err := each(st.on.Host, st.Stack, out); err != nil {
			return err
		}
	}
	return nil
}

// Close ends the connections to the engines.
func (r *Running) Close() {
	for _, d := range r.hosts {
		d.Engine.Close()
	}
}
