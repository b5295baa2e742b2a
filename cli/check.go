package cli

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/secret"
)

func (s *session) checkCommand() *cli.Command {
	var saved []string
	var fix, dryRun, strict, offline bool
	return &cli.Command{
		Name: "check", Usage: "find mistakes before you deploy", ArgsUsage: "[STACK[/SERVICE]]...",
		Description: "Reads the whole lab and looks at its hosts. Naming stacks or services narrows what is " +
			"shown to findings that touch them.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{
				Name:        "survey",
				Usage:       "use the saved survey `FILE` instead of asking the host",
				Destination: &saved,
			},
			&cli.BoolFlag{Name: "offline", Usage: "read the files only; ask no host", Destination: &offline},
			&cli.BoolFlag{Name: "fix", Usage: "apply safe fixes", Destination: &fix},
			&cli.BoolFlag{
				Name:        "dry-run",
				Usage:       "with --fix: show the changes as a diff, and write nothing",
				Destination: &dryRun,
			},
			&cli.BoolFlag{Name: "strict", Usage: "warnings fail, too", Destination: &strict},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			sarif := s.format == "sarif"
			if sarif {
				s.format = "json" // for programs, too
			}
			if dryRun && !fix {
				return usage("--dry-run belongs to --fix")
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			named, err := app.ParseTargets(c.Args().Slice())
			if err == nil {
				_, err = w.StacksOf(named, "")
			}
			if err != nil {
				return err
			}
			if fix && !dryRun {
				if w, err = s.makeUp(w); err != nil {
					return err
				}
			}
			survey := surveyFrom(ctx, s.host, offline, saved)
			if w, err = survey(w); err != nil {
				return err
			}
			if !fix {
				return s.found(w, w.Check(named, s.host), nil, sarif, strict)
			}
			fixes, err := w.Fix(named, s.host, survey)
			if err == nil && !dryRun {
				err = s.write(fixes)
			}
			if err != nil {
				return err
			}
			if dryRun && !asJSON {
				return s.diff(fixes)
			}
			return s.found(fixes.Lab, fixes.Result, fixes.Fixed, sarif, strict)
		},
	}
}

// surveyFrom returns how a check learns what is true of the hosts: not at all, from saved surveys, or from the
// hosts themselves.
func surveyFrom(ctx context.Context, host string, offline bool, saved []string) app.Surveyor {
	return func(w *app.Workspace) (*app.Workspace, error) {
		switch {
		case offline:
			return w, nil
		case len(saved) > 0:
			return w.WithSurveys(saved)
		}
		return w.SurveyClosely(ctx, host), nil
	}
}

// found shows what the check has found, after the mends that were made.
func (s *session) found(w *app.Workspace, result check.Result, fixed []app.Fixed, sarif, strict bool) error {
	var err error
	switch {
	case sarif:
		err = render.SARIF(s.Out, s.version, result)
	case s.format == "json":
		err = render.FindingsJSON(s.Out, w.Lab, result, fixed)
	default:
		render.Fixes(s.Out, s.paint(s.Out), fixed)
		render.Findings(s.Out, s.paint(s.Out), w.Lab, result, s.verbose)
	}
	if err == nil && (result.Count(check.Error) > 0 || strict && result.Count(check.Warning) > 0) {
		err = &exit{code: exitFindings}
	}
	return err
}

// write puts mends into the files.
func (s *session) write(fixes *app.Fixes) error {
	written, left, err := fixes.Write()
	if err != nil && len(written) > 0 {
		s.say("fixed %s; not %s", strings.Join(written, ", "), strings.Join(left, ", "))
	}
	return err
}

// diff shows what the mends would make of the files.
func (s *session) diff(fixes *app.Fixes) error {
	hidden := 0
	for _, path := range slices.Sorted(maps.Keys(fixes.Texts)) {
		f := fixes.Was[path]
		n, err := render.Diff(s.Out, s.paint(s.Out), path, f.Text, fixes.Texts[path], func(line string) string {
			for _, word := range f.Hidden() {
				// A short secret is only told from other letters by what is around it.
				for _, around := range [][2]string{{`"`, `"`}, {`'`, `'`}} {
					if before, ok := strings.CutSuffix(line, "="+word); ok {
						line = before + "=" + secret.Mask(word)
					}
					line = strings.ReplaceAll(line, around[0]+word+around[1], around[0]+secret.Mask(word)+around[1])
				}
			}
			return render.Harmless(s.hides.hide(line))
		})
		if err != nil {
			return err
		}
		hidden += n
	}
	if hidden > 0 {
		s.say(
			"%s with secrets, or with signs that no terminal shows, stand above the diff and not in it: "+
				"check --fix changes them, patch does not", declare.Counted(hidden, "line"))
	}
	return nil
}
