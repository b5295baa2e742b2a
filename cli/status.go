package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/observe"
)

func (s *session) statusCommand() *cli.Command {
	var yes, same, processes, watch bool
	return &cli.Command{
		Name: "status", Usage: "list services: state, uptime, restarts, image, links",
		ArgsUsage: "[STACK[/SERVICE]]...",
		Description: "Where a deploy died in the middle, it asks whether what is left of it is " +
			"to be finished or undone.",
		Flags: []cli.Flag{&cli.BoolFlag{
			Name:        "yes",
			Usage:       "do not ask: finish or undo what a crashed deploy left",
			Destination: &yes,
		}, sameLabFlag(&same), &cli.BoolFlag{
			Name:        "processes",
			Usage:       "list what runs inside STACK/SERVICE",
			Destination: &processes,
		}, &cli.BoolFlag{
			Name:        "watch",
			Usage:       "a live table: what services use and say; its keys stand below it",
			Destination: &watch,
		}},
		Action: func(ctx context.Context, c *cli.Command) error {
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			if processes {
				return s.processes(ctx, w, named, asJSON)
			}
			if watch {
				return s.watch(ctx, w, named, asJSON)
			}
			w = w.SurveyForStatus(ctx, s.host)
			broken := s.sayWhatIsBroken(w)
			services, away, err := w.Status(ctx, named, s.host)
			if err != nil {
				return err
			}
			cleared, err := s.clearLeftovers(ctx, w, services, yes, same)
			if err == nil && cleared {
				services, away, err = w.Status(ctx, named, s.host)
			}
			if err != nil {
				return err
			}
			if asJSON {
				err = render.JSON(s.Out, render.NewStates(services, unreachedHosts(away)))
			} else {
				for i := range services {
					if !s.verbose {
						services[i].About = "" // it would make most lines too long for a terminal
					}
				}
				render.Status(s.Out, s.paint(s.Out), services, time.Now())
			}
			if err == nil &&
				(broken || slices.ContainsFunc(services, func(v observe.Status) bool { return !v.Well() })) {
				err = &exit{code: exitFindings}
			}
			if lost := s.missing(away); lost != nil {
				err = lost
			}
			return err
		},
	}
}

// processes lists what runs inside a service.
func (s *session) processes(ctx context.Context, w *app.Workspace, named app.Targets, asJSON bool) error {
	if len(named) != 1 {
		return usage("--processes needs one STACK/SERVICE")
	}
	inside, err := w.Inside(ctx, named[0], s.host)
	if err != nil {
		return err
	}
	defer inside.Close()
	list, err := inside.Processes(ctx)
	if err != nil {
		return err
	}
	if asJSON {
		return render.JSON(s.Out, render.NewProcesses(list))
	}
	render.ProcessTable(s.Out, s.paint(s.Out), list)
	return nil
}

// sayWhatIsBroken names what keeps files from being understood: what they declare cannot be compared then.
func (s *session) sayWhatIsBroken(w *app.Workspace) bool {
	broken := w.Broken()
	for _, f := range broken {
		render.Found(s.Err, s.paint(s.Err), f)
		fmt.Fprintln(s.Err)
	}
	return len(broken) > 0
}

// clearLeftovers finishes or undoes what deploys that died have left, if the person says so.
func (s *session) clearLeftovers(ctx context.Context, w *app.Workspace, services []observe.Status,
	yes, same bool) (cleared bool, err error) {
	asked := map[string]bool{}
	for _, v := range services {
		if v.State != observe.StateDeploying || asked[v.Stack] {
			continue
		}
		asked[v.Stack] = true
		done, err := s.clearLeftover(ctx, w, v.Host, v.Stack, yes, same)
		if err != nil {
			return cleared, err
		}
		cleared = cleared || done
	}
	return cleared, nil
}

func (s *session) clearLeftover(ctx context.Context, w *app.Workspace, host, stack string,
	yes, same bool) (cleared bool, err error) {
	l, err := w.Leftover(ctx, host, stack, render.NewLineReporter(s.Err, s.paint(s.Err), s.quiet).Event)
	if err != nil || l == nil {
		return false, err
	}
	defer l.Close()
	fmt.Fprintf(s.Err, "%s: %s\n", stack, l.What)
	if !yes && !isTerminal(s.In) {
		fmt.Fprintf(s.Err, "  lantern status --yes does that, and so does the next deploy of %s\n", stack)
		return false, nil
	}
	if err := s.sameLab(ctx, w, l, same); err != nil {
		return false, err
	}
	if err := s.confirm(ctx, "Do that now?", yes); err != nil {
		if ctx.Err() != nil {
			return false, err
		}
		return false, nil
	}
	out, err := l.Recover(ctx)
	if err == nil && out.Result != deploy.Done {
		render.Failure(s.Err, s.paint(s.Err), stack, out)
		err = &exit{
			code: map[string]int{deploy.Refused: exitFindings, deploy.NeedsManual: exitNeedsManual}[out.Result],
		}
	}
	return err == nil, err
}
