package check

import (
	"slices"
	"sync"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/wiring"
)

// shared is what several rules ask for, worked out once for all of them. Rules run at the same time: nothing
// of it changes.
type shared struct {
	services []*lab.Service       // that have a host
	gates    bool                 // the lab has some
	surveyed []*lab.Service       // those whose hosts have a survey
	unseen   []*lab.Host          // hosts of services that have none
	graph    func() *wiring.Graph // who talks to whom
	paths    func() []pathUsed    // which paths of hosts are mounted
}

// pathUsed is a mount of a path of the host.
type pathUsed struct {
	by    *lab.Service
	mount *lab.Mount
	facts *survey.Path // nil: its survey does not have it
}

func share(l *lab.Lab) *shared {
	s := &shared{}
	for _, st := range l.Stacks {
		s.gates = s.gates || st.Gate != nil
		switch {
		case st.Host == nil:
			continue
		case st.Host.Survey != nil:
			s.surveyed = append(s.surveyed, st.Services...)
		case len(st.Services) > 0 && !slices.Contains(s.unseen, st.Host):
			s.unseen = append(s.unseen, st.Host)
		}
		s.services = append(s.services, st.Services...)
	}
	for _, h := range l.Hosts {
		if h.Survey != nil {
			h.Survey.Index()
		}
	}
	s.graph = sync.OnceValue(func() *wiring.Graph { return wiring.Build(s.services) })
	s.paths = sync.OnceValue(func() []pathUsed { return pathsUsed(s.surveyed) })
	return s
}

func pathsUsed(services []*lab.Service) []pathUsed {
	var all []pathUsed
	for _, s := range services {
		for i := range s.Mounts {
			if m := &s.Mounts[i]; m.Kind == declare.MountPath {
				u := pathUsed{by: s, mount: m}
				if p, ok := s.Stack.Host.Survey.Path(m.Source); ok {
					u.facts = &p
				}
				all = append(all, u)
			}
		}
	}
	return all
}

// eachPath calls f for each mount of a path of a host of which something is known.
func eachPath(in *Input, f func(*lab.Service, lab.Mount, survey.Path)) {
	in.surveyed()
	for _, u := range in.shared.paths() {
		switch {
		case u.facts == nil:
			in.skip(u.mount.Source, "the survey of "+u.by.Stack.Host.Name+" does not have this path")
		case u.facts.Kind == survey.Hidden:
			in.skip(u.mount.Source,
				"the survey of "+u.by.Stack.Host.Name+" was made without the right to look there")
		default:
			f(u.by, *u.mount, *u.facts)
		}
	}
}
