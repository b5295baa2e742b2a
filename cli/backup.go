package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/docker/go-units"
	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/deploy"
)

func (s *session) backupCommand() *cli.Command {
	var o app.BackupOptions
	return &cli.Command{
		Name: "backup", Usage: "copy what a stack holds into one file: its data, its files, which images it runs", ArgsUsage: "STACK...",
		Description: "What its services write is copied, while they stand still. What is only read, what belongs to the system and what the card " +
			"of an image calls not worth keeping is left out, and told. Run it as root where services write as others.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "the `FOLDER` that it is written into (default: .lantern/backups of the lab)", Destination: &o.Folder},
			&cli.BoolFlag{Name: "live", Usage: "services run on meanwhile: what they are writing may be caught half", Destination: &o.Live},
			&cli.StringSliceFlag{Name: "only", Usage: "nothing but this `PATH` of the host, or \"volume NAME\"", Destination: &o.Only},
			&cli.StringSliceFlag{Name: "without", Usage: "not this `PATH` of the host, or \"volume NAME\"", Destination: &o.Without},
			&cli.StringSliceFlag{Name: "encrypt-to", Usage: "encrypt it to this `RECIPIENT` of age (age1…)", Destination: &o.EncryptTo},
			&cli.IntFlag{Name: "prune", Usage: "afterwards remove all backups of the stack there but the newest `N`", Destination: &o.Keep},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			stacks := c.Args().Slice()
			if len(stacks) == 0 {
				return usage("lantern backup needs the name of a stack")
			}
			if c.IsSet("prune") && o.Keep < 1 {
				return usage("--prune says how many backups stay: 1 at least")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			for _, stack := range stacks {
				b, err := s.backup(ctx, w, stack, o)
				if err != nil {
					return err
				}
				if asJSON {
					if err := render.JSON(s.Out, render.NewBackedUp(b)); err != nil {
						return err
					}
				}
			}
			return nil
		},
	}
}

// backup takes one, and tells how it went.
func (s *session) backup(ctx context.Context, w *app.Workspace, stack string, o app.BackupOptions) (*app.Backup, error) {
	o.Report = s.reporter()
	o.Progress = s.progress("read")
	b, err := w.Backup(ctx, stack, o)
	if err != nil {
		return nil, err
	}
	for _, n := range b.Notes {
		s.say("  %s", n)
	}
	stood := ""
	if b.Stood > 0 {
		stood = fmt.Sprintf("; it stood still for %s", b.Stood.Round(100*time.Millisecond))
	}
	s.say("%s: %s, %s in %s%s", stack, b.File, declare.Counted(b.Entries, "member"), units.HumanSize(float64(b.Bytes)), stood)
	for _, p := range b.Pruned {
		s.say("removed: %s", p)
	}
	return b, nil
}

// reporter shows what is done to containers, a line each.
func (s *session) reporter() func(deploy.Event) {
	lines := render.NewLineReporter(s.Err, s.paint(s.Err), s.quiet)
	return lines.Event
}

// progress shows how many bytes were handled, on a terminal, not more than once a second.
func (s *session) progress(done string) func(int64) {
	if s.quiet || !isTerminal(s.Err) {
		return nil
	}
	last := time.Now()
	return func(bytes int64) {
		if time.Since(last) > time.Second {
			last = time.Now()
			s.say("  %s %s", units.HumanSize(float64(bytes)), done)
		}
	}
}
