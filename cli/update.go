package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/tags"
	"proudlantern.example/lantern/deploy/history"
)

func (s *session) updateCommand() *cli.Command {
	var level string
	var pin, roll, yes, same bool
	return &cli.Command{
		Name: "update", Usage: "look for newer images; write their tags, or deploy them, when you say so",
		ArgsUsage: "[STACK[/SERVICE]]...",
		Description: "Asks the registries, and pulls nothing. A tag has moved when it stands " +
			"for another image than " +
			"the one that runs. Newer tags are those of the same shape: 4.2-small, 4.3-small.",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name: "write",
				Usage: "write newer tags into the files, as far as `LEVEL`: patch, minor or major; asks for " +
					"each on a terminal",
				Destination: &level,
			},
			&cli.BoolFlag{Name: "pin", Usage: "write the digests of the images, too", Destination: &pin},
			&cli.BoolFlag{
				Name:        "deploy",
				Usage:       "deploy what has moved, or was written, as lantern deploy does",
				Destination: &roll,
			},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			sameLabFlag(&same),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			w, asJSON, err := s.begin()
			switch {
			case err != nil:
				return err
			case level != "" && !slices.Contains([]string{tags.Patch, tags.Minor, tags.Major}, level):
				return usage("--write is patch, minor or major, not %s", level)
			case asJSON && roll:
				return usage("--deploy has no JSON here: update --write, then deploy --format json")
			case (level != "" || pin) && !yes && !isTerminal(s.In):
				return usage("stdin is not a terminal; pass --yes")
			}
			done := s.busy("asking the registries")
			w = w.Survey(ctx, s.host)
			list, err := w.Updates(ctx, named, s.host)
			done()
			if err != nil {
				return err
			}
			if !asJSON {
				render.UpdateTable(s.Out, s.paint(s.Out), list)
			}
			var written []app.Written
			if level != "" || pin {
				if written, err = s.writeImages(ctx, w, list, level, pin, yes); err != nil {
					return err
				}
			}
			if asJSON {
				return render.JSON(s.Out, render.NewUpdates(list, written))
			}
			if !roll {
				return nil
			}
			return s.deployUpdates(ctx, list, written, yes, same)
		},
	}
}

// writeImages writes those newer images that the person says yes to.
func (s *session) writeImages(ctx context.Context, w *app.Workspace, list []app.Update, level string,
	pin, yes bool) ([]app.Written, error) {
	found, not := w.Newest(ctx, list, level, pin)
	for _, u := range list {
		if why := not[u.Name()]; why != "" {
			s.warn("%s: %s", u.Name(), why)
		}
	}
	var wanted []app.Written
	for _, v := range found {
		if err := s.confirm(ctx, v.Name()+": write "+v.To+" in place of "+v.Image+"?", yes); err != nil {
			if ctx.Err() != nil {
				return nil, err
			}
			continue
		}
		wanted = append(wanted, v)
	}
	if err := w.WriteImages(wanted); err != nil {
		return nil, err
	}
	for _, v := range wanted {
		s.say("%s: %s is now %s", v.At.Place(), v.Image, v.To)
	}
	if len(wanted) == 0 {
		s.say("nothing was written")
	}
	return wanted, nil
}

// deployUpdates deploys services whose tag has moved, or whose image was written.
func (s *session) deployUpdates(ctx context.Context, list []app.Update, written []app.Written,
	yes, same bool) error {
	var named, moved app.Targets
	for _, u := range list {
		t := app.Target{Stack: u.Stack, Service: u.Service}
		isWritten := slices.ContainsFunc(written, func(v app.Written) bool { return v.Name() == u.Name() })
		if u.Moved && !isWritten {
			moved = append(moved, t)
		}
		if u.Moved || isWritten {
			named = append(named, t)
		}
	}
	if len(named) == 0 {
		s.say("nothing to deploy")
		return nil
	}
	w, err := s.open() // with what was written
	if err != nil {
		return err
	}
	w, stacks, err := s.admit(ctx, w, named, app.NoneOf)
	if err != nil {
		return err
	}
	w, run, err := s.plan(ctx, w, named, stacks, app.RunOptions{
		Named: named, Refresh: moved, Entry: history.Entry{Kind: history.Deploy},
	}, true)
	if err != nil {
		return err
	}
	d := &deploying{session: s, Run: run, lab: w, same: same}
	defer d.Close()
	return d.carryOut(ctx, yes, false)
}
