package standin

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"strings"
	"sync"

	"github.com/moby/moby/api/pkg/stdcopy"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/gate"
)

// A gate is not made up: it runs inside of this process, and reaches the containers that are.

// gateImage is the image of gates, whatever its tag: no program has to be given to the stand-in.
var gateImage = Image{Present: true, User: lab.GateUser}

func isGateImage(reference string) bool { return strings.HasPrefix(reference, lab.GateImageName+":") }

// openGate starts the gate of a container on its published ports; the caller holds the lock.
func (b *simulatedContainer) openGate(r *run) error {
	folder, err := b.server.stateOf(b)
	if err != nil {
		return err
	}
	o := gate.Options{Folder: folder, Log: gateLog{b}, Lookup: b.server.lookupInside, Dial: b.server.dialInside}
	for port, bindings := range b.host.PortBindings {
		for _, binding := range bindings {
			if binding.HostIP.Is6() {
				continue // it is asked by the other one
			}
			at := net.JoinHostPort("127.0.0.1", binding.HostPort)
			l, err := net.Listen("tcp", at)
			if err != nil {
				return b.portError("tcp4", at)
			}
			r.listeners = append(r.listeners, l)
			if int(port.Num()) == lab.GateHTTP {
				o.HTTP = l
			} else {
				o.HTTPS = l
			}
		}
	}
	g, err := gate.New(o)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	r.listeners = append(r.listeners, closing(stop))
	r.gate = g
	go g.Serve(ctx)
	return nil
}

// closing ends something as if it were a listener.
type closing func()

func (c closing) Close() error {
	c()
	return nil
}

// gateLog makes lines of a container's log of what its gate says.
type gateLog struct{ b *simulatedContainer }

func (g gateLog) Write(p []byte) (int, error) {
	lines := strings.TrimSuffix(string(p), "\n")
	go func() { // a gate that ends writes its last lines while the container's lock is held
		g.b.mu.Lock()
		defer g.b.mu.Unlock()
		for text := range strings.SplitSeq(lines, "\n") {
			g.b.say(text)
		}
	}()
	return len(p), nil
}

// stateOf returns the folder of the volume that a gate keeps its state in: as long as the volume is there.
func (s *Server) stateOf(b *simulatedContainer) (string, error) {
	name := b.id
	for _, m := range mountPoints(b.host) {
		if m.Destination == lab.GateState {
			name = m.Name
		}
	}
	s.statesMu.Lock()
	defer s.statesMu.Unlock()
	if s.states[name] == "" {
		folder, err := os.MkdirTemp("", "lantern-gate-")
		if err != nil {
			return "", err
		}
		if s.states == nil {
			s.states = map[string]string{}
		}
		s.states[name] = folder
	}
	return s.states[name], nil
}

// forgetState removes the folder of a volume.
func (s *Server) forgetState(volume string) {
	s.statesMu.Lock()
	defer s.statesMu.Unlock()
	if folder := s.states[volume]; folder != "" {
		os.RemoveAll(folder)
		delete(s.states, volume)
	}
}

// lookupInside is the name server of the stand-in's networks.
func (s *Server) lookupInside(_ context.Context, name string) (found []string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, b := range s.containers {
		for _, n := range b.networks {
			for _, alias := range n.Aliases {
				if alias == name && b.running() {
					found = append(found, b.address.String())
				}
			}
		}
	}
	if len(found) == 0 {
		return nil, &net.DNSError{Err: "no such host", Name: name, IsNotFound: true}
	}
	return found, nil
}

// dialInside makes a connection to a port of a container, also to one that nobody but root may listen on.
func (s *Server) dialInside(ctx context.Context, address string) (net.Conn, error) {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return nil, err
	}
	var to *simulatedContainer
	s.mu.Lock()
	for _, b := range s.containers {
		if b.address == at.Addr() && b.running() {
			to = b
		}
	}
	s.mu.Unlock()
	if to == nil {
		return (&net.Dialer{}).DialContext(ctx, "tcp", address)
	}
	ours, theirs := net.Pipe()
	to.mu.Lock()
	defer to.mu.Unlock()
	if to.run == nil {
		return nil, &net.OpError{Op: "dial", Net: "tcp", Err: errors.New("connection refused")}
	}
	to.serve(to.run, &oneConn{conn: theirs}, int(at.Port()))
	return ours, nil
}

// oneConn is a listener that has one connection.
type oneConn struct {
	once sync.Once
	conn net.Conn
	done chan struct{}
	mu   sync.Mutex
}

func (l *oneConn) waits() chan struct{} {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.done == nil {
		l.done = make(chan struct{})
	}
	return l.done
}

func (l *oneConn) Accept() (c net.Conn, err error) {
	l.once.Do(func() { c = l.conn })
	if c != nil {
		return c, nil
	}
	<-l.waits()
	return nil, net.ErrClosed
}

func (l *oneConn) Close() error {
	done := l.waits()
	l.mu.Lock()
	defer l.mu.Unlock()
	select {
	case <-done:
	default:
		close(done)
	}
	return l.conn.Close()
}

func (l *oneConn) Addr() net.Addr { return &net.TCPAddr{} }

// talk passes the input and output of a command on to what tells a gate what leads where.
func talk(g *gate.Gate, in io.Reader, out io.Writer) {
	ours, theirs := net.Pipe()
	listener := &oneConn{conn: theirs}
	server := &http.Server{Handler: g.Control("stand-in")}
	go server.Serve(listener)
	defer server.Close()
	go func() {
		io.Copy(ours, in)
		ours.Close()
	}()
	io.Copy(framed{out}, ours)
}

// framed writes frames of standard output.
type framed struct{ to io.Writer }

func (f framed) Write(p []byte) (int, error) {
	header := [8]byte{byte(stdcopy.Stdout)}
	binary.BigEndian.PutUint32(header[4:], uint32(len(p)))
	if _, err := f.to.Write(append(header[:], p...)); err != nil {
		return 0, err
	}
	return len(p), nil
}
