package gate

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/sites"
)

// Three copies are asked in turn. One that ends, breaks off, or says that it is not ready is left alone until its page of
// readiness is there again, and no request fails; nor does any while the name server knows of nobody for a moment.
func TestCopies(t *testing.T) {
	addresses := []string{"127.0.0.1", "127.0.0.2", "127.0.0.3"}
	var asked [3]atomic.Int64
	var breaks, unready [3]atomic.Bool
	var servers [3]*httptest.Server
	port := 0
	start := func(i int) {
		var l net.Listener
		require.Eventually(t, func() bool {
			var err error
			l, err = net.Listen("tcp", net.JoinHostPort(addresses[i], fmt.Sprint(port)))
			return err == nil
		}, patience, 10*time.Millisecond)
		port = l.Addr().(*net.TCPAddr).Port
		servers[i] = &httptest.Server{Listener: l, Config: &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case unready[i].Load():
				w.WriteHeader(http.StatusServiceUnavailable)
			case r.URL.Path == "/ready":
			case breaks[i].Load():
				panic(http.ErrAbortHandler)
			default:
				asked[i].Add(1)
				io.WriteString(w, addresses[i])
			}
		})}}
		servers[i].Start()
	}
	for i := range servers {
		start(i)
	}
	t.Cleanup(func() {
		for _, s := range servers {
			s.Close()
		}
	})
	var mu sync.Mutex
	known, names := addresses, error(nil)
	b := open(t, t.TempDir(), func(o *Options) {
		o.Lookup = func(context.Context, string) ([]string, error) {
			mu.Lock()
			defer mu.Unlock()
			return known, names
		}
	})
	require.NoError(t, b.gate.SetSettings(sites.Settings{Lab: "skerry", HTTP: true, Certificates: "none"}))
	require.NoError(t, b.gate.SetRoutes(t.Context(), "mast", []sites.Route{{
		Domain: "tides.skerry.example", Path: "/", Service: "mast/desk", Host: "desk.mast", Port: port,
		Ready: &sites.Ready{Port: port, Path: "/ready", StatusFirst: 200, StatusLast: 299},
	}}, 0))
	client := b.client()
	ask := func(times int) (seen map[string]int) {
		t.Helper()
		for i := range asked {
			asked[i].Store(0)
		}
		seen = map[string]int{}
		for range times {
			a, err := client.Get("http://tides.skerry.example/")
			require.NoError(t, err)
			text, _ := io.ReadAll(a.Body)
			a.Body.Close()
			require.Equal(t, 200, a.StatusCode)
			seen[string(text)]++
		}
		return seen
	}
	back := func(i int) {
		t.Helper()
		require.Eventually(t, func() bool { return ask(3)[addresses[i]] == 1 }, patience, 50*time.Millisecond)
	}
	assert.Equal(t, map[string]int{"127.0.0.1": 10, "127.0.0.2": 10, "127.0.0.3": 10}, ask(30))

	servers[1].Close()
	assert.Zero(t, ask(30)["127.0.0.2"])
	unready[1].Store(true)
	start(1)
	time.Sleep(2 * probeEvery)
	assert.Zero(t, ask(30)["127.0.0.2"], "it accepts connections, and is not ready")
	unready[1].Store(false)
	back(1)

	unready[2].Store(true)
	assert.Zero(t, ask(30)["127.0.0.3"])
	unready[2].Store(false)
	back(2)

	breaks[0].Store(true)
	ask(30)
	breaks[0].Store(false)
	back(0)

	// The name server: it knows of nobody, it does not answer, it knows of fewer.
	for _, answer := range []struct {
		err   error
		knows []string
	}{{&net.DNSError{Err: "no such host", IsNotFound: true}, nil}, {&net.DNSError{Err: "server misbehaving"}, nil}, {nil, addresses[1:]}} {
		mu.Lock()
		known, names = answer.knows, answer.err
		mu.Unlock()
		for end := time.Now().Add(freshFor + 200*time.Millisecond); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			ask(1)
		}
		if answer.err == nil {
			require.Eventually(t, func() bool { return ask(10)["127.0.0.1"] == 0 }, patience, 50*time.Millisecond)
		}
		mu.Lock()
		known, names = addresses, nil
		mu.Unlock()
		require.Eventually(t, func() bool { return len(ask(6)) == 3 }, patience, 50*time.Millisecond)
	}

	// All are gone: the answer says so, and when to come again.
	for i := range unready {
		unready[i].Store(true)
	}
	a, err := client.Get("http://tides.skerry.example/")
	require.NoError(t, err)
	a.Body.Close()
	assert.Equal(t, http.StatusServiceUnavailable, a.StatusCode)
}
