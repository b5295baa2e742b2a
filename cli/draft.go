package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
)

func (s *session) draftCommand() *cli.Command {
	var stack, like string
	var strict, dryRun bool
	return &cli.Command{
		Name: "draft", Usage: "write a new stack from what images say of themselves", ArgsUsage: "IMAGE...",
		Description: "Ports that are free, folders for data, a user who can write there. Cards of the images, in the " +
			"lab's folder cards or beside them in their registry, say more: secrets are made up, and services find " +
			"each other. What nobody says stands in the file as a question. Nothing is written over.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "stack", Usage: "the `NAME` of the stack", Destination: &stack},
			&cli.StringFlag{Name: "like", Usage: "instead of images: start from a `STACK` of your own", Destination: &like},
			&cli.BoolFlag{Name: "strict", Usage: "where a question stays open, write nothing", Destination: &strict},
			&cli.BoolFlag{Name: "dry-run", Usage: "show the file, and write nothing", Destination: &dryRun},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			references := c.Args().Slice()
			if (len(references) == 0) == (like == "") || stack == "" {
				return usage("lantern draft needs images or --like STACK, and --stack NAME")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			done := s.busy("looking at the host and the images")
			var d *app.Drafted
			if like != "" {
				d, err = w.DraftLike(ctx, stack, like)
			} else {
				d, err = w.Draft(ctx, stack, s.host, references)
			}
			done()
			if err != nil {
				return err
			}
			for _, u := range d.Unknown {
				s.warn("%s", u)
			}
			refused := strict && len(d.Notes) > 0
			write := !dryRun && !refused
			var made []string
			if write {
				if made, err = w.WriteDraft(d); err != nil {
					return err
				}
			}
			if asJSON {
				err = render.JSON(s.Out, render.NewDrafted(d, write))
			} else {
				render.NewFiles(s.Out, s.paint(s.Out), d.Files)
			}
			switch {
			case err != nil:
			case refused && asJSON:
				err = &exit{code: exitFindings}
			case refused:
				err = &exit{code: exitFindings, message: declare.Counted(len(d.Notes), "question") +
					" stay open, so with --strict nothing was written"}
			case write:
				s.say("written: %s; %s in it", d.Files[0].Path, declare.Counted(len(d.Notes), "question"))
				for _, f := range d.Files[1:] {
					s.say("written: %s", f.Path)
				}
				for _, m := range made {
					s.say("made up: %s", m)
				}
				if len(d.Notes) > 0 {
					s.say("next: answer them, then lantern check %s", d.Stack)
				} else {
					s.say("next: lantern check %s, then lantern deploy %s", d.Stack, d.Stack)
				}
			}
			return err
		},
	}
}
