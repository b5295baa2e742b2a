package lab

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

// Cluster is hosts whose engines work as one. Stacks are on it as on a host.
type Cluster struct {
	Name      string
	At        source.Span // of its name
	Members   []*Host
	MemberAt  []source.Span // where each of them is written
	Network   netip.Prefix  // where its networks get their addresses
	NetworkAt source.Span

	// Host is what its stacks have as theirs. It is no machine: it has no engine and no survey.
	Host *Host
}

// managers is how many hosts manage a cluster that has enough of them: one of three may be lost.
const managers = 3

// Managers returns the hosts that manage it: the first three, or the first one where there are fewer.
func (c *Cluster) Managers() []*Host {
	if len(c.Members) < managers {
		return c.Members[:min(1, len(c.Members))]
	}
	return c.Members[:managers]
}

// Member returns the host of the cluster that has a name, or nil.
func (c *Cluster) Member(name string) *Host {
	for _, h := range c.Members {
		if h.Name == name {
			return h
		}
	}
	return nil
}

// Cluster returns the cluster of that name, or nil.
func (l *Lab) Cluster(name string) *Cluster {
	for _, c := range l.Clusters {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// ClusterOf returns the cluster that a host is in, or nil.
func (l *Lab) ClusterOf(h *Host) *Cluster {
	for _, c := range l.Clusters {
		if slices.Contains(c.Members, h) {
			return c
		}
	}
	return nil
}

// Places returns all that stacks can be on: hosts, then clusters.
func (l *Lab) Places() []*Host {
	all := slices.Clone(l.Hosts)
	for _, c := range l.Clusters {
		all = append(all, c.Host)
	}
	return all
}

// Place returns the host or the cluster of that name, or nil.
func (l *Lab) Place(name string) *Host {
	if c := l.Cluster(name); c != nil {
		return c.Host
	}
	return l.Host(name)
}

// RunsOn returns the hosts that a service may run on: of a stack on a cluster several.
func (s *Service) RunsOn() []*Host {
	h := s.Stack.Host
	switch {
	case h == nil:
		return nil
	case h.Cluster == nil:
		return []*Host{h}
	case len(s.On) > 0:
		return s.On
	}
	return h.Cluster.Members
}

// smallestNetwork is how many addresses a cluster's networks need at least, as bits of a prefix.
const smallestNetwork = 6

// clusters works out the clusters of the lab.
func (r *resolver) clusters() {
	for _, d := range r.decl.Clusters {
		c := &Cluster{Name: d.Name, At: d.At}
		if r.lab.Host(d.Name) != nil {
			r.problem("name-invalid", d.At, "%s is a host already: the cluster needs another name", d.Name)
			continue
		}
		for _, t := range d.Hosts {
			v, ok := r.known(t, r.labScope)
			if !ok {
				continue
			}
			at := v.Part(0, len(v.Text))
			h := r.lab.Host(v.Text)
			switch {
			case h == nil:
				p := r.problem("host-unknown", at, "lab.toml has no host %s; it has %s", v.Text, strings.Join(r.hostNames(), ", "))
				p.Mend = declare.Meant(at, v.Text, r.hostNames(), "is one")
			case slices.Contains(c.Members, h):
				r.problem("value-grammar", at, "%s stands here twice", v.Text)
			case r.lab.ClusterOf(h) != nil:
				r.problem("value-grammar", at, "%s is in the cluster %s already: an engine is in one", v.Text, r.lab.ClusterOf(h).Name)
			default:
				c.Members, c.MemberAt = append(c.Members, h), append(c.MemberAt, at)
			}
		}
		if v, ok := r.known(d.Network, r.labScope); ok {
			c.NetworkAt = v.Part(0, len(v.Text))
			p, err := netip.ParsePrefix(v.Text)
			switch {
			case err != nil:
				r.problem("value-grammar", c.NetworkAt, "%q is no subnet, such as 198.51.100.64/26", v.Text)
			case p != p.Masked():
				r.problem("value-grammar", c.NetworkAt, "%s is an address in a subnet; the subnet is %s", v.Text, p.Masked()).Mend =
					source.Replace(c.NetworkAt, p.Masked().String(), p.Masked().String()+" is the subnet")
			case p.Addr().BitLen()-p.Bits() < smallestNetwork:
				r.problem("value-grammar", c.NetworkAt, "%s has room for %d addresses, and networks need at least 64", v.Text, 1<<(p.Addr().BitLen()-p.Bits()))
			default:
				c.Network = p
			}
		}
		c.Host = &Host{Name: c.Name, At: c.At, Address: "localhost", Cluster: c, decl: &declare.Host{Name: c.Name, At: c.At}}
		if len(c.Members) > 0 {
			c.Host.Address = c.Members[0].Address
		}
		c.Host.scope = r.scopeOfLab(c.Host)
		r.lab.Clusters = append(r.lab.Clusters, c)
	}
}

func (r *resolver) hostNames() (names []string) {
	for _, h := range r.lab.Hosts {
		names = append(names, h.Name)
	}
	return names
}

// on works out which hosts of its cluster a service may run on.
func (r *resolver) on(s *Service, d *declare.Settings, in *scope) {
	s.Each = d.Copies.Value == declare.Each
	c := (*Cluster)(nil)
	if s.Stack.Host != nil {
		c = s.Stack.Host.Cluster
	}
	if s.Each && c == nil && s.Stack.Host != nil {
		r.problem("value-grammar", whole(d.Copies), "each means one on each host of a cluster, and %s is no cluster", s.Stack.Host.Name)
	}
	for _, t := range d.On {
		v, ok := r.known(t, in)
		if !ok {
			continue
		}
		at := v.Part(0, len(v.Text))
		s.place("on", v.Text, at)
		switch {
		case s.Stack.Host == nil:
		case c == nil:
			r.problem("value-grammar", at, "on has a meaning on a cluster only; this stack is on %s", s.Stack.Host.Name)
		case c.Member(v.Text) == nil:
			names := make([]string, len(c.Members))
			for i, h := range c.Members {
				names[i] = h.Name
			}
			p := r.problem("host-unknown", at, "the cluster %s has no host %s; it has %s", c.Name, v.Text, strings.Join(names, ", "))
			p.Mend = declare.Meant(at, v.Text, names, "is one")
		default:
			s.On = append(s.On, c.Member(v.Text))
		}
	}
}

// String names the cluster for the person.
func (c *Cluster) String() string { return fmt.Sprintf("the cluster %s", c.Name) }
