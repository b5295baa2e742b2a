package hostconn

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"

	"github.com/miekg/dns"
)

// special answers names that no server is asked for (RFC 6761): those below localhost are the machine itself, and those
// below invalid are nothing.
func special(lookup func(ctx context.Context, name string) ([]string, error)) func(ctx context.Context, name string) ([]string, error) {
	return func(ctx context.Context, name string) ([]string, error) {
		switch last := name[strings.LastIndexByte(name, '.')+1:]; last {
		case "localhost":
			return []string{"127.0.0.1", "::1"}, nil
		case "invalid":
			return nil, &net.DNSError{Err: "no such host", Name: name, IsNotFound: true}
		}
		return lookup(ctx, name)
	}
}

// DialHere makes a connection from this machine, as a browser would: names below localhost lead to it.
func DialHere(ctx context.Context, network, address string) (net.Conn, error) {
	name, port, err := net.SplitHostPort(address)
	if err == nil && strings.HasSuffix(name, ".localhost") {
		address = net.JoinHostPort("localhost", port)
	}
	return dial(ctx, network, address)
}

// mostNames is how much of a file about names is read, in bytes.
const mostNames = 1 << 20

// lookup asks as a machine elsewhere would: its own file of names, then the first of its name servers that answers.
func (c *Conn) lookup(ctx context.Context, name string) ([]string, error) {
	text, err := c.Files.Read("/etc/hosts", mostNames)
	if err == nil {
		if found := fromHosts(string(text), name); len(found) > 0 {
			return found, nil
		}
	}
	text, err = c.Files.Read("/etc/resolv.conf", mostNames)
	if err != nil {
		return nil, err
	}
	err = fmt.Errorf("no name server")
	for line := range strings.Lines(string(text)) {
		words := strings.Fields(line)
		if len(words) < 2 || words[0] != "nameserver" {
			continue
		}
		var found []string
		if found, err = c.ask(ctx, words[1], name); err == nil {
			return found, nil
		}
	}
	return nil, err
}

// fromHosts reads a file of names (hosts(5)).
func fromHosts(text, name string) (found []string) {
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, "#")
		words := strings.Fields(line)
		for _, w := range words[min(1, len(words)):] {
			if _, err := netip.ParseAddr(words[0]); err == nil && strings.EqualFold(w, name) {
				found = append(found, words[0])
			}
		}
	}
	return found
}

// ask asks a name server that the machine reaches, by TCP.
func (c *Conn) ask(ctx context.Context, server, name string) (found []string, err error) {
	conn, err := c.Port(ctx, net.JoinHostPort(server, "53"))
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		m := new(dns.Msg)
		m.SetQuestion(dns.Fqdn(name), kind)
		answer, _, err := new(dns.Client).ExchangeWithConnContext(ctx, m, &dns.Conn{Conn: conn})
		if err != nil {
			return found, err
		}
		for _, r := range answer.Answer {
			switch r := r.(type) {
			case *dns.A:
				found = append(found, r.A.String())
			case *dns.AAAA:
				found = append(found, r.AAAA.String())
			}
		}
	}
	return found, nil
}
