package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
)

func (s *session) sweepCommand() *cli.Command {
	var yes, same bool
	return &cli.Command{
		Name: "sweep", Usage: "list leftovers that lantern made; remove them after you confirm",
		Description: "Images that were deployed once and that no container uses (but not what a revert to " +
			"the deploy before would need), volumes that were made\n" +
			"for what images declare and that replacements left, networks without anybody on them. What " +
			"lantern did not make is never listed.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes}, sameLabFlag(&same)},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usage("lantern sweep takes no stack: it looks at whole hosts (--host NAME for one)")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			found, err := w.Sweeping(ctx, s.host)
			if err != nil {
				return err
			}
			defer found.Close()
			if asJSON {
				if err := render.JSON(s.Out, render.NewSweep(found.Found)); err != nil || !yes {
					return err
				}
			} else {
				render.Sweep(s.Out, s.paint(s.Out), found.Found)
			}
			if len(found.Found) == 0 {
				return nil
			}
			if !yes && !isTerminal(s.In) {
				s.say("nothing was removed: --yes removes it")
				return nil
			}
			if err := s.sameLab(ctx, w, found, same); err != nil {
				return err
			}
			if err := s.confirm(ctx, "Remove all of this?", yes); err != nil {
				return err
			}
			return found.CarryOut(ctx)
		},
	}
}
