package lab

import (
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

// copySuffix is what follows the name of a service in those of its second and further copies, and comes before their
// numbers. No service has a dot in its name.
const copySuffix = ".copy-"

// ServiceOf returns the service that a container is of, by the name that the container's own label has for it.
func ServiceOf(name string) string {
	service, number, is := strings.Cut(name, copySuffix)
	if _, err := strconv.Atoi(number); !is || err != nil {
		return name
	}
	return service
}

// IsOf reports whether a container belongs to what somebody has named: a service, or one copy of it.
func IsOf(named, name string) bool { return named == name || named == ServiceOf(name) }

// Copies returns the service with its further copies, each as a service of its own: the first one is the service itself.
func (s *Service) Copies() []*Service {
	if s.CopyOf != nil {
		return []*Service{s}
	}
	return append([]*Service{s}, s.copies...)
}

// first returns the service itself, also of a copy.
func (s *Service) first() *Service {
	if s.CopyOf != nil {
		return s.CopyOf
	}
	return s
}

// OneCopy leaves nothing but the service itself of its copies.
func (s *Service) OneCopy() { s.copies = nil }

// NetworkName returns the name that it answers to on its networks: all copies have the same.
func (s *Service) NetworkName() string { return s.first().Name }

// HasCopies reports whether there is more than one of the service, also for one of its copies.
func (s *Service) HasCopies() bool { return len(s.first().copies) > 0 }

// Containers returns the services of the stack with all their copies, each of which becomes a container.
func (s *Stack) Containers() []*Service {
	all := make([]*Service, 0, len(s.Services))
	for _, v := range s.Services {
		all = append(append(all, v), v.copies...)
	}
	return all
}

// howMany returns how many copies of a service are declared, and reports what is no such number.
func (r *resolver) howMany(s *Service) int {
	t := settingsOf(s.decl).Copies
	if !t.IsSet() {
		return 1
	}
	n, err := strconv.Atoi(strings.ReplaceAll(t.Value, "_", ""))
	if err != nil || n < 1 || n > declare.MostCopies {
		r.once("value-grammar", t.Span, "copies is a whole number from 1 to %d", declare.MostCopies)
		return 1
	}
	return n
}

// withoutCopies are keys that a service with copies cannot have.
func (r *resolver) withoutCopies(s *Service) (ok bool) {
	d := settingsOf(s.decl)
	refuse := func(at source.Span, why string) {
		r.problem("value-grammar", at, "%s", why)
		ok = false
	}
	ok = true
	if d.SharesNetworkWith.IsSet() {
		refuse(whole(d.SharesNetworkWith), "copies of "+s.Name+" would all open the same ports in one network: let it have its own")
	}
	if d.Network.Value == "host" {
		refuse(whole(d.Network), "copies of "+s.Name+" would all open the same ports of the host: let it have networks of its own")
	}
	if d.TakesOver.IsSet() {
		refuse(whole(d.TakesOver), "several copies cannot take the place of one container: deploy one first, and raise copies afterwards")
	}
	for _, o := range s.Stack.Services {
		if rare := settingsOf(o.decl); rare.SharesNetworkWith.Value == s.Name {
			refuse(whole(rare.SharesNetworkWith), s.Name+" has several copies: which one's network is meant cannot be said")
		}
	}
	return ok
}

// copy makes the further copies of a service that is worked out.
func (r *resolver) copy(s *Service) {
	n := r.howMany(s)
	if n == 1 || !r.withoutCopies(s) {
		return
	}
	for number := 2; number <= n; number++ {
		c := *s
		c.CopyOf, c.copies, c.Name = s, nil, s.Name+copySuffix+strconv.Itoa(number)
		if !settingsOf(s.decl).Hostname.IsSet() {
			c.Hostname = s.Hostname + "-" + strconv.Itoa(number)
		}
		c.Ports = slices.Clone(s.Ports)
		for i, p := range c.Ports {
			if p.Host.Count() > p.Container.Count() {
				c.Ports[i].Host = declare.Range{First: p.Host.First + number - 1, Last: p.Host.First + number - 1}
			}
		}
		s.copies = append(s.copies, &c)
	}
}

// portsFit checks that a port of a service without copies is one on both sides.
func (r *resolver) portsFit(s *Service, p Port) bool {
	if p.Host.Count() <= p.Container.Count() || r.howMany(s) > 1 {
		return true
	}
	r.problem("value-grammar", p.ContainerAt, "%s on the left, %d on the right", declare.Counted(p.Host.Count(), "port"), p.Container.Count())
	return false
}

// whole is where a text stands, without its quotes.
func whole(t declare.Text) source.Span { return t.Part(0, len(t.Value)) }
