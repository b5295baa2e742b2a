package cli

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
)

func (s *session) exportCommand() *cli.Command {
	var file string
	return &cli.Command{
		Name: "export", Usage: "write a stack as a YAML file of services, for somebody else", ArgsUsage: "STACK",
		Description: "Secrets stay out: their names stand in environment files, to be filled in.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write into `FILE`, with environment files beside it",
				Destination: &file},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 {
				return usage("lantern export needs the name of a stack")
			}
			w, err := s.open()
			if err != nil {
				return err
			}
			// Accounts have ids on their host only.
			e, err := w.Survey(ctx, s.host).Export(c.Args().First())
			if err != nil {
				return err
			}
			for _, n := range e.Notes {
				s.warn("%s", n)
			}
			if file == "" {
				fmt.Fprint(s.Out, e.Text)
				return nil
			}
			written, err := app.WriteExport(file, e)
			for _, f := range written {
				s.say("written: %s", f)
			}
			return err
		},
	}
}
