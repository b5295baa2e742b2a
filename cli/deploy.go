package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/logbook"
	"proudlantern.example/lantern/engine"
)

func (a *app) deployCommand() *cli.Command {
	var yes, dryRun, takeOver, same bool
	var despite []string
	return &cli.Command{
		Name: "deploy", Usage: "check, compare, ask, pull, replace in order, prove, or put back", ArgsUsage: "[STACK]",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{Name: "dry-run", Usage: "only say what would be done", Destination: &dryRun},
			&cli.StringSliceFlag{Name: "despite", Usage: "errors of this `RULE` do not stop the deploy; the logbook says so", Destination: &despite},
			&cli.BoolFlag{Name: "take-over", Usage: "do not wait for a deploy from another machine that has died there", Destination: &takeOver},
			sameLabFlag(&same),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			o, asJSON, err := a.begin()
			if err != nil {
				return err
			}
			if len(o.Stacks) == 0 {
				return usage("the lab has no stacks: a stack is a folder with a stack.toml")
			}
			stacks, err := o.stacks(c.Args().First(), a.host)
			if err != nil {
				return err
			}
			lookPast, err := despiteRules(despite)
			if err != nil {
				return err
			}
			if err := a.checkBefore(ctx, o, stacks, lookPast); err != nil {
				return a.refused(err, asJSON, o, stacks)
			}
			stacks, _ = o.stacks(c.Args().First(), a.host) // resolved anew, with the surveys
			stacks = plan.Order(stacks)
			run := &deployRun{app: a, json: asJSON, lab: o, takeOver: takeOver, same: same, entry: logbook.Entry{Kind: logbook.Deploy, Despite: despite}}
			plans, err := run.plan(ctx, o, stacks)
			if err != nil {
				return err
			}
			defer run.close()
			return run.carryOut(ctx, plans, yes, dryRun)
		},
	}
}

// refused says as JSON, a line each, what kept a deploy from beginning: the findings, then the result.
func (a *app) refused(err error, asJSON bool, o *opened, stacks []*lab.Stack) error {
	var because *refusal
	if !asJSON || !errors.As(err, &because) {
		return err
	}
	if err := render.FindingsLine(a.Out, o.Lab, because.result); err != nil {
		return err
	}
	for _, st := range stacks {
		last := render.DeployResult{Result: deploy.Refused, Exit: because.code, Stack: st.Name, Because: because.message}
		if st.Host != nil {
			last.Host = st.Host.Name
		}
		json.NewEncoder(a.Out).Encode(last)
	}
	return &exit{code: because.code}
}

// despiteRules returns which findings are looked past: errors of the named rules, but not what keeps the files from being understood.
func despiteRules(despite []string) (func(check.Finding) bool, error) {
	for _, name := range despite {
		var names []string
		for _, r := range check.All() {
			names = append(names, r.Name)
		}
		if !slices.Contains(names, name) {
			if near := declare.Nearest(name, names); near != "" {
				return nil, usage("there is no rule %s; %s is one", name, near)
			}
			return nil, usage("there is no rule %s (lantern about --all rules lists them)", name)
		}
	}
	return func(f check.Finding) bool { return !f.Firm() && slices.Contains(despite, f.Rule) }, nil
}

// checkBefore looks at the hosts and ends the command when an error touches the stacks that is not looked past.
func (a *app) checkBefore(ctx context.Context, o *opened, stacks []*lab.Stack, lookPast func(check.Finding) bool) error {
	o.look(ctx, a.host)
	var names []string
	for _, st := range stacks {
		names = append(names, st.Name)
	}
	result := check.Run(o.Lab, check.All()).About(names...)
	// What is wrong in the files may be why a host is not reached.
	if !slices.ContainsFunc(result.Findings, func(f check.Finding) bool { return f.Severity == check.Error && f.Firm() }) {
		for _, st := range stacks {
			if st.Host != nil && o.errs[st.Host.Name] != nil {
				return unreachable(st.Host.Name, o.errs[st.Host.Name])
			}
		}
	}
	result.Findings = slices.DeleteFunc(result.Findings, func(f check.Finding) bool { return f.Severity == check.Error && lookPast(f) })
	if n := result.Count(check.Error); n > 0 {
		result.Skipped = nil
		render.Findings(a.Err, a.paint(a.Err), o.Lab, result, false)
		return &refusal{exit{code: exitFindings, message: "nothing was changed: the check found " + counted(n, "error")}, result}
	}
	return nil
}

// refusal is an exit because of findings.
type refusal struct {
	exit
	result check.Result
}

func (r *refusal) Unwrap() error { return &r.exit }

// lookAt reads the lab for a command that looks at stacks beside what runs: the named one, or all, in the order in which they are deployed. It ends the command when
// the files cannot be understood.
func (a *app) lookAt(ctx context.Context, name string) (o *opened, stacks []*lab.Stack, asJSON bool, err error) {
	if o, asJSON, err = a.begin(); err != nil {
		return nil, nil, false, err
	}
	if stacks, err = o.stacks(name, a.host); err != nil {
		return nil, nil, false, err
	}
	if err = a.checkBefore(ctx, o, stacks, func(f check.Finding) bool { return !f.Firm() }); err != nil {
		return nil, nil, false, err
	}
	stacks, _ = o.stacks(name, a.host) // resolved anew, with the surveys
	return o, plan.Order(stacks), asJSON, nil
}

// deployRun is one run of the command over some stacks.
type deployRun struct {
	*app
	json     bool
	lab      *opened
	takeOver bool
	same     bool          // see sameLabFlag
	entry    logbook.Entry // what all entries of this run have in common
	hosts    map[string]*deploy.Deployer
	mu       sync.Mutex
	lines    watcher
}

// watcher shows how a deploy goes.
type watcher interface {
	Event(deploy.Event)
	Close()
}

type stackPlan struct {
	deployer *deploy.Deployer
	plan     plan.Stack
}

// plan connects to the engines and compares each stack with what runs.
func (r *deployRun) plan(ctx context.Context, o *opened, stacks []*lab.Stack) ([]stackPlan, error) {
	r.hosts = map[string]*deploy.Deployer{}
	r.lines = render.NewProgress(r.Err, r.paint(r.Err), r.quiet)
	if len(stacks) == 0 && !r.json {
		r.say("the lab has no stack to compare with anything: a stack is a folder with a stack.toml")
	}
	var plans []stackPlan
	for _, st := range stacks {
		d := r.hosts[st.Host.Name]
		if d == nil {
			var err error
			if d, err = r.deployer(ctx, o, st.Host, r.report); err != nil {
				r.close()
				return nil, err
			}
			d.TakeOver = r.takeOver
			r.hosts[st.Host.Name] = d
		}
		p, err := d.Plan(ctx, st)
		if err != nil {
			r.close()
			return nil, &exit{code: exitUnreachable, message: "the engine of " + st.Host.Name + ": " + err.Error(), err: err}
		}
		r.learn(p)
		plans = append(plans, stackPlan{d, p})
	}
	return plans, nil
}

// learn remembers the secrets of what runs: a secret that was changed is one still, as long as anything holds it.
func (r *deployRun) learn(p plan.Stack) {
	for _, s := range p.Services {
		if s.Running == nil {
			continue
		}
		for _, v := range s.Running.Container.Env {
			if v.Value.Secret() {
				r.hides.learn(v.Value.Reveal())
			}
		}
		now := secret.Reveal(slices.Concat(s.Container.Settings.Command, s.Container.Settings.Entrypoint))
		for _, t := range slices.Concat(s.Running.Container.Settings.Command, s.Running.Container.Settings.Entrypoint) {
			// Which of the words it is, nobody has said; those that are still there are shown in no other way either.
			if w := t.Reveal(); t.Secret() && len(w) >= cutFrom && !slices.Contains(now, w) {
				r.hides.learn(w)
			}
		}
	}
}

func (r *deployRun) close() {
	for _, d := range r.hosts {
		d.Engine.Close()
	}
}

// watch shows events elsewhere from now on.
func (r *deployRun) watch(w watcher) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.lines = w
}

func (r *deployRun) report(e deploy.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.json {
		json.NewEncoder(r.Out).Encode(e)
		return
	}
	e.Detail, e.Line = r.hide(e.Detail), r.hide(e.Line) // a live view writes past the redactor, which would tear its lines apart
	r.lines.Event(e)
}

func (r *deployRun) carryOut(ctx context.Context, plans []stackPlan, yes, dryRun bool) error {
	changes := 0
	for _, p := range plans {
		if p.plan.Asks() || p.plan.Unfinished {
			changes++
		}
		if !r.json && (!r.quiet || dryRun) {
			render.Plan(r.Out, r.paint(r.Out), p.plan, r.verbose)
		}
	}
	if dryRun {
		if r.json {
			return render.PlansJSON(r.Out, plansOf(plans))
		}
		return nil
	}
	if changes > 0 {
		if err := r.sameLabs(ctx); err != nil {
			return err
		}
		if err := r.confirm(ctx, "Deploy this?", yes); err != nil {
			return err
		}
	}
	return r.proceed(ctx, plans)
}

// sameLabs makes sure of every host of the run, see sameLab.
func (r *deployRun) sameLabs(ctx context.Context) error {
	for _, name := range sortedKeys(r.hosts) {
		if err := r.sameLab(ctx, r.lab, r.hosts[name], r.same); err != nil {
			return err
		}
	}
	return nil
}

// proceed carries out plans that somebody has said yes to.
func (r *deployRun) proceed(ctx context.Context, plans []stackPlan) error {
	changes := slices.ContainsFunc(plans, func(p stackPlan) bool { return p.plan.Changes() })
	if changes && !r.json && !r.quiet && !r.verbose && isTerminal(r.Err) {
		r.watch(render.NewLive(terminal(r.Err), r.paint(r.Err), plansOf(plans)))
	}
	began := time.Now()
	for i, p := range plans {
		if r.json {
			r.report(deploy.Event{Time: time.Now().UTC(), Host: p.deployer.Host, Stack: p.plan.Stack.Name, Step: deploy.StepCheck, State: deploy.StepDone})
		}
		out, err := r.deploy(ctx, p)
		if err == nil && (out.Result == deploy.Done || out.Result == deploy.NothingToDo) {
			r.result(p, out, exitDone)
			continue
		}
		r.lines.Close()
		var left []string
		for _, l := range plans[i+1:] {
			if l.plan.Changes() {
				left = append(left, l.plan.Stack.Name)
			}
		}
		return r.failed(ctx, p, out, err, left)
	}
	r.lines.Close()
	if !r.json {
		if changes {
			fmt.Fprintln(r.Out)
		}
		r.links(plans)
		if changes {
			r.say("deployed and proven in %s", time.Since(began).Round(100*time.Millisecond))
		}
	}
	return nil
}

// deploy carries out one plan and writes it down.
func (r *deployRun) deploy(ctx context.Context, p stackPlan) (deploy.Outcome, error) {
	if !p.plan.Asks() && !p.plan.Unfinished {
		return deploy.Outcome{Result: deploy.NothingToDo}, nil
	}
	p.deployer.After = r.lastEntry(r.lab, p.plan.Stack.Name)
	began := time.Now()
	out, err := p.deployer.Deploy(ctx, p.plan.Stack)
	if err == nil && out.Entry > 0 {
		e := r.entry
		e.Began, e.Stack = began, p.plan.Stack.Name
		r.record(ctx, r.lab, p.deployer, e, out)
	}
	return out, err
}

func plansOf(plans []stackPlan) []plan.Stack {
	var out []plan.Stack
	for _, p := range plans {
		out = append(out, p.plan)
	}
	return out
}

// result writes the last event of a stack.
func (r *deployRun) result(p stackPlan, out deploy.Outcome, code int) {
	if r.json {
		last := render.DeployResult{Result: out.Result, Exit: code, Host: p.deployer.Host, Stack: p.plan.Stack.Name, Because: out.Holder}
		if out.Failure != nil && out.Holder == "" {
			last.Because = out.Failure.Message
		}
		json.NewEncoder(r.Out).Encode(last)
	}
}

// failed words how a deploy of a stack did not succeed.
func (r *deployRun) failed(ctx context.Context, p stackPlan, out deploy.Outcome, err error, left []string) error {
	name := p.plan.Stack.Name
	if err != nil {
		code := exitUnreachable
		if errors.Is(err, context.Canceled) {
			r.result(p, deploy.Outcome{Result: deploy.Refused, Failure: &deploy.Failure{Message: "interrupted; nothing was changed"}}, exitInterrupted)
			if r.json {
				return &exit{code: exitInterrupted}
			}
			return &exit{code: exitInterrupted, message: name + ": interrupted; nothing was changed"}
		}
		if errors.Is(err, deploy.ErrImage) && !errors.Is(err, engine.ErrUnknownOutcome) {
			code = exitPutBack // what ran before was not even stopped
		}
		r.result(p, deploy.Outcome{Result: deploy.Refused, Failure: &deploy.Failure{Message: err.Error()}}, code)
		if r.json {
			return &exit{code: code, err: err}
		}
		return &exit{code: code, message: name + ": nothing was changed: " + err.Error(), err: err}
	}
	code := map[string]int{deploy.Refused: exitFindings, deploy.PutBack: exitPutBack, deploy.NeedsAHand: exitNeedsAHand}[out.Result]
	if ctx.Err() != nil && out.Result == deploy.PutBack {
		code = exitInterrupted
	}
	r.result(p, out, code)
	if !r.json {
		render.Failure(r.Err, r.paint(r.Err), name, out)
	}
	if !r.json {
		r.pointTo(ctx, name, out.Failure)
	}
	if len(left) > 0 {
		r.say("not deployed because of this: %s", strings.Join(left, ", "))
	}
	return &exit{code: code}
}

// pointTo shows what the check now finds of what a failed service said: it may have been true before and looked past, or have come about since.
func (r *deployRun) pointTo(ctx context.Context, stack string, f *deploy.Failure) {
	if f == nil {
		return
	}
	rules := check.Symptoms(append([]string{f.Message}, f.Log...))
	if len(rules) == 0 || ctx.Err() != nil {
		return
	}
	r.lab.look(ctx, "")
	result := check.Run(r.lab.Lab, check.All())
	var found []check.Finding
	for _, rule := range rules {
		for _, finding := range result.Findings {
			if finding.Rule == rule && finding.Stack == stack && (finding.Service == f.Service || f.Service == "") {
				found = append(found, finding)
			}
		}
	}
	if len(found) == 0 {
		r.say("  what it said is what the rule %s is about, which finds nothing here; lantern about %s explains it", rules[0], rules[0])
		return
	}
	r.say("  what it said points to:")
	render.Found(r.Err, r.paint(r.Err), found[0])
}

// links shows where the pages are.
func (r *deployRun) links(plans []stackPlan) {
	for _, p := range plans {
		for _, s := range p.plan.Stack.Services {
			for _, l := range s.Links() {
				fmt.Fprintf(r.Out, "  %-28s %s\n", s.FullName(), r.paint(r.Out).Link(l))
			}
		}
	}
}
