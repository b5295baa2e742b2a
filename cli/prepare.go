package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
)

func (s *session) prepareCommand() *cli.Command {
	var yes, dryRun, undo bool
	return &cli.Command{
		Name: "prepare", Usage: "make missing folders, and give services the rights that they lack", ArgsUsage: "[STACK]...",
		Description: "Changes owner, group, mode or access control list, the least that helps, and shows it before. " +
			"Nobody else gets more rights. What is done is written down, and --undo brings back what was.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would change, and change nothing", Destination: &dryRun},
			&cli.BoolFlag{Name: "undo", Usage: "bring back what the last prepare has changed", Destination: &undo},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if undo {
				if c.Args().Len() > 0 || dryRun {
					return usage("--undo brings back all of the last prepare: it takes no other words")
				}
				return s.undoPrepared(ctx, w, yes)
			}
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			p, err := w.Survey(ctx, s.host).Prepare(ctx, named, s.host)
			if err != nil {
				return err
			}
			changes := p.Changes()
			carry := len(p.Steps) > 0 && !dryRun
			if !asJSON {
				render.Changes(s.Out, s.paint(s.Out), changes)
			}
			if carry {
				if err := s.confirm(ctx, "Change this?", yes); err != nil {
					return err
				}
				if err := p.Carry(ctx, func(string) {}); err != nil {
					return err
				}
			}
			if asJSON {
				err = render.JSON(s.Out, render.NewPrepared(changes, carry || len(changes) == 0))
			} else if carry {
				s.say("prepared: %s; lantern prepare --undo brings back what was", declare.Counted(len(changes), "change"))
			}
			for _, o := range p.Open {
				s.warn("%s: %s: %s", o.Service, o.Path, o.Why)
			}
			if err == nil && len(p.Open) > 0 {
				err = &exit{code: exitFindings}
			}
			return err
		},
	}
}

// undoPrepared brings back what was, and says what stays.
func (s *session) undoPrepared(ctx context.Context, w *app.Workspace, yes bool) error {
	done, err := w.UndoPrepared(ctx, func(paths []string) error {
		for _, p := range paths {
			fmt.Fprintln(s.Out, "  "+render.Harmless(p))
		}
		return s.confirm(ctx, "Bring back what was there?", yes)
	})
	if err != nil {
		return err
	}
	left := 0
	for _, u := range done {
		if u.Why != "" {
			s.warn("%s stays as it is: %s", u.Path, u.Why)
			left++
		}
	}
	if left > 0 {
		return &exit{code: exitFindings}
	}
	s.say("undone: everything is as it was")
	return nil
}
