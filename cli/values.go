package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/internal/system"
	"proudlantern.example/lantern/labdir"
)

// valueFlag is the option of every command that may need values which a person is asked for.
func (s *session) valueFlag() cli.Flag {
	return &cli.StringSliceFlag{
		Name:        "value-file",
		Usage:       "read a value that is asked for out of a file, `NAME=FILE`",
		Destination: &s.valueFiles,
	}
}

// givenValues reads the files of --value-file. A line break at the end is not part of the value.
func (s *session) givenValues() (map[string]string, error) {
	values := map[string]string{}
	for _, v := range s.valueFiles {
		name, file, ok := strings.Cut(v, "=")
		if !ok || name == "" || file == "" {
			return nil, usage("--value-file is NAME=FILE: the name of a value in [let], and the file that holds it")
		}
		text, err := labdir.ReadIn(filepath.Dir(file), filepath.Base(file))
		if err != nil {
			return nil, usage("the file of the value %s cannot be read: %s", name, labdir.InWords(err))
		}
		if text = strings.TrimRight(text, "\r\n"); strings.ContainsRune(text, 0) || text == "" {
			return nil, usage("the file of the value %s holds no text that could be a value", name)
		}
		values[name] = text
	}
	return values, nil
}

// plan compares stacks with what runs. Values that are needed and not known yet are asked for.
func (s *session) plan(ctx context.Context, w *app.Workspace, named app.Targets, stacks []*lab.Stack, o app.RunOptions,
	mayAsk bool) (*app.Workspace, *app.Run, error) {
	run, err := w.Plan(ctx, stacks, o)
	if err != nil {
		return w, nil, err
	}
	asked := run.Asked()
	if len(asked) == 0 || !mayAsk {
		return w, run, nil
	}
	run.Close()
	if !isTerminal(s.In) {
		return w, nil, notGiven(asked[0])
	}
	values, err := s.ask(ctx, asked)
	if err != nil {
		return w, nil, err
	}
	w = w.WithValues(values)
	if stacks, err = w.SameStacks(stacks); err != nil {
		return w, nil, err
	}
	run, err = w.Plan(ctx, stacks, o)
	return w, run, err
}

// notGiven says how a value is given where nobody is asked.
func notGiven(l *lab.Later) error {
	return usage("the value %s is not known: %s\n  pass --value-file %s=FILE, or set %s", l.Name, l.Ask,
		l.Name, lab.ValueVariable(l.Name))
}

// ask asks a person for values, and shows nothing of what is typed.
func (s *session) ask(ctx context.Context, asked []*lab.Later) (map[string]string, error) {
	values := map[string]string{}
	if len(asked) > 0 {
		shown, err := system.HideTyping(int(terminal(s.In).Fd()))
		if err != nil {
			return nil, usage("the terminal cannot be read: %s", err)
		}
		defer shown()
	}
	for _, l := range asked {
		if values[l.Name] != "" {
			continue // in two stacks
		}
		s.tell(render.Harmless(l.Ask) + "?  The value " + l.Name + " of [let]. It is not shown, and no file of the lab keeps it.")
		for values[l.Name] == "" {
			answer, err := s.typed(ctx)
			if err != nil {
				return nil, err
			}
			values[l.Name] = strings.TrimSpace(answer)
		}
	}
	return values, nil
}

// typed reads a line from the terminal without showing it.
func (s *session) typed(ctx context.Context) (string, error) {
	tty := int(terminal(s.In).Fd())
	before, err := term.GetState(tty)
	if err != nil {
		return "", usage("the terminal cannot be read: %s", err)
	}
	type line struct {
		text string
		err  error
	}
	read := make(chan line, 1)
	fmt.Fprint(s.Err, "> ")
	go func() {
		text, err := term.ReadPassword(tty)
		read <- line{string(text), err}
	}()
	interrupted := &exit{code: exitInterrupted, message: "interrupted; nothing was changed"}
	select {
	case l := <-read:
		fmt.Fprintln(s.Err)
		if l.err != nil {
			return "", interrupted
		}
		return l.text, nil
	case <-ctx.Done():
		term.Restore(tty, before)
		fmt.Fprintln(s.Err)
		return "", interrupted
	}
}
