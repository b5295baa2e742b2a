package app

import (
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// Target is what a person names: a stack, or one of its services.
type Target struct {
	Stack   string
	Service string // "": all of them
}

func (t Target) String() string { return strings.TrimSuffix(t.Stack+"/"+t.Service, "/") }

// Targets are what a person names; none stand for everything.
type Targets []Target

// ParseTargets reads STACK or STACK/SERVICE, each once.
func ParseTargets(words []string) (Targets, error) {
	var all Targets
	for _, w := range words {
		stack, service, cut := strings.Cut(w, "/")
		if stack == "" || cut && service == "" || strings.Contains(service, "/") {
			return nil, usage("%q names no stack and no service: write STACK or STACK/SERVICE", w)
		}
		if t := (Target{stack, service}); !slices.Contains(all, t) {
			all = append(all, t)
		}
	}
	return all, nil
}

// Has reports whether a service is named, by itself or with its stack.
func (t Targets) Has(stack, service string) bool {
	return len(t) == 0 || slices.ContainsFunc(t, func(one Target) bool {
		return one.Stack == stack && (one.Service == "" || lab.IsOf(one.Service, service))
	})
}

// HasStack reports whether a stack, or any of its services, is named.
func (t Targets) HasStack(stack string) bool {
	return len(t) == 0 || slices.ContainsFunc(t, func(one Target) bool { return one.Stack == stack })
}

// stacks returns the names of the stacks, each once.
func (t Targets) stacks() []string {
	var names []string
	for _, one := range t {
		names = append(names, one.Stack)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// Services returns the services of a stack that are named by themselves; nil when all of it is.
func (t Targets) Services(stack string) []string {
	var names []string
	for _, one := range t {
		switch {
		case one.Stack != stack:
		case one.Service == "":
			return nil
		default:
			names = append(names, one.Service)
		}
	}
	return names
}

// StacksOf returns the stacks that are named, or all that are on a host, or all. What the files do not have, or
// have on another host, is an error.
func (w *Workspace) StacksOf(named Targets, onHost string) ([]*lab.Stack, error) {
	for _, t := range named {
		st := w.Stack(t.Stack)
		switch {
		case st == nil:
			return nil, w.noStack(t.Stack)
		case st.Host != nil && onHost != "" && st.Host.Name != onHost:
			return nil, usage("%s is on %s, not on %s", t.Stack, st.Host.Name, onHost)
		case t.Service != "" && st.Service(t.Service) == nil:
			return nil, w.noService(st, t.Service)
		}
	}
	var all []*lab.Stack
	for _, st := range w.Stacks {
		if named.HasStack(st.Name) && (len(named) > 0 || onHost == "" || st.Host != nil && st.Host.Name == onHost) {
			all = append(all, st)
		}
	}
	return all, nil
}

func (w *Workspace) noStack(name string) error {
	var names []string
	for _, st := range w.Stacks {
		names = append(names, st.Name)
	}
	slices.Sort(names)
	instead := "; it has " + strings.Join(names, ", ")
	if len(names) == 0 {
		instead = "; it has none at all: a stack is a folder with a stack.toml"
	}
	return usage("%s", declare.Unknown("the lab has no stack "+name, name, names, instead))
}

func (w *Workspace) noService(st *lab.Stack, name string) error {
	var names []string
	for _, v := range st.Services {
		names = append(names, v.Name)
	}
	return usage("%s", declare.Unknown(st.Name+" has no service "+name, name, names,
		"; it has "+strings.Join(names, ", ")))
}
