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
		Name: "retire", Usage: "remove a stack's containers and networks; keep its data", ArgsUsage: "STACK...",
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
			named, err := app.ParseTargets(c.Args().Slice())
			if err != nil {
				return err
			}
			if len(named) == 0 {
				return usage("lantern retire needs the name of a stack")
			}
			for _, t := range named {
				if t.Service != "" {
					return usage("%s is a service: lantern retire takes whole stacks; lantern stop %s stops it", t, t)
				}
			}
			w, err := s.open()
			if err != nil {
				return err
			}
			all, err := s.retirements(ctx, w, named, withVolumes)
			defer func() {
				for _, r := range all {
					r.Close()
				}
			}()
			if err != nil || len(all) == 0 {
				return err
			}
			for _, r := range all {
				if err := s.sameLab(ctx, w, r, same); err != nil {
					return err
				}
			}
			var names []string
			for _, r := range all {
				names = append(names, r.Stack)
				s.sayWhatGoes(r, withVolumes)
			}
			if err := s.confirm(ctx, "Retire "+strings.Join(names, ", ")+"?", yes); err != nil {
				return err
			}
			for _, r := range all {
				out, err := r.CarryOut(ctx, withVolumes)
				if err == nil {
					err = s.retired(w, r.Stack, out)
				}
				if err != nil {
					return err
				}
			}
			return nil
		},
	}
}

// retirements finds what is to be removed of the stacks. Of which nothing is there, it says so.
func (s *session) retirements(ctx context.Context, w *app.Workspace, named app.Targets,
	withVolumes bool) (all []*app.Retirement, err error) {
	report := render.NewLineReporter(s.Err, s.paint(s.Err), s.quiet).Event
	for _, t := range named {
		r, err := w.Retirement(ctx, t.Stack, s.host, report)
		if err != nil {
			return all, err
		}
		if len(r.Containers)+len(r.Networks) > 0 || withVolumes && len(r.Volumes) > 0 {
			all = append(all, r)
			continue
		}
		s.say("nothing of %s is on %s%s", t.Stack, r.Host,
			map[bool]string{true: " but its volumes: " + strings.Join(r.Volumes, ", ")}[len(r.Volumes) > 0])
		r.Close()
	}
	return all, nil
}

// retired shows how it ended.
func (s *session) retired(w *app.Workspace, name string, out deploy.Outcome) error {
	if out.Result == deploy.Done || out.Result == deploy.NothingToDo {
		s.say("%s is retired", name)
		if st := w.Stack(name); st != nil && st.Gate != nil {
			s.say("lab.toml still declares it: the next deploy opens it again")
		} else if st != nil {
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
