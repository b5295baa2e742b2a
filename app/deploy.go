package app

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/engine"
)

// Run is stacks that were compared with what runs, and are deployed: those of one host one after the other, hosts side
// by side.
type Run struct {
	Plans   []plan.Stack
	Missing []Missing // hosts that could not be reached, unlike others

	lab     *Workspace
	options RunOptions
	hosts   map[string]*deploy.Deployer

	mu     sync.Mutex
	report func(deploy.Event) // under mu
}

// RunOptions are what holds for all stacks of a run.
type RunOptions struct {
	Named    Targets       // of a stack of which services are named, only these and what they need are deployed
	Refresh  Targets       // services whose image is pulled again: its tag has moved. None: none
	TakeOver bool          // see [deploy.Options]
	Entry    history.Entry // what all entries of the logbook have in common
}

// Plan connects to the engines of stacks and compares each stack with what runs. The run has to be closed.
func (w *Workspace) Plan(ctx context.Context, stacks []*lab.Stack, o RunOptions) (*Run, error) {
	asked := stacks
	stacks = plan.Order(w.withGates(stacks, ""))
	r := &Run{lab: w, options: o, hosts: map[string]*deploy.Deployer{}, Missing: slices.Clone(w.Missing)}
	plans, errs := make([]*plan.Stack, len(stacks)), map[string]error{}
	var wait sync.WaitGroup
	for _, h := range w.Hosts {
		if !slices.ContainsFunc(stacks, func(st *lab.Stack) bool { return st.Host == h }) {
			continue
		}
		wait.Go(func() {
			err := r.planOn(ctx, h, stacks, plans)
			r.mu.Lock()
			defer r.mu.Unlock()
			if err != nil {
				errs[h.Name] = err
			}
		})
	}
	wait.Wait()
	for i, st := range stacks {
		if plans[i] != nil && errs[st.Host.Name] == nil {
			w.learn(*plans[i])
			r.Plans = append(r.Plans, *plans[i])
		}
	}
	// A gate that nobody named is part of it only where it has to be changed.
	r.Plans = slices.DeleteFunc(r.Plans, func(p plan.Stack) bool {
		return !slices.Contains(asked, p.Stack) && !p.Changes() && !p.Unfinished
	})
	for _, h := range w.Hosts {
		if err := errs[h.Name]; err != nil {
			if len(r.Plans) == 0 {
				r.Close()
				return nil, err
			}
			r.Missing = append(r.Missing, missing(h.Name, namesOn(h, stacks), err))
		}
	}
	return r, nil
}

func namesOn(h *lab.Host, stacks []*lab.Stack) (names []string) {
	for _, st := range stacks {
		if st.Host == h {
			names = append(names, st.Name)
		}
	}
	return names
}

// stacksAtOnce is how many stacks of a host are looked at at the same time.
const stacksAtOnce = 32

// planOn compares the stacks of one host with what runs there, into the places that they have among all.
func (r *Run) planOn(ctx context.Context, h *lab.Host, stacks []*lab.Stack, plans []*plan.Stack) error {
	d, err := r.lab.deployer(ctx, h, r.event)
	if err != nil {
		return err
	}
	r.mu.Lock()
	r.hosts[h.Name] = d
	r.mu.Unlock()
	look := d.Observer // it looks at the networks once; the deploy itself looks again
	look.Resources, err = look.FindAll(ctx)
	var work errgroup.Group
	work.SetLimit(stacksAtOnce)
	for i, st := range stacks {
		if st.Host != h || err != nil {
			continue
		}
		work.Go(func() error {
			p, err := look.Plan(ctx, st, r.options.Named.Services(st.Name), r.options.Refresh.Services(st.Name))
			plans[i] = &p
			return err
		})
	}
	if err = errors.Join(err, work.Wait()); err == nil {
		err = r.lab.compareSites(ctx, d.Engine, h, plans)
	}
	if err != nil {
		return &Error{Kind: Unreachable, Message: "the engine of " + h.Name + ": " + err.Error(), Err: err}
	}
	return nil
}

// longSecret is how long a secret word of a command has to be, in bytes, to be looked for in other texts.
const longSecret = 12

// Asked returns the values that a person has to give before the stacks can be deployed.
func (r *Run) Asked() []*lab.Later {
	var all []*lab.Later
	for _, p := range r.Plans {
		all = append(all, p.Asked()...)
	}
	return all
}

// learn tells the caller the secrets of what runs: one that was changed is a secret still, as long as
// anything holds it.
func (w *Workspace) learn(p plan.Stack) {
	var found []string
	for _, s := range p.Services {
		if s.Running == nil {
			continue
		}
		for _, v := range s.Running.Container.Env {
			if v.Value.Secret() {
				found = append(found, v.Value.Reveal())
			}
		}
		now := secret.Reveal(slices.Concat(s.Container.Settings.Command, s.Container.Settings.Entrypoint))
		for _, t := range slices.Concat(s.Running.Container.Settings.Command,
			s.Running.Container.Settings.Entrypoint) {
			// It is not known which of the words it is; those that are still there are shown in no other way
			// either.
			if word := t.Reveal(); t.Secret() && len(word) >= longSecret && !slices.Contains(now, word) {
				found = append(found, word)
			}
		}
	}
	if len(found) > 0 && w.caller.Learn != nil {
		w.caller.Learn(found...)
	}
}

// Close ends the connections to the engines.
func (r *Run) Close() {
	for _, d := range r.hosts {
		d.Engine.Close()
	}
}

// Watch sends events to somebody else from now on.
func (r *Run) Watch(report func(deploy.Event)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.report = report
}

func (r *Run) event(e deploy.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.report != nil {
		r.report(e)
	}
}

// Strangers returns what runs on the hosts of the run under the lab's name and was not deployed from here, by
// host.
func (r *Run) Strangers(ctx context.Context) (map[string][]deploy.Elsewhere, error) {
	return r.lab.strangersOf(ctx, r.hosts)
}

func (w *Workspace) strangersOf(ctx context.Context,
	hosts map[string]*deploy.Deployer) (map[string][]deploy.Elsewhere, error) {
	all := map[string][]deploy.Elsewhere{}
	for name, d := range hosts {
		found, err := w.strangers(ctx, d)
		if err != nil {
			return nil, err
		}
		if len(found) > 0 {
			all[name] = found
		}
	}
	return all, nil
}

// Deploy carries out one plan of the run and writes it down. The error is one of [deploy.Deployer.Deploy]:
// nothing was changed then.
func (r *Run) Deploy(ctx context.Context, p plan.Stack) (deploy.Outcome, error) {
	if !p.Asks() && !p.Unfinished && !r.usesBuilt(p) {
		return deploy.Outcome{Result: deploy.NothingToDo}, nil
	}
	d := r.hosts[p.Stack.Host.Name]
	options := deploy.Options{
		After:    r.lab.lastEntry(p.Stack.Name),
		TakeOver: r.options.TakeOver,
		Only:     r.options.Named.Services(p.Stack.Name),
		Refresh:  r.options.Refresh.Services(p.Stack.Name),
	}
	began := time.Now()
	out, err := d.Deploy(ctx, p.Stack, options)
	if err == nil && out.Entry > 0 {
		e := r.options.Entry
		e.Began, e.Stack = began, p.Stack.Name
		r.lab.record(ctx, d, e, out)
	}
	done := err == nil && (out.Result == deploy.Done || out.Result == deploy.NothingToDo)
	if done && (len(p.Sites) > 0 || p.Stack.Gate != nil && out.Result == deploy.Done) {
		if told := r.tell(ctx, p); told != nil {
			r.lab.warn("%s: its gate was not told: %s; run lantern deploy %s again", p.Stack.Name, told, p.Stack.Name)
		} else if out.Result == deploy.NothingToDo {
			out.Result = deploy.Done
		}
	}
	return out, err
}

// usesBuilt reports whether a stack uses images that other stacks of the run have made anew since it was planned.
func (r *Run) usesBuilt(p plan.Stack) bool {
	return slices.ContainsFunc(r.Plans, func(o plan.Stack) bool {
		return o.Stack.Host == p.Stack.Host && slices.ContainsFunc(o.Builds, func(b plan.Build) bool {
			return slices.ContainsFunc(p.Stack.Services, func(s *lab.Service) bool { return slices.Contains(plan.ImagesOf(s), b.Image) })
		})
	})
}

// NotDeployed words the error of a deploy that has changed nothing.
func NotDeployed(stack string, err error) *Error {
	switch {
	case errors.Is(err, context.Canceled):
		return &Error{Kind: Interrupted, Message: stack + ": interrupted; nothing was changed"}
	case errors.Is(err, deploy.ErrImage) && !errors.Is(err, engine.ErrUnknownOutcome):
		// what ran before was not even stopped
		return &Error{Kind: PutBack, Message: stack + ": nothing was changed: " + err.Error(), Err: err}
	}
	return &Error{Kind: Unreachable, Message: stack + ": nothing was changed: " + err.Error(), Err: err}
}

// Explain looks for what the check now finds of what a failed service said: it may have been true before and
// looked past, or have come about since. Rule is the likeliest one, "" when its words are known to none;
// found is nil when it finds nothing.
func (r *Run) Explain(ctx context.Context, stack string, f *deploy.Failure) (rule string, found *check.Finding) {
	rules := check.Symptoms(append([]string{f.Message}, f.Log...))
	if len(rules) == 0 || ctx.Err() != nil {
		return "", nil
	}
	result := check.Run(r.lab.SurveyClosely(ctx, "").Lab, check.All())
	for _, rule := range rules {
		for _, finding := range result.Findings {
			if finding.Rule == rule && finding.Stack == stack && (finding.Service == f.Service || f.Service == "") {
				return rule, &finding
			}
		}
	}
	return rules[0], nil
}
