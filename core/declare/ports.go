package declare

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
)

// Range is an inclusive range of port numbers, 1 to 65535. The zero Range is none.
type Range struct{ First, Last int }

func (r Range) String() string {
	if r.First == r.Last {
		return strconv.Itoa(r.First)
	}
	return fmt.Sprintf("%d-%d", r.First, r.Last)
}

// Count returns how many ports the range has.
func (r Range) Count() int { return r.Last - r.First + 1 }

// Overlaps reports whether the two ranges share a port.
func (r Range) Overlaps(o Range) bool { return r.First <= o.Last && o.First <= r.Last }

// MostCopies is how many copies of a service there may be.
const MostCopies = 100

// Port is a port mapping: `[ADDRESS:]HOST -> CONTAINER[/proto]`.
type Port struct {
	Addresses []netip.Addr // of the host; none: all of them. localhost gives both loopback addresses
	Localhost bool         // written as localhost
	Host      Range        // zero: the engine picks one
	Container Range        // of one port, where Host has one for each copy of the service
	Protocols []string     // "tcp", "udp", "sctp"; tcp+udp gives two

	HostAt, ContainerAt [2]int // where the two sides stand in the value: offset, length
}

func (p Port) String() string {
	host := p.Host.String()
	if p.Host == (Range{}) {
		host = "any"
	}
	switch {
	case p.Localhost:
		host = "localhost:" + host
	case len(p.Addresses) == 1:
		a := p.Addresses[0].String()
		if p.Addresses[0].Is6() {
			a = "[" + a + "]"
		}
		host = a + ":" + host
	}
	return fmt.Sprintf("%s -> %s/%s", host, p.Container, strings.Join(p.Protocols, "+"))
}

// ParsePort reads a port mapping. The error is a *[SyntaxError] that marks the part at fault.
func ParsePort(s string) (Port, error) {
	left, right, ok := strings.Cut(s, "->")
	if !ok {
		t, at := trimmed(s)
		if strings.Count(t, ":") > 0 {
			return Port{},
				syntaxError(at, len(t),
					"a port is written host -> container, such as 8710 -> 80").meant(arrowPort(t))
		}
		return Port{},
			syntaxError(at, len(t), "only one side: a port is written host -> container, such as 8710 -> 80")
	}
	var p Port
	container, containerAt := trimmed(right)
	containerAt += len(left) + len("->")
	number, list, err := cutProtocol(container)
	if err != nil {
		return Port{}, within(err, containerAt)
	}
	p.Protocols = list
	if p.Container, err = parseRange(number); err != nil {
		return Port{}, within(err, containerAt)
	}
	p.ContainerAt = [2]int{containerAt, len(number)}

	host, hostAt := trimmed(left)
	if colon := strings.LastIndexByte(host, ':'); colon >= 0 {
		if p.Addresses, p.Localhost, err = readAddress(strings.TrimRight(host[:colon], " \t")); err != nil {
			return Port{}, within(err, hostAt)
		}
		rest, move := trimmed(host[colon+1:])
		host, hostAt = rest, hostAt+colon+1+move
	}
	p.HostAt = [2]int{hostAt, len(host)}
	if host == "any" {
		if p.Container.Count() > 1 {
			return Port{},
				syntaxError(hostAt, len(host), "any stands for one port, the right side has %d",
					p.Container.Count())
		}
		return p, nil
	}
	if p.Host, err = parseRange(host); err != nil {
		return Port{}, within(err, hostAt)
	}
	if p.Host.Count() != p.Container.Count() && (p.Container.Count() > 1 || p.Host.Count() > MostCopies) {
		return Port{},
			syntaxError(containerAt, len(number), "%s on the left, %s on the right",
				Counted(p.Host.Count(), "port"), strconv.Itoa(p.Container.Count()))
	}
	return p, nil
}

// colonPort is a port as engines' commands write it: [ADDRESS:]HOST:CONTAINER[/PROTOCOL].
var colonPort = regexp.MustCompile(
	`^((?:[0-9.]+|\[[0-9a-fA-F:.]+\]|localhost):)?([0-9]+(?:-[0-9]+)?):([0-9]+(?:-[0-9]+)?(?:/[A-Za-z+]+)?)$`)

// arrowPort writes such a port as ours; "" for anything else.
func arrowPort(s string) string {
	m := colonPort.FindStringSubmatch(s)
	if m == nil {
		return ""
	}
	return m[1] + m[2] + " -> " + strings.ToLower(m[3])
}

// protocols are the words for protocols; their lists are shared and never changed.
var protocols = map[string][]string{"tcp": {"tcp"}, "udp": {"udp"}, "sctp": {"sctp"}, "tcp+udp": {"tcp", "udp"}}

// cutProtocol takes a protocol off the end of a port; it is tcp when none is written.
func cutProtocol(s string) (number string, list []string, err error) {
	number, proto, named := strings.Cut(s, "/")
	number = strings.TrimRight(number, " \t")
	if !named {
		return number, protocols["tcp"], nil
	}
	name, move := trimmed(proto)
	if list, ok := protocols[name]; ok {
		return number, list, nil
	}
	e := syntaxError(strings.IndexByte(s, '/')+1+move, len(name),
		"%q is no protocol: tcp, udp, sctp or tcp+udp", name)
	if near := Nearest(name, []string{"tcp", "udp", "sctp", "tcp+udp"}); near != "" && Certain(name, near) {
		e.meant(near)
	}
	return "", nil, e
}

// readAddress reads an address of the host in front of a port.
func readAddress(s string) (addresses []netip.Addr, localhost bool, err error) {
	if s == "localhost" {
		return []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1}), netip.IPv6Loopback()}, true, nil
	}
	bare, bracketed := strings.CutPrefix(s, "[")
	if bracketed {
		bare = strings.TrimSuffix(bare, "]")
	}
	a, err := netip.ParseAddr(bare)
	if err != nil || a.Zone() != "" || bracketed != a.Is6() {
		return nil, false,
			syntaxError(0, len(s),
				"%q is no address of the host: an IPv4 address, [an IPv6 address] or localhost", s)
	}
	return []netip.Addr{a}, false, nil
}

// ParseListen reads `[ADDRESS:]PORT[-PORT][/proto]`: ports that a service opens itself, as a mapping onto
// themselves. The error is a *[SyntaxError].
func ParseListen(s string) (Port, error) {
	t, at := trimmed(s)
	var p Port
	var rest string
	var err error
	if rest, p.Protocols, err = cutProtocol(t); err != nil {
		return Port{}, within(err, at)
	}
	number := 0
	if colon := strings.LastIndexByte(rest, ':'); colon >= 0 {
		if p.Addresses, p.Localhost, err = readAddress(strings.TrimRight(rest[:colon], " \t")); err != nil {
			return Port{}, within(err, at)
		}
		number = len(rest) - len(strings.TrimLeft(rest[colon+1:], " \t"))
	}
	if p.Host, err = parseRange(rest[number:]); err != nil {
		return Port{}, within(err, at+number)
	}
	p.Container = p.Host
	p.HostAt = [2]int{at + number, len(rest) - number}
	p.ContainerAt = p.HostAt
	return p, nil
}

// Reserved are ports of a host that services must not publish.
type Reserved struct {
	Ports    Range
	Protocol string // "": all
	For      string // STACK/SERVICE that may have them; "" for none
}

// ParseReserved reads `PORT[-PORT][/proto][ for STACK/SERVICE]`. The error is a *[SyntaxError].
func ParseReserved(s string) (Reserved, error) {
	t, at := trimmed(s)
	ports, who, some := strings.Cut(t, " for ")
	var r Reserved
	if some {
		name, move := trimmed(who)
		stack, service, both := strings.Cut(name, "/")
		if !both || !IsName(stack) || !IsName(service) {
			return r, syntaxError(at+len(ports)+len(" for ")+move, len(name), "for is followed by STACK/SERVICE")
		}
		r.For = name
	}
	number, list, err := cutProtocol(strings.TrimRight(ports, " \t"))
	if err != nil {
		return r, within(err, at)
	}
	if strings.Contains(ports, "/") {
		if len(list) == 1 {
			r.Protocol = list[0]
		}
	}
	if r.Ports, err = parseRange(number); err != nil {
		return r, within(err, at)
	}
	return r, nil
}

// parseRange reads NUMBER or NUMBER-NUMBER.
func parseRange(s string) (Range, error) {
	left, right, both := strings.Cut(s, "-")
	first, move := trimmed(left)
	a, err := ParsePortNumber(first)
	if err != nil {
		return Range{}, within(err, move)
	}
	if !both {
		return Range{a, a}, nil
	}
	last, move := trimmed(right)
	at := len(left) + 1 + move
	b, err := ParsePortNumber(last)
	if err != nil {
		return Range{}, within(err, at)
	}
	if b < a {
		return Range{}, syntaxError(at, len(last), "the range ends before it starts")
	}
	return Range{a, b}, nil
}

// ParsePortNumber reads a port number, 1 to 65535. The error is a *[SyntaxError].
func ParsePortNumber(s string) (int, error) {
	n, err := strconv.ParseUint(s, 10, 32)
	switch {
	case s == "":
		return 0, syntaxError(0, 0, "a port number is missing here")
	case err != nil:
		return 0, syntaxError(0, len(s), "%q is no port number", s)
	case n < 1 || n > 65535:
		return 0, syntaxError(0, len(s), "ports go from 1 to 65535")
	}
	return int(n), nil
}

// Counted returns "1 port" or "3 ports".
func Counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

// Endpoint is a container port with what is asked there: `PORT[/path]` or `https PORT[/path]`.
type Endpoint struct {
	TLS  bool
	Port int
	Path string // with its leading slash; "/" when left out
}

// ParseEndpoint reads a page or the http of ready. The error is a *[SyntaxError].
func ParseEndpoint(s string) (Endpoint, error) {
	t, at := trimmed(s)
	rest, tls := strings.CutPrefix(t, "https ")
	if tls {
		_, move := trimmed(rest)
		rest, at = strings.TrimLeft(rest, " "), at+len("https ")+move
	}
	number, path, _ := strings.Cut(rest, "/")
	n, err := ParsePortNumber(number)
	if err != nil {
		return Endpoint{}, within(err, at)
	}
	if i := strings.IndexAny(path, " \t"); i >= 0 {
		return Endpoint{}, syntaxError(at+len(number)+1+i, 1, "a path has no blanks; write %%20")
	}
	return Endpoint{tls, n, "/" + path}, nil
}

// ParseStatus reads a range of HTTP status codes such as "200-399" or "204". The error is a *[SyntaxError].
func ParseStatus(s string) (first, last int, err error) {
	t, at := trimmed(s)
	a, b, both := strings.Cut(t, "-")
	if !both {
		b = a
	}
	first, err1 := strconv.Atoi(strings.TrimSpace(a))
	last, err2 := strconv.Atoi(strings.TrimSpace(b))
	if err1 != nil || err2 != nil || first < 100 || last > 599 || first > last {
		return 0, 0,
			syntaxError(at, len(t), "a status is a code or a range of codes from 100 to 599, such as 200-399")
	}
	return first, last, nil
}
