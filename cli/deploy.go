package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
)

func (a *app) deployCommand() *cli.Command {
	var yes, dryRun bool
	return &cli.Command{
		Name: "deploy", Usage: "check, compare, ask, pull, replace in order, prove, or put back", ArgsUsage: "[STACK]",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{Name: "dry-run", Usage: "only say what would be done", Destination: &dryRun},
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
			if err := a.checkBefore(ctx, o, stacks); err != nil {
				return err
			}
			stacks, _ = o.stacks(c.Args().First(), a.host) // resolved anew, with the surveys
			stacks = plan.Order(stacks)
			run := &deployRun{app: a, json: asJSON}
			plans, err := run.plan(ctx, o, stacks)
			if err != nil {
				return err
			}
			defer run.close()
			return run.carryOut(ctx, plans, yes, dryRun)
		},
	}
}

// checkBefore looks at the hosts and ends the command when an error touches the stacks.
func (a *app) checkBefore(ctx context.Context, o *opened, stacks []*lab.Stack) error {
	o.look(ctx, a.host)
	var names []string
	for _, st := range stacks {
		names = append(names, st.Name)
		if st.Host != nil && o.errs[st.Host.Name] != nil {
			return unreachable(st.Host.Name, o.errs[st.Host.Name])
		}
	}
	result := check.Run(o.Lab, check.All()).About(names...)
	if n := result.Count(check.Error); n > 0 {
		result.Skipped = nil
		render.Findings(a.Err, a.paint(a.Err), o.Lab, result, false)
		return &exit{code: exitFindings, message: "nothing was changed: the check found " + counted(n, "error")}
	}
	return nil
}

// deployRun is one run of the command over some stacks.
type deployRun struct {
	*app
	json  bool
	hosts map[string]*deploy.Deployer
	mu    sync.Mutex
	lines *render.Progress
}

type stackPlan struct {
	deployer *deploy.Deployer
	plan     plan.Stack
}

// plan connects to the engines and compares each stack with what runs.
func (r *deployRun) plan(ctx context.Context, o *opened, stacks []*lab.Stack) ([]stackPlan, error) {
	r.hosts = map[string]*deploy.Deployer{}
	r.lines = render.NewProgress(r.Err, r.paint(r.Err), r.quiet)
	var plans []stackPlan
	for _, st := range stacks {
		d := r.hosts[st.Host.Name]
		if d == nil {
			var err error
			if d, err = r.deployer(ctx, o, st.Host, r.report); err != nil {
				r.close()
				return nil, err
			}
			r.hosts[st.Host.Name] = d
		}
		p, err := d.Plan(ctx, st)
		if err != nil {
			r.close()
			return nil, &exit{code: exitUnreachable, message: "the engine of " + st.Host.Name + ": " + err.Error(), err: err}
		}
		plans = append(plans, stackPlan{d, p})
	}
	return plans, nil
}

func (r *deployRun) close() {
	for _, d := range r.hosts {
		d.Engine.Close()
	}
}

func (r *deployRun) report(e deploy.Event) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.json {
		json.NewEncoder(r.Out).Encode(e)
		return
	}
	r.lines.Event(e)
}

func (r *deployRun) carryOut(ctx context.Context, plans []stackPlan, yes, dryRun bool) error {
	changes := 0
	for _, p := range plans {
		if p.plan.Changes() {
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
		if err := r.confirm("Deploy this?", yes); err != nil {
			return err
		}
	}
	began := time.Now()
	for i, p := range plans {
		out, err := p.deployer.Deploy(ctx, p.plan.Stack)
		if err == nil && (out.Result == deploy.Done || out.Result == deploy.NothingToDo) {
			r.result(p, out, exitDone)
			continue
		}
		var left []string
		for _, l := range plans[i+1:] {
			if l.plan.Changes() {
				left = append(left, l.plan.Stack.Name)
			}
		}
		return r.failed(ctx, p, out, err, left)
	}
	if !r.json {
		r.links(plans)
		if changes > 0 {
			r.say("deployed and proven in %s", time.Since(began).Round(100*time.Millisecond))
		}
	}
	return nil
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
			return &exit{code: exitInterrupted, message: name + ": interrupted; nothing was changed"}
		}
		r.result(p, deploy.Outcome{Result: deploy.Refused, Failure: &deploy.Failure{Message: err.Error()}}, code)
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
	if len(left) > 0 {
		r.say("not deployed because of this: %s", strings.Join(left, ", "))
	}
	return &exit{code: code}
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
