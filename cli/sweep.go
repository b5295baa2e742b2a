package cli

import (
	"context"
	"errors"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/logbook"
	"proudlantern.example/lantern/engine"
)

func (a *app) sweepCommand() *cli.Command {
	var yes, same bool
	return &cli.Command{
		Name: "sweep", Usage: "what lies around that lantern made, what it would free; removes it after a yes",
		Description: "Images that were deployed once and that no container uses (but not what a revert to the deploy before would need), volumes that were made\n" +
			"for what images declare and that replacements left, networks without anybody on them. What lantern did not make is never listed.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes}, sameLabFlag(&same)},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usage("lantern sweep takes no stack: it looks at whole hosts (--host NAME for one)")
			}
			o, asJSON, err := a.begin()
			if err != nil {
				return err
			}
			entries, err := o.book().List("")
			if err != nil {
				return a.noLogbook(err)
			}
			found := []deploy.Sweepable{}
			by, knows := map[string]*deploy.Deployer{}, map[string]deploy.Remembered{}
			for _, h := range o.Hosts {
				if a.host != "" && h.Name != a.host {
					continue
				}
				d, err := a.deployer(ctx, o, h, func(deploy.Event) {})
				if err != nil {
					return err
				}
				defer d.Engine.Close()
				by[h.Name] = d
				known, err := remembered(ctx, o, d, h, entries)
				if err != nil {
					return unreachable(h.Name, err)
				}
				knows[h.Name] = known
				list, err := d.Sweepable(ctx, known)
				if err != nil {
					return unreachable(h.Name, err)
				}
				found = append(found, list...)
			}
			if asJSON {
				if err := render.JSON(a.Out, render.NewSweep(found)); err != nil || !yes {
					return err
				}
			} else {
				render.Sweep(a.Out, a.paint(a.Out), found)
			}
			if len(found) == 0 {
				return nil
			}
			if !yes && !isTerminal(a.In) {
				a.say("nothing was removed: --yes removes it")
				return nil
			}
			for _, name := range sortedKeys(by) {
				if err := a.sameLab(ctx, o, by[name], same); err != nil {
					return err
				}
			}
			if err := a.confirm(ctx, "Remove all of this?", yes); err != nil {
				return err
			}
			var left []error
			for _, s := range found {
				if err := by[s.Host].Sweep(ctx, s, knows[s.Host]); err != nil {
					a.warn("%s %s is still there: %s", s.Kind, s.Name, err)
					left = append(left, err)
				}
			}
			if err := errors.Join(left...); err != nil {
				return &exit{code: exitNeedsAHand, err: err}
			}
			return nil
		},
	}
}

// remembered gathers from the logbook what was left on a host, and what is still wanted there.
func remembered(ctx context.Context, o *opened, d *deploy.Deployer, h *lab.Host, entries []logbook.Entry) (deploy.Remembered, error) {
	known := deploy.Remembered{Images: map[string]deploy.RememberedImage{}, Keep: map[string]bool{}}
	done := map[string][]logbook.Entry{}
	for _, e := range entries {
		if e.Host != h.Name {
			continue
		}
		for _, s := range e.Services {
			if s.ID != "" {
				known.Images[s.ID] = deploy.RememberedImage{Reference: s.Image, About: s.Image + ", " + e.Stack + "/" + s.Service}
			}
		}
		if e.Result == deploy.Done && e.Kind != logbook.Retire {
			done[e.Stack] = append(done[e.Stack], e)
		}
	}
	for _, list := range done {
		for _, e := range list[max(0, len(list)-2):] {
			for _, s := range e.Services {
				known.Keep[s.ID] = true
			}
		}
	}
	for _, st := range o.Stacks {
		if st.Host != h {
			continue
		}
		for _, s := range st.Services {
			image, err := d.Engine.Image(ctx, s.Image.Text)
			if err != nil && !errors.Is(err, engine.ErrNotFound) {
				return known, err
			}
			known.Keep[image.ID] = true
		}
	}
	return known, nil
}
