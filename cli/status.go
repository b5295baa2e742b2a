package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/deploy"
)

func (a *app) statusCommand() *cli.Command {
	var yes, same bool
	return &cli.Command{
		Name: "status", Usage: "every service: state, since when, restarts, image, links", ArgsUsage: "[STACK]",
		Description: "Where a deploy died in the middle, it asks whether what is left of it is to be finished or undone.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask: finish or undo what a deploy that died has left", Destination: &yes}, sameLabFlag(&same)},
		Action: func(ctx context.Context, c *cli.Command) error {
			o, asJSON, err := a.begin()
			if err != nil {
				return err
			}
			o.look(ctx, a.host)
			broken := a.sayWhatIsBroken(o)
			services, err := a.states(ctx, o, c.Args().First())
			if err != nil {
				return err
			}
			cleared, err := a.clearLeftovers(ctx, o, services, yes, same)
			if err != nil {
				return err
			}
			if cleared {
				if services, err = a.states(ctx, o, c.Args().First()); err != nil {
					return err
				}
			}
			if asJSON {
				err = render.JSON(a.Out, render.NewStates(services))
			} else {
				for i := range services {
					if !a.verbose {
						services[i].About = "" // it would make most lines too long for a terminal
					}
				}
				render.Status(a.Out, a.paint(a.Out), services, time.Now())
			}
			if err == nil && (broken || slices.ContainsFunc(services, func(s deploy.Status) bool { return !s.Well() })) {
				err = &exit{code: exitFindings}
			}
			return err
		},
	}
}

// sayWhatIsBroken names what keeps files from being understood: what they declare cannot be compared then.
func (a *app) sayWhatIsBroken(o *opened) bool {
	broken := slices.DeleteFunc(check.Run(o.Lab, check.All()).Findings, func(f check.Finding) bool { return !f.Firm() || f.Severity != check.Error })
	for _, f := range broken {
		render.Found(a.Err, a.paint(a.Err), f)
		fmt.Fprintln(a.Err)
	}
	return len(broken) > 0
}

// clearLeftovers finishes or undoes what deploys that died have left, if the person says so.
func (a *app) clearLeftovers(ctx context.Context, o *opened, services []deploy.Status, yes, same bool) (cleared bool, err error) {
	progress := render.NewProgress(a.Err, a.paint(a.Err), a.quiet)
	asked := map[string]bool{}
	for _, s := range services {
		if s.State != deploy.StateDeploying || asked[s.Stack] {
			continue
		}
		asked[s.Stack] = true
		d, err := a.deployer(ctx, o, o.Host(s.Host), progress.Event)
		if err != nil {
			return cleared, err
		}
		defer d.Engine.Close()
		what, err := d.Leftover(ctx, s.Stack)
		if err != nil {
			return cleared, unreachable(s.Host, err)
		}
		if what == "" {
			continue // at work
		}
		fmt.Fprintf(a.Err, "%s: %s\n", s.Stack, what)
		if !yes && !isTerminal(a.In) {
			fmt.Fprintf(a.Err, "  lantern status --yes does that, and so does the next deploy of %s\n", s.Stack)
			continue
		}
		if err := a.sameLab(ctx, o, d, same); err != nil {
			return cleared, err
		}
		if err := a.confirm(ctx, "Do that now?", yes); err != nil {
			if ctx.Err() != nil {
				return cleared, err
			}
			continue
		}
		out, err := d.Recover(ctx, s.Stack)
		if err != nil {
			return cleared, unreachable(s.Host, err)
		}
		if out.Result != deploy.Done {
			render.Failure(a.Err, a.paint(a.Err), s.Stack, out)
			return cleared, &exit{code: map[string]int{deploy.Refused: exitFindings, deploy.NeedsAHand: exitNeedsAHand}[out.Result]}
		}
		cleared = true
	}
	return cleared, nil
}

// states looks at a stack, or at all of the lab and what is left on its hosts.
func (a *app) states(ctx context.Context, o *opened, only string) ([]deploy.Status, error) {
	services := []deploy.Status{}
	found := only == ""
	for _, h := range o.Hosts {
		if a.host != "" && h.Name != a.host {
			continue
		}
		if err := o.errs[h.Name]; err != nil {
			return nil, unreachable(h.Name, err)
		}
		d, err := a.deployer(ctx, o, h, func(deploy.Event) {})
		if err != nil {
			return nil, err
		}
		defer d.Engine.Close()
		names, err := d.Stacks(ctx)
		if err != nil {
			return nil, unreachable(h.Name, err)
		}
		for _, st := range o.Stacks {
			if st.Host == h {
				names = append(names, st.Name)
			}
		}
		slices.Sort(names)
		for _, name := range slices.Compact(names) {
			if only != "" && name != only {
				continue
			}
			found = true
			list, err := d.Status(ctx, name, declaredOn(o, name, h))
			if err != nil {
				return nil, unreachable(h.Name, err)
			}
			services = append(services, list...)
		}
	}
	if !found {
		_, err := o.stacks(only, "")
		return nil, err
	}
	return services, nil
}

// declaredOn returns the stack of that name when it is declared for this host.
func declaredOn(o *opened, name string, h *lab.Host) *lab.Stack {
	if st := o.Stack(name); st != nil && st.Host == h {
		return st
	}
	return nil
}
