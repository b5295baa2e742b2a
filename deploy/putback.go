package deploy

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/engine"
)

// putBack brings back what ran before the deploy that holds the lock, from what the engine shows alone: it
// works as well for a deploy of a process that is gone. Then it proves it and gives the lock back. It ends
// with a look: a call that was given up on may have happened after all, in the middle of this.
func (d *Deployer) putBack(ctx context.Context, stack string, l *lock) Outcome {
	d.event(stack, "", StepPutBack, EventBegun, "")
	const most = 3
	var out Outcome
	for round := 1; ; round++ {
		if out = d.bringBack(ctx, stack, l); out.Result != PutBack {
			break
		}
		wrong, err := d.notBack(ctx, stack, l)
		if wrong == "" && err == nil {
			break
		}
		if round == most {
			out.Result, out.ManualSteps = NeedsManual, []string{fmt.Sprintf("run lantern deploy %s again: %s",
				stack, cmp.Or(wrong, fmt.Sprint(err)))}
			break
		}
	}
	if containers, err := d.Containers(ctx, stack); err == nil {
		d.route(ctx, stack, containers) // gates may have been told to leave some of them alone
	}
	if out.Result == PutBack && l.ID != "" {
		out.Stay = d.madeVolumes(ctx, stack, l)
		if err := persist(func() error { return d.remove(ctx, l.ID) }); err != nil {
			out.Result, out.ManualSteps = NeedsManual, append(out.ManualSteps,
				fmt.Sprintf("remove the container %s by hand: %s", d.markName(stack, plan.SuffixLock), err))
		}
	}
	if out.Result == PutBack {
		d.event(stack, "", StepPutBack, EventDone, "")
	} else {
		d.event(stack, "", StepPutBack, EventFailed, strings.Join(out.ManualSteps, "; "))
	}
	return out
}

// notBack says what is not as it was before a deploy; "" when all is.
func (d *Deployer) notBack(ctx context.Context, stack string, l *lock) (string, error) {
	containers, err := d.Containers(ctx, stack)
	for _, c := range containers {
		service := c.Labels[plan.LabelService]
		switch {
		case service == "":
		case c.Name != lab.ContainerName(d.Lab, stack, service):
			return "the container " + c.Name + " is still there", err
		case entryOf(c) == l.Entry:
			return "the new container " + c.Name + " is still there", err
		}
	}
	return "", err
}

// wayBack is what is still to be done by hand after a deploy was undone.
type wayBack struct{ Outcome }

func (w *wayBack) needs(format string, args ...any) {
	w.Result = NeedsManual
	w.ManualSteps = append(w.ManualSteps, fmt.Sprintf(format, args...))
}

// bringBack undoes a deploy, once: first its lock gets its name back, then what is new goes, then what ran
// before gets its names, its networks and its policies, and is started.
func (d *Deployer) bringBack(ctx context.Context, stack string, l *lock) Outcome {
	out := &wayBack{Outcome{Result: PutBack}}
	containers, err := d.withTaken(ctx, stack)
	for until := time.Now().Add(d.ReconnectTimeout); errors.Is(err, engine.ErrUnknownOutcome) &&
		time.Now().Before(until); {
		time.Sleep(probeEvery)
		containers, err = d.withTaken(ctx, stack)
	}
	if err != nil {
		out.needs(
			"the engine does not answer (%s); run lantern deploy %s once it does: it first "+
				"brings back what ran before", err, stack)
		return out.Outcome
	}
	for _, c := range containers {
		// First of all: who found this name after a death from here on would finish what is being undone.
		if c.ID == l.ID && c.Name == d.markName(stack, plan.SuffixProven) {
			if err := d.rename(ctx, c.ID, d.markName(stack, plan.SuffixLock)); err != nil {
				out.needs(
					"nothing was undone, as the container %s cannot be renamed (%s); run "+
						"lantern deploy %s again", c.Name, err, stack)
				return out.Outcome
			}
		}
	}
	removed := d.removeNew(ctx, stack, l, containers, out.needs)
	for _, m := range l.Moves {
		if err := d.move(ctx, stack, m, m.Was); err != nil {
			out.needs("bring the network %s back to what it was: %s", m.Was.Name, err)
		}
	}
	back := d.nameAgain(ctx, stack, containers, removed, out.needs)
	d.startAgain(ctx, stack, back, l.WasUp, out.needs)
	if err := d.removeUnused(ctx, stack, nil); err != nil && len(back) == 0 {
		out.needs("remove by hand: %s", err)
	}
	if err := d.removeMadeVolumes(ctx, stack, l); err != nil {
		out.needs("remove by hand the volume that was made: %s", err)
	}
	return out.Outcome
}

// removeNew removes what a deploy has made, under either name, and returns the names of what is gone.
func (d *Deployer) removeNew(ctx context.Context, stack string, l *lock, containers []engine.State,
	needs func(string, ...any)) map[string]bool {
	removed := map[string]bool{}
	for _, c := range engine.GuestsFirst(containers) {
		if c.Labels[plan.LabelService] == "" || entryOf(c) != l.Entry ||
			strings.HasSuffix(c.Name, plan.SuffixPrevious) {
			continue
		}
		err := persist(func() error { return d.stopOwn(ctx, c.ID, c.Container.StopWithin) })
		if err == nil || errors.Is(err, engine.ErrNotFound) {
			err = persist(func() error { return d.remove(ctx, c.ID) })
		}
		if err != nil {
			needs("remove the container %s by hand: %s", c.Name, err)
			continue
		}
		removed[c.Name] = true
		d.event(stack, c.Labels[plan.LabelService], StepRemove, EventDone, "the new container")
	}
	return removed
}

// nameAgain gives what ran before its names back, and returns all of it.
func (d *Deployer) nameAgain(ctx context.Context, stack string, containers []engine.State,
	removed map[string]bool, needs func(string, ...any)) (back []engine.State) {
	for _, c := range containers {
		name := lab.ContainerName(d.Lab, stack, c.Labels[plan.LabelService])
		switch {
		case c.Labels[plan.LabelService] == "" || removed[c.Name] || c.Name == name+plan.SuffixNext:
			continue
		case d.takes[c.ID].ID != "": // it has kept its name
		case c.Name == name+plan.SuffixPrevious:
			taken := slices.ContainsFunc(containers, func(o engine.State) bool { return o.Name == name })
			if taken && !removed[name] {
				continue // said already
			}
			if err := persist(func() error { return d.rename(ctx, c.ID, name) }); err != nil {
				needs("rename the container %s to %s and start it: %s", c.Name, name, err)
				continue
			}
		}
		back = append(back, c)
	}
	return back
}

// startAgain gives what ran before its restart policy back, starts it and proves it. What was first then is
// tried first now; whatever waits for another one shows by not being ready yet, so there are a few rounds.
func (d *Deployer) startAgain(ctx context.Context, stack string, back []engine.State, wasUp []string,
	needs func(string, ...any)) {
	slices.SortFunc(back, func(a, b engine.State) int { return a.Started.Compare(b.Started) })
	prove := func(c engine.State, since time.Time) *Failure {
		service := c.Labels[plan.LabelService]
		f := d.proveReady(ctx, stack, service, c.ID, plan.ReadProof(c.Labels[plan.LabelProof]), since)
		if f == nil {
			d.event(stack, service, StepPutBack, EventDone, "old version restored")
		}
		return f
	}
	// What only has to stay up is watched at the same time, once all of it runs.
	var last []engine.State
	for _, c := range back {
		service := c.Labels[plan.LabelService]
		now, err := d.inspect(ctx, c.ID)
		if err != nil {
			needs("look at the container %s.%s: %s", stack, service, err)
			continue
		}
		if !slices.Contains(wasUp, service) && now.Running {
			if err := d.stopOwn(ctx, c.ID, c.Container.StopWithin); err != nil {
				needs("stop the container %s.%s, which did not run before: %s", stack, service, err)
			}
		}
		since, begun := time.Now(), false
		if slices.Contains(wasUp, service) && !now.Running {
			if err := d.start(ctx, c.ID); err != nil {
				needs("start the container %s.%s by hand: %s", stack, service, err)
				continue
			}
			begun = true
		}
		// Not before it runs: until then an engine that restarts is to bring it back whatever its policy
		// was.
		if err := d.asDeclared(ctx, []engine.State{now}); err != nil {
			needs("set the restart policy of %s.%s to %s: %s", stack, service, now.Labels[plan.LabelRestart], err)
		}
		if !begun {
			continue // as before already
		}
		if !plan.ReadProof(c.Labels[plan.LabelProof]).Declared() {
			last = append(last, c)
			continue
		}
		if f := prove(c, since); f != nil {
			needs("look at %s.%s: it runs again, but %s", stack, service, f.Message)
		}
	}
	failures := make([]*Failure, len(last))
	var wait sync.WaitGroup
	for i, c := range last {
		wait.Go(func() { failures[i] = prove(c, time.Now()) })
	}
	wait.Wait()
	for i, f := range failures {
		if f != nil {
			needs("look at %s.%s: it runs again, but %s", stack, last[i].Labels[plan.LabelService], f.Message)
		}
	}
}
