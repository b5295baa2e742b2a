package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
)

func (a *app) compareCommand() *cli.Command {
	var fail bool
	return &cli.Command{
		Name: "compare", Usage: "declared beside running, field by field, and what a deploy would therefore do", ArgsUsage: "[STACK]",
		Description: "Changes nothing. What somebody has changed by hand shows, too.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "fail-if-different", Usage: "exit code 1 when a deploy would do something", Destination: &fail}},
		Action: func(ctx context.Context, c *cli.Command) error {
			o, stacks, asJSON, err := a.lookAt(ctx, c.Args().First())
			if err != nil {
				return err
			}
			run := &deployRun{app: a, json: asJSON, lab: o}
			plans, err := run.plan(ctx, o, stacks)
			if err != nil {
				return err
			}
			defer run.close()
			if asJSON {
				err = render.PlansJSON(a.Out, plansOf(plans))
			} else {
				for _, p := range plans {
					render.Plan(a.Out, a.paint(a.Out), p.plan, a.verbose)
				}
			}
			if err == nil && fail && slices.ContainsFunc(plans, func(p stackPlan) bool { return p.plan.Changes() || p.plan.Unfinished }) {
				err = &exit{code: exitFindings}
			}
			return err
		},
	}
}
