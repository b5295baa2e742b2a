package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/deploy/observe"
)

func (s *session) proveCommand() *cli.Command {
	return &cli.Command{
		Name: "prove", Usage: "test readiness, pages, ports and connections; change nothing",
		ArgsUsage: "[STACK[/SERVICE]]...",
		Description: "Exit code 1 when a ready, a page or a wire fails. A published port on which nothing " +
			"listens is only noted: it may be opened later.",
		Action: func(ctx context.Context, c *cli.Command) error {
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			w, stacks, asJSON, err := s.surveyed(ctx, named)
			if err != nil {
				return err
			}
			all, err := w.Prove(ctx, stacks, named)
			if err != nil {
				return err
			}
			if asJSON {
				err = render.JSON(s.Out, render.NewProofs(all))
			} else {
				render.Proofs(s.Out, s.paint(s.Out), all)
			}
			if err == nil && slices.ContainsFunc(all, func(p observe.Proven) bool { return !p.OK && p.Decides() }) {
				err = &exit{code: exitFindings}
			}
			return err
		},
	}
}
