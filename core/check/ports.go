package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

var portRules = []Rule{
	{
		Name: "port-clash", Severity: Error, Needs: Files, Mends: true, Rests: Holders,
		Title: "two services claim the same host port on one host",
		Text: "Only one can have it: the engine would start the first and refuse the second, after " +
			"pulling its image. tcp and udp are apart, and so are addresses that do not overlap.",
		Mistake: `ports = ["8710 -> 80"]    # in tide-log and in mast`,
		Mended:  `ports = ["8714 -> 80"]`,
		Find:    portClash,
	}, {
		Name: "port-in-use", Severity: Error, Needs: Host, Mends: true, Rests: Holders,
		Title:   "a process of the host, or somebody else's container, listens on a declared host port",
		Text:    "The engine can only publish a free port. Stop what uses it, or choose another port.",
		Mistake: "ports = [\n  \"8712 -> 80\",    # lampd listens there\n]",
		Mended:  `ports = ["8713 -> 80"]`,
		Find:    portInUse,
	}, {
		Name: "port-reserved", Severity: Error, Needs: Files, Mends: true, Rests: Holders,
		Title: "a host port that lab.toml reserves",
		Text: "reserved-ports of a host names ports that something else needs, now or later; \"PORT for " +
			"STACK/SERVICE\" keeps one for a single service.",
		Mistake: `ports = ["8785 -> 80", "8795 -> 81"]    # the host has reserved-ports = ["8780-8790"]`,
		Mended:  `ports = ["8791 -> 80", "8795 -> 81"]`,
		Find:    portReserved,
	}, {
		Name: "port-ignored", Severity: Error, Needs: Files,
		Title: "published ports of a service that has no network of its own",
		Text: "In the host's network its ports are the host's already (declare them in listens); " +
			"without a network there are none; and one that lives in another service's network is " +
			"reached by that one's ports.",
		Mistake: "network = \"host\"\nports = [\"8710 -> 80\"]",
		Mended:  "network = \"host\"\nlistens = [\"8710\"]",
		Find:    portIgnored,
	},
}

// hostPorts returns the ports of its host that a service takes: those that it publishes and, in the host's
// network, those that it opens itself.
func hostPorts(s *lab.Service) []lab.Port {
	if len(s.Listens) == 0 {
		return s.Ports
	}
	return slices.Concat(s.Ports, s.Listens)
}

func portReserved(in *Input) {
	for _, s := range in.services() {
		for _, p := range hostPorts(s) {
			for _, r := range s.Stack.Host.Reserved {
				if p.Host.First == 0 || !r.Ports.Overlaps(p.Host) || r.For == s.FullName() ||
					r.Protocol != "" && !slices.Contains(p.Protocols, r.Protocol) {
					continue
				}
				message := fmt.Sprintf("%s on %s is reserved", p.Host, s.Stack.Host.Name)
				if r.For != "" {
					message += " for " + r.For
				}
				mend := moveToFreePort(in, s, p)
				if mend != nil && runs(s) {
					mend = &source.Mend{Text: mend.Text + "; or the reservation is what is wrong"}
				}
				in.report(s, source.Problem{
					At:      p.HostAt,
					Message: message,
					Because: []source.Because{{Text: "reserved here", At: r.At}},
					Mend:    mend,
				})
			}
		}
	}
}

func portIgnored(in *Input) {
	for _, s := range in.services() {
		why := ""
		switch {
		case len(s.Ports) == 0:
			continue
		case s.NetworkMode != "":
			why = fmt.Sprintf("network = %q", s.NetworkMode)
		case s.NetworkOf != nil:
			why = "it lives in the network of " + s.NetworkOf.Name
		default:
			continue
		}
		in.report(s, source.Problem{
			At:      s.Ports[0].HostAt,
			Message: fmt.Sprintf("the ports of %s are not published: %s", s.FullName(), why),
		})
	}
}

// claim is one host port of somebody.
type claim struct {
	protocol string
	address  netip.Addr // unspecified: all
	port     int
}

// claims returns the host ports that a container of a survey publishes.
func claims(c survey.Container) []claim {
	var all []claim
	for _, p := range c.Published() {
		a := netip.IPv4Unspecified()
		if p.Address != "" {
			a, _ = netip.ParseAddr(p.Address) // it was written from one
		}
		all = append(all, claim{p.Protocol, a, p.Port})
	}
	return all
}

// overlap reports whether two addresses, none meaning all, can both be listened on at a port. A wildcard
// overlaps each, of its own family or the other; an IPv4-mapped address is its IPv4 address.
func overlap(a, b []netip.Addr) bool {
	if len(a) == 0 || len(b) == 0 {
		return true
	}
	for _, x := range a {
		for _, y := range b {
			x, y := x.Unmap(), y.Unmap()
			if x == y || x.IsUnspecified() && (x.Is4() == y.Is4() || y.IsUnspecified() || x.Is6()) ||
				y.IsUnspecified() && (x.Is4() == y.Is4() || y.Is6()) {
				return true
			}
		}
	}
	return false
}

type published struct {
	service *lab.Service
	port    *lab.Port
}

func portClash(in *Input) {
	type slot struct {
		host     *lab.Host
		protocol string
		port     int
	}
	seen := map[slot][]published{}
	for _, s := range in.services() {
		ports := hostPorts(s)
		for i := range ports {
			p := &ports[i]
			var clash *published
			for _, proto := range p.Protocols {
				for n := p.Host.First; n <= p.Host.Last && n > 0; n++ {
					k := slot{s.Stack.Host, proto, n}
					for _, o := range seen[k] {
						if clash == nil && overlap(o.port.Addresses, p.Addresses) {
							clash = &o
						}
					}
					seen[k] = append(seen[k], published{s, p})
				}
			}
			if clash != nil {
				reportClash(in, published{s, p}, *clash)
			}
		}
	}
}

// reportClash reports on the side that does not run yet, else on the later one.
func reportClash(in *Input, later, earlier published) {
	if runs(later.service) && !runs(earlier.service) {
		later, earlier = earlier, later
	}
	protocols := later.port.Protocols[0]
	if slices.Equal(later.port.Protocols, earlier.port.Protocols) {
		protocols = strings.Join(later.port.Protocols, " and ")
	} else if !slices.Contains(earlier.port.Protocols, protocols) {
		protocols = earlier.port.Protocols[0]
	}
	common := declare.Range{
		First: max(later.port.Host.First, earlier.port.Host.First),
		Last:  min(later.port.Host.Last, earlier.port.Host.Last),
	}
	// What a program opens by itself stays; the published side can move, unless it runs there and the other
	// one does not.
	mover := later
	if opened(later.service, *later.port) && !(runs(earlier.service) && !runs(later.service)) {
		mover = earlier
	}
	who := earlier.service.FullName() + " claims it too"
	if earlier.service == later.service {
		who = "the same service claims it here, too"
	}
	in.report(later.service, source.Problem{
		At:      later.port.HostAt,
		Message: fmt.Sprintf("%s %s on %s is claimed twice", protocols, common, later.service.Stack.Host.Name),
		Because: []source.Because{{Text: who, At: earlier.port.HostAt}},
		Mend:    moveToFreePort(in, mover.service, *mover.port),
	})
}

func runs(s *lab.Service) bool {
	h := s.Stack.Host
	return h.Survey != nil && slices.ContainsFunc(h.Survey.Containers, func(c survey.Container) bool {
		return c.Name == s.ContainerName() && c.State == "running"
	})
}

func portInUse(in *Input) {
	for _, s := range in.surveyed() {
		if facts := s.Stack.Host.Survey; facts.Engine == nil || facts.Unknown["engine"] != "" {
			in.skip("host "+s.Stack.Host.Name,
				"its engine was not seen: any socket could be that of the lab's own containers")
			continue
		}
		for _, p := range hostPorts(s) {
			// What a service has opened itself in the host's network is its own process.
			if p.Host.First == 0 || s.HostNetwork() && runs(s) {
				continue
			}
			who, unsure := holder(in.Lab, s, p)
			if who == "" {
				continue
			}
			problem := source.Problem{At: p.HostAt, Message: who}
			if !unsure { // else the holder goes, and the port is right; or it is not known who it is
				problem.Mend = moveToFreePort(in, s, p)
			}
			in.report(s, problem)
		}
	}
}

// holder says who holds a host port of a service, or "", and whether that is a container of this lab, or
// somebody who cannot be seen.
func holder(l *lab.Lab, s *lab.Service, p lab.Port) (who string, unsure bool) {
	facts := s.Stack.Host.Survey
	covers := func(c claim) bool {
		return slices.Contains(p.Protocols, c.protocol) && c.port >= p.Host.First && c.port <= p.Host.Last &&
			overlap(p.Addresses, []netip.Addr{c.address})
	}
	for _, c := range facts.Containers {
		if c.State != "running" || successor(l, s.Stack.Host, c) != nil && successor(l, s.Stack.Host, c).Stack == s.Stack {
			continue
		}
		for _, k := range claims(c) {
			if covers(k) && c.Lab == l.Name {
				if why := heldByOurs(l, s, c, k); why != "" {
					return fmt.Sprintf("%s %d on %s is held by the container %s, %s",
						k.protocol, k.port, s.Stack.Host.Name, c.Name, why), true
				}
				continue
			}
			if covers(k) {
				// One that is called as a service of this lab is probably that, from before the lab got
				// another name.
				own := c.Lab != "" && l.Stack(c.Stack) != nil ||
					slices.ContainsFunc(l.Stacks, func(st *lab.Stack) bool {
						return slices.ContainsFunc(st.Services, func(o *lab.Service) bool {
							return o.ContainerName() == c.Name
						})
					})
				return fmt.Sprintf("%s %d on %s is held by the container %s, which is not of this lab",
					k.protocol, k.port, s.Stack.Host.Name, c.Name), own
			}
		}
	}
	for _, sock := range facts.Listeners {
		a, err := netip.ParseAddr(sock.Address)
		k := claim{sock.Protocol, a, sock.Port}
		if err != nil || !covers(k) || forwarded(facts, sock, k) {
			continue
		}
		who = "a process that only root may see"
		if sock.Process != "" {
			who = fmt.Sprintf("the process %s (pid %d)", sock.Process, sock.PID)
		}
		return fmt.Sprintf("%s %d on %s is held by %s, which listens on %s",
			sock.Protocol, sock.Port, s.Stack.Host.Name, who, address(a)), sock.Process == ""
	}
	return "", false
}

// forwarded reports whether a socket is the engine's, for a running container that publishes just that address
// and port. What a survey says of it counts where that container publishes none: it is in the host's network
// then.
func forwarded(facts *survey.Survey, sock survey.Listener, at claim) bool {
	for _, c := range facts.Containers {
		if c.State != "running" {
			continue
		}
		all := claims(c)
		if c.Name == sock.Container && len(all) == 0 {
			return true
		}
		if slices.ContainsFunc(all, func(k claim) bool {
			same := k.address.Unmap() == at.address.Unmap() ||
				k.address.IsUnspecified() && at.address.IsUnspecified()
			return k.protocol == at.protocol && k.port == at.port && same
		}) {
			return true
		}
	}
	return false
}

// heldByOurs says what a container of this lab is that holds a port which a service of another stack claims,
// and what frees the port; "" where that is planned or found otherwise: within a stack the holder stops
// first, and what both declare is a clash.
func heldByOurs(l *lab.Lab, s *lab.Service, c survey.Container, k claim) string {
	if c.Stack == s.Stack.Name || c.Service == "" {
		return ""
	}
	st := l.Stack(c.Stack)
	if st == nil || st.Host != nil && st.Host != s.Stack.Host {
		return "of the stack " + c.Stack + ", which is in no file for this host any more: lantern retire " +
			c.Stack + " frees it"
	}
	if st.Broken {
		return ""
	}
	o := st.Service(c.Service)
	if o == nil {
		return "which the file of " + c.Stack + " does not have any more: lantern deploy " + c.Stack +
			", before this one, frees it"
	}
	for _, p := range hostPorts(o) {
		if slices.Contains(p.Protocols, k.protocol) && k.port >= p.Host.First && k.port <= p.Host.Last {
			return "" // port-clash
		}
	}
	return "which is declared with another port now: lantern deploy " + c.Stack + ", before this one, frees it"
}

func address(a netip.Addr) string {
	if a.IsUnspecified() {
		return "all addresses"
	}
	return a.String()
}
