package lab

import (
	"cmp"
	"net/netip"
	"slices"
	"strconv"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/survey"
)

// Kinds of a [PortUse].
const (
	PortDeclared = "declared" // by this lab
	PortRunning  = "running"  // held by this lab's container, and declared no more
	PortProcess  = "process"  // a process of the host listens there
	PortForeign  = "foreign"  // a container that is not of this lab
	PortReserved = "reserved" // kept from services
)

// PortUse is a port of a host that somebody has.
type PortUse struct {
	Host          string `json:"host"`
	Protocol      string `json:"protocol"`
	Address       string `json:"address,omitempty"` // none: all
	Port          int    `json:"port"`
	ContainerPort int    `json:"container-port,omitempty"`
	Owner         string `json:"owner"` // STACK/SERVICE, a process or a container
	Kind          string `json:"kind"`
}

// Ports returns who has which port of a host, by number. What a declared service holds itself is not said
// twice.
func (l *Lab) Ports(h *Host) []PortUse {
	all := l.declaredPorts(h)
	ours := map[portKey]bool{}
	for _, u := range all {
		ours[portKey{u.Protocol, u.Port}] = true
	}
	all = append(all, reservedPorts(h)...)
	if h.Survey != nil {
		all = append(all, l.heldPorts(h, ours)...)
	}
	slices.SortStableFunc(all, func(a, b PortUse) int {
		return cmp.Or(cmp.Compare(a.Port, b.Port), cmp.Compare(a.Protocol, b.Protocol),
			cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Owner, b.Owner))
	})
	return slices.Compact(all)
}

// portKey is a port of a host, whatever its address.
type portKey struct {
	protocol string
	port     int
}

// declaredPorts returns the ports that services of the lab publish or open on a host.
func (l *Lab) declaredPorts(h *Host) []PortUse {
	var all []PortUse
	for _, st := range l.Stacks {
		if st.Host != h {
			continue
		}
		for _, s := range st.Services {
			for i, p := range slices.Concat(s.Ports, s.Listens) {
				published := i < len(s.Ports)
				for _, proto := range p.Protocols {
					for n := p.Host.First; n > 0 && n <= p.Host.Last; n++ {
						u := PortUse{
							Host:     h.Name,
							Protocol: proto,
							Port:     n,
							Owner:    s.FullName(),
							Kind:     PortDeclared,
						}
						if published {
							if p.Host.Count() > p.Container.Count() && n-p.Host.First < len(s.Copies()) {
								u.Owner = s.Copies()[n-p.Host.First].FullName()
							}
							u.ContainerPort = min(p.Container.First+n-p.Host.First, p.Container.Last)
						}
						if len(p.Addresses) > 0 {
							u.Address = p.Addresses[0].String()
						}
						if p.Localhost {
							u.Address = "localhost"
						}
						all = append(all, u)
					}
				}
			}
		}
	}
	return all
}

// reservedPorts returns the ports that lab.toml keeps free on a host.
func reservedPorts(h *Host) []PortUse {
	var all []PortUse
	for _, r := range h.Reserved {
		proto := cmp.Or(r.Protocol, "any")
		owner := "lab.toml"
		if r.For != "" {
			owner = "lab.toml, for " + r.For
		}
		for n := r.Ports.First; n <= r.Ports.Last; n++ {
			all = append(all, PortUse{Host: h.Name, Protocol: proto, Port: n, Owner: owner, Kind: PortReserved})
		}
	}
	return all
}

// heldPorts returns the ports that containers and processes of a host hold, those of the lab's own services
// aside.
func (l *Lab) heldPorts(h *Host, ours map[portKey]bool) []PortUse {
	var all []PortUse
	for _, c := range h.Survey.Containers {
		for _, p := range c.Published() {
			switch {
			case c.Lab != l.Name:
				all = append(all,
					PortUse{h.Name, p.Protocol, p.Address, p.Port, p.Container, "container " + c.Name, PortForeign})
			case !ours[portKey{p.Protocol, p.Port}]:
				all = append(all,
					PortUse{h.Name, p.Protocol, p.Address, p.Port, p.Container, c.Stack + "/" + c.Service,
						PortRunning})
			}
		}
	}
	for _, s := range h.Survey.Listeners {
		if s.Container != "" || ours[portKey{s.Protocol, s.Port}] && s.Process == "" {
			continue
		}
		owner := "a process that only root may see"
		if s.Process != "" {
			owner = s.Process + " (pid " + strconv.Itoa(s.PID) + ")"
		}
		all = append(all, PortUse{
			Host:     h.Name,
			Protocol: s.Protocol,
			Address:  everywhere(s.Address),
			Port:     s.Port,
			Owner:    owner,
			Kind:     PortProcess,
		})
	}
	return all
}

// everywhere returns "" for an address that stands for all.
func everywhere(address string) string {
	if a, err := netip.ParseAddr(address); err == nil && a.IsUnspecified() {
		return ""
	}
	return address
}

// FreePorts returns up to n free ports of a range on a host, whatever the protocol.
func (l *Lab) FreePorts(h *Host, in declare.Range, n int) []int {
	taken := map[int]bool{}
	for _, u := range l.Ports(h) {
		taken[u.Port] = true
	}
	var free []int
	for port := in.First; port <= in.Last && len(free) < n; port++ {
		if !taken[port] {
			free = append(free, port)
		}
	}
	return free
}

// MountUse is a mount of a service, with what is true of its source.
type MountUse struct {
	Host     string `json:"host"`
	Source   string `json:"source"`
	Stack    string `json:"stack"`
	Service  string `json:"service"`
	Target   string `json:"target"`
	ReadOnly bool   `json:"read-only"`
	As       string `json:"as,omitempty"`    // whose rights the service has there
	Owner    string `json:"owner,omitempty"` // of the source on the host
	Mode     string `json:"mode,omitempty"`
	Kind     string `json:"kind,omitempty"` // as in a survey; volume, memory, engine
}

// Mounts returns which service uses which folder, by source.
func (l *Lab) Mounts() []MountUse {
	var all []MountUse
	for _, st := range l.Stacks {
		if st.Host == nil {
			continue
		}
		facts := st.Host.Survey
		for _, s := range st.Services {
			as := ""
			if id, ok, _ := s.Identity(); ok {
				as = itoa(id.UID) + ":" + itoa(id.GID)
				if facts != nil {
					as = facts.UserName(id.UID)
				}
			}
			for _, m := range s.Mounts {
				u := MountUse{
					Host:     st.Host.Name,
					Source:   m.Source,
					Stack:    st.Name,
					Service:  s.Name,
					Target:   m.Target,
					ReadOnly: m.ReadOnly,
					As:       as,
				}
				switch m.Kind {
				case declare.MountVolume:
					u.Kind, u.Source = "volume", m.Volume.EngineName
				case declare.MountMemory:
					u.Kind, u.Source = "memory", "memory"
				case declare.MountEngine:
					u.Kind, u.Source = "engine", "engine"
				default:
					if facts == nil {
						break
					}
					if p, ok := facts.Path(m.Source); ok {
						u.Kind = p.Kind
						if p.Kind != survey.Missing && p.Kind != survey.Hidden {
							u.Owner, u.Mode = facts.UserName(p.UID), p.Mode
						}
					}
				}
				all = append(all, u)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b MountUse) int {
		return cmp.Or(cmp.Compare(a.Host, b.Host), cmp.Compare(a.Source, b.Source),
			cmp.Compare(a.Stack, b.Stack), cmp.Compare(a.Service, b.Service))
	})
	return all
}
