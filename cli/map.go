package cli

import (
	"bytes"
	"context"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
)

func (s *session) mapCommand() *cli.Command {
	var output string
	var offline bool
	return &cli.Command{
		Name: "map", Usage: "draw the lab: hosts, stacks, services, ports, folders, and who needs whom",
		ArgsUsage:   "[STACK]...",
		Description: "Without -o as text. Findings of the check stand where they lie.",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:        "output",
				Aliases:     []string{"o"},
				Usage:       "draw a picture into `FILE`, which ends in .svg or .png",
				Destination: &output,
			},
			&cli.BoolFlag{Name: "offline", Usage: "read the files only; ask no host", Destination: &offline},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			kind := strings.ToLower(filepath.Ext(output))
			if output != "" && kind != ".svg" && kind != ".png" {
				return usage("--output: %s ends neither in .svg nor in .png", output)
			}
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if !offline {
				w = w.SurveyClosely(ctx, s.host)
			}
			m, err := w.Map(named, s.host)
			if err != nil {
				return err
			}
			if output != "" {
				if err := s.draw(m, output, kind); err != nil {
					return err
				}
			}
			switch {
			case asJSON:
				return render.JSON(s.Out, render.NewMapped(m))
			case output == "":
				render.MapText(s.Out, s.paint(s.Out), m)
			}
			return nil
		},
	}
}

// draw writes the picture of a map into a file.
func (s *session) draw(m app.Map, file, kind string) error {
	d, err := render.DrawMap(m)
	if err != nil {
		return err
	}
	var picture bytes.Buffer
	if kind == ".svg" {
		render.MapSVG(&picture, d, m.Lab+": "+m.Sum())
	} else if err := render.MapPNG(&picture, d); err != nil {
		return err
	}
	return s.writeOut(file, picture.String())
}
