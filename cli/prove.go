package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/deploy"
)

func (a *app) proveCommand() *cli.Command {
	return &cli.Command{
		Name: "prove", Usage: "the proof at any time, changing nothing: ready, pages, published ports, and each wire between services", ArgsUsage: "[STACK]",
		Description: "Exit code 1 when a ready, a page or a wire fails. A published port on which nothing listens is only noted: it may be opened later.",
		Action: func(ctx context.Context, c *cli.Command) error {
			o, stacks, asJSON, err := a.lookAt(ctx, c.Args().First())
			if err != nil {
				return err
			}
			wires := check.Wires(o.Lab)
			var all []deploy.Proven
			for _, st := range stacks {
				d, err := a.deployer(ctx, o, st.Host, func(deploy.Event) {})
				if err != nil {
					return err
				}
				list, err := d.Prove(ctx, st, wires)
				d.Engine.Close()
				if err != nil {
					return unreachable(st.Host.Name, err)
				}
				all = append(all, list...)
			}
			if asJSON {
				err = render.JSON(a.Out, render.NewProofs(all))
			} else {
				render.Proofs(a.Out, a.paint(a.Out), all)
			}
			if err == nil && slices.ContainsFunc(all, func(p deploy.Proven) bool { return !p.OK && p.Decides() }) {
				err = &exit{code: exitFindings}
			}
			return err
		},
	}
}
