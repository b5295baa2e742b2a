package plan

import (
	"fmt"
	"slices"

	"proudlantern.example/lantern/core/lab"
)

// Needed returns named services of a stack with all that they need before they start; nil for all services when
// none is named.
func Needed(stack *lab.Stack, names []string) []string {
	var all []string
	var add func(*lab.Service)
	add = func(s *lab.Service) {
		if s == nil || s.Stack != stack || slices.Contains(all, s.Name) {
			return
		}
		for _, c := range s.Copies() {
			all = append(all, c.Name)
		}
		add(s.NetworkOf)
		for _, a := range s.After {
			add(a.Service)
		}
	}
	for _, n := range names {
		add(stack.Service(n))
	}
	return all
}

// Only narrows a plan to named services and to what they need; without names it is the whole plan. Services
// that live in the network of one of them are replaced with it. An error says why the others cannot be left as
// they are.
func (p Stack) Only(names []string) (Stack, error) {
	if len(names) == 0 {
		return p, nil
	}
	for _, n := range p.Networks {
		if n.Action == Replace {
			return p, fmt.Errorf("the network %s changes, and with it all services on it: deploy all of %s",
				n.Name, p.Stack.Name)
		}
	}
	needed := Needed(p.Stack, names)
	goes := func(v Service) bool {
		with := v.Service != nil && v.Service.NetworkOf != nil && v.Running != nil && v.StopFirst
		return slices.Contains(needed, v.Name) ||
			with && slices.ContainsFunc(p.Services, func(o Service) bool {
				return o.Service == v.Service.NetworkOf && o.Action != Keep && slices.Contains(needed, o.Name)
			})
	}
	one := p
	one.Services, one.Builds = nil, slices.DeleteFunc(slices.Clone(p.Builds), func(b Build) bool {
		return !slices.Contains(needed, b.Service.Name) && !restsOn(p.Builds, b.Image, needed)
	})
	for _, v := range p.Services {
		if goes(v) {
			one.Services = append(one.Services, v)
			continue
		}
		for _, o := range p.Services {
			takes := goes(o) && (o.Action == Create || o.Action == Replace)
			if takes && v.Running != nil && v.Running.Up && o.Container.SharesHostPort(v.Running.Container) {
				return p, fmt.Errorf("%s takes a host port that %s holds until it is replaced, too: name both",
					o.Name, v.Name)
			}
		}
		if v.Running != nil && v.Service != nil {
			v.Action, v.Differences, v.StopFirst, v.Overlap, v.LeftOut = Keep, nil, false, false, true
			one.Services = append(one.Services, v)
		}
	}
	return one, nil
}

// restsOn reports whether the image of one of the named services, which is built anew, rests on an image, however far down.
func restsOn(builds []Build, image string, names []string) bool {
	return slices.ContainsFunc(builds, func(b Build) bool {
		return b.Image != image && slices.Contains(b.Service.Build.Bases(), image) &&
			(slices.Contains(names, b.Service.Name) || restsOn(builds, b.Image, names))
	})
}
