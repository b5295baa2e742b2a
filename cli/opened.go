package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/host"
	"proudlantern.example/lantern/registry"
)

// opened is a lab that was read, with the surveys of its hosts.
type opened struct {
	*lab.Lab
	dir     string
	decl    *declare.Lab
	surveys map[string]*survey.Survey
	errs    map[string]error // hosts whose engine does not answer
	logins  registry.Logins
}

// begin reads what every command about a lab needs: the lab, and whether results are wanted as JSON.
func (a *app) begin() (o *opened, asJSON bool, err error) {
	if asJSON, err = a.json(); err != nil {
		return nil, false, err
	}
	o, err = a.open()
	return o, asJSON, err
}

// open reads the lab without looking at any host.
func (a *app) open() (*opened, error) { return a.openInstead(nil) }

// openInstead reads the lab with some files as they are not now, by path.
func (a *app) openInstead(instead map[string]string) (*opened, error) {
	dir, err := findLab(a.lab)
	if err != nil {
		return nil, err
	}
	decl, err := readLab(dir, instead)
	if err != nil {
		return nil, err
	}
	o := &opened{dir: dir, decl: decl, surveys: map[string]*survey.Survey{}, errs: map[string]error{}}
	o.logins.NoHelpers = a.noHelpers
	o.resolve()
	a.hides.learn(o.Secrets()...)
	if a.host != "" && o.Host(a.host) == nil {
		return nil, usage("the lab has no host %s", a.host)
	}
	return o, nil
}

func (o *opened) resolve() {
	files := host.LabFiles(o.dir, sortedKeys(o.decl.EnvFiles))
	o.Lab = lab.Resolve(o.decl, lab.Input{Folder: o.dir, Shell: os.LookupEnv, Surveys: o.surveys, Files: files})
}

// look surveys the hosts that the stacks are on, all at once. An engine that does not answer is no error here: the survey then holds
// what is known without it.
func (o *opened) look(ctx context.Context, only string) {
	var mu sync.Mutex
	var wait sync.WaitGroup
	surveys := map[string]*survey.Survey{}
	for _, h := range o.Hosts {
		if only != "" && h.Name != only {
			continue
		}
		wait.Go(func() {
			s, err := host.Survey(ctx, h, &o.logins, func(first *survey.Survey) survey.Ask {
				mu.Lock() // resolving marks secrets in the files, which all hosts share
				defer mu.Unlock()
				return o.ask(first)
			})
			mu.Lock()
			defer mu.Unlock()
			surveys[h.Name] = s
			if err != nil {
				o.errs[h.Name] = err
			}
		})
	}
	wait.Wait()
	o.surveys = surveys
	o.resolve()
}

// ask works out what the lab wants to know of a host of which only accounts and zone are known so far.
func (o *opened) ask(first *survey.Survey) survey.Ask {
	l := lab.Resolve(o.decl, lab.Input{Folder: o.dir, Shell: os.LookupEnv, Surveys: map[string]*survey.Survey{first.Host: first}})
	return l.Ask(l.Host(first.Host))
}

// stacks returns the named stack, or all that are on the wanted host.
func (o *opened) stacks(name, onHost string) ([]*lab.Stack, error) {
	if name != "" {
		if st := o.Stack(name); st != nil {
			return []*lab.Stack{st}, nil
		}
		names := o.stackNames()
		if near := declare.Nearest(name, names); near != "" {
			return nil, usage("the lab has no stack %s; %s is one", name, near)
		}
		if len(names) == 0 {
			return nil, usage("the lab has no stack %s; it has none at all: a stack is a folder with a stack.toml", name)
		}
		return nil, usage("the lab has no stack %s; it has %s", name, strings.Join(names, ", "))
	}
	var all []*lab.Stack
	for _, st := range o.Stacks {
		if onHost == "" || st.Host != nil && st.Host.Name == onHost {
			all = append(all, st)
		}
	}
	return all, nil
}

func (o *opened) stackNames() []string {
	var names []string
	for _, st := range o.Stacks {
		names = append(names, st.Name)
	}
	slices.Sort(names)
	return names
}

// deployer connects to a host's engine.
func (a *app) deployer(ctx context.Context, o *opened, h *lab.Host, report func(deploy.Event)) (*deploy.Deployer, error) {
	e, err := engine.DialHost(ctx, h)
	if err != nil {
		return nil, unreachable(h.Name, err)
	}
	e.Logins = &o.logins
	return &deploy.Deployer{Engine: e, Lab: o.Name, Host: h.Name, Existing: o.existing(), From: deploy.Place(o.real()), Self: deploy.NewSelf(), Report: report, Hold: a.hold, Patience: engineReturns}, nil
}

// real returns the lab's folder without links on the way to it.
func (o *opened) real() string {
	if dir, err := filepath.EvalSymlinks(o.dir); err == nil {
		return dir
	}
	return o.dir
}

// existing returns the names of the volumes that any stack of the lab says somebody else makes.
func (o *opened) existing() []string {
	var names []string
	for _, st := range o.Stacks {
		for _, v := range st.Volumes {
			if v.Existing {
				names = append(names, v.EngineName)
			}
		}
	}
	return names
}

// engineReturns is how long an engine takes at most to start anew, containers and all.
const engineReturns = 90 * time.Second

// unreachable words an engine that does not answer.
func unreachable(hostName string, err error) error {
	var known *engine.Unreachable
	if !errors.As(err, &known) {
		return &exit{code: exitUnreachable, message: "the engine of " + hostName, because: err.Error(), err: err}
	}
	return &exit{code: exitUnreachable, message: hostName + ": no engine answers at " + known.Address, because: known.Because, do: known.Do, err: known.Err}
}
