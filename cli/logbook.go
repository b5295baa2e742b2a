package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/deploy/history"
)

func (s *session) logbookCommand() *cli.Command {
	var save string
	return &cli.Command{
		Name: "logbook", Usage: "show past deploys: when, who, result", ArgsUsage: "[STACK [ENTRY]]",
		Description: "The logbook belongs to this clone of the lab: " + filepath.Join(".lantern",
			"logbook.db") + ". It holds the files of each deploy, so only its owner may read it.",
		Flags: []cli.Flag{&cli.StringFlag{
			Name:        "save",
			Usage:       "write the files of the entry into `DIR`",
			Destination: &save,
		}},
		Action: func(_ context.Context, c *cli.Command) error {
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			stack, number := c.Args().Get(0), c.Args().Get(1)
			if number == "" {
				if save != "" {
					return usage("--save wants the number of an entry: lantern logbook STACK ENTRY --save DIR")
				}
				list, err := w.Entries(stack)
				if err != nil {
					return err
				}
				if asJSON {
					return render.JSON(s.Out, render.NewEntries(list))
				}
				render.Logbook(s.Out, s.paint(s.Out), list, stack)
				return nil
			}
			e, files, err := w.Entry(stack, number)
			if err != nil {
				return err
			}
			if save != "" {
				return app.SaveFiles(save, files, func(path string) { fmt.Fprintln(s.Out, path) })
			}
			if asJSON {
				return render.JSON(s.Out, render.NewEntries([]history.Entry{e}))
			}
			var states []render.FileState
			for _, f := range files {
				states = append(states, render.FileState{Path: f.Path, Same: w.TextNow(f.Path) == f.Text})
			}
			render.Entry(s.Out, s.paint(s.Out), e, states)
			return nil
		},
	}
}
