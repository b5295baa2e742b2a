package declare

import (
	"net/netip"
	"strings"
)

// EngineLines says what to write into lab.toml where an engine is elsewhere than at its usual place: the
// sockets that were found on the machine.
func EngineLines(host string, sockets []string) string {
	if len(sockets) == 0 {
		return "start the engine; or, where its socket is elsewhere, write into lab.toml\n[host." + host +
			"]\nengine = \"unix:///PATH/OF/THE/SOCKET\""
	}
	text := "write into lab.toml\n[host." + host + "]\nengine = \"unix://" + sockets[0] + "\""
	for _, s := range sockets[1:] {
		text += "    # or unix://" + s
	}
	return text
}

// EngineAddress is where an engine is.
type EngineAddress struct {
	Scheme string // unix, ssh or tcp
	User   string // ssh; "" for the usual one
	Host   string // ssh, tcp
	Port   string // ssh (22 when left out), tcp
	Socket string // unix; ssh, "" for the engine's usual one
}

// Loopback reports whether a tcp address stays on this machine.
func (a EngineAddress) Loopback() bool {
	ip, err := netip.ParseAddr(a.Host)
	return a.Host == "localhost" || err == nil && ip.IsLoopback()
}

// ParseEngineAddress reads `unix://PATH`, `ssh://[USER@]HOST[:PORT][/SOCKET]` or `tcp://HOST:PORT`. The error
// is a *[SyntaxError].
func ParseEngineAddress(s string) (EngineAddress, error) {
	t, at := trimmed(s)
	wrong := func(message string) (EngineAddress, error) {
		return EngineAddress{}, &SyntaxError{Offset: at, Length: len(t), Message: message}
	}
	scheme, rest, ok := strings.Cut(t, "://")
	a := EngineAddress{Scheme: scheme}
	switch {
	case ok && scheme == "unix":
		if a.Socket = rest; !strings.HasPrefix(rest, "/") {
			return wrong("behind unix:// stands the path of a socket, such as unix:///var/run/docker.sock")
		}
		return a, nil
	case !ok || scheme != "ssh" && scheme != "tcp":
		return wrong("an engine's address is unix://PATH, ssh://[USER@]HOST[:PORT][/SOCKET] or tcp://HOST:PORT")
	}
	machine, socket, path := strings.Cut(rest, "/")
	if path {
		a.Socket = strings.TrimSuffix("/"+socket, "/")
	}
	if user, host, named := strings.Cut(machine, "@"); named {
		if user == "" {
			return wrong("in front of @ stands an account")
		}
		if strings.Contains(user, ":") {
			return wrong("a password has no place in an address")
		}
		a.User, machine = user, host
	}
	a.Host = machine
	if bracket := strings.LastIndexByte(machine, ']'); strings.HasPrefix(machine, "[") && bracket > 0 {
		a.Host, a.Port = machine[1:bracket], strings.TrimPrefix(machine[bracket+1:], ":")
		if ip, err := netip.ParseAddr(a.Host); err != nil || !ip.Is6() {
			return wrong("between [ and ] stands an IPv6 address")
		}
	} else if colon := strings.LastIndexByte(machine, ':'); colon >= 0 {
		a.Host, a.Port = machine[:colon], machine[colon+1:]
	}
	if a.Host == "" || strings.ContainsAny(a.Host, " \t?#@[]") ||
		strings.Contains(a.Host, ":") && !strings.HasPrefix(machine, "[") {
		return wrong("behind " + scheme + ":// stands the name or address of a machine")
	}
	if strings.HasSuffix(machine, ":") || a.Port != "" {
		if _, err := ParsePortNumber(a.Port); err != nil {
			return wrong(err.Error())
		}
	}
	if scheme == "tcp" && (a.Port == "" || a.User != "" || a.Socket != "") {
		return wrong("behind tcp:// stand a machine and a port, such as tcp://192.0.2.15:2376")
	}
	return a, nil
}

// String returns the address as it is written in lab.toml.
func (a EngineAddress) String() string {
	if a.Scheme == "unix" {
		return "unix://" + a.Socket
	}
	s := a.Host
	if strings.Contains(s, ":") {
		s = "[" + s + "]"
	}
	if a.User != "" {
		s = a.User + "@" + s
	}
	if a.Port != "" {
		s += ":" + a.Port
	}
	return a.Scheme + "://" + s + a.Socket
}
