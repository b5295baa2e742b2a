package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
)

func (s *session) importCommand() *cli.Command {
	var stack string
	var profiles []string
	var strict, dryRun bool
	return &cli.Command{
		Name: "import", Usage: "make a stack of a YAML file of services", ArgsUsage: "FILE",
		Description: "It reads the open specification that docs/import.md names. What has no counterpart is told with its line, and what to do instead. Secrets go into an " +
			"environment file. Nothing is written over.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "stack", Usage: "the `NAME` of the stack", Destination: &stack},
			&cli.StringSliceFlag{Name: "profile", Usage: "also services of the profile `NAME`", Destination: &profiles},
			&cli.BoolFlag{Name: "strict", Usage: "where something has no counterpart, write nothing", Destination: &strict},
			&cli.BoolFlag{Name: "dry-run", Usage: "show the file, and write nothing", Destination: &dryRun},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 || stack == "" {
				return usage("lantern import needs a file, and --stack NAME")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			d, err := w.Import(c.Args().First(), stack, profiles)
			if err != nil {
				return err
			}
			refused := strict && len(d.Notes) > 0
			write := !dryRun && !refused
			if write {
				if _, err := w.WriteDraft(d); err != nil {
					return err
				}
			}
			if asJSON {
				err = render.JSON(s.Out, render.NewDrafted(d, write))
			} else {
				render.NewFiles(s.Out, s.paint(s.Out), d.Files)
				render.ImportNotes(s.Out, s.paint(s.Out), d.Notes)
			}
			switch {
			case err != nil:
			case refused && asJSON:
				err = &exit{code: exitFindings}
			case refused:
				err = &exit{code: exitFindings, message: declare.Counted(len(d.Notes), "note") +
					", so with --strict nothing was written"}
			case write:
				for _, f := range d.Files {
					s.say("written: %s", f.Path)
				}
				s.say("next: look at the notes, then lantern check %s", d.Stack)
			}
			return err
		},
	}
}
