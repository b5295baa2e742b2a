package cli

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/labdir"
)

func (a *app) surveyCommand() *cli.Command {
	var save string
	return &cli.Command{
		Name: "survey", Usage: "what is true of a host: accounts, zone, ports, folders, engine, containers, images", ArgsUsage: "[HOST]",
		Flags: []cli.Flag{&cli.StringFlag{Name: "save", Usage: "write the survey to `FILE`", Destination: &save}},
		Action: func(ctx context.Context, c *cli.Command) error {
			o, asJSON, err := a.begin()
			if err != nil {
				return err
			}
			name := c.Args().First()
			if name == "" {
				name = a.host
			}
			if name != "" && o.Host(name) == nil {
				return usage("the lab has no host %s", name)
			}
			if name == "" && save != "" && len(o.Hosts) > 1 {
				return usage("a file holds the survey of one host: lantern survey HOST --save FILE")
			}
			o.look(ctx, name)
			shown := 0
			for _, h := range o.Hosts {
				s := o.surveys[h.Name]
				if s == nil {
					continue
				}
				if shown++; shown > 1 && !asJSON {
					fmt.Fprintln(a.Out)
				}
				switch {
				case save != "":
					text, err := json.MarshalIndent(s, "", "  ")
					if err != nil {
						return err
					}
					if err := labdir.WriteAny(save, string(text)+"\n", 0o644); err != nil {
						return usage("%s cannot be written: %s", save, plain(err))
					}
					a.say("the survey of %s is in %s", h.Name, save)
				case asJSON:
					if err := render.JSON(a.Out, s); err != nil {
						return err
					}
				default:
					render.Survey(a.Out, a.paint(a.Out), s)
				}
			}
			for _, h := range o.Hosts {
				if err := o.errs[h.Name]; err != nil {
					return unreachable(h.Name, err)
				}
			}
			return nil
		},
	}
}
