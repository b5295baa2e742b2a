package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/deploy"
)

func (s *session) restoreCommand() *cli.Command {
	var o app.RestoreOptions
	var verify, list, try, yes bool
	var beside string
	return &cli.Command{
		Name: "restore", Usage: "bring back what a backup holds, or look whether it can be", ArgsUsage: "FILE",
		Description: "The whole file is read and held against what was written before anything is touched. What is there is kept beside, as " +
			"NAME.before-restore, until lantern sweep.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "verify", Usage: "only read every byte, and say whether it is what was written", Destination: &verify},
			&cli.BoolFlag{Name: "list", Usage: "only list what is in it", Destination: &list},
			&cli.StringFlag{Name: "beside", Usage: "unpack it into a new `FOLDER`, and touch nothing else", Destination: &beside},
			&cli.BoolFlag{Name: "try", Usage: "deploy it beside the original, under another name on other ports, prove it, and remove it again", Destination: &try},
			&cli.StringSliceFlag{Name: "identity", Usage: "a `FILE` with keys of age, for an encrypted one", Destination: &o.Keys},
			&cli.BoolFlag{Name: "special", Usage: "bring programs back that run with more rights than whoever runs them has", Destination: &o.Special},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			ways := 0
			for _, is := range []bool{verify || list, beside != "", try} {
				if is {
					ways++
				}
			}
			if c.Args().Len() != 1 || ways > 1 {
				return usage("lantern restore needs the file of a backup, and one of --verify or --list, --beside and --try at most")
			}
			file := c.Args().First()
			if verify || list {
				return s.verify(ctx, file, o.Keys, list)
			}
			w, err := s.open()
			if err != nil {
				return err
			}
			o.Report = s.reporter()
			switch {
			case beside != "":
				r, err := w.Beside(ctx, file, beside, o)
				if err != nil {
					return err
				}
				s.restored(r)
				return nil
			case try:
				return s.try(ctx, w, file, o)
			}
			return s.restore(ctx, w, file, o, yes)
		},
	}
}

// verify reads a backup to its end, and lists what is in it. It works outside of a lab.
func (s *session) verify(ctx context.Context, file string, keys []string, list bool) error {
	asJSON, err := s.json()
	if err != nil {
		return err
	}
	r, err := app.OpenBackup(file, keys)
	if err != nil {
		return err
	}
	defer r.Close()
	entries := []backup.Member{}
	done := s.busy("reading " + file)
	report := r.Verify(ctx, func(e backup.Member) {
		switch {
		case asJSON:
			entries = append(entries, e)
		case list:
			render.BackupEntry(s.Out, s.paint(s.Out), e, r.About)
		}
	})
	done()
	if asJSON {
		if err := render.JSON(s.Out, render.NewVerified(r.About, entries, report)); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return &exit{code: exitInterrupted, message: "interrupted"}
	}
	if !report.Whole() {
		for _, path := range report.Damaged {
			s.warn("damaged: %s", path)
		}
		why := "what is named is damaged"
		if report.Err != nil {
			why = report.Err.Error()
		}
		return &exit{code: exitFindings, message: file + ": " + why}
	}
	s.say("%s: %s of %s, taken %s; every byte is what was written", file, declare.Counted(r.Entries, "member"), r.About.Stack,
		r.About.Taken.Local().Format("2006-01-02 15:04:05"))
	return nil
}

// restored tells what was brought back.
func (s *session) restored(r *app.Restoring) {
	for _, st := range r.Steps {
		if st.Name == st.Place {
			s.say("  %s", st.Name)
		} else {
			s.say("  %s: %s", st.Name, st.Place)
		}
		if st.Kept != "" {
			s.say("    what was there: %s", st.Kept)
		}
	}
	for _, n := range r.Notes {
		s.say("  %s", n)
	}
}

func (s *session) restore(ctx context.Context, w *app.Workspace, file string, o app.RestoreOptions, yes bool) error {
	done := s.busy("reading " + file)
	r, err := w.Restoring(ctx, file, o)
	done()
	if err != nil {
		return err
	}
	defer r.Close()
	render.RestoreSteps(s.Err, s.paint(s.Err), r)
	if err := s.confirm(ctx, fmt.Sprintf("Restore %s as it was on %s?", r.About.Stack, r.About.Taken.Local().Format("2006-01-02 15:04:05")), yes); err != nil {
		return err
	}
	r.Notes = nil
	stood, err := r.CarryOut(ctx)
	if err != nil {
		return err
	}
	s.restored(r)
	if stood > 0 {
		s.say("%s is restored; it stood still for %s", r.About.Stack, stood.Round(100*time.Millisecond))
	} else {
		s.say("%s is restored; next: lantern deploy %s", r.About.Stack, r.About.Stack)
	}
	return nil
}

// try says of a backup whether it works.
func (s *session) try(ctx context.Context, w *app.Workspace, file string, o app.RestoreOptions) error {
	t, err := w.Try(ctx, file, o)
	if err != nil {
		return err
	}
	for _, n := range slices.Compact(t.Notes) {
		s.say("  %s", n)
	}
	if t.Outcome.Result != deploy.Done {
		render.Failure(s.Err, s.paint(s.Err), t.Stack, t.Outcome)
		return &exit{code: exitFindings, message: "the backup does not work as it is; nothing of the trial is left"}
	}
	var names []string
	for _, v := range t.Outcome.Plan.Services {
		names = append(names, v.Name)
	}
	s.say("the backup works: %s ran and was proven; nothing of the trial is left", strings.Join(names, ", "))
	return nil
}
