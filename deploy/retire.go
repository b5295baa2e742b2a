package deploy

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// Retiring returns the names of the containers and networks that a retirement of the stack removes, its
// volumes aside.
func (d *Deployer) Retiring(ctx context.Context, stack string) (containers, networks []string, err error) {
	mine, err := d.Containers(ctx, stack)
	if err != nil {
		return nil, nil, err
	}
	for _, c := range mine {
		containers = append(containers, c.Name)
	}
	networks, err = d.unusedNetworks(ctx, stack, mine)
	return containers, networks, err
}

// Retire stops and removes what belongs to a stack: containers, last started first, its network, and the
// shared ones that it was the last to use; with volumes also those that were made for it, and all that they
// hold. Host folders and everything that is not of this lab stay. The stack's folder need not be there any
// more.
func (d *Deployer) Retire(ctx context.Context, stack string, o Options) (Outcome, error) {
	d = d.during(o)
	if held, err := d.recover(ctx, stack, nil); err != nil || held.Result != "" {
		return held, err
	}
	l := &lock{}
	mine, err := d.Containers(ctx, stack)
	if err != nil {
		return Outcome{}, err
	}
	if len(mine) > 0 {
		if l.Entry, err = d.lastEntry(ctx, stack, mine); err != nil {
			return Outcome{}, err
		}
		l.Entry = max(l.Entry, d.options.After) + 1
		if held, err := d.takeLock(ctx, stack, mine[0].ImageID, 10*time.Minute, l); err != nil ||
			held.Result != "" {
			return held, err
		}
	}
	// Only what is seen under the lock holds: a deploy may have ended just before it.
	r := retirement{Deployer: d, stack: stack, lock: l, withVolumes: o.WithVolumes}
	r.out = Outcome{Result: Done, Entry: l.Entry, Plan: &plan.Stack{Stack: &lab.Stack{Name: stack}}}
	found, err := r.look(ctx)
	if err == nil && found {
		d.route(ctx, stack, nil) // nobody is led to what is about to go
		r.containers(ctx)
		ctx = context.WithoutCancel(ctx)
		r.networks(ctx)
		r.volumes(ctx)
	}
	if l.ID != "" {
		if unlock := d.remove(context.WithoutCancel(ctx), l.ID); unlock != nil {
			r.needs("remove the container %s by hand: %s", d.markName(stack, plan.SuffixLock), unlock)
		}
		d.holds(false)
	}
	if err != nil || !found {
		return Outcome{Result: NothingToDo}, err
	}
	return r.out, nil
}

// retirement is one that is under way.
type retirement struct {
	*Deployer
	stack       string
	lock        *lock
	withVolumes bool
	mine        []engine.State
	names       []string // of volumes that go
	out         Outcome
}

func (r *retirement) needs(format string, args ...any) {
	r.out.Result = NeedsManual
	r.out.ManualSteps = append(r.out.ManualSteps, fmt.Sprintf(format, args...))
}

// look finds out what there is to remove; false: nothing.
func (r *retirement) look(ctx context.Context) (bool, error) {
	all, err := r.Deployer.Containers(ctx, r.stack)
	if err != nil {
		return false, err
	}
	r.mine = slices.DeleteFunc(all, func(c engine.State) bool { return c.ID == r.lock.ID })
	networks, err := r.unusedNetworks(ctx, r.stack, all)
	if err != nil {
		return false, err
	}
	if r.withVolumes {
		r.names, err = r.Volumes(ctx, r.stack)
	}
	return len(r.mine)+len(networks)+len(r.names) > 0, err
}

// containers stops and removes them, last started first.
func (r *retirement) containers(ctx context.Context) {
	slices.SortFunc(r.mine, func(a, b engine.State) int { return b.Started.Compare(a.Started) })
	for _, c := range engine.GuestsFirst(r.mine) {
		service := c.Labels[plan.LabelService]
		r.out.Plan.Services = append(r.out.Plan.Services, plan.Service{Name: service, Action: plan.Remove})
		r.event(r.stack, service, StepStop, EventBegun, "")
		err := r.stopOwn(ctx, c.ID, c.Container.StopWithin)
		if err == nil || errors.Is(err, engine.ErrNotFound) {
			err = r.remove(ctx, c.ID)
		}
		if err != nil {
			r.event(r.stack, service, StepRemove, EventFailed, err.Error())
			r.needs("the container %s is still there (%s); run lantern retire %s again", c.Name, err, r.stack)
			continue
		}
		if r.withVolumes {
			r.names = append(r.names, c.AnonymousVolumes...)
		} else {
			r.out.Left = append(r.out.Left, c.AnonymousVolumes...)
		}
		r.event(r.stack, service, StepRemove, EventDone, "")
	}
}

func (r *retirement) networks(ctx context.Context) {
	if r.out.Result != Done {
		return
	}
	err := r.removeUnused(ctx, r.stack, nil)
	switch {
	case errors.Is(err, engine.ErrMiscounted):
		r.needs("%s; lantern sweep removes it then", err)
	case err != nil:
		r.needs("something else uses it: %s", err)
	}
}

func (r *retirement) volumes(ctx context.Context) {
	if r.out.Result != Done {
		return
	}
	for _, v := range r.names {
		if err := errors.Join(r.Engine.RemoveVolume(ctx, v, r.Lab, false),
			r.Engine.RemoveVolume(ctx, v, r.Lab, true)); err != nil {
			r.needs("the volume %s is still there: %s", v, err)
			continue
		}
		r.event(r.stack, "", StepRemove, EventDone, "the volume "+v)
	}
}
