package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/labdir"
)

func (a *app) checkCommand() *cli.Command {
	var saved []string
	var fix, dryRun, strict, offline bool
	return &cli.Command{
		Name: "check", Usage: "find what can be known to go wrong before a deploy", ArgsUsage: "[STACK]",
		Description: "Reads the whole lab and looks at its hosts. Naming a stack narrows what is shown to findings that touch it.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "survey", Usage: "use a saved survey `FILE` and touch no host", Destination: &saved},
			&cli.BoolFlag{Name: "offline", Usage: "look at the files alone", Destination: &offline},
			&cli.BoolFlag{Name: "fix", Usage: "carry out the mends that are certain", Destination: &fix},
			&cli.BoolFlag{Name: "dry-run", Usage: "with --fix: show the changes as a diff and write nothing", Destination: &dryRun},
			&cli.BoolFlag{Name: "strict", Usage: "warnings fail, too", Destination: &strict},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			sarif := a.format == "sarif"
			if sarif {
				a.format = "json" // for programs, too
			}
			if dryRun && !fix {
				return usage("--dry-run belongs to --fix")
			}
			o, asJSON, err := a.begin()
			if err != nil {
				return err
			}
			if name := c.Args().First(); name != "" {
				if _, err := o.stacks(name, ""); err != nil {
					return err
				}
			}
			facts := func() error {
				switch {
				case offline:
				case len(saved) > 0:
					return o.readSurveys(saved)
				default:
					o.look(ctx, a.host)
				}
				return nil
			}
			if err := facts(); err != nil {
				return err
			}
			result := a.find(o, c.Args().First())
			var m mended
			if fix {
				if m, err = a.fix(o, result, c.Args().First(), facts); err == nil && !dryRun {
					err = a.write(o, m)
				}
				if err != nil {
					return err
				}
				result = m.result
			}
			switch {
			case sarif:
				err = render.SARIF(a.Out, a.version, result)
			case asJSON:
				err = render.FindingsJSON(a.Out, o.Lab, result, m.fixed)
			case dryRun:
				return a.diff(m)
			default:
				render.Fixes(a.Out, a.paint(a.Out), m.fixed)
				render.Findings(a.Out, a.paint(a.Out), o.Lab, result, a.verbose)
			}
			if err == nil && (result.Count(check.Error) > 0 || strict && result.Count(check.Warning) > 0) {
				err = &exit{code: exitFindings}
			}
			return err
		},
	}
}

// find runs all rules; a named stack or host narrows the result.
func (a *app) find(o *opened, stack string) check.Result {
	result := check.Run(o.Lab, check.All())
	if stack != "" {
		result = result.About(stack)
	}
	if a.host != "" {
		result.Findings = slices.DeleteFunc(result.Findings, func(f check.Finding) bool { return f.Host != "" && f.Host != a.host })
	}
	return result
}

// mostSurvey is the largest survey that is read, in bytes: one of a host with ten thousand containers has some ten million.
const mostSurvey = 64 << 20

// readSurveys takes saved surveys in place of a look at the hosts.
func (o *opened) readSurveys(files []string) error {
	for _, file := range files {
		text, err := labdir.ReadAny(file, mostSurvey)
		if err != nil {
			return usage("the survey %s cannot be read: %s", file, plain(err))
		}
		s, err := survey.Parse([]byte(text))
		if err != nil {
			return usage("%s: %s", file, err)
		}
		if o.Host(s.Host) == nil {
			return usage("%s is a survey of %s, and the lab has no such host", file, s.Host)
		}
		o.surveys[s.Host] = s
	}
	o.resolve()
	return nil
}

// mended is a lab after the mends that are certain.
type mended struct {
	result check.Result
	fixed  []render.Fixed
	was    map[string]*source.File // the files that change, as they are
	texts  map[string]string       // and what becomes of them
}

// fix works out mends in rounds, as one may make the next possible, until nothing changes. Nothing is written.
func (a *app) fix(o *opened, result check.Result, stack string, facts func() error) (mended, error) {
	const rounds = 10
	m := mended{result: result, fixed: []render.Fixed{}, was: map[string]*source.File{}, texts: map[string]string{}}
	told := map[string]bool{}
	for range rounds {
		var groups [][]source.Edit
		var rules []string
		for _, f := range m.result.Findings {
			if f.Mend != nil && f.Accepted == "" && len(f.Mend.Edits) > 0 {
				groups, rules = append(groups, f.Mend.Edits), append(rules, f.Rule)
			}
		}
		texts, applied := source.Apply(groups)
		changes := false
		for _, n := range applied {
			for _, e := range groups[n] {
				if m.was[e.At.File.Path] == nil {
					m.was[e.At.File.Path] = e.At.File
				}
				changes = changes || texts[e.At.File.Path] != e.At.File.Text
				f := render.Fixed{Rule: rules[n], At: e.At.Place(), Old: e.At.Shown(), New: e.Says()}
				if id := fmt.Sprint(f); !told[id] {
					told[id] = true
					m.fixed = append(m.fixed, f)
				}
			}
		}
		if !changes {
			break
		}
		maps.Copy(m.texts, texts)
		decl, err := readLab(o.dir, m.texts)
		if err != nil {
			return m, err
		}
		o.decl = decl
		o.resolve()
		a.hides.learn(o.Secrets()...)
		// Mended paths and accounts are other questions to the host.
		if err := facts(); err != nil {
			return m, err
		}
		m.result = a.find(o, stack)
	}
	return m, nil
}

// write puts the mends into the files. What goes from one file into another is in its new place first.
func (a *app) write(o *opened, m mended) error {
	paths := sortedKeys(m.texts)
	slices.SortStableFunc(paths, func(x, y string) int { return strings.Compare(filepath.Ext(x), filepath.Ext(y)) })
	for i, path := range paths {
		if err := putFile(o.dir, path, m.was[path].Text, m.texts[path], 0o600); err != nil {
			if i > 0 {
				a.say("mended %s; not %s", strings.Join(paths[:i], ", "), strings.Join(paths[i:], ", "))
			}
			return notWritten(path, err)
		}
	}
	return nil
}

// diff shows what the mends would make of the files.
func (a *app) diff(m mended) error {
	hidden := 0
	for _, path := range sortedKeys(m.texts) {
		f := m.was[path]
		n, err := render.Diff(a.Out, a.paint(a.Out), path, f.Text, m.texts[path], func(line string) string {
			for _, s := range f.Hidden() {
				// A short secret is only told from other letters by what is around it.
				for _, around := range [][2]string{{`"`, `"`}, {`'`, `'`}} {
					if before, ok := strings.CutSuffix(line, "="+s); ok {
						line = before + "=" + secret.Mask(s)
					}
					line = strings.ReplaceAll(line, around[0]+s+around[1], around[0]+secret.Mask(s)+around[1])
				}
			}
			return render.Harmless(a.hides.hide(line))
		})
		if err != nil {
			return err
		}
		hidden += n
	}
	if hidden > 0 {
		a.say("%s with secrets, or with signs that no terminal shows, stand above the diff and not in it: check --fix changes them, patch does not", counted(hidden, "line"))
	}
	return nil
}

// notWritten words a file that could not be written.
func notWritten(path string, err error) error {
	if errors.Is(err, labdir.ErrChanged) {
		return &exit{code: exitFindings, message: path + " has changed since it was read, and was left as it is: run the command again", err: err}
	}
	return &exit{code: exitNeedsAHand, message: path + " could not be written: " + plain(err), err: err}
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

func sortedKeys[T any](m map[string]T) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
