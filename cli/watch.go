package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"
	"github.com/muesli/cancelreader"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/merge"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
)

// framesASecond is how often the live table is drawn at most.
const framesASecond = 20

// linesOfLog is how many lines a log that is opened in the live table begins with.
const linesOfLog = 500

// watch shows the live table until somebody leaves it.
func (s *session) watch(ctx context.Context, w *app.Workspace, named app.Targets, asJSON bool) error {
	in, out := terminal(s.In), terminal(s.Out)
	switch {
	case asJSON:
		return usage("--watch has no JSON: lantern status --format json tells of one moment")
	case in == nil || out == nil:
		return usage("--watch needs a terminal; lantern status tells of one moment")
	}
	watching, stop := context.WithCancel(ctx)
	defer stop()
	var program *tea.Program
	watch := &app.Watch{
		Named: named, OnHost: s.host,
		Seen: func(n app.WatchNews) { program.Send(n) },
	}
	done := s.busy("looking at the hosts")
	first, goOn, err := w.Watch(watching, watch)
	done()
	if err != nil {
		return err
	}
	acts := &watchActs{session: s, ctx: watching, watch: watch}
	model := &render.Watch{Title: w.Name, Paint: s.paint(s.Out).Direct(colours(s.Out)), Acts: render.WatchActs{
		Run: acts.run, Shell: acts.shell, Follow: acts.follow, Show: watch.Show, Hide: s.hide,
	}}
	model.Begin(first)
	program = tea.NewProgram(model, tea.WithInput(in), tea.WithOutput(out), tea.WithFPS(framesASecond),
		tea.WithoutSignalHandler(), tea.WithColorProfile(colours(s.Out)))
	var work sync.WaitGroup
	work.Go(goOn)
	over := context.AfterFunc(ctx, program.Quit) // a signal: the terminal is given back all the same
	_, err = program.Run()
	over()
	stop()
	acts.work.Wait()
	work.Wait()
	if err != nil {
		return fmt.Errorf("the terminal: %w", err)
	}
	return nil
}

// watchActs are what the keys of the live table do.
type watchActs struct {
	*session
	ctx   context.Context
	watch *app.Watch
	work  sync.WaitGroup
}

func (a *watchActs) named(stack, service string) app.Targets {
	return app.Targets{{Stack: stack, Service: service}}
}

// run starts, stops or restarts a service.
func (a *watchActs) run(what, stack, service string) (string, error) {
	a.work.Add(1)
	defer a.work.Done()
	r, err := a.watch.Lab().Running(a.ctx, a.named(stack, service), a.host, nil)
	if err != nil {
		return "", err
	}
	defer r.Close()
	strangers, err := r.Strangers(a.ctx)
	if err != nil {
		return "", err
	}
	for range strangers {
		return "", errors.New("something there was deployed from another folder; lantern " + what + " " + stack + "/" +
			service + " tells more")
	}
	do := map[string]func(*app.Running, context.Context, func(string, string, deploy.Outcome) error) error{
		"start": (*app.Running).Start, "stop": (*app.Running).Stop, "restart": (*app.Running).Restart,
	}[what]
	said := stack + "/" + service + ": " + map[string]string{
		"start": "started and ready", "stop": "stopped", "restart": "started again and ready",
	}[what]
	return said, do(r, a.ctx, func(_, _ string, out deploy.Outcome) error {
		switch {
		case out.Result == deploy.NothingToDo:
			said = stack + "/" + service + ": nothing to do"
		case out.Result != deploy.Done:
			var text strings.Builder
			render.Failure(&text, render.NewPaint(false), stack, out)
			return errors.New(strings.TrimSpace(text.String()))
		}
		return nil
	})
}

// follow reads a log until stop is called.
func (a *watchActs) follow(stack, service string, tail *render.Tail) (stop func()) {
	ctx, stop := context.WithCancel(a.ctx)
	a.work.Go(func() {
		err := a.watch.Lab().Logs(ctx, app.LogRequest{
			Named: a.named(stack, service), OnHost: a.host,
			Range:  engine.LogRange{Last: linesOfLog, Follow: true},
			Line:   func(l merge.Line) error { return tail.Line(l) },
			Notice: tail.Notice,
		})
		if err != nil && ctx.Err() == nil {
			tail.Notice(err.Error())
		}
	})
	return stop
}

// shell is a shell inside a service, on the terminal that the table has left to it.
func (a *watchActs) shell(stack, service string) tea.ExecCommand {
	return &watchShell{acts: a, target: app.Target{Stack: stack, Service: service}}
}

type watchShell struct {
	acts   *watchActs
	target app.Target
}

// The session's own streams are used.
func (*watchShell) SetStdin(io.Reader)  {}
func (*watchShell) SetStdout(io.Writer) {}
func (*watchShell) SetStderr(io.Writer) {}

// Run opens the shell, and returns what kept it from running.
func (w *watchShell) Run() error {
	a := w.acts
	inside, err := a.watch.Lab().Inside(a.ctx, w.target, a.host)
	if err != nil {
		return err
	}
	defer inside.Close()
	fmt.Fprintf(a.Err, "a shell in %s; exit comes back\n", w.target)
	x := engine.Exec{}
	restore, err := a.streams(&x)
	if err != nil {
		return err
	}
	defer restore()
	// Who reads the terminal has to let go of it at the end, or takes the next key from the table.
	in, err := cancelreader.NewReader(x.In.(*os.File))
	if err != nil {
		return err
	}
	defer in.Cancel()
	x.In = in
	_, err = inside.Run(a.ctx, x)
	return err
}
