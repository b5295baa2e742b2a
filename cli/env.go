package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
)

func (s *session) envCommand() *cli.Command {
	var offline bool
	return &cli.Command{
		Name: "env", Usage: "show where each variable is set and what it overrides", ArgsUsage: "STACK[/SERVICE]",
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:        "offline",
			Usage:       "read the files only: without ids of accounts and variables of images",
			Destination: &offline,
		}},
		Action: func(ctx context.Context, c *cli.Command) error {
			name, service, _ := strings.Cut(c.Args().First(), "/")
			if name == "" {
				return usage("lantern env needs the name of a stack")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if _, err := w.StacksOf(name, ""); err != nil {
				return err
			}
			if !offline {
				w = w.Survey(ctx, s.host)
			}
			st := w.Stack(name)
			services := st.Services
			if service != "" {
				v := st.Service(service)
				if v == nil {
					var names []string
					for _, v := range st.Services {
						names = append(names, v.Name)
					}
					return usage("%s", declare.Unknown(name+" has no service "+service, service, names,
						"; it has "+strings.Join(names, ", ")))
				}
				services = services[:0:0]
				services = append(services, v)
			}
			if asJSON {
				return render.EnvJSON(s.Out, services)
			}
			render.Env(s.Out, s.paint(s.Out), services)
			return nil
		},
	}
}
