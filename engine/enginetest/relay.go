//go:build linux

package enginetest

import (
	"bytes"
	"net"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Relay listens in front of an address, and can cut what goes through it.
type Relay struct {
	Port string // of 127.0.0.1

	// Delay is how much later everything arrives, in each direction. It is set before anybody connects.
	Delay time.Duration

	mu    sync.Mutex
	open  []net.Conn
	hangs bool
	shut  bool
}

// StartRelay starts one in front of an address. It ends with the test.
func StartRelay(t testing.TB, to string) *Relay {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	r := &Relay{Port: strconv.Itoa(l.Addr().(*net.TCPAddr).Port)}
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			r.mu.Lock()
			shut := r.shut
			r.mu.Unlock()
			far, err := net.Dial("tcp", to)
			if err != nil || shut {
				near.Close()
				if err == nil {
					far.Close()
				}
				continue
			}
			r.mu.Lock()
			r.open = append(r.open, near, far)
			r.mu.Unlock()
			go r.carry(near, far)
			go r.carry(far, near)
		}
	}()
	t.Cleanup(func() { r.Cut() })
	return r
}

func (r *Relay) carry(to, from net.Conn) {
	type piece struct {
		text []byte
		due  time.Time
	}
	// What is on its way does not hold up what comes after it.
	way := make(chan piece, 10_000)
	go func() {
		for p := range way {
			time.Sleep(time.Until(p.due))
			to.Write(p.text)
		}
		to.Close()
	}()
	defer close(way)
	text := make([]byte, 32<<10)
	for {
		n, err := from.Read(text)
		if err != nil {
			return
		}
		r.mu.Lock()
		hangs := r.hangs
		r.mu.Unlock()
		if !hangs {
			way <- piece{bytes.Clone(text[:n]), time.Now().Add(r.Delay)}
		}
	}
}

// Cut ends the connections that there are, and returns how many.
func (r *Relay) Cut() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := len(r.open)
	for _, c := range r.open {
		c.Close()
	}
	r.open = nil
	return n
}

// Shut cuts everything, and lets nobody in any more until it is opened again.
func (r *Relay) Shut() {
	r.mu.Lock()
	r.shut = true
	r.mu.Unlock()
	r.Cut()
}

// Open lets everybody in again.
func (r *Relay) Open() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.shut = false
}

// Hang swallows from now on what either side says.
func (r *Relay) Hang() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.hangs = true
}
