package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
)

func (s *session) adoptCommand() *cli.Command {
	var stack string
	var all, strict, dryRun bool
	return &cli.Command{
		Name: "adopt", Usage: "make a stack of containers that run already, whoever made them", ArgsUsage: "CONTAINER...",
		Description: "Nothing changes on the host: the first deploy takes the place of the containers, keeps their data, ports and " +
			"names, and brings them back where what is new does not become ready. Secrets go into an environment file. " +
			"Nothing is written over.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "stack", Usage: "the `NAME` of the stack", Destination: &stack},
			&cli.BoolFlag{Name: "all", Usage: "all containers that run and that lantern has not made; without --stack, those that belong " +
				"together become a stack each", Destination: &all},
			&cli.BoolFlag{Name: "strict", Usage: "where something has no counterpart, write nothing", Destination: &strict},
			&cli.BoolFlag{Name: "dry-run", Usage: "show the files, and write nothing", Destination: &dryRun},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			names := c.Args().Slice()
			if all == (len(names) > 0) || !all && stack == "" {
				return usage("lantern adopt needs containers and --stack NAME, or --all")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			done := s.busy("looking at the containers")
			d, err := w.Adopt(ctx, names, stack, s.host)
			done()
			if err != nil {
				return err
			}
			stacks := append(d.Stacks, strings.Fields(d.Stack)...)
			return s.writeDraft(w, d, asJSON, strict, dryRun, "lantern compare "+strings.Join(stacks, " "))
		},
	}
}

// writeDraft shows a stack that was made of something else, with notes, and writes it if it may. Next is what the
// person does then.
func (s *session) writeDraft(w *app.Workspace, d *app.Drafted, asJSON, strict, dryRun bool, next string) (err error) {
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
		render.AddedToLab(s.Out, s.paint(s.Out), d.Lab)
		render.ImportNotes(s.Out, s.paint(s.Out), d.Notes)
	}
	switch {
	case err != nil:
	case refused && asJSON:
		err = &exit{code: exitFindings}
	case refused:
		err = &exit{code: exitFindings, message: declare.Counted(len(d.Notes), "note") + ", so with --strict nothing was written"}
	case write:
		for _, f := range d.Files {
			s.say("written: %s", f.Path)
		}
		if len(d.Notes) > 0 {
			next = "look at the notes, then " + next
		}
		s.say("next: %s", next)
	}
	return err
}
