package cli

import (
	"context"
	"io"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/labdir"
)

func (s *session) importCommand() *cli.Command {
	var stack string
	var profiles []string
	var strict, dryRun, command bool
	return &cli.Command{
		Name: "import", Usage: "make a stack of a YAML file of services", ArgsUsage: "FILE",
		Description: "It reads the open specification that docs/import.md names. What has no counterpart is told with its line, and what to do instead. Secrets go into an " +
			"environment file. Nothing is written over.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "stack", Usage: "the `NAME` of the stack", Destination: &stack},
			&cli.StringSliceFlag{Name: "profile", Usage: "also services of the profile `NAME`", Destination: &profiles},
			&cli.BoolFlag{Name: "start-command", Usage: "FILE, or - for what is pasted, holds a command line that starts a container",
				Destination: &command},
			&cli.BoolFlag{Name: "strict", Usage: "where something has no counterpart, write nothing", Destination: &strict},
			&cli.BoolFlag{Name: "dry-run", Usage: "show the file, and write nothing", Destination: &dryRun},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() != 1 || stack == "" {
				return usage("lantern import needs a file, and --stack NAME")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			d, err := s.imported(w, c.Args().First(), stack, profiles, command)
			if err != nil {
				return err
			}
			if len(d.Profiles) > 0 && len(profiles) == 0 && !asJSON && isTerminal(s.In) && c.Args().First() != "-" {
				answer, err := s.answer(ctx, "The file has services of the profiles "+render.Harmless(strings.Join(d.Profiles, ", "))+
					". Which of these are wanted, too? Names with blanks between, or Enter for none:")
				if err != nil {
					return err
				}
				if d, err = s.imported(w, c.Args().First(), stack, strings.Fields(answer), command); err != nil {
					return err
				}
			}
			return s.writeDraft(w, d, asJSON, strict, dryRun, "lantern check "+d.Stack)
		},
	}
}

// mostPasted is how much of a command line is read, in bytes.
const mostPasted = 1 << 20

// imported makes a stack of a file, or of a command line.
func (s *session) imported(w *app.Workspace, file, stack string, profiles []string, command bool) (*app.Drafted, error) {
	if !command {
		return w.Import(file, stack, s.host, profiles)
	}
	var text string
	if file == "-" {
		pasted, err := io.ReadAll(io.LimitReader(s.In, mostPasted))
		if err != nil {
			return nil, usage("standard input cannot be read: %s", err)
		}
		text = string(pasted)
	} else {
		var err error
		if text, err = labdir.ReadIn(filepath.Dir(file), filepath.Base(file)); err != nil {
			return nil, usage("%s cannot be read: %s", file, labdir.InWords(err))
		}
	}
	return w.ImportCommand(text, stack, s.host)
}
