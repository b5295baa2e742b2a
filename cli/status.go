package cli

import (
	"context"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/deploy"
)

func (a *app) statusCommand() *cli.Command {
	return &cli.Command{
		Name: "status", Usage: "every service: state, since when, restarts, image, links", ArgsUsage: "[STACK]",
		Action: func(ctx context.Context, c *cli.Command) error {
			o, asJSON, err := a.begin()
			if err != nil {
				return err
			}
			o.look(ctx, a.host)
			services, err := a.states(ctx, o, c.Args().First())
			if err != nil {
				return err
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
			if err == nil && slices.ContainsFunc(services, func(s deploy.Status) bool { return !s.Well() }) {
				err = &exit{code: exitFindings}
			}
			return err
		},
	}
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
