package gate

import (
	"context"
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"proudlantern.example/lantern/core/sites"
)

// Copies of a service are asked in turn. One that cannot be reached is left alone until it accepts connections again.

const (
	// dialOneOf is how long one of several copies has to accept a connection: another one may do so at once.
	dialOneOf  = time.Second
	probeEvery = 300 * time.Millisecond
	// probeFor is how long a copy is looked at that cannot be reached; after that requests may try it again.
	probeFor = 2 * time.Minute
)

// aside are the copies of a service that could not be reached.
type aside struct {
	mu        sync.Mutex
	addresses map[string]bool
}

func (a *aside) has(address string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.addresses[address]
}

// inTurn returns addresses in the order in which a request tries them: each copy comes first in its turn, and what could not
// be reached comes last.
func (s *service) inTurn(all []string) []string {
	if len(all) < 2 {
		return all
	}
	first := int(s.turn.Add(1) % uint32(len(all)))
	ordered := append(slices.Clone(all[first:]), all[:first]...)
	slices.SortStableFunc(ordered, func(a, b string) int {
		switch x, y := s.aside.has(a), s.aside.has(b); {
		case x == y:
			return 0
		case x:
			return 1
		}
		return -1
	})
	return ordered
}

// setAside leaves a copy alone until it is ready, or accepts connections where it does not say how to see that.
func (s *service) setAside(address string, ready *sites.Ready, dial func(ctx context.Context, address string) (net.Conn, error)) {
	s.aside.mu.Lock()
	defer s.aside.mu.Unlock()
	if s.aside.addresses[address] {
		return
	}
	if s.aside.addresses == nil {
		s.aside.addresses = map[string]bool{}
	}
	s.aside.addresses[address] = true
	go func() {
		for end := time.Now().Add(probeFor); time.Now().Before(end); {
			time.Sleep(probeEvery)
			if isReady(address, ready, dial) {
				break
			}
		}
		s.aside.mu.Lock()
		defer s.aside.mu.Unlock()
		delete(s.aside.addresses, address)
	}()
}

// isReady looks at a copy once.
func isReady(address string, ready *sites.Ready, dial func(ctx context.Context, address string) (net.Conn, error)) bool {
	ctx, cancel := context.WithTimeout(context.Background(), dialOneOf)
	defer cancel()
	if ready == nil {
		c, err := dial(ctx, address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}
	machine, _, _ := net.SplitHostPort(address)
	at := net.JoinHostPort(machine, strconv.Itoa(ready.Port))
	scheme := "http"
	if ready.TLS {
		scheme = "https"
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+at+ready.Path, nil)
	if err != nil {
		return false
	}
	asking := &http.Transport{
		DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx, at) },
		// Behind a gate services have certificates that nobody outside has to trust, as for the requests themselves.
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, //nolint:gosec // nothing is sent that anybody may not know
	}
	answer, err := asking.RoundTrip(r)
	if err != nil {
		return false
	}
	answer.Body.Close()
	return answer.StatusCode >= ready.StatusFirst && answer.StatusCode <= ready.StatusLast
}

// oneOf marks the context of a request that has other copies to turn to.
type oneOf struct{}

// dialWithin bounds how long a connection may take, where there are other copies.
func dialWithin(ctx context.Context) (context.Context, context.CancelFunc) {
	if ctx.Value(oneOf{}) == nil {
		return ctx, func() {}
	}
	return context.WithTimeout(ctx, dialOneOf)
}

// repeatable reports whether a request that broke off may be sent to another copy: nothing comes of asking twice
// (RFC 9110, 9.2.2), and there is no body that would be gone.
func repeatable(r *http.Request, err error) bool {
	var slow net.Error
	return (r.Method == http.MethodGet || r.Method == http.MethodHead || r.Method == http.MethodOptions) &&
		(r.Body == nil || r.Body == http.NoBody) && r.Header.Get("Upgrade") == "" && r.Context().Err() == nil &&
		!(errors.As(err, &slow) && slow.Timeout())
}
