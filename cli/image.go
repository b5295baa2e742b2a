package cli

import (
	"context"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/labdir"
)

func (s *session) imageCommand() *cli.Command {
	var newCard bool
	var attach string
	return &cli.Command{
		Name: "image", Usage: "show what images say of themselves, before you declare them", ArgsUsage: "REF...",
		Description: "Asks the engine, and the registry for what the engine does not have. Nothing is pulled. It " +
			"works outside of a lab, too. A card tells what an image does not say: cards/NAME.toml in the lab, or " +
			"beside the image in its registry.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "card", Usage: "write a card of the image into the lab, to be completed", Destination: &newCard},
			&cli.StringFlag{Name: "attach", Usage: "put the card in `FILE` beside the image in its registry",
				Destination: &attach},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			references := c.Args().Slice()
			switch {
			case len(references) == 0:
				return usage("lantern image needs the name of an image")
			case (newCard || attach != "") && len(references) > 1, newCard && attach != "":
				return usage("a card is about one image: --card or --attach FILE, and one name")
			}
			asJSON, err := s.json()
			if err != nil {
				return err
			}
			var w *app.Workspace
			if _, missing := labdir.Find(s.lab); missing == nil || s.lab != "" || s.host != "" {
				if w, err = s.open(); err != nil {
					return err
				}
			}
			done := s.busy("asking the registries")
			defer done()
			look, err := app.LookAtImages(ctx, w, s.host, s.noHelpers)
			if err != nil {
				return err
			}
			defer look.Close()
			switch {
			case newCard && w == nil:
				return usage("a card is written into a lab, and there is none here: lantern begin makes one")
			case newCard || attach != "":
				return s.card(ctx, w, look, references[0], attach)
			}
			images, err := look.Images(ctx, references)
			if err != nil {
				return &exit{code: exitInterrupted, message: "interrupted"}
			}
			done()
			if look.NoEngine != nil {
				s.warn("no engine answers, so only registries were asked: %s", look.NoEngine)
			}
			if asJSON {
				err = render.JSON(s.Out, render.NewImages(images))
			} else {
				render.ImageFacts(s.Out, s.paint(s.Out), images, look.Platform, time.Now())
			}
			for _, i := range images {
				if err == nil && (i.Source == survey.Absent || i.Source == "") {
					err = &exit{code: exitFindings}
				}
			}
			return err
		},
	}
}

// card writes a card of an image into the lab, or puts one beside the image in its registry.
func (s *session) card(ctx context.Context, w *app.Workspace, look *app.ImageLook, reference, attach string) error {
	if attach != "" {
		digest, err := look.AttachCard(ctx, attach, reference, time.Now())
		if err == nil {
			s.say("%s is beside %s now, the image %s", attach, reference, digest)
		}
		return err
	}
	file, err := w.NewCard(ctx, look, reference)
	if err != nil {
		return err
	}
	render.NewFiles(s.Out, s.paint(s.Out), []app.NewFile{file})
	s.say("written: %s; complete it, then lantern draft and lantern check use it", file.Path)
	return nil
}
