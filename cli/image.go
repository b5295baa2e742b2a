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
	return &cli.Command{
		Name: "image", Usage: "show what images say of themselves, before you declare them", ArgsUsage: "REF...",
		Description: "Asks the engine, and the registry for what the engine does not have. Nothing is pulled. It " +
			"works outside of a lab, too.",
		Action: func(ctx context.Context, c *cli.Command) error {
			references := c.Args().Slice()
			if len(references) == 0 {
				return usage("lantern image needs the name of an image")
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
