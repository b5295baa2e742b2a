// Package gate is the reverse proxy in front of the sites of a host. It runs in a container of its own, knows nothing of
// engines, and is told by a deploy what leads where. What it was told, and its certificates, survive in a folder.
package gate

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"proudlantern.example/lantern/core/sites"
)

// Options are what a gate needs of the world. The zero value of each field is what a container has.
type Options struct {
	Folder      string                                                      // where its state is kept
	HTTP, HTTPS net.Listener                                                // nil: not offered
	Log         io.Writer                                                   // of accesses, and of what goes wrong
	Dial        func(ctx context.Context, address string) (net.Conn, error) // to a service, ADDRESS:PORT
	Lookup      func(ctx context.Context, name string) ([]string, error)    // the addresses of a name on the gate's network
	Now         func() time.Time
	Authority   string // the directory of the usual ACME server
}

// Gate is a gate that runs.
type Gate struct {
	options  Options
	table    atomic.Pointer[table]
	store    *store
	log      *accessLog
	certs    *certificates
	signIns  *signIns
	services *services
	fast     *http.Transport // for services that have to answer in time
	slow     *http.Transport
	look     string // marks the requests by which lantern itself looks at a site
	mu       sync.Mutex
	servers  []*http.Server
	ending   chan struct{}
}

// Limits of a gate.
const (
	mostHeaders   = 64 << 10         // of a request, in bytes
	headersWithin = 10 * time.Second // a client has to send them
	idleFor       = 3 * time.Minute  // a connection of a client without a request
	answerWithin  = 2 * time.Minute  // a service has to begin its answer, unless its site is slow
	endWithin     = 8 * time.Second  // requests under way have to finish when the gate ends
)

// New makes a gate with what it remembers. Serving begins with [Gate.Serve].
func New(o Options) (*Gate, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = io.Discard
	}
	dialer := &net.Dialer{Timeout: 5 * time.Second, KeepAlive: 30 * time.Second}
	if o.Dial == nil {
		o.Dial = func(ctx context.Context, address string) (net.Conn, error) {
			return dialer.DialContext(ctx, "tcp", address)
		}
	}
	if o.Lookup == nil {
		o.Lookup = net.DefaultResolver.LookupHost
	}
	g := &Gate{options: o, look: rand.Text(), ending: make(chan struct{})}
	var err error
	if g.store, err = openStore(o.Folder); err != nil {
		return nil, err
	}
	g.log = newAccessLog(o.Log, o.Now)
	g.services = newServices(o.Lookup)
	g.signIns = newSignIns(o.Now)
	g.fast, g.slow = g.transport(answerWithin), g.transport(0)
	if g.certs, err = newCertificates(g); err != nil {
		return nil, err
	}
	g.apply()
	g.services.told = true
	return g, nil
}

// transport makes connections to services.
func (g *Gate) transport(answer time.Duration) *http.Transport {
	return &http.Transport{
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			ctx, cancel := dialWithin(ctx)
			defer cancel()
			return g.options.Dial(ctx, address)
		},
		TLSClientConfig: &tls.Config{
			InsecureSkipVerify: true, //nolint:gosec // a container's certificate is of its own making, and so is the way to it
		},
		MaxIdleConns: 4096, MaxIdleConnsPerHost: 512, IdleConnTimeout: 90 * time.Second, ResponseHeaderTimeout: answer,
		TLSHandshakeTimeout: 10 * time.Second, ExpectContinueTimeout: time.Second, DisableCompression: true,
		ReadBufferSize: 16 << 10, WriteBufferSize: 16 << 10,
	}
}

// apply puts what is remembered into force.
func (g *Gate) apply() {
	settings, stacks := g.store.all()
	t := newTable(settings, stacks, g.services)
	g.services.prune(t)
	g.table.Store(t)
	g.signIns.set(settings.SignIns)
	g.certs.set(settings, t)
}

// Serve answers until ctx ends, and then lets requests under way finish.
func (g *Gate) Serve(ctx context.Context) error {
	work, stop := context.WithCancel(context.Background())
	defer stop()
	go g.certs.run(work)
	failed := make(chan error, 2)
	serve := func(l net.Listener, secure bool) {
		if l == nil {
			return
		}
		s := &http.Server{
			Handler: http.HandlerFunc(g.ServeHTTP), ReadHeaderTimeout: headersWithin, IdleTimeout: idleFor, MaxHeaderBytes: mostHeaders,
			ErrorLog: slog.NewLogLogger(slog.NewJSONHandler(quietWriter{}, nil), slog.LevelDebug),
		}
		if secure {
			s.TLSConfig = g.certs.config()
		}
		g.mu.Lock()
		g.servers = append(g.servers, s)
		g.mu.Unlock()
		go func() {
			var err error
			if secure {
				err = s.ServeTLS(l, "", "")
			} else {
				err = s.Serve(l)
			}
			if !errors.Is(err, http.ErrServerClosed) {
				failed <- err
			}
		}()
	}
	serve(g.options.HTTP, false)
	serve(g.options.HTTPS, true)
	var err error
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	close(g.ending)
	end, cancel := context.WithTimeout(context.Background(), endWithin)
	defer cancel()
	var wait sync.WaitGroup
	for _, s := range g.servers {
		wait.Go(func() {
			if s.Shutdown(end) != nil {
				s.Close()
			}
		})
	}
	wait.Wait()
	g.log.close()
	return err
}

// quietWriter drops what the server says of clients that break off: anybody could fill the log by that.
type quietWriter struct{}

func (quietWriter) Write(p []byte) (int, error) { return len(p), nil }

// SetRoutes puts the routes of a stack in the place of those that it had, and waits until the requests that are under way
// to services that lose theirs have finished, for so long at most.
func (g *Gate) SetRoutes(ctx context.Context, stack string, routes []sites.Route, drain time.Duration) error {
	before := g.table.Load()
	if err := g.store.setStack(stack, routes); err != nil {
		return err
	}
	g.apply()
	leaving := before.addressesWithout(g.table.Load())
	if len(leaving) > 0 {
		// A request must not be sent on a connection that its service is about to close.
		g.fast.CloseIdleConnections()
		g.slow.CloseIdleConnections()
	}
	return g.services.drained(ctx, leaving, drain)
}

// SetSettings puts what holds for all sites in the place of what did.
func (g *Gate) SetSettings(s sites.Settings) error {
	if err := g.store.setSettings(s); err != nil {
		return err
	}
	g.apply()
	return nil
}
