package wiring

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"sync"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/parallel"
)

// Graph is who talks to whom.
type Graph struct {
	Callers []Caller

	full map[string]*lab.Service // by SERVICE.STACK, and STACK.SERVICE as its container is called
}

// Caller is a service that names machines.
type Caller struct {
	Wires      []Wire
	Resolvable *Resolvable // what its names can mean
}

// Resolvable is the names that resolve on a network, or on several together, and whose they are.
type Resolvable struct {
	ByName map[string]*lab.Service
	Sorted func() []string // the names
}

// Of returns what a name stands for; nil when it is nothing of the lab. Letter case does not count.
func (r *Resolvable) Of(host string) *lab.Service { return r.ByName[strings.ToLower(host)] }

func newResolvable() *Resolvable {
	r := &Resolvable{ByName: map[string]*lab.Service{}}
	r.Sorted = sync.OnceValue(func() []string { return slices.Sorted(maps.Keys(r.ByName)) })
	return r
}

// add adds names, of which each belongs to the one that came first.
func (r *Resolvable) add(names []string, s *lab.Service) {
	for _, name := range names {
		if r.ByName[name] == nil {
			r.ByName[name] = s
		}
	}
}

// onNetwork is a network of a host.
type onNetwork struct {
	host *lab.Host
	name string
}

// Build works out who talks to whom.
func Build(services []*lab.Service) *Graph {
	g := &Graph{full: make(map[string]*lab.Service, 2*len(services))}
	on := make(map[*lab.Service][]Attachment, len(services))
	networks := map[onNetwork]*Resolvable{}
	for _, s := range services {
		g.full[s.ContainerName()], g.full[s.Name+"."+s.Stack.Name] = s, s
		on[s] = Attachments(s)
		for _, n := range on[s] {
			k := onNetwork{s.Stack.Host, n.Network}
			if networks[k] == nil {
				networks[k] = newResolvable()
			}
			networks[k].add(n.Aliases, s)
		}
	}
	callers := make([]Caller, len(services))
	parallel.Each(len(services), func() func(int) { return func(i int) { callers[i].Wires = Of(services[i]) } })
	for i, s := range services {
		if len(callers[i].Wires) == 0 {
			continue
		}
		if s.NetworkOf != nil {
			s = s.NetworkOf
		}
		if n := on[s]; len(n) == 1 {
			callers[i].Resolvable = networks[onNetwork{s.Stack.Host, n[0].Network}]
		} else {
			callers[i].Resolvable = newResolvable()
			for _, one := range n {
				for name, o := range networks[onNetwork{s.Stack.Host, one.Network}].ByName {
					callers[i].Resolvable.add([]string{name}, o)
				}
			}
		}
		g.Callers = append(g.Callers, callers[i])
	}
	return g
}

// Full returns the service that a full name stands for, SERVICE.STACK or STACK.SERVICE, wherever it is; nil
// for none.
func (g *Graph) Full(name string) *lab.Service { return g.full[name] }

// Each calls f for each wire with the names that its service can resolve.
func (g *Graph) Each(f func(w Wire, names *Resolvable)) {
	for _, c := range g.Callers {
		for _, w := range c.Wires {
			f(w, c.Resolvable)
		}
	}
}

// Connection is a variable of a service that says where it reaches another service of the lab.
type Connection struct {
	From, To *lab.Service
	Variable string
	Port     int // inside To
}

// Connections returns the wires between the services of a lab whose port is known, each once, in the order of
// the lab.
func Connections(l *lab.Lab) []Connection {
	var services []*lab.Service
	for _, st := range l.Stacks {
		if st.Host != nil {
			services = append(services, st.Services...)
		}
	}
	var all []Connection
	Build(services).Each(func(w Wire, names *Resolvable) {
		to := names.Of(w.Host)
		found := Connection{w.From, to, w.Variable.Name, w.Port}
		if to != nil && to != w.From && w.Port > 0 && !slices.Contains(all, found) {
			all = append(all, found)
		}
	})
	slices.SortStableFunc(all, func(a, b Connection) int {
		return cmp.Compare(a.From.FullName(), b.From.FullName())
	})
	return all
}
