package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
)

func (s *session) revertCommand() *cli.Command {
	var yes, dryRun, withLab, same bool
	return &cli.Command{
		Name: "revert", Usage: "roll a stack and its files back to an earlier deploy", ArgsUsage: "STACK [ENTRY]",
		Description: "Without ENTRY: the last that succeeded and was different from what runs; after a " +
			"deploy that was put back, or a retirement, the one that ran last. It is checked, compared, " +
			"proven and put back like every deploy.\n" +
			"lab.toml and environment files outside the stack's folder belong to other stacks, too, and " +
			"stay as they are unless --with-lab is given.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{
				Name:        "dry-run",
				Usage:       "show what would change, and change nothing",
				Destination: &dryRun,
			},
			&cli.BoolFlag{
				Name:        "with-lab",
				Usage:       "also restore lab.toml and shared environment files",
				Destination: &withLab,
			},
			sameLabFlag(&same),
			s.valueFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			name := c.Args().Get(0)
			if name == "" {
				return usage("lantern revert needs the name of a stack")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			r, err := w.Revert(name, c.Args().Get(1), withLab, s.say)
			if err != nil {
				return err
			}
			then, err := r.Plan(ctx, s.host)
			if err != nil {
				s.showRefusal(then, err)
				return err
			}
			d := &deploying{session: s, Run: r.Run, json: asJSON, lab: then, same: same}
			defer d.Close()
			if asked := r.Run.Asked(); len(asked) > 0 && !dryRun {
				return notGiven(asked[0])
			}
			return d.revert(ctx, r, yes, dryRun)
		},
	}
}

// revert carries out the way back.
func (d *deploying) revert(ctx context.Context, r *app.Revert, yes, dryRun bool) error {
	p, entry := d.Plans[0], r.Entry.Number
	if !d.json {
		render.Plan(d.Out, d.paint(d.Out), p, d.verbose)
		for _, path := range r.Files {
			fmt.Fprintf(d.Out, "  %s %s\n", d.paint(d.Out).Look("write   "), path)
		}
	}
	if dryRun {
		if d.json {
			return render.PlansJSON(d.Out, d.Plans, nil)
		}
		return nil
	}
	if !p.Changes() && len(r.Files) == 0 {
		d.say("%s runs as it was at entry %d, and its files say so", p.Stack.Name, entry)
		return nil
	}
	if err := d.sameLab(ctx, d.lab, d, d.same); err != nil {
		return err
	}
	if err := d.confirm(ctx, fmt.Sprintf("Take %s back to entry %d?", p.Stack.Name, entry), yes); err != nil {
		return err
	}
	if err := d.proceed(ctx); err != nil {
		return err
	}
	return r.WriteBack(func(path string) { d.say("%s is as it was", path) })
}
