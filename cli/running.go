package cli

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/deploy"
)

func (s *session) startCommand() *cli.Command {
	return s.runningCommand("start", "start services that do not run, in their order, and wait for ready",
		"With a service: also what it needs before it. A job that has done its work runs "+
			"again only when it is named.",
		"started and ready", (*app.Running).Start)
}

func (s *session) stopCommand() *cli.Command {
	return s.runningCommand("stop", "stop services, in reverse order; their containers stay",
		"What is stopped stays so until a start or a deploy, or until the engine starts again and its restart "+
			"policy is always.", "stopped", (*app.Running).Stop)
}

func (s *session) restartCommand() *cli.Command {
	return s.runningCommand("restart", "stop services and start them again, in their order",
		"Changed files have no effect here: lantern deploy applies them.", "started again and ready",
		(*app.Running).Restart)
}

// runningCommand is a command that starts or stops what was deployed.
func (s *session) runningCommand(name, usageText, more, done string, do func(*app.Running, context.Context,
	func(host, stack string, out deploy.Outcome) error) error) *cli.Command {
	var same bool
	return &cli.Command{
		Name: name, Usage: usageText, ArgsUsage: "STACK[/SERVICE]...",
		Description: more + " While a deploy changes the stack, nothing is done.",
		Flags:       []cli.Flag{sameLabFlag(&same)},
		Action: func(ctx context.Context, c *cli.Command) error {
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			if len(named) == 0 {
				return usage("lantern %s needs the name of a stack, or STACK/SERVICE", name)
			}
			w, asJSON, err := s.begin()
			if err != nil {
				return err
			}
			report := render.NewLineReporter(s.Err, s.paint(s.Err), s.quiet).Event
			if asJSON {
				report = func(e deploy.Event) { json.NewEncoder(s.Out).Encode(e) }
			}
			r, err := w.Running(ctx, named, s.host, report)
			if err != nil {
				return err
			}
			defer r.Close()
			if err := s.sameLab(ctx, w, r, same); err != nil {
				return err
			}
			return do(r, ctx, func(host, stack string, out deploy.Outcome) error {
				return s.ran(asJSON, host, stack, done, out)
			})
		},
	}
}

// ran shows how it ended for one stack.
func (s *session) ran(asJSON bool, host, stack, done string, out deploy.Outcome) error {
	well := out.Result == deploy.Done || out.Result == deploy.NothingToDo
	code := exitFindings
	if well {
		code = exitDone
	}
	if asJSON {
		last := render.DeployResult{Result: out.Result, Exit: code, Host: host, Stack: stack, Because: out.Holder}
		if out.Failure != nil {
			last.Because = out.Failure.Error()
		}
		json.NewEncoder(s.Out).Encode(last)
	}
	switch {
	case !well && asJSON:
		return &exit{code: code}
	case !well:
		render.Failure(s.Err, s.paint(s.Err), stack, out)
		return &exit{code: code}
	case asJSON || s.quiet:
	case out.Result == deploy.NothingToDo:
		fmt.Fprintf(s.Err, "%s: nothing to do\n", stack)
	default:
		fmt.Fprintf(s.Err, "%s: %s\n", stack, done)
	}
	return nil
}
