package deploy

import (
	"context"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// commit makes the proven containers the only ones. It can be run again from any point.
func (d *Deployer) commit(ctx context.Context, stack string) Outcome {
	again := func(err error, what string) Outcome {
		return Outcome{Result: NeedsManual, Failure: &Failure{Message: err.Error()}, ManualSteps: []string{"everything is proven and runs, but " + what + ": run the same command again"}}
	}
	containers, err := d.Containers(ctx, stack)
	if err != nil {
		return again(err, "the engine stopped answering")
	}
	if service := missing(stack, containers); service != "" {
		return again(errors.New(service+" has no container any more"), "somebody has taken one away meanwhile")
	}
	left, err := d.removePrevious(ctx, stack, containers)
	if err != nil {
		return again(err, "what ran before is still there, stopped, or a restart policy is not set")
	}
	// Somebody else's container may be on a network that no service needs any more; that is no reason to hold anything up.
	if err := d.removeUnused(ctx, stack, nil); err != nil {
		d.event(stack, "", StepRemove, EventProgress, "left alone: "+err.Error())
	}
	for _, c := range containers {
		if c.Name != stack+plan.SuffixProven {
			continue
		}
		if err := persist(func() error { return d.remove(ctx, c.ID) }); err != nil {
			return again(err, "its lock is still there")
		}
	}
	return Outcome{Result: Done, Left: left}
}

// removePrevious gives the proven containers their restart policies and removes what ran before. It returns the volumes of images' own making that are
// left.
func (d *Deployer) removePrevious(ctx context.Context, stack string, containers []engine.State) (left []string, err error) {
	all := groups(containers)
	lefts, problems := make([][]string, len(all)), make([]error, len(all))
	turns := make(chan struct{}, groupsAtOnce)
	var wait sync.WaitGroup
	for i, group := range all {
		wait.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			err := d.handOver(ctx, group)
			for _, c := range slices.Backward(group.previous) {
				if err == nil && c.Running { // the engine did start anew
					err = persist(func() error { return d.stopOwn(ctx, c.ID, c.Container.StopWithin) })
				}
				if err == nil {
					err = persist(func() error { return d.remove(ctx, c.ID) })
				}
				if err == nil {
					lefts[i] = append(lefts[i], c.AnonymousVolumes...)
					d.event(stack, c.Labels[plan.LabelService], StepRemove, EventDone, "what ran before")
				}
			}
			problems[i] = err
		})
	}
	wait.Wait()
	return slices.Concat(lefts...), errors.Join(problems...)
}

// handOver has an engine that starts anew bring back what was proven, and no longer what ran before. These calls follow each other at once, before anything
// that takes its time: in between such an engine would start both. Then whatever gets a port first must not keep the others from running: guests can
// start only with their host, so they are let in before it, and the old host is kept out before its guests. No order is right for services that took each
// other's ports, and no engine switches two containers in one call: there one of them may stay stopped until the next run.
func (d *Deployer) handOver(ctx context.Context, g group) error {
	if err := d.asDeclared(ctx, g.proven); err != nil || !d.Engine.CanUpdate() {
		return err
	}
	never := declare.Restart{Policy: "no"}
	for _, c := range g.previous {
		if c.Container.Restart == never {
			continue
		}
		if err := persist(func() error { return d.setRestart(ctx, c.ID, never) }); err != nil {
			return err
		}
	}
	return nil
}

// asDeclared gives containers the restart policies that they were declared with.
func (d *Deployer) asDeclared(ctx context.Context, containers []engine.State) error {
	if !d.Engine.CanUpdate() {
		return nil
	}
	for _, c := range containers {
		want, err := declare.ParseRestart(c.Labels[plan.LabelRestart])
		if err != nil || want == c.Container.Restart {
			continue
		}
		if err := persist(func() error { return d.setRestart(ctx, c.ID, want) }); err != nil {
			return err
		}
	}
	return nil
}

// persist makes a call again that an engine has refused: one that can be made any number of times, where nothing else is left to do but that. What is not there, or not ours,
// will not be so a moment later.
func persist(call func() error) error {
	err := call()
	for range 2 {
		if err == nil || errors.Is(err, engine.ErrNotFound) || errors.Is(err, engine.ErrForeign) || errors.Is(err, engine.ErrUnknownOutcome) {
			break
		}
		time.Sleep(probeEvery)
		err = call()
	}
	return err
}

// groupsAtOnce is how many groups of a stack are cleared away at the same time.
const groupsAtOnce = 4

// group is containers that are handed over together: those that live in one network, and those that take ports of each other.
type group struct {
	proven   []engine.State // guests come before the one in whose network they live
	previous []engine.State // guests come after it
}

// groups sorts the containers of a stack into groups.
func groups(containers []engine.State) []group {
	by := map[string]*group{} // by the name of the one whose network it is
	var names []string
	of := func(c engine.State) *group {
		key := strings.TrimSuffix(c.Name, plan.SuffixPrevious)
		if id, guest := strings.CutPrefix(c.Container.NetworkOf, "container:"); guest {
			for _, partner := range containers {
				if partner.ID == id {
					key = strings.TrimSuffix(partner.Name, plan.SuffixPrevious)
				}
			}
		}
		if by[key] == nil {
			by[key] = &group{}
			names = append(names, key)
		}
		return by[key]
	}
	ordered := engine.GuestsFirst(containers)
	for _, c := range ordered {
		if !observe.IsTransitional(c) {
			g := of(c)
			g.proven = append(g.proven, c)
		}
	}
	for _, c := range slices.Backward(ordered) {
		if strings.HasSuffix(c.Name, plan.SuffixPrevious) {
			g := of(c)
			g.previous = append(g.previous, c)
		}
	}
	var all []group
	for _, name := range names {
		g := *by[name]
		all = slices.DeleteFunc(all, func(o group) bool {
			if !g.takesPortOf(o) && !o.takesPortOf(g) {
				return false
			}
			g.proven, g.previous = append(g.proven, o.proven...), append(g.previous, o.previous...)
			return true
		})
		all = append(all, g)
	}
	return all
}

// takesPortOf tells whether something proven publishes a port that something of the other group has published before.
func (g group) takesPortOf(o group) bool {
	return slices.ContainsFunc(g.proven, func(c engine.State) bool {
		return slices.ContainsFunc(o.previous, func(p engine.State) bool { return c.Container.SharesHostPort(p.Container) })
	})
}

// startProven starts what was proven and does not run: an engine that started anew before the commit has not, for its policy was not set yet.
func (d *Deployer) startProven(ctx context.Context, stack string) error {
	containers, err := d.Containers(ctx, stack)
	if err != nil {
		return err
	}
	var problems []error
	for _, c := range slices.Backward(engine.GuestsFirst(containers)) {
		if !observe.IsTransitional(c) && !c.Running && !c.Started.IsZero() && !observe.CompletedJob(c) {
			problems = append(problems, d.start(ctx, c.ID))
		}
	}
	return errors.Join(problems...)
}
