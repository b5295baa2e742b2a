package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/plan"
)

func (s *session) compareCommand() *cli.Command {
	var fail bool
	return &cli.Command{
		Name: "compare", Usage: "show how running containers differ from your files",
		ArgsUsage:   "[STACK[/SERVICE]]...",
		Description: "Changes nothing. What somebody has changed by hand shows, too.",
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:        "fail-if-different",
			Usage:       "exit code 1 when a deploy would change something",
			Destination: &fail,
		}},
		Action: func(ctx context.Context, c *cli.Command) error {
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			w, stacks, asJSON, err := s.surveyed(ctx, named)
			if err != nil {
				return err
			}
			if len(stacks) == 0 && !asJSON {
				s.say("the lab has no stack to compare with anything: a stack is a folder with a stack.toml")
			}
			run, err := w.Plan(ctx, stacks, app.RunOptions{Named: named})
			if err != nil {
				return err
			}
			defer run.Close()
			if asJSON {
				err = render.PlansJSON(s.Out, run.Plans, unreachedHosts(run.Missing))
			} else {
				for _, p := range run.Plans {
					render.Plan(s.Out, s.paint(s.Out), p, s.verbose)
				}
			}
			if err == nil && fail &&
				slices.ContainsFunc(run.Plans, func(p plan.Stack) bool { return p.Changes() || p.Unfinished }) {
				err = &exit{code: exitFindings}
			}
			if err == nil {
				err = s.missing(run.Missing)
			}
			return err
		},
	}
}
