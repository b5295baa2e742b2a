package deploy

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// commit makes the proven containers the only ones. This is the protocol, once the lock bears the name
// STACK.proven:
//
//  1. Each service that has stepped aside must have its successor; else somebody has taken one away, and nothing is removed.
//  2. Gates are told where the services of its sites are now. Requests to what is to go get time to finish. A gate that does
//     not answer holds nothing up: it finds them by their names.
//  3. Services are handed over in groups, see [group]. In a group, each new container gets its declared restart policy,
//     then each old one gets the policy "no". From here on, an engine that restarts starts the new ones only.
//  4. The old containers of the group are stopped, if they run, and removed.
//  5. Networks that no service needs any more are removed. One that somebody else uses stays.
//  6. The lock is removed.
//
// Every step can be made again: after a death at any point the next run begins at the first one.
func (d *Deployer) commit(ctx context.Context, stack string) Outcome {
	again := func(err error, what string) Outcome {
		return Outcome{
			Result:      NeedsManual,
			Failure:     &Failure{Message: err.Error()},
			ManualSteps: []string{"everything is proven and runs, but " + what + ": run the same command again"},
		}
	}
	containers, err := d.withTaken(ctx, stack)
	if err != nil {
		return again(err, "the engine stopped answering")
	}
	if service := missing(stack, containers); service != "" {
		return again(errors.New(service+" has no container any more"), "somebody has taken one away meanwhile")
	}
	d.route(ctx, stack, containers)
	left, err := d.removePrevious(ctx, stack, containers)
	if err != nil {
		return again(err, "what ran before is still there, stopped, or a restart policy is not set")
	}
	// Somebody else's container may be on a network that no service needs any more; that is no reason to hold
	// anything up.
	if err := d.removeUnused(ctx, stack, nil); err != nil {
		d.event(stack, "", StepRemove, EventProgress, "left alone: "+err.Error())
	}
	for _, c := range containers {
		if c.Name != d.markName(stack, plan.SuffixProven) {
			continue
		}
		if err := persist(func() error { return d.remove(ctx, c.ID) }); err != nil {
			return again(err, "its lock is still there")
		}
	}
	return Outcome{Result: Done, Left: left}
}

// drainFor is how long requests may take that are under way to what is to go.
const drainFor = 20 * time.Second

// route tells gates where the services of a stack are now.
func (d *Deployer) route(ctx context.Context, stack string, containers []engine.State) {
	if d.Route == nil {
		return
	}
	if err := d.Route(ctx, stack, containers, drainFor); err != nil {
		d.event(stack, "", StepRoute, EventFailed, err.Error())
	}
}

// removePrevious gives the proven containers their restart policies and removes what ran before. It returns
// the volumes of images' own making that are left.
func (d *Deployer) removePrevious(ctx context.Context, stack string,
	containers []engine.State) (left []string, err error) {
	all := groups(containers)
	lefts, problems := make([][]string, len(all)), make([]error, len(all))
	var work errgroup.Group
	work.SetLimit(groupsAtOnce)
	for i, group := range all {
		work.Go(func() error {
			lefts[i], problems[i] = d.removeGroup(ctx, stack, group)
			return nil
		})
	}
	work.Wait()
	return slices.Concat(lefts...), errors.Join(problems...)
}

// removeGroup hands a group over, and removes what ran before in it.
func (d *Deployer) removeGroup(ctx context.Context, stack string, g group) (left []string, err error) {
	if err := d.handOver(ctx, g); err != nil {
		return nil, err
	}
	for _, c := range slices.Backward(g.previous) {
		if c.Running { // the engine has restarted
			if err := persist(func() error { return d.stopOwn(ctx, c.ID, c.Container.StopWithin) }); err != nil {
				return left, err
			}
		}
		if err := persist(func() error { return d.remove(ctx, c.ID) }); err != nil {
			return left, err
		}
		left = append(left, c.AnonymousVolumes...)
		d.event(stack, c.Labels[plan.LabelService], StepRemove, EventDone, "the old version")
	}
	return left, nil
}

// handOver makes an engine that restarts start the new containers of a group, and no longer the old ones.
//
//  1. The new containers get their declared policies: guests before the one whose network they share, because they can start only
//     with it.
//  2. The old containers get the policy "no": the one whose network is shared before its guests.
//
// The calls follow each other at once, before anything that takes time: in between, an engine that restarts
// starts both, and the first one gets the port. For services that took each other's ports no order is right,
// and no engine switches two containers in one call: one of them may stay stopped until the next run.
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

// persist makes a call again that an engine has refused: one that can be made any number of times, where
// nothing else is left to do but that. What is not there, or not ours, will not be so a moment later.
func persist(call func() error) error {
	err := call()
	for range 2 {
		if err == nil || errors.Is(err, engine.ErrNotFound) || errors.Is(err, engine.ErrForeign) ||
			errors.Is(err, engine.ErrUnknownOutcome) {
			break
		}
		time.Sleep(probeEvery)
		err = call()
	}
	return err
}

// groupsAtOnce is how many groups of a stack are cleared away at the same time.
const groupsAtOnce = 4

// group is containers that are handed over together: those that live in one network, and those that take
// ports of each other.
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

// takesPortOf reports whether something proven publishes a port that something of the other group has published
// before.
func (g group) takesPortOf(o group) bool {
	return slices.ContainsFunc(g.proven, func(c engine.State) bool {
		return slices.ContainsFunc(o.previous, func(p engine.State) bool {
			return c.Container.SharesHostPort(p.Container)
		})
	})
}

// startProven starts what was proven and does not run: an engine that started again before the commit has not,
// for its policy was not set yet.
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
