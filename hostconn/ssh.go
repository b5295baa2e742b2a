package hostconn

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"proudlantern.example/lantern/core/declare"
)

// keepAlive is how often a connection over SSH is asked whether it is still there, and for how long an answer is waited.
const keepAlive = 15 * time.Second

// answers is how long a person has for all questions of a connection.
const answers = 10 * time.Minute

// sshHost is a machine that is reached over SSH. All that want something of it share one connection.
type sshHost struct {
	hops  []hop // the last one is the machine itself
	files *overSFTP

	mu      sync.Mutex
	reached map[string]bool // sockets, over the connection that there is
	client  *ssh.Client
	below   []io.Closer // connections to the machines on the way
}

// sshHosts are the machines that were connected to, by their addresses.
var sshHosts sync.Map

// overSSH makes it a way through a connection over SSH.
func (c *Conn) overSSH(ctx context.Context, at declare.EngineAddress) error {
	c.Socket = cmp.Or(at.Socket, UsualSocket)
	hops, err := hopsTo(at)
	if err != nil {
		return &Unreachable{Address: c.Address, Because: err.Error(), Host: true, Err: err}
	}
	fresh := &sshHost{hops: hops}
	fresh.files = &overSFTP{host: fresh}
	known, _ := sshHosts.LoadOrStore(at.String(), fresh)
	h := known.(*sshHost)
	c.Private, c.Files = true, h.files
	c.Engine = func(ctx context.Context) (net.Conn, error) { return h.dial(ctx, "unix", c.Socket) }
	c.Port = func(ctx context.Context, address string) (net.Conn, error) { return h.dial(ctx, "tcp", address) }
	most := time.Duration(len(hops)) * 3 * connects
	if personOf(ctx) != nil {
		most += answers
	}
	limited, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	client, err := h.connected(limited)
	if err != nil {
		u := &Unreachable{Address: c.Address, Because: err.Error(), Host: true, Err: err}
		var known *sshFault
		if errors.As(err, &known) {
			u.Because, u.Do = known.because, known.do
		}
		return u
	}
	if h.wasReached(client, c.Socket) {
		return nil
	}
	// Both take some words to and fro.
	go h.files.files()
	try, err := h.dial(limited, "unix", c.Socket)
	if err == nil {
		h.note(client, c.Socket)
		c.Engine = h.first(client, try, c.Engine)
		return nil
	}
	because, do := whyNoSocket(client, h.hops[len(h.hops)-1], c.Socket, err)
	return &Unreachable{Address: c.Address, Because: because, Do: do, Err: err}
}

// wasReached reports whether a socket was reached over this connection before.
func (h *sshHost) wasReached(client *ssh.Client, socket string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.client == client && h.reached[socket]
}

// note remembers that a socket was reached.
func (h *sshHost) note(client *ssh.Client, socket string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.client == client {
		h.reached[socket] = true
	}
}

// first hands a connection to the engine out that is there already, and then others.
func (h *sshHost) first(over *ssh.Client, have net.Conn, then func(context.Context) (net.Conn, error)) func(context.Context) (net.Conn, error) {
	var mu sync.Mutex
	// One that nobody wants is not left open for long.
	timer := time.AfterFunc(connects, func() {
		mu.Lock()
		defer mu.Unlock()
		if have != nil {
			have.Close()
			have = nil
		}
	})
	return func(ctx context.Context) (net.Conn, error) {
		mu.Lock()
		c := have
		have = nil
		mu.Unlock()
		if c == nil {
			return then(ctx)
		}
		timer.Stop()
		h.mu.Lock()
		there := h.client == over
		h.mu.Unlock()
		if !there { // it has broken meanwhile
			c.Close()
			return then(ctx)
		}
		return c, nil
	}
}

// connected returns the connection, and makes it where there is none.
func (h *sshHost) connected(ctx context.Context) (*ssh.Client, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.client != nil {
		return h.client, nil
	}
	var client *ssh.Client
	var below []io.Closer
	for _, hop := range h.hops {
		next, err := hop.connect(ctx, client)
		if err != nil {
			for _, c := range below {
				c.Close()
			}
			return nil, err
		}
		below, client = append(below, next), next
	}
	h.client, h.below, h.reached = client, below, map[string]bool{}
	go h.watch(client)
	return client, nil
}

// watch asks now and then whether the other side is there; else the connection is closed, and all calls on it end.
func (h *sshHost) watch(client *ssh.Client) {
	gone := make(chan struct{})
	go func() {
		client.Wait()
		close(gone)
	}()
	for {
		select {
		case <-gone:
			h.forget(client)
			return
		case <-time.After(keepAlive):
		}
		answered := make(chan error, 1)
		go func() {
			_, _, err := client.SendRequest("keepalive@openssh.com", true, nil)
			answered <- err
		}()
		select {
		case <-answered: // an error comes through gone, too
		case <-gone:
		case <-time.After(keepAlive):
			h.forget(client)
			return
		}
	}
}

// forget closes a connection that is of no use any more.
func (h *sshHost) forget(client *ssh.Client) {
	h.mu.Lock()
	defer h.mu.Unlock()
	client.Close()
	if h.client == client {
		for _, c := range h.below {
			c.Close()
		}
		h.client, h.below = nil, nil
	}
}

// dial makes a connection from the machine on. Where the shared one has broken since the last call, it is made once more.
func (h *sshHost) dial(ctx context.Context, network, address string) (net.Conn, error) {
	client, err := h.connected(ctx)
	if err != nil {
		return nil, err
	}
	limited, cancel := context.WithTimeout(ctx, connects)
	defer cancel()
	conn, err := client.DialContext(limited, network, address)
	var refused *ssh.OpenChannelError
	if err == nil || ctx.Err() != nil {
		return conn, err
	}
	if errors.As(err, &refused) {
		if network == "tcp" && strings.Contains(refused.Message, "Connection refused") { // strerror(3), by which sshd tells it
			err = fmt.Errorf("%w: %w", syscall.ECONNREFUSED, err)
		}
		return conn, err
	}
	h.forget(client)
	if client, err = h.connected(ctx); err != nil {
		return nil, err
	}
	again, cancelAgain := context.WithTimeout(ctx, connects)
	defer cancelAgain()
	return client.DialContext(again, network, address)
}

// sshFault is why a machine does not let us in, for the person.
type sshFault struct {
	because, do string
	err         error
}

func (f *sshFault) Error() string { return f.because }

func (f *sshFault) Unwrap() error { return f.err }

func fault(err error, do, format string, args ...any) error {
	return &sshFault{fmt.Sprintf(format, args...), do, err}
}
