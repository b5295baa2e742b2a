package deploy

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// NotReady is the result of a start after which a service has not become ready. It stays as it is.
const NotReady = "not-ready"

// Running starts and stops what was deployed of one stack.
type Running struct {
	Stack    string
	Declared *lab.Stack // nil when only containers are left, or the files cannot be understood
	Only     []string   // services; all when empty
}

// part is a service of the stack with its container.
type part struct {
	name      string
	container engine.State
	declared  *lab.Service // may be nil
	proof     plan.Proof
	level     int
}

func (m part) runs() bool { return m.container.Running || m.container.Status == "restarting" }

// Start starts services that do not run, and what they need, in their order, each one when those before it are
// ready. A job that has done its work is only run again when it is named. Errors say that nothing was changed.
func (d *Deployer) Start(ctx context.Context, r Running) (Outcome, error) {
	asked := r.Only
	if r.Declared != nil {
		r.Only = plan.Needed(r.Declared, r.Only)
	}
	parts, refused, err := d.parts(ctx, r)
	if err != nil || refused.Result != "" {
		return refused, err
	}
	parts = slices.DeleteFunc(parts, func(m part) bool {
		return m.runs() || observe.CompletedJob(m.container) && !named(asked, m.name)
	})
	return d.startAll(ctx, r.Stack, parts), nil
}

// Stop stops services that run, those first that others have to be ready for last. Those that live in the network
// of one of them stop with it.
func (d *Deployer) Stop(ctx context.Context, r Running) (Outcome, error) {
	parts, refused, err := d.parts(ctx, r)
	if err != nil || refused.Result != "" {
		return refused, err
	}
	parts = slices.DeleteFunc(parts, func(m part) bool { return !m.runs() })
	return d.stopAll(ctx, r.Stack, parts), nil
}

// Restart stops services and starts them again, and starts what they need. A job that has done its work is only
// run again when it is named.
func (d *Deployer) Restart(ctx context.Context, r Running) (Outcome, error) {
	parts, refused, err := d.parts(ctx, r)
	if err != nil || refused.Result != "" {
		return refused, err
	}
	running := slices.DeleteFunc(parts, func(m part) bool { return !m.runs() })
	if out := d.stopAll(ctx, r.Stack, running); out.Failure != nil {
		return out, nil
	}
	return d.Start(ctx, r)
}

// parts returns the containers of the services. The outcome is Refused while a deploy holds the stack, or has
// died in the middle, and where one of the services has no container.
func (d *Deployer) parts(ctx context.Context, r Running) ([]part, Outcome, error) {
	containers, err := d.Containers(ctx, r.Stack)
	if err != nil {
		return nil, Outcome{}, err
	}
	if why := d.held(r.Stack, containers); why != "" {
		return nil, Outcome{Result: Refused, Holder: why}, nil
	}
	levels := map[*lab.Service]int{}
	if r.Declared != nil {
		levels = plan.Levels(r.Declared)
	}
	var all []part
	for _, c := range containers {
		m := part{name: c.Labels[plan.LabelService], container: c, proof: plan.ReadProof(c.Labels[plan.LabelProof])}
		if r.Declared != nil {
			m.declared = r.Declared.Service(m.name)
		}
		if m.declared != nil {
			m.proof, m.level = plan.ProofOf(m.declared), levels[m.declared]
		}
		all = append(all, m)
	}
	wanted := func(name string) bool { return len(r.Only) == 0 || named(r.Only, name) }
	if missing := absent(r, all, wanted); len(missing) > 0 {
		return nil, Outcome{Result: Refused, Holder: fmt.Sprintf("%s not deployed yet: lantern deploy %s",
			isOrAre(missing), r.Stack)}, nil
	}
	all = slices.DeleteFunc(all, func(m part) bool {
		host := slices.IndexFunc(all, func(o part) bool {
			return m.container.Container.NetworkOf == "container:"+o.container.ID
		})
		return !wanted(m.name) && (host < 0 || !wanted(all[host].name))
	})
	return all, Outcome{}, nil
}

// absent returns the wanted services that have no container.
func absent(r Running, found []part, wanted func(string) bool) []string {
	has := func(name string) bool {
		return slices.ContainsFunc(found, func(m part) bool { return m.name == name })
	}
	names := slices.Clone(r.Only)
	if r.Declared != nil {
		for _, s := range r.Declared.Containers() {
			names = append(names, s.Name)
		}
	}
	names = slices.DeleteFunc(names, func(n string) bool { return has(n) || !wanted(n) })
	slices.Sort(names)
	return slices.Compact(names)
}

// named reports whether a container is one of the named services, or one of their copies.
func named(names []string, name string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return lab.IsOf(n, name) })
}

func isOrAre(names []string) string {
	if len(names) == 1 {
		return names[0] + " is"
	}
	return strings.Join(names, ", ") + " are"
}

// held says why a stack is not to be touched now; "" when nothing speaks against it.
func (d *Deployer) held(stack string, containers []engine.State) string {
	for _, c := range containers {
		if observe.IsLock(c) && d.alive(c) {
			return d.holder(c)
		}
	}
	if slices.ContainsFunc(containers, observe.IsTransitional) {
		return "a deploy died in the middle; lantern status " + stack + " finishes or undoes it"
	}
	return ""
}

// startAll starts parts level by level, and waits for each to be ready.
func (d *Deployer) startAll(ctx context.Context, stack string, parts []part) Outcome {
	out := d.eachLevel(parts, false, func(m part) *Failure {
		if m.declared != nil {
			if f := d.awaitOthers(ctx, stack, m.declared); f != nil {
				return f
			}
		}
		return d.startAndProve(ctx, stack, m.name, m.container.ID, m.proof)
	})
	for _, m := range parts {
		if out.Result == Done && m.proof.PagePort > 0 {
			if f := d.provePage(ctx, stack, m.name, m.proof); f != nil {
				out = Outcome{Result: NotReady, Failure: f}
			}
		}
	}
	return out
}

func (d *Deployer) stopAll(ctx context.Context, stack string, parts []part) Outcome {
	return d.eachLevel(parts, true, func(m part) *Failure {
		d.event(stack, m.name, StepStop, EventBegun, "")
		if err := d.stopOwn(ctx, m.container.ID, m.container.Container.StopWithin); err != nil {
			d.event(stack, m.name, StepStop, EventFailed, err.Error())
			return &Failure{Service: m.name, Message: err.Error()}
		}
		d.event(stack, m.name, StepStop, EventDone, "stopped")
		return nil
	})
}

// eachLevel does something with all parts of a level at once, level by level, and ends at the first failure.
func (d *Deployer) eachLevel(parts []part, backward bool, f func(part) *Failure) Outcome {
	if len(parts) == 0 {
		return Outcome{Result: NothingToDo}
	}
	levels := map[int][]part{}
	var order []int
	for _, m := range parts {
		if levels[m.level] == nil {
			order = append(order, m.level)
		}
		levels[m.level] = append(levels[m.level], m)
	}
	slices.Sort(order)
	if backward {
		slices.Reverse(order)
	}
	for _, level := range order {
		failures := make([]*Failure, len(levels[level]))
		var wait sync.WaitGroup
		for i, m := range levels[level] {
			wait.Go(func() { failures[i] = f(m) })
		}
		wait.Wait()
		for _, failure := range failures {
			if failure != nil {
				return Outcome{Result: NotReady, Failure: failure}
			}
		}
	}
	return Outcome{Result: Done}
}
