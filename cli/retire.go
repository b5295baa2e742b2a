package cli

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/logbook"
)

func (a *app) retireCommand() *cli.Command {
	var yes, withVolumes, same bool
	return &cli.Command{
		Name: "retire", Usage: "stop and remove a stack's containers and networks; host folders stay", ArgsUsage: "STACK",
		Description: "Works for a stack whose folder is gone, too. Nothing that is not of this lab is touched.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{Name: "with-volumes", Usage: "also its volumes, and all that they hold", Destination: &withVolumes},
			sameLabFlag(&same),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			name := c.Args().First()
			if name == "" {
				return usage("lantern retire needs the name of a stack")
			}
			o, err := a.open()
			if err != nil {
				return err
			}
			progress := render.NewProgress(a.Err, a.paint(a.Err), a.quiet)
			d, h, err := a.whereStackIs(ctx, o, name, progress)
			if err != nil {
				return err
			}
			defer d.Engine.Close()
			containers, networks, err := d.Retiring(ctx, name)
			if err != nil {
				return unreachable(h.Name, err)
			}
			volumes, err := d.Volumes(ctx, name)
			if err != nil {
				return unreachable(h.Name, err)
			}
			if len(containers)+len(networks) == 0 && (!withVolumes || len(volumes) == 0) {
				a.say("nothing of %s is on %s%s", name, h.Name, map[bool]string{true: " but its volumes: " + strings.Join(volumes, ", ")}[len(volumes) > 0])
				return nil
			}
			if err := a.sameLab(ctx, o, d, same); err != nil {
				return err
			}
			if gone := slices.Concat(containers, networks); len(gone) > 0 {
				a.say("on %s these go: %s", h.Name, strings.Join(gone, ", "))
			}
			switch {
			case len(volumes) == 0:
				a.say("host folders stay")
			case withVolumes:
				a.say("%s with all that they hold: %s", a.paint(a.Err).Bad("and these volumes"), strings.Join(volumes, ", "))
				a.say("host folders stay")
			default:
				a.say("host folders stay, and these volumes: %s", strings.Join(volumes, ", "))
			}
			if err := a.confirm(ctx, "Retire "+name+"?", yes); err != nil {
				return err
			}
			began := time.Now()
			d.After = a.lastEntry(o, name)
			out, err := d.Retire(ctx, name, withVolumes)
			if err == nil && out.Entry > 0 {
				a.record(ctx, o, d, logbook.Entry{Kind: logbook.Retire, Stack: name, Began: began}, out)
			}
			switch {
			case errors.Is(err, context.Canceled):
				return &exit{code: exitInterrupted, message: "interrupted; lantern retire " + name + " goes on"}
			case err != nil:
				return unreachable(h.Name, err)
			case out.Result == deploy.Done || out.Result == deploy.NothingToDo:
				a.say("%s is retired", name)
				if o.Stack(name) != nil {
					a.say("its folder stays: status calls it missing, compare and the next deploy make it anew; lantern revert %s deploys what ran last", name)
				}
				return nil
			}
			render.Failure(a.Err, a.paint(a.Err), name, out)
			if out.Result == deploy.Refused {
				return &exit{code: exitFindings}
			}
			return &exit{code: exitNeedsAHand}
		},
	}
}

// whereStackIs finds the host of a stack: the declared one, else the one that still has containers of it.
func (a *app) whereStackIs(ctx context.Context, o *opened, name string, progress *render.Progress) (*deploy.Deployer, *lab.Host, error) {
	hosts := o.Hosts
	if st := o.Stack(name); st != nil && st.Host != nil {
		hosts = []*lab.Host{st.Host}
	}
	for _, h := range hosts {
		if a.host != "" && h.Name != a.host {
			continue
		}
		d, err := a.deployer(ctx, o, h, progress.Event)
		if err != nil {
			return nil, nil, err
		}
		names, err := d.Stacks(ctx)
		if err != nil {
			d.Engine.Close()
			return nil, nil, unreachable(h.Name, err)
		}
		if o.Stack(name) != nil || slices.Contains(names, name) {
			return d, h, nil
		}
		d.Engine.Close()
	}
	_, err := o.stacks(name, "")
	return nil, nil, err
}
