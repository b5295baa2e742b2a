// Package chart makes a picture of a lab: what there is, and where on a page it stands.
package chart

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/wiring"
)

// Map is a lab as its map tells of it.
type Map struct {
	Lab      string       `json:"lab"`
	Hosts    []MappedHost `json:"hosts"`
	Findings []Mark       `json:"findings"` // of the lab as a whole
}

// MappedHost is a host with the stacks that are on it.
type MappedHost struct {
	Name     string        `json:"host"` // "": of the stacks that have none
	Address  string        `json:"address,omitempty"`
	Stacks   []MappedStack `json:"stacks"`
	Findings []Mark        `json:"findings"` // of the host as a whole
}

// MappedStack is a stack with its services.
type MappedStack struct {
	Name     string          `json:"stack"`
	Networks []string        `json:"networks"` // that its services are on, by their names in the engine
	Services []MappedService `json:"services"`
	Findings []Mark          `json:"findings"` // of the stack as a whole
}

// MappedService is a service with what leads to it and away from it.
type MappedService struct {
	Name     string   `json:"service"`
	Image    string   `json:"image"`
	Copies   int      `json:"copies,omitempty"` // where there are several
	Ports    []string `json:"ports"`            // published ones, as HOST → CONTAINER, and sites, as DOMAIN[/PATH] → CONTAINER
	Folders  []string `json:"folders"`          // and volumes, as SOURCE → TARGET
	Networks []string `json:"networks"`         // shared ones, or whose network it is in
	Needs    []Need   `json:"needs"`
	Findings []Mark   `json:"findings"`
}

// Need is a service that another one reaches by a value of its own.
type Need struct {
	Stack   string `json:"stack"`
	Service string `json:"service"`
	Port    int    `json:"port"`
	By      string `json:"by"` // the variable
}

// Name returns STACK/SERVICE.
func (n Need) Name() string { return n.Stack + "/" + n.Service }

// Mark is a finding of the check where it lies; several of a rule are one.
type Mark struct {
	Rule     string         `json:"rule"`
	Severity check.Severity `json:"severity"`
	Message  string         `json:"message"` // of the first one
	Count    int            `json:"count"`
}

func (m Mark) String() string {
	if m.Count > 1 {
		return fmt.Sprintf("%s (%d)", m.Rule, m.Count)
	}
	return m.Rule
}

// Of makes the map of those hosts and stacks of a lab that are wanted.
func Of(l *lab.Lab, result check.Result, hostWanted func(string) bool, stackWanted func(string) bool) Map {
	m := Map{Lab: l.Name, Hosts: []MappedHost{}}
	needs := needsOf(l)
	for _, h := range l.Hosts {
		if hostWanted(h.Name) {
			m.Hosts = append(m.Hosts, MappedHost{Name: h.Name, Address: h.Address, Stacks: []MappedStack{}, Findings: []Mark{}})
		}
	}
	for _, st := range l.Stacks {
		host := ""
		if st.Host != nil {
			host = st.Host.Name
		}
		if !stackWanted(st.Name) || !hostWanted(host) {
			continue
		}
		i := slices.IndexFunc(m.Hosts, func(h MappedHost) bool { return h.Name == host })
		if i < 0 {
			i = len(m.Hosts)
			m.Hosts = append(m.Hosts, MappedHost{Findings: []Mark{}})
		}
		m.Hosts[i].Stacks = append(m.Hosts[i].Stacks, stackOf(st, needs))
	}
	for _, f := range result.Findings {
		if f.Accepted == "" {
			m.mark(f)
		}
	}
	m.Findings = append([]Mark{}, m.Findings...)
	return m
}

// needsOf returns who needs whom, by the full names of services: over networks, and by the addresses of hosts over
// published ports.
func needsOf(l *lab.Lab) map[string][]Need {
	needs := map[string][]Need{}
	add := func(from, to *lab.Service, port int, by string) {
		n := Need{to.Stack.Name, to.Name, port, by}
		if name := from.FullName(); from != to && !slices.ContainsFunc(needs[name], func(o Need) bool {
			return o.Name() == n.Name() && o.Port == n.Port
		}) {
			needs[name] = append(needs[name], n)
		}
	}
	var services []*lab.Service
	for _, st := range l.Stacks {
		services = append(services, st.Services...)
	}
	for _, c := range wiring.Connections(l) {
		add(c.From, c.To, c.Port, c.Variable)
	}
	for _, from := range services {
		for _, w := range wiring.Of(from) {
			for _, to := range services {
				if there := to.Stack.Host; there != nil && there.Address == w.Host && w.Host != "localhost" &&
					publishes(to, w.Port) {
					add(from, to, w.Port, w.Variable.Name)
				}
			}
		}
	}
	return needs
}

func publishes(s *lab.Service, port int) bool {
	return slices.ContainsFunc(s.Ports, func(p lab.Port) bool { return p.Host.First <= port && port <= p.Host.Last })
}

func stackOf(st *lab.Stack, needs map[string][]Need) MappedStack {
	one := MappedStack{Name: st.Name, Networks: []string{}, Services: []MappedService{}, Findings: []Mark{}}
	for _, n := range wiring.NetworksOf(st) {
		one.Networks = append(one.Networks, n.Name)
	}
	for _, s := range st.Services {
		v := MappedService{
			Name: s.Name, Image: s.Image.Text, Ports: []string{}, Folders: []string{}, Networks: []string{},
			Needs: append([]Need{}, needs[s.FullName()]...), Findings: []Mark{},
		}
		if s.HasCopies() {
			v.Copies = len(s.Copies())
		}
		for _, p := range s.Ports {
			v.Ports = append(v.Ports, portOf(p.Port))
		}
		for _, site := range s.Sites { // the other way in
			v.Ports = append(v.Ports, fmt.Sprintf("%s → %d", site.Name(), site.Port))
		}
		for _, f := range s.Mounts {
			v.Folders = append(v.Folders, folderOf(f))
		}
		for _, n := range s.Networks {
			v.Networks = append(v.Networks, n.Name)
		}
		switch {
		case s.NetworkOf != nil:
			v.Networks = append(v.Networks, "that of "+s.NetworkOf.Name)
		case s.NetworkMode != "":
			v.Networks = append(v.Networks, s.NetworkMode)
		}
		one.Services = append(one.Services, v)
	}
	return one
}

// portOf writes a published port as it leads inside.
func portOf(p declare.Port) string {
	text := "any"
	if p.Host != (declare.Range{}) {
		text = p.Host.String()
	}
	if p.Localhost {
		text = "localhost:" + text
	} else if len(p.Addresses) > 0 {
		text = p.Addresses[0].String() + ":" + text
	}
	text += " → " + p.Container.String()
	if protocol := strings.Join(p.Protocols, "+"); protocol != "tcp" && protocol != "" {
		text += "/" + protocol
	}
	return text
}

// folderOf writes a mount as it leads inside.
func folderOf(m lab.Mount) string {
	source := m.Source
	if m.Volume != nil {
		source = "volume " + m.Volume.Name
	} else if source == "" {
		source = "memory"
	}
	text := source + " → " + m.Target
	if m.ReadOnly {
		text += ", read-only"
	}
	return text
}

// mark puts a finding where it lies: at its service, else at its stack, its host, the lab.
func (m *Map) mark(f check.Finding) {
	at := &m.Findings
	for i := range m.Hosts {
		h := &m.Hosts[i]
		if f.Stack == "" && f.Host == h.Name {
			at = &h.Findings
		}
		for j := range h.Stacks {
			st := &h.Stacks[j]
			if st.Name != f.Stack {
				continue
			}
			at = &st.Findings
			for k := range st.Services {
				if st.Services[k].Name == f.Service {
					at = &st.Services[k].Findings
				}
			}
		}
	}
	if at == &m.Findings && (f.Stack != "" || f.Host != "") {
		return // of what is not on this map
	}
	for i := range *at {
		if (*at)[i].Rule == f.Rule {
			(*at)[i].Count++
			return
		}
	}
	*at = append(*at, Mark{f.Rule, f.Severity, f.Message, 1})
	slices.SortStableFunc(*at, func(a, b Mark) int { return cmp.Compare(severity(b), severity(a)) })
}

func severity(m Mark) int {
	return map[check.Severity]int{check.Error: 2, check.Warning: 1}[m.Severity]
}

// Sum says in words what there is.
func (m Map) Sum() string {
	stacks, services := 0, 0
	for _, h := range m.Hosts {
		stacks += len(h.Stacks)
		for _, st := range h.Stacks {
			services += len(st.Services)
		}
	}
	return declare.Counted(len(m.Hosts), "host") + ", " + declare.Counted(stacks, "stack") + ", " +
		declare.Counted(services, "service")
}
