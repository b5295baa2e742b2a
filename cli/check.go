package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/labdir"
)

func (a *app) checkCommand() *cli.Command {
	var saved []string
	var fix, strict, offline bool
	return &cli.Command{
		Name: "check", Usage: "find what can be known to go wrong before a deploy", ArgsUsage: "[STACK]",
		Description: "Reads the whole lab and looks at its hosts. Naming a stack narrows what is shown to findings that touch it.",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "survey", Usage: "use a saved survey `FILE` and touch no host", Destination: &saved},
			&cli.BoolFlag{Name: "offline", Usage: "look at the files alone", Destination: &offline},
			&cli.BoolFlag{Name: "fix", Usage: "carry out the mends that are certain", Destination: &fix},
			&cli.BoolFlag{Name: "strict", Usage: "warnings fail, too", Destination: &strict},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			sarif := a.format == "sarif"
			if sarif {
				a.format = "json" // for programs, too
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
			if fix {
				if result, err = a.fix(o, result, c.Args().First(), facts); err != nil {
					return err
				}
			}
			switch {
			case sarif:
				err = render.SARIF(a.Out, a.version, result)
			case asJSON:
				err = render.FindingsJSON(a.Out, o.Lab, result)
			default:
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

// fix carries out mends in rounds, as one may make the next possible, and returns what is left.
func (a *app) fix(o *opened, result check.Result, stack string, facts func() error) (check.Result, error) {
	const rounds = 5
	for range rounds {
		var groups [][]source.Edit
		for _, f := range result.Findings {
			if f.Mend != nil && f.Accepted == "" {
				groups = append(groups, f.Mend.Edits)
			}
		}
		texts, applied := source.Apply(groups)
		was := map[string]string{}
		for _, g := range groups {
			for _, e := range g {
				was[e.At.File.Path] = e.At.File.Text
			}
		}
		if applied == 0 {
			break
		}
		for _, path := range sortedKeys(texts) {
			if err := putFile(o.dir, path, was[path], texts[path], 0o600); err != nil {
				return result, notWritten(path, err)
			}
		}
		a.say("mended %s in %s", counted(applied, "finding"), strings.Join(sortedKeys(texts), ", "))
		decl, err := readLab(o.dir, nil)
		if err != nil {
			return result, err
		}
		o.decl = decl
		o.resolve()
		// Mended paths and accounts are other questions to the host.
		if err := facts(); err != nil {
			return result, err
		}
		result = a.find(o, stack)
	}
	return result, nil
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
