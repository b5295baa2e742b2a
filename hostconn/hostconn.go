// Package hostconn is the way to a host as one value: to its engine, to its ports as they are seen from the
// host itself, and to its files. Nothing else touches them.
package hostconn

import (
	"context"
	"crypto/tls"
	"errors"
	"io/fs"
	"net"
	"os"
	"strings"
	"time"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// Conn is the way to a host.
type Conn struct {
	Address string // of its engine: unix://…, tcp://… or ssh://…
	Socket  string // of its engine, on the host; "" where none is known
	Private bool   // what goes to the engine can be neither read nor changed on the way
	Files   Files  // of the host; nil where this way does not lead to them

	// Engine makes a connection to the host's engine.
	Engine func(context.Context) (net.Conn, error)
	// Port makes a connection to a TCP port, HOST:PORT, as seen from the host.
	Port func(ctx context.Context, address string) (net.Conn, error)
	// Lookup asks the host's resolver for the addresses of a name; nil where this way does not lead to it.
	Lookup func(ctx context.Context, name string) ([]string, error)
}

// connects is how long a connection is waited for.
const connects = 10 * time.Second

// Open finds the way to a host of a lab. The error is an *[Unreachable].
func Open(ctx context.Context, h *lab.Host) (*Conn, error) {
	c, err := open(ctx, h.Engine, h.TLS, h.Insecure)
	var known *Unreachable
	if errors.As(err, &known) && errors.Is(known.Err, fs.ErrNotExist) &&
		strings.HasPrefix(known.Address, "unix://") {
		known.Sockets = sockets()
		known.Do = declare.EngineLines(h.Name, known.Sockets)
	}
	return c, err
}

// OpenAddress finds the way to an engine at an address, the usual one when it is empty. The error is an
// *[Unreachable].
func OpenAddress(ctx context.Context, address string) (*Conn, error) {
	return open(ctx, address, lab.TLS{}, false)
}

func open(ctx context.Context, address string, files lab.TLS, insecure bool) (*Conn, error) {
	if address == "" {
		address = UsualAddress()
	}
	at, err := declare.ParseEngineAddress(address)
	if err != nil {
		return nil, &Unreachable{Address: address, Because: err.Error(), Err: err}
	}
	c := &Conn{
		Address: address,
		Port:    func(ctx context.Context, address string) (net.Conn, error) { return dial(ctx, "tcp", address) },
	}
	switch at.Scheme {
	case "unix":
		if because, do, err := trySocket(ctx, at.Socket); err != nil {
			return nil, &Unreachable{Address: address, Because: because, Do: do, Err: err}
		}
		c.Private, c.Files, c.Socket = true, LocalFiles(), at.Socket
		c.Engine = func(ctx context.Context) (net.Conn, error) { return dial(ctx, "unix", at.Socket) }
		c.Lookup = special(net.DefaultResolver.LookupHost)
		return c, nil
	case "tcp":
		return c, c.overTCP(ctx, at, files, insecure)
	case "ssh":
		err := c.overSSH(ctx, at)
		if c.Files != nil {
			c.Lookup = special(c.lookup)
		}
		return c, err
	}
	return nil, &Unreachable{
		Address: address,
		Because: "this version of lantern reaches engines by unix://PATH and tcp://HOST:PORT only",
	}
}

// Here reports whether an engine's address leads to this machine.
func Here(address string) bool {
	if address == "" {
		address = UsualAddress()
	}
	at, err := declare.ParseEngineAddress(address)
	return err == nil && (at.Scheme == "unix" || at.Scheme == "tcp" && at.Loopback())
}

// overTCP makes it a way over the network, with or without certificates.
func (c *Conn) overTCP(ctx context.Context, at declare.EngineAddress, files lab.TLS, insecure bool) error {
	if files.CA == "" && !at.Loopback() && !insecure {
		return &Unreachable{
			Address: c.Address,
			Because: "plain tcp lets everybody on the way read and change what is said; nothing was sent",
			Do: "tls.ca, tls.cert and tls.key of the host in lab.toml make it safe; insecure " +
				"= \"reason\" accepts it", Host: true,
		}
	}
	for _, f := range []string{files.CA, files.Cert, files.Key} {
		if _, err := os.Stat(f); f != "" && err != nil {
			return &Unreachable{Address: c.Address, Because: "the file " + f + " of tls cannot be read", Err: err}
		}
	}
	secure, err := tlsOf(files, at.Host)
	if err != nil {
		return &Unreachable{Address: c.Address, Because: "tls: " + err.Error(), Err: err}
	}
	if because, do, err := tryHost(ctx, at); err != nil {
		return &Unreachable{Address: c.Address, Because: because, Do: do, Host: true, Err: err}
	}
	c.Private = files.CA != "" || at.Loopback()
	if at.Loopback() {
		c.Files = LocalFiles()
	}
	c.Engine = func(ctx context.Context) (net.Conn, error) {
		plain, err := dial(ctx, "tcp", net.JoinHostPort(at.Host, at.Port))
		if err != nil || secure == nil {
			return plain, err
		}
		t := tls.Client(plain, secure)
		if err := t.HandshakeContext(ctx); err != nil {
			plain.Close()
			return nil, err
		}
		return t, nil
	}
	return nil
}

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{Timeout: connects}).DialContext(ctx, network, address)
}
