// Package app holds the use cases: what the program does with a lab, without options, printing and exit
// codes. Each returns values, or an [*Error] that says what kind of trouble it is.
package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/labdir"
	"proudlantern.example/lantern/registry"
)

// Caller is who uses the lab: told what must be kept out of messages, and what went wrong without stopping
// anything. A nil function is not called.
type Caller struct {
	Learn     func(secrets ...string)       // secrets of what was read
	Hide      func(text string) string      // takes secrets out of a text
	Warn      func(format string, a ...any) // something went wrong that stops nothing
	Hold      func(held bool)               // a stack is being changed from now on, or no longer
	NoHelpers bool                          // no credential helper is run
	Version   string                        // of the program
	Values    map[string]string             // given for values that are asked for, by their names
}

// Workspace is a lab as its files said when they were read, with the surveys of its hosts. It does not
// change: [Workspace.Survey] and [Workspace.Overlay] return others.
type Workspace struct {
	*lab.Lab
	Dir       string
	Surveys   map[string]*survey.Survey   // by host
	Unreached map[string]error            // hosts whose engine does not answer
	Missing   []Missing                   // of these, those whose stacks a command leaves out
	ahead     map[string]*deploy.Deployer // that have looked at a host while it was surveyed, see [Workspace.SurveyForStatus]

	caller Caller
	decl   *declare.Lab
	logins *registry.Logins
}

// Open reads the lab in a folder, without a look at any host.
func Open(dir string, caller Caller) (*Workspace, error) {
	w := &Workspace{Dir: dir, caller: caller, logins: &registry.Logins{NoHelpers: caller.NoHelpers}}
	return w.Overlay(nil)
}

// Overlay reads the files again, with the texts of some of them, by path, in place of what they say. The
// surveys stay.
func (w *Workspace) Overlay(texts map[string]string) (*Workspace, error) {
	decl, err := labdir.Open(w.Dir, texts)
	if err != nil {
		return nil, &Error{Kind: Usage, Message: err.Error()}
	}
	other := *w
	other.decl = decl
	return other.resolved(), nil
}

// resolved works out what the files declare, with the surveys that there are.
func (w Workspace) resolved() *Workspace {
	files := labdir.Facts(w.Dir, slices.Sorted(maps.Keys(w.decl.EnvFiles)))
	w.Lab = lab.Resolve(w.decl, lab.Input{Folder: w.Dir, Shell: os.LookupEnv, Surveys: w.Surveys, Files: files,
		Values: w.caller.Values, GateImages: gateImages(w.decl, w.Surveys)})
	if w.caller.Learn != nil {
		w.caller.Learn(w.Secrets()...)
	}
	return &w
}

// WithValues returns the lab with values that were given for those that are asked for, by their names.
func (w *Workspace) WithValues(values map[string]string) *Workspace {
	other := *w
	other.caller.Values = maps.Clone(w.caller.Values)
	if other.caller.Values == nil {
		other.caller.Values = map[string]string{}
	}
	maps.Copy(other.caller.Values, values)
	return other.resolved()
}

// SameStacks returns the stacks of this lab that have the names of others, in their order.
func (w *Workspace) SameStacks(others []*lab.Stack) ([]*lab.Stack, error) {
	var own []*lab.Stack
	for _, o := range others {
		st := w.Stack(o.Name)
		if st == nil {
			return nil, usage("the lab has no stack %s any more", o.Name)
		}
		own = append(own, st)
	}
	return own, nil
}

// HostsOf returns the named host, or all.
func (w *Workspace) HostsOf(name string) []*lab.Host {
	return slices.DeleteFunc(slices.Clone(w.Hosts), func(h *lab.Host) bool { return name != "" && h.Name != name })
}

// engineReturns is how long an engine takes at most to start again, containers and all.
const engineReturns = 90 * time.Second

// deployer connects to a host's engine.
func (w *Workspace) deployer(ctx context.Context, h *lab.Host,
	report func(deploy.Event)) (*deploy.Deployer, error) {
	e, err := engine.DialHost(ctx, h)
	if err != nil {
		return nil, unreachable(h.Name, err)
	}
	e.Logins = w.logins
	if report == nil {
		report = func(deploy.Event) {}
	}
	d := &deploy.Deployer{
		Observer: observe.Observer{Engine: e, Lab: w.Name, Host: h.Name, Learn: w.caller.Learn, Inside: observe.NewInside(w.beside)}, Existing: w.existing(),
		From: deploy.Place(w.real()), Self: deploy.NewSelf(), Report: report,
		Hold: w.caller.Hold, ReconnectTimeout: min(engineReturns, e.CallTimeout), // who is less patient does not wait for it either
	}
	w.withGate(d, h)
	return d, nil
}

// real returns the lab's folder without links on the way to it.
func (w *Workspace) real() string {
	if dir, err := filepath.EvalSymlinks(w.Dir); err == nil {
		return dir
	}
	return w.Dir
}

// existing returns the names of the volumes that any stack of the lab says somebody else makes.
func (w *Workspace) existing() []string {
	var names []string
	for _, st := range w.Stacks {
		for _, v := range st.Volumes {
			if v.Existing {
				names = append(names, v.EngineName)
			}
		}
	}
	return names
}

// Book returns the lab's logbook.
func (w *Workspace) Book() history.Book { return history.Of(w.Dir) }

func (w *Workspace) warn(format string, args ...any) {
	if w.caller.Warn != nil {
		w.caller.Warn(format, args...)
	}
}

// Kind is what sort of trouble an [Error] is.
type Kind int

// Kinds of errors.
const (
	Usage       Kind = iota // something was asked for that there is not
	Unreachable             // a host or its engine does not answer
	Stopped                 // nothing was changed, and findings or somebody else are the reason
	PutBack                 // nothing was changed: what ran before runs
	Manual                  // something is half done, and a person has to do the rest
	Interrupted             // somebody has interrupted, and nothing was changed
)

// Error is trouble in the words of the person.
type Error struct {
	Kind    Kind
	Message string
	Because string // why, where that is known apart
	Do      string // what helps; may be empty
	Err     error  // the system's own words
}

func (e *Error) Error() string {
	text := e.Message
	if e.Because != "" {
		text += ": " + e.Because
	}
	return text
}

func (e *Error) Unwrap() error { return e.Err }

func usage(format string, args ...any) error {
	return &Error{Kind: Usage, Message: fmt.Sprintf(format, args...)}
}

// unreachable words an engine that does not answer.
func unreachable(hostName string, err error) error {
	var known *engine.Unreachable
	if !errors.As(err, &known) {
		return &Error{Kind: Unreachable, Message: "the engine of " + hostName, Because: err.Error(), Err: err}
	}
	return &Error{
		Kind:    Unreachable,
		Message: hostName + ": no engine answers at " + known.Address,
		Because: known.Because,
		Do:      known.Do,
		Err:     known.Err,
	}
}
