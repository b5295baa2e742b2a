package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/lab"
)

func (s *session) envCommand() *cli.Command {
	var offline bool
	return &cli.Command{
		Name: "env", Usage: "show where each variable is set and what it overrides",
		ArgsUsage: "STACK[/SERVICE]...",
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:        "offline",
			Usage:       "read the files only: without ids of accounts and variables of images",
			Destination: &offline,
		}},
		Action: func(ctx context.Context, c *cli.Command) error {
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			if len(named) == 0 {
				return usage("lantern env needs the name of a stack")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if _, err := w.StacksOf(named, s.host); err != nil {
				return err
			}
			if !offline {
				w = w.Survey(ctx, s.host)
			}
			stacks, err := w.StacksOf(named, s.host)
			if err != nil {
				return err
			}
			var services []*lab.Service
			for _, st := range stacks {
				for _, v := range st.Services {
					if named.Has(st.Name, v.Name) {
						services = append(services, v)
					}
				}
			}
			if asJSON {
				return render.EnvJSON(s.Out, services)
			}
			render.Env(s.Out, s.paint(s.Out), services)
			return nil
		},
	}
}
