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

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
)

func (s *session) deployCommand() *cli.Command {
	var yes, dryRun, takeOver, same, withBackup bool
	var despite []string
	return &cli.Command{
		Name: "deploy", Usage: "check, replace what changed, test it; restore the old version on failure",
		ArgsUsage: "[STACK[/SERVICE]]...",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{
				Name:        "dry-run",
				Usage:       "show what would change, and change nothing",
				Destination: &dryRun,
			},
			&cli.StringSliceFlag{
				Name:        "despite",
				Usage:       "deploy although `RULE` reports errors (recorded)",
				Destination: &despite,
			},
			&cli.BoolFlag{
				Name:        "take-over",
				Usage:       "take over the lock of a crashed deploy now",
				Destination: &takeOver,
			},
			&cli.BoolFlag{Name: "backup", Usage: "first take a backup of each stack that is going to be changed", Destination: &withBackup},
			sameLabFlag(&same),
			s.valueFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if len(w.Stacks) == 0 {
				return usage("the lab has no stacks: a stack is a folder with a stack.toml")
			}
			named, err := app.ParseTargets(c.Args().Slice())
			if err == nil {
				_, err = w.StacksOf(named, s.host)
			}
			if err != nil {
				return err
			}
			lookPast, err := app.Despite(despite)
			if err != nil {
				return err
			}
			if !dryRun {
				if w, err = s.makeUp(w); err != nil {
					return err
				}
			}
			w, stacks, err := s.admit(ctx, w, named, lookPast)
			if err != nil {
				return s.refused(err, asJSON, w, stacks)
			}
			w, run, err := s.plan(ctx, w, named, stacks, app.RunOptions{
				Named: named, TakeOver: takeOver, Entry: history.Entry{Kind: history.Deploy, Despite: despite},
			}, !dryRun)
			if err != nil {
				return err
			}
			d := &deploying{session: s, Run: run, json: asJSON, lab: w, same: same, withBackup: withBackup}
			defer d.Close()
			return d.carryOut(ctx, yes, dryRun)
		},
	}
}

// sameLabFlag is the option of every command that changes what runs: what was deployed under the lab's name
// from elsewhere is the same lab's.
func sameLabFlag(into *bool) cli.Flag {
	return &cli.BoolFlag{
		Name:        "same-lab",
		Usage:       "services that another clone deployed under this lab's name are of this lab",
		Destination: into,
	}
}

func refusalOf(err error) *app.Refusal {
	var r *app.Refusal
	if errors.As(err, &r) {
		return r
	}
	return nil
}

// refused says as JSON, a line each, what kept a deploy from beginning: the findings, then the result.
func (s *session) refused(err error, asJSON bool, w *app.Workspace, stacks []*lab.Stack) error {
	because := refusalOf(err)
	if !asJSON || because == nil {
		return err
	}
	if err := render.FindingsLine(s.Out, w.Lab, because.Result); err != nil {
		return err
	}
	for _, st := range stacks {
		last := render.DeployResult{
			Result:  deploy.Refused,
			Exit:    exitFindings,
			Stack:   st.Name,
			Because: because.Error(),
		}
		if st.Host != nil {
			last.Host = st.Host.Name
		}
		json.NewEncoder(s.Out).Encode(last)
	}
	return &exit{code: exitFindings}
}

// deploying is a run of the command over some stacks, and how it is shown.
type deploying struct {
	*session
	*app.Run
	json bool
	lab  *app.Workspace
	same bool // see sameLabFlag

	withBackup bool // each stack that is changed is backed up before
	lines      watcher
	writing    sync.Mutex
}

// watcher shows how a deploy goes.
type watcher interface {
	Event(deploy.Event)
	Close()
}

// watch shows the events of the run.
func (d *deploying) watch(lines watcher) {
	d.lines = lines
	d.Watch(func(e deploy.Event) {
		if d.json {
			d.line(e)
			return
		}
		// a live view writes past the redactor, which would tear its lines apart
		e.Detail, e.Line = d.hide(e.Detail), d.hide(e.Line)
		lines.Event(e)
	})
}

func (d *deploying) carryOut(ctx context.Context, yes, dryRun bool) error {
	changes := 0
	for _, p := range d.Plans {
		if p.Asks() || p.Unfinished {
			changes++
		}
		if !d.json && (!d.quiet || dryRun) {
			render.Plan(d.Out, d.paint(d.Out), p, d.verbose)
		}
	}
	if dryRun {
		if d.json {
			if err := render.PlansJSON(d.Out, d.Plans, unreachedHosts(d.Missing)); err != nil {
				return err
			}
		}
		return d.missing(d.Missing)
	}
	if changes > 0 {
		if err := d.sameLab(ctx, d.lab, d, d.same); err != nil {
			return err
		}
		if err := d.confirm(ctx, "Deploy this?", yes); err != nil {
			return err
		}
	}
	if d.withBackup {
		for _, p := range d.Plans {
			was := slices.ContainsFunc(p.Services, func(v plan.Service) bool { return v.Running != nil && !v.Running.Taken })
			if !p.Changes() || !was {
				continue
			}
			if _, err := d.backup(ctx, d.lab, p.Stack.Name, app.BackupOptions{}); err != nil {
				return err
			}
		}
	}
	return d.proceed(ctx)
}

// proceed carries out plans that somebody has said yes to.
func (d *deploying) proceed(ctx context.Context) error {
	changes := slices.ContainsFunc(d.Plans, plan.Stack.Changes)
	if changes && !d.json && !d.quiet && !d.verbose && isTerminal(d.Err) {
		d.watch(render.NewLive(terminal(d.Err), d.paint(d.Err), colours(d.Err), d.Plans))
	} else {
		lines := render.NewLineReporter(d.Err, d.paint(d.Err), d.quiet)
		if d.verbose {
			lines.Verbose()
		}
		d.watch(lines)
	}
	began := time.Now()
	var wait sync.WaitGroup
	byHost := d.byHost()
	ends := make([]*ended, len(byHost))
	for i, plans := range byHost {
		wait.Go(func() { ends[i] = d.deployAll(ctx, plans) })
	}
	wait.Wait()
	d.lines.Close()
	ends = slices.DeleteFunc(ends, func(e *ended) bool { return e == nil })
	var failed []error
	for _, e := range ends {
		failed = append(failed, d.failed(ctx, *e))
	}
	if len(byHost) == 1 && len(failed) > 0 {
		return failed[0]
	}
	if !d.json && len(failed) < len(byHost) {
		if changes {
			fmt.Fprintln(d.Out)
		}
		d.links()
		d.certificates(ctx)
		if changes {
			d.say("deployed and tested in %s", time.Since(began).Round(100*time.Millisecond))
		}
	}
	return d.worst(failed)
}

// byHost returns the plans of each host, in their order.
func (d *deploying) byHost() (all [][]plan.Stack) {
	at := map[*lab.Host]int{}
	for _, p := range d.Plans {
		i, ok := at[p.Stack.Host]
		if !ok {
			i = len(all)
			at[p.Stack.Host] = i
			all = append(all, nil)
		}
		all[i] = append(all[i], p)
	}
	return all
}

// ended is how the stacks of a host did not all end well.
type ended struct {
	plan plan.Stack // the one that did not
	out  deploy.Outcome
	err  error
	left []string // stacks that were not begun because of that
}

// deployAll deploys the stacks of a host; nil when all went well.
func (d *deploying) deployAll(ctx context.Context, plans []plan.Stack) *ended {
	for i, p := range plans {
		if d.json {
			d.line(deploy.Event{
				Time:  time.Now().UTC(),
				Host:  p.Stack.Host.Name,
				Stack: p.Stack.Name,
				Step:  deploy.StepCheck,
				State: deploy.EventDone,
			})
		}
		out, err := d.Deploy(ctx, p)
		if err == nil && (out.Result == deploy.Done || out.Result == deploy.NothingToDo) {
			d.result(p, out, exitDone)
			continue
		}
		var left []string
		for _, l := range plans[i+1:] {
			if l.Changes() {
				left = append(left, l.Stack.Name)
			}
		}
		return &ended{p, out, err, left}
	}
	return nil
}

// worst returns how the run ends, after all that failed was said: with what asks most of a person. Hosts that could not
// be reached are part of it.
func (d *deploying) worst(failed []error) error {
	for _, m := range d.Missing {
		for _, stack := range m.Stacks {
			if d.json {
				d.line(render.DeployResult{
					Result: deploy.Refused, Exit: exitUnreachable, Host: m.Host, Stack: stack, Because: m.Err.Error(),
				})
			} else {
				d.say("not deployed, because %s cannot be reached: %s", m.Host, stack)
			}
		}
	}
	all := slices.Clone(failed)
	if lost := d.missing(d.Missing); lost != nil {
		all = append(all, lost)
	}
	var worst *exit
	for _, err := range all {
		e := exitOf(err)
		if e.message != "" { // the one that the run ends with is said at its end
			d.tell("lantern: " + e.Error())
			e = &exit{code: e.code, err: e.err}
		}
		if worst == nil || slices.Index(urgency, e.code) < slices.Index(urgency, worst.code) {
			worst = e
		}
	}
	if worst == nil {
		return nil
	}
	return worst
}

// urgency orders exit codes by what they ask of a person.
var urgency = []int{exitInterrupted, exitNeedsManual, exitPutBack, exitUnreachable, exitFindings, exitUsage}

// line writes a line of JSON. Hosts are deployed side by side.
func (d *deploying) line(value any) {
	d.writing.Lock()
	defer d.writing.Unlock()
	json.NewEncoder(d.Out).Encode(value)
}

// result writes the last event of a stack.
func (d *deploying) result(p plan.Stack, out deploy.Outcome, code int) {
	if d.json {
		last := render.DeployResult{
			Result:  out.Result,
			Exit:    code,
			Host:    p.Stack.Host.Name,
			Stack:   p.Stack.Name,
			Because: out.Holder,
		}
		if out.Failure != nil && out.Holder == "" {
			last.Because = out.Failure.Message
		}
		d.line(last)
	}
}

// failed words how a deploy of a stack did not succeed.
func (d *deploying) failed(ctx context.Context, e ended) error {
	p, out, err, left := e.plan, e.out, e.err, e.left
	name := p.Stack.Name
	if err != nil {
		why := app.NotDeployed(name, err)
		because := "interrupted; nothing was changed"
		if why.Kind != app.Interrupted {
			because = err.Error()
		}
		d.result(p, deploy.Outcome{Result: deploy.Refused, Failure: &deploy.Failure{Message: because}},
			codes[why.Kind])
		if d.json {
			return &exit{code: codes[why.Kind], err: why.Err}
		}
		return why
	}
	code := map[string]int{
		deploy.Refused:     exitFindings,
		deploy.PutBack:     exitPutBack,
		deploy.NeedsManual: exitNeedsManual,
	}[out.Result]
	if ctx.Err() != nil && out.Result == deploy.PutBack {
		code = exitInterrupted
	}
	d.result(p, out, code)
	if !d.json {
		render.Failure(d.Err, d.paint(d.Err), name, out)
		d.pointTo(ctx, name, out.Failure)
	}
	if len(left) > 0 {
		d.say("not deployed because of this: %s", strings.Join(left, ", "))
	}
	return &exit{code: code}
}

// pointTo shows what the check now finds of what a failed service said.
func (d *deploying) pointTo(ctx context.Context, stack string, f *deploy.Failure) {
	if f == nil {
		return
	}
	rule, found := d.Explain(ctx, stack, f)
	switch {
	case rule == "":
	case found == nil:
		d.say(
			"  what it said is what the rule %s is about, which finds nothing here; "+
				"lantern about %s explains it", rule, rule)
	default:
		d.say("  what it said points to:")
		render.Found(d.Err, d.paint(d.Err), *found)
	}
}

// certificatesWithin is how long a deploy waits for certificates that are being made: those of the lab's own take moments.
const certificatesWithin = 10 * time.Second

// certificates says which sites have none yet, and why. They get theirs later, by themselves.
func (d *deploying) certificates(ctx context.Context) {
	if !slices.ContainsFunc(d.Plans, func(p plan.Stack) bool { return len(p.Sites) > 0 }) {
		return
	}
	for _, c := range d.Awaited(ctx, certificatesWithin) {
		d.warn("%s has no certificate that can be used yet: %s; lantern sites shows how it goes on", c.Name, c.Problem)
	}
}

// links shows where the pages are.
func (d *deploying) links() {
	for _, p := range d.Plans {
		for _, v := range p.Stack.Containers() {
			links := v.Links()
			if v.CopyOf == nil {
				links = append(links, v.SiteLinks()...)
			}
			for _, l := range links {
				fmt.Fprintf(d.Out, "  %-28s %s\n", v.FullName(), d.paint(d.Out).Link(l))
			}
		}
		for _, v := range p.Services {
			if v.Service != nil && v.Running == nil && v.Service.Card != nil {
				render.FirstLogin(d.Out, d.paint(d.Out), v.Service.FullName(), v.Service.Card.FirstLogin.Value)
			}
		}
	}
}
