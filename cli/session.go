package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/labdir"
)

// begin reads what every command about a lab needs: the lab, and whether results are wanted as JSON.
func (s *session) begin() (w *app.Workspace, asJSON bool, err error) {
	if asJSON, err = s.json(); err != nil {
		return nil, false, err
	}
	w, err = s.open()
	return w, asJSON, err
}

// open reads the lab without looking at any host.
func (s *session) open() (*app.Workspace, error) {
	dir, err := labdir.Find(s.lab)
	if err != nil {
		return nil, usage("%s", err)
	}
	values, err := s.givenValues()
	if err != nil {
		return nil, err
	}
	w, err := app.Open(dir, app.Caller{
		Values:    values,
		Learn:     s.hides.learn,
		Hide:      s.hides.hide,
		Warn:      s.warn,
		Hold:      s.hold,
		NoHelpers: s.noHelpers,
		Version:   s.version,
	})
	if err != nil {
		return nil, err
	}
	if s.host != "" && w.Host(s.host) == nil {
		return nil, usage("the lab has no host %s", s.host)
	}
	return w, nil
}

// surveyed reads the lab for a command that looks at stacks beside what runs: the named ones, or all, in the
// order in which they are deployed. It ends the command when the files cannot be understood.
func (s *session) surveyed(ctx context.Context,
	named app.Targets) (w *app.Workspace, stacks []*lab.Stack, asJSON bool, err error) {
	if w, asJSON, err = s.begin(); err != nil {
		return nil, nil, false, err
	}
	w, stacks, err = s.admit(ctx, w, named, app.NotFirm)
	return w, stacks, asJSON, err
}

// missing words the hosts that could not be reached, after what is known of the others was shown; nil for none.
func (s *session) missing(all []app.Missing) error {
	if len(all) == 0 {
		return nil
	}
	end := exitOf(app.MissingError(all))
	s.tell("lantern: " + end.Error())
	return &exit{code: end.code, err: end.err}
}

// unreachedHosts are hosts that could not be reached, for programs.
func unreachedHosts(all []app.Missing) (hosts []render.UnreachedHost) {
	for _, m := range all {
		because := m.Err.Because
		if because == "" {
			because = m.Err.Message
		}
		hosts = append(hosts, render.UnreachedHost{Host: m.Host, Because: because, Do: m.Err.Do})
	}
	return hosts
}

// admit is [app.Workspace.Admit]; what is found in the way is shown.
func (s *session) admit(ctx context.Context, w *app.Workspace, named app.Targets,
	lookPast func(check.Finding) bool) (*app.Workspace, []*lab.Stack, error) {
	w, stacks, err := w.Admit(ctx, named, s.host, lookPast)
	s.showRefusal(w, err)
	return w, stacks, err
}

// askSameLab makes sure that services under the lab's name that this clone has not met are of this lab, and
// not of another one that has the same name. That is asked once, and --yes is no answer to it.
func (s *session) askSameLab(ctx context.Context, w *app.Workspace, found map[string][]deploy.Elsewhere,
	same bool) error {
	for _, host := range slices.Sorted(maps.Keys(found)) {
		var services []string
		for _, e := range found[host] {
			services = append(services, e.Services...)
		}
		shown := strings.Join(services[:min(len(services), 5)], ", ")
		if len(services) > 5 {
			shown += fmt.Sprintf(" and %d more", len(services)-5)
		}
		what := fmt.Sprintf(
			"%s runs services of a lab %s that were not deployed from here: %s. They are of this very lab "+
				"if another clone of its files has deployed them; another lab may have the same name.",
			host, w.Name, shown)
		if !same {
			if !isTerminal(s.In) {
				return usage(
					"%s\n  --same-lab says that it is the same lab; else give this one "+
						"another name in lab.toml", what)
			}
			s.say("%s", what)
			if err := s.confirm(ctx, "Is it the same lab?", false); err != nil {
				return &exit{
					code:    exitFindings,
					message: "nothing was changed; give this lab another name in lab.toml",
				}
			}
		}
		w.Meet(found[host])
	}
	return nil
}

// strangers is a step of a use case that has to know whose services run.
type strangers interface {
	Strangers(context.Context) (map[string][]deploy.Elsewhere, error)
}

// sameLab asks, see askSameLab, about the hosts of a use case.
func (s *session) sameLab(ctx context.Context, w *app.Workspace, of strangers, same bool) error {
	found, err := of.Strangers(ctx)
	if err != nil {
		return err
	}
	return s.askSameLab(ctx, w, found, same)
}

// makeUp makes up values that are to be, and says which.
func (s *session) makeUp(w *app.Workspace) (*app.Workspace, error) {
	w, made, err := w.MakeUp()
	for _, m := range made {
		s.say("made up, and written into %s", m)
	}
	return w, err
}

// hide takes secrets out of a text.
func (s *session) hide(text string) string { return s.hides.hide(text) }

// warn says what is wrong; the command goes on.
func (s *session) warn(format string, args ...any) {
	s.tell(s.paint(s.Err).Look("warning: ") + fmt.Sprintf(format, args...))
}

// busy says on a terminal what takes so long, once that is longer than a moment, until done is called.
func (s *session) busy(what string) (done func()) {
	if s.quiet || !isTerminal(s.Err) {
		return func() {}
	}
	timer := time.AfterFunc(500*time.Millisecond, func() {
		fmt.Fprintln(s.Err, s.paint(s.Err).Faint("  "+what+" …"))
	})
	return func() { timer.Stop() }
}

// showRefusal shows the findings that keep a deploy from beginning.
func (s *session) showRefusal(w *app.Workspace, err error) {
	if r := refusalOf(err); r != nil {
		render.Findings(s.Err, s.paint(s.Err), w.Lab, r.Result, false)
	}
}
