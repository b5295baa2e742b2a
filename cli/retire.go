package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/deploy"
)

func (s *session) retireCommand() *cli.Command {
	var yes, withVolumes, same bool
	return &cli.Command{
		Name: "retire", Usage: "remove a stack's containers and networks; keep its data", ArgsUsage: "STACK",
		Description: "Works for a stack whose folder is gone, too. Nothing that is not of this lab is touched.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask", Destination: &yes},
			&cli.BoolFlag{
				Name:        "with-volumes",
				Usage:       "also delete its volumes and their data",
				Destination: &withVolumes,
			},
			sameLabFlag(&same),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			name := c.Args().First()
			if name == "" {
				return usage("lantern retire needs the name of a stack")
			}
			w, err := s.open()
			if err != nil {
				return err
			}
			r, err := w.Retirement(ctx, name, s.host, render.NewLineReporter(s.Err, s.paint(s.Err), s.quiet).Event)
			if err != nil {
				return err
			}
			defer r.Close()
			if len(r.Containers)+len(r.Networks) == 0 && (!withVolumes || len(r.Volumes) == 0) {
				s.say("nothing of %s is on %s%s", name, r.Host,
					map[bool]string{true: " but its volumes: " + strings.Join(r.Volumes, ", ")}[len(r.Volumes) > 0])
				return nil
			}
			if err := s.sameLab(ctx, w, r, same); err != nil {
				return err
			}
			s.sayWhatGoes(r, withVolumes)
			if err := s.confirm(ctx, "Retire "+name+"?", yes); err != nil {
				return err
			}
			out, err := r.CarryOut(ctx, withVolumes)
			if err != nil {
				return err
			}
			return s.retired(w, name, out)
		},
	}
}

// retired shows how it ended.
func (s *session) retired(w *app.Workspace, name string, out deploy.Outcome) error {
	if out.Result == deploy.Done || out.Result == deploy.NothingToDo {
		s.say("%s is retired", name)
		if w.Stack(name) != nil {
			s.say(
				"its folder stays: the next deploy creates it again; lantern revert %s deploys what ran last", name)
		}
		return nil
	}
	render.Failure(s.Err, s.paint(s.Err), name, out)
	if out.Result == deploy.Refused {
		return &exit{code: exitFindings}
	}
	return &exit{code: exitNeedsManual}
}

// sayWhatGoes lists what a retirement removes, and what stays.
func (s *session) sayWhatGoes(r *app.Retirement, withVolumes bool) {
	if gone := slices.Concat(r.Containers, r.Networks); len(gone) > 0 {
		s.say("will be removed on %s: %s", r.Host, strings.Join(gone, ", "))
	}
	volumes := strings.Join(r.Volumes, ", ")
	switch {
	case volumes == "":
		s.say("host folders stay")
	case withVolumes:
		s.say("%s with all that they hold: %s", s.paint(s.Err).Bad("and these volumes"), volumes)
		s.say("host folders stay")
	default:
		s.say("host folders stay, and these volumes: %s", volumes)
	}
}
