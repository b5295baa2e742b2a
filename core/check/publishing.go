package check

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/wiring"
)

var publishingRules = []Rule{
	{
		Name: "port-privileged", Severity: Error, Needs: Host,
		Title: "a port that only root may open, and the service does not run as root",
		Text: "An engine without root cannot publish host ports below the host's first unprivileged " +
			"one. And on some engines a process that is not root cannot listen below 1024 inside; take a " +
			"higher container port, or allow it by sysctls net.ipv4.ip_unprivileged_port_start.",
		Mistake: "run-as = \"1311:1400\"\nports = [\"8710 -> 443\"]    # on an engine that does " +
			"not open low ports inside",
		Mended: "run-as = \"1311:1400\"\nports = [\"8710 -> 8443\"]",
		Find:   portPrivileged,
	}, {
		Name: "port-swapped", Severity: Error, Needs: Image, Mends: true, Rests: Names,
		Title: "the two sides of a port look swapped",
		Text: "The image declares the number on the left, and not the one on the right. The host's " +
			"side stands on the left.",
		Mistake: `ports = ["8080 -> 8710"]    # the image declares 8080`,
		Mended:  `ports = ["8710 -> 8080"]`,
		Find:    portSwapped,
	}, {
		Name: "port-unlisted", Severity: Note, Needs: Image, Mends: true, Rests: Uses,
		Title:   "a container port that the image does not declare",
		Text:    "It may listen there all the same. A port one digit away from a declared one is a warning.",
		Mistake: `ports = ["8710 -> 8081", "8711 -> 9000"]    # the image declares 8080 and 9000`,
		Mended:  `ports = ["8710 -> 8080", "8711 -> 9000"]`,
		Find:    portUnlisted,
	}, {
		Name: "port-random", Severity: Warning, Needs: Files,
		Title:   "a host port that the engine chooses",
		Text:    "It is another one after every replacement, and links to it break.",
		Mistake: `ports = ["any -> 8080"]`,
		Mended:  `ports = ["8710 -> 8080"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, p := range s.Ports {
					if p.Host.First == 0 {
						in.report(s, source.Problem{
							At: p.HostAt,
							Message: fmt.Sprintf(
								"the engine picks the host port for %s, a different one "+
									"after every replacement", p.Container),
						})
					}
				}
			}
		},
	}, {
		Name: "port-wide-open", Severity: Warning, Needs: Files, Mends: true, Rests: Uses,
		Title: "a port of a store, a queue, a cache or an engine that is published on all addresses",
		Text: "Everybody who reaches the machine reaches it. Services of the stack need no published " +
			"port; for a person at the machine itself localhost is enough.",
		Mistake: `ports = ["8711 -> 5432", "0.0.0.0:8712 -> 5432"]`,
		Mended:  `ports = ["localhost:8711 -> 5432"]`,
		Find:    portWideOpen,
	}, {
		Name: "page-unpublished", Severity: Error, Needs: Files, Mends: true, Rests: Names,
		Title:   "page names a container port that cannot be reached from outside",
		Text:    "A link needs a site, a published port, or in the host's network one of listens.",
		Mistake: "page = \"81/x\"\nports = [\"8710 -> 8080\"]",
		Mended:  "page = \"8080/x\"\nports = [\"8710 -> 8080\"]",
		Find:    pageUnpublished,
	},
}

func portPrivileged(in *Input) {
	for _, s := range in.surveyed() {
		facts := s.Stack.Host.Survey
		if facts.Engine == nil {
			in.skip("host "+s.Stack.Host.Name, "engine not surveyed")
			continue
		}
		if start := facts.UnprivilegedPortStart; facts.Engine.Rootless && start > 0 {
			for _, p := range hostPorts(s) {
				if p.Host.First > 0 && p.Host.First < start {
					in.report(s, source.Problem{
						At: p.HostAt,
						Message: fmt.Sprintf("%s on %s is below %d, and its engine runs without root",
							p.Host, s.Stack.Host.Name, start),
					})
				}
			}
		}
		id, known, _ := s.Identity()
		opens := facts.Engine.OpensLowPorts
		if opens == nil || *opens || !known || id.UID == 0 || s.RunAs == nil && s.OwnerUID != "" {
			continue // images that take their owner's ids start as root
		}
		allowed := slices.ContainsFunc(s.Settings.Sysctls, func(p lab.Pair) bool {
			return p.Name == "net.ipv4.ip_unprivileged_port_start"
		})
		for _, p := range s.Ports {
			if p.Container.First < 1024 && !allowed {
				in.report(s, source.Problem{
					At: p.ContainerAt,
					Message: fmt.Sprintf(
						"port %s inside is below 1024, %s is not root, and the engine of %s "+
							"does not open such ports", p.Container, facts.UserName(id.UID), s.Stack.Host.Name),
				})
			}
		}
	}
}

// imagePorts returns the ports that a service's image declares for a protocol; ok is false where that is not
// known, or where it declares none.
func imagePorts(s *lab.Service, protocol string) (ports []int, ok bool) {
	image, known := imageOf(s)
	if !known || len(image.Ports) == 0 {
		return nil, false
	}
	for _, p := range image.Ports {
		number, proto, _ := strings.Cut(p, "/")
		n, err := strconv.Atoi(number)
		if err == nil && (proto == protocol || proto == "" && protocol == "tcp") {
			ports = append(ports, n)
		}
	}
	return ports, true
}

// looksSwapped reports whether a mapping of one port has the image's port on the left.
func looksSwapped(p lab.Port, ports []int) bool {
	return p.Host.Count() == 1 && p.Host.First > 0 && slices.Contains(ports, p.Host.First) &&
		!slices.Contains(ports, p.Container.First)
}

func portSwapped(in *Input) {
	for _, s := range in.surveyed() {
		for _, p := range s.Ports {
			ports, ok := imagePorts(s, p.Protocols[0])
			if !ok || !looksSwapped(p, ports) {
				continue
			}
			mend := &source.Mend{Text: "exchange the sides"}
			if p.HostAt.Text() == p.Host.String() && p.ContainerAt.Text() == p.Container.String() {
				mend.Edits = []source.Edit{
					{At: p.HostAt, New: p.Container.String()},
					{At: p.ContainerAt, New: p.Host.String()},
				}
			}
			in.report(s, source.Problem{
				At: p.HostAt,
				Message: fmt.Sprintf("the image declares %s, which stands on the host's side, and not %s",
					p.Host, p.Container),
				Mend: mend,
			})
		}
	}
}

func portUnlisted(in *Input) {
	for _, s := range in.surveyed() {
		for _, p := range s.Ports {
			ports, ok := imagePorts(s, p.Protocols[0])
			n := p.Container.First
			if !ok || len(ports) == 0 || p.Container.Count() > 1 || slices.Contains(ports, n) ||
				looksSwapped(p, ports) || setByVariable(s, n) {
				continue
			}
			words := make([]string, len(ports))
			near := 0
			for i, d := range ports {
				words[i] = strconv.Itoa(d)
				if oneDigitAway(n, d) {
					near = d
				}
			}
			problem := source.Problem{
				At: p.ContainerAt,
				Message: fmt.Sprintf("the image does not declare %d/%s; it declares %s",
					n, p.Protocols[0], strings.Join(words, ", ")),
			}
			if last := in.report(s, problem); near > 0 {
				last.Severity = Warning
				last.Mend = &source.Mend{Text: fmt.Sprintf("%d is one digit away", near)}
				taken := slices.ContainsFunc(s.Ports, func(o lab.Port) bool {
					return o.Container.First <= near && near <= o.Container.Last
				})
				if p.ContainerAt.Text() == p.Container.String() && !taken && !namedPort(s, n) && !runs(s) {
					last.Mend.Edits = []source.Edit{{At: p.ContainerAt, New: strconv.Itoa(near)}}
				}
			}
		}
	}
}

// namedPort reports whether the service says elsewhere that something of its own is behind a container port.
func namedPort(s *lab.Service, port int) bool {
	y := s.Ready
	return y != nil && (y.TCP == port || y.HTTP != nil && y.HTTP.Port == port) ||
		s.Page != nil && s.Page.Port == port
}

// setByVariable reports whether a variable has a port as its value, alone or behind a wildcard address: then
// the image was told to listen there.
func setByVariable(s *lab.Service, port int) bool {
	text := strconv.Itoa(port)
	return slices.ContainsFunc(s.Env, func(v lab.Variable) bool {
		address, is := strings.CutSuffix(v.Value.Reveal(), text)
		// Behind any other machine's name it is that machine's port.
		return is && !wiring.PortOfAnother(s, v) &&
			slices.Contains([]string{"", ":", "0.0.0.0:", "[::]:", "*:"}, address)
	})
}

// oneDigitAway reports whether two numbers of the same length differ in one digit, or one has a digit more.
func oneDigitAway(a, b int) bool {
	x, y := strconv.Itoa(a), strconv.Itoa(b)
	if len(x) == len(y) {
		different := 0
		for i := range x {
			if x[i] != y[i] {
				different++
			}
		}
		return different == 1
	}
	if len(x) < len(y) {
		x, y = y, x
	}
	for i := range x {
		if len(x) == len(y)+1 && x[:i]+x[i+1:] == y {
			return true
		}
	}
	return false
}

// storePorts are registered for stores, queues, caches and container engines (IANA service names and port
// numbers).
var storePorts = map[int]string{
	1433: "a store", 1521: "a store", 2375: "an engine", 2376: "an engine", 2379: "a store", 3306: "a store",
	4222: "a queue", 5432: "a store", 5672: "a queue",
	5984: "a store", 6379: "a cache", 8086: "a store", 9042: "a store", 9092: "a queue", 9200: "a store",
	11211: "a cache", 27017: "a store",
}

func portWideOpen(in *Input) {
	for _, s := range in.services() {
		for _, p := range s.Ports {
			what := ""
			for n := p.Container.First; n <= p.Container.Last && what == ""; n++ {
				what = storePorts[n]
			}
			open := len(p.Addresses) == 0 || p.Addresses[0].IsUnspecified()
			if what == "" || !open || !slices.Contains(p.Protocols, "tcp") {
				continue
			}
			mend := &source.Mend{Text: "localhost: in front keeps it to the machine itself"}
			// Who has it open and runs may have somebody elsewhere who uses it.
			if len(p.Addresses) == 0 && !runs(s) && !reachedOverHost(in, s, p) {
				mend.Edits = []source.Edit{{At: p.HostAt.File.Span(p.HostAt.Start, p.HostAt.Start),
					New: "localhost:"}}
			}
			in.report(s, source.Problem{
				At: p.HostAt,
				Message: fmt.Sprintf("port %s, which %s usually has, is open to everybody who reaches %s",
					p.Container, what, s.Stack.Host.Name),
				Mend: mend,
			})
		}
	}
}

// reachedOverHost reports whether a value in the lab names a published port by its host's address.
func reachedOverHost(in *Input, s *lab.Service, p lab.Port) bool {
	found := false
	eachWire(in, func(w wiring.Wire, _ *wiring.Resolvable) {
		found = found ||
			w.Host == s.Stack.Host.Address && !wiring.IsLocal(w.Host) && p.Host.First <= w.Port &&
				w.Port <= p.Host.Last
	})
	return found
}

func pageUnpublished(in *Input) {
	for _, s := range in.services() {
		if s.Page == nil {
			continue
		}
		ports := hostPorts(s)
		if s.NetworkOf != nil {
			ports = slices.Concat(ports, hostPorts(s.NetworkOf))
		}
		leads := func(p lab.Port) bool {
			return slices.Contains(p.Protocols, "tcp") && p.Container.First <= s.Page.Port &&
				s.Page.Port <= p.Container.Last
		}
		site := func(site *lab.Site) bool { return site.Port == s.Page.Port }
		if slices.ContainsFunc(ports, leads) || slices.ContainsFunc(s.Sites, site) {
			continue
		}
		problem := source.Problem{
			At: s.Page.At,
			Message: fmt.Sprintf("no published port leads to port %d of %s, where its page is",
				s.Page.Port, s.FullName()),
		}
		image, _ := imagePorts(s, "tcp")
		if len(s.Ports) == 1 && s.Ports[0].Container.Count() == 1 &&
			slices.Contains(image, s.Ports[0].Container.First) && !slices.Contains(image, s.Page.Port) &&
			strings.HasPrefix(s.Page.At.Text(), strconv.Itoa(s.Page.Port)) {
			end := s.Page.At.Start + len(strconv.Itoa(s.Page.Port))
			right := s.Ports[0].Container.String()
			problem.Mend = source.Replace(s.Page.At.File.Span(s.Page.At.Start, end), right, right+" is published")
		}
		in.report(s, problem)
	}
}
