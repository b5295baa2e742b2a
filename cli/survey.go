package cli

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/labdir"
)

func (s *session) surveyCommand() *cli.Command {
	var save string
	return &cli.Command{
		Name: "survey", Usage: "show facts of a host: accounts, ports, folders, engine, images",
		ArgsUsage: "[HOST]",
		Flags: []cli.Flag{&cli.StringFlag{
			Name:        "save",
			Usage:       "write the survey to `FILE`",
			Destination: &save,
		}},
		Action: func(ctx context.Context, c *cli.Command) error {
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			name := c.Args().First()
			if name == "" {
				name = s.host
			}
			if name != "" && w.Host(name) == nil {
				return usage("the lab has no host %s", name)
			}
			if name == "" && save != "" && len(w.Hosts) > 1 {
				return usage("a file holds the survey of one host: lantern survey HOST --save FILE")
			}
			w = w.SurveyClosely(ctx, name)
			shown := 0
			for _, h := range w.Hosts {
				facts := w.Surveys[h.Name]
				if facts == nil {
					continue
				}
				if shown++; shown > 1 && !asJSON {
					fmt.Fprintln(s.Out)
				}
				switch {
				case save != "":
					text, err := json.MarshalIndent(facts, "", "  ")
					if err != nil {
						return err
					}
					if err := labdir.WriteAny(save, string(text)+"\n", 0o644); err != nil {
						return usage("%s cannot be written: %s", save, labdir.InWords(err))
					}
					s.say("the survey of %s is in %s", h.Name, save)
				case asJSON:
					if err := render.JSON(s.Out, facts); err != nil {
						return err
					}
				default:
					render.Survey(s.Out, s.paint(s.Out), facts)
				}
			}
			return w.AllReached()
		},
	}
}
