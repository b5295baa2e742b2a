package deploy

import (
	"context"
	"errors"
	"slices"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
)

// mostRest is until when a rest counts as one, on a machine that cannot see the process.
const mostRest = 24 * time.Hour

// Rest stops what runs of a stack, does something, and starts it again, whatever came of that. Nobody else changes the
// stack meanwhile. It returns how long something stood still. Should this process die in between, the next one that
// looks after the stack starts again what ran. The outcome is Refused when nothing was done, and NotReady when something
// does not run again as before; the error is that of what was to be done.
func (d *Deployer) Rest(ctx context.Context, stack string, declared *lab.Stack, do func() error) (stood time.Duration, out Outcome, err error) {
	if held, err := d.recover(ctx, stack, nil); err != nil || held.Result != "" {
		return 0, held, err
	}
	states, err := d.Containers(ctx, stack)
	if err != nil {
		return 0, Outcome{}, err
	}
	r := Running{Stack: stack, Declared: declared}
	for _, c := range states {
		r.Only = append(r.Only, c.Labels[plan.LabelService])
	}
	if r.Only == nil {
		return 0, Outcome{Result: Done}, do()
	}
	parts, refused, err := d.parts(ctx, r)
	if err != nil || refused.Result != "" {
		return 0, refused, err
	}
	l := &lock{}
	running := slices.DeleteFunc(parts, func(m part) bool {
		if m.runs() {
			l.WasUp = append(l.WasUp, m.name)
		}
		return !m.runs()
	})
	l.Entry, err = d.lastEntry(ctx, stack, states)
	if err != nil {
		return 0, Outcome{}, err
	}
	l.Entry = max(l.Entry, d.options.After) + 1
	if held, err := d.takeLock(ctx, stack, states[0].ImageID, mostRest, l); err != nil || held.Result != "" {
		return 0, held, err
	}
	defer d.holds(false)
	began := time.Now()
	out = d.stopAll(ctx, stack, running)
	if out.Result != NotReady {
		err = do()
	} else if out.Failure != nil {
		err = errors.New(out.Failure.Message)
	}
	ctx = context.WithoutCancel(ctx)
	out = d.startAll(ctx, stack, running)
	stood = time.Since(began)
	if len(running) == 0 {
		stood, out.Result = 0, Done
	}
	if lost := persist(func() error { return d.remove(ctx, l.ID) }); lost != nil {
		out.Result, out.ManualSteps = NeedsManual, append(out.ManualSteps, "remove the container "+d.markName(stack, plan.SuffixLock)+" by hand: "+lost.Error())
	}
	return stood, out, err
}
