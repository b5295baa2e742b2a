//go:build linux

package gate

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/sites"
)

// The benchmarks compare a gate with a reverse proxy of the standard library alone, each in a process of its own and beside
// the same service, in the same run: what a gate adds is what lies between. The test's own program is all of them.
//
//	go test ./gate -run xxx -bench . -benchtime 10s

const roleVariable = "LANTERN_BENCH_ROLE" // service, bare, gate or sites; at LANTERN_BENCH_AT, in front of LANTERN_BENCH_TO

// play is one of the programs; it never ends by itself.
func play(role string) {
	at, to := os.Getenv("LANTERN_BENCH_AT"), os.Getenv("LANTERN_BENCH_TO")
	l, err := net.Listen("tcp", at)
	if err != nil {
		log.Fatal(err)
	}
	folder, err := os.MkdirTemp("", "lantern-bench-")
	if err != nil {
		log.Fatal(err)
	}
	host, port, _ := strings.Cut(to, ":")
	one := sites.Route{Domain: "tides.skerry.example", Path: "/", Service: "mast/desk", Host: host}
	fmt.Sscan(port, &one.Port)
	settings := sites.Settings{Lab: "skerry", HTTPS: 443, Certificates: "own"}
	open := func(o Options) *Gate {
		g, err := New(o)
		if err == nil {
			err = g.SetSettings(settings)
		}
		if err == nil {
			err = g.SetRoutes(context.Background(), "mast", []sites.Route{one}, 0)
		}
		if err != nil {
			log.Fatal(err)
		}
		return g
	}
	switch role {
	case "service":
		page := []byte(strings.Repeat("the tide comes and goes ", 43)) // 1 kB
		http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			io.Copy(io.Discard, r.Body)
			w.Write(page)
		}))
	case "bare":
		g := open(Options{Folder: folder}) // for a certificate of the same kind
		if err := g.certs.issue("tides.skerry.example"); err != nil {
			log.Fatal(err)
		}
		proxy := &httputil.ReverseProxy{
			Rewrite: func(p *httputil.ProxyRequest) {
				p.SetURL(&url.URL{Scheme: "http", Host: to})
				p.SetXForwarded()
			},
			Transport: &http.Transport{MaxIdleConns: 4096, MaxIdleConnsPerHost: 512, DisableCompression: true},
		}
		file := g.certs.file("tides.skerry.example")
		http.ServeTLS(l, proxy, file, file)
	case "gate", "sites":
		debug.SetGCPercent(gatherAt)
		out, err := os.Create(filepath.Join(folder, "access.log"))
		if err != nil {
			log.Fatal(err)
		}
		g := open(Options{Folder: folder, HTTPS: l, Log: out})
		if role == "sites" {
			for stack := range 100 {
				if err := g.SetRoutes(context.Background(), fmt.Sprint("stack-", stack), routesOf(stack, 1), 0); err != nil {
					log.Fatal(err)
				}
			}
		}
		g.Serve(context.Background())
	}
}

// player starts one of the programs and returns its address and process.
func player(b testing.TB, role, to string) (at string, pid int) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	at = l.Addr().String()
	l.Close()
	c := exec.Command(os.Args[0], "-test.run", "xxx")
	c.Env = append(os.Environ(), roleVariable+"="+role, "LANTERN_BENCH_AT="+at, "LANTERN_BENCH_TO="+to)
	c.Stderr = os.Stderr
	require.NoError(b, c.Start())
	b.Cleanup(func() {
		c.Process.Kill()
		c.Wait()
	})
	secure := role != "service"
	require.Eventually(b, func() bool {
		conn, err := net.Dial("tcp", at)
		if err == nil && secure {
			conn = tls.Client(conn, &tls.Config{ServerName: "tides.skerry.example", InsecureSkipVerify: true})
			err = conn.(*tls.Conn).Handshake()
		}
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, patience, 20*time.Millisecond)
	return at, c.Process.Pid
}

// memory is how much of a process is in memory, in bytes (VmRSS in proc_pid_status(5)).
func memory(b testing.TB, pid int) (bytes int) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	require.NoError(b, err)
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			fmt.Sscan(rest, &bytes)
		}
	}
	return bytes << 10
}

// load asks over so many connections until n requests are done, and returns how long each took.
func load(b testing.TB, at string, connections, n int) (took []time.Duration) {
	var left atomic.Int64
	left.Store(int64(n))
	var mu sync.Mutex
	var wait sync.WaitGroup
	for range connections {
		wait.Go(func() {
			conn, err := tls.Dial("tcp", at, &tls.Config{ServerName: "tides.skerry.example", InsecureSkipVerify: true})
			if err != nil {
				b.Error(err)
				return
			}
			defer conn.Close()
			reader := bufio.NewReader(conn)
			var own []time.Duration
			for left.Add(-1) >= 0 {
				began := time.Now()
				io.WriteString(conn, "GET / HTTP/1.1\r\nHost: tides.skerry.example\r\nUser-Agent: bench\r\n\r\n")
				a, err := http.ReadResponse(reader, nil)
				if err == nil {
					_, err = io.Copy(io.Discard, a.Body)
				}
				if err != nil || a.StatusCode != 200 {
					b.Error(err)
					return
				}
				own = append(own, time.Since(began))
			}
			mu.Lock()
			took = append(took, own...)
			mu.Unlock()
		})
	}
	wait.Wait()
	return took
}

// BenchmarkRequests is requests over 64 connections by TLS, through a bare reverse proxy and through a gate, by turns.
func BenchmarkRequests(b *testing.B) {
	service, _ := player(b, "service", "")
	bare, _ := player(b, "bare", service)
	gate, _ := player(b, "gate", service)
	if to := os.Getenv("LANTERN_BENCH_BARE"); to != "" { // in containers, say
		bare, gate = to, os.Getenv("LANTERN_BENCH_GATE")
	}
	const turns, connections = 10, 64
	seconds, all := map[string]float64{}, map[string][]time.Duration{}
	load(b, bare, connections, 2000)
	load(b, gate, connections, 2000)
	n := max(b.N, turns*connections) / turns
	b.ResetTimer()
	for turn := range turns {
		for i, at := range []string{bare, gate} {
			name := []string{"bare", "gate"}[i]
			if turn%2 == 1 {
				name, at = []string{"gate", "bare"}[i], []string{gate, bare}[i]
			}
			began := time.Now()
			all[name] = append(all[name], load(b, at, connections, n)...)
			seconds[name] += time.Since(began).Seconds()
		}
	}
	b.StopTimer()
	rate := func(name string) float64 { return float64(len(all[name])) / seconds[name] }
	slowest := func(name string) float64 {
		slices.Sort(all[name])
		return float64(all[name][len(all[name])*99/100]) / 1e6
	}
	b.ReportMetric(rate("bare"), "bare-req/s")
	b.ReportMetric(rate("gate"), "gate-req/s")
	b.ReportMetric(rate("gate")/rate("bare"), "of-bare")
	b.ReportMetric(slowest("bare"), "bare-p99-ms")
	b.ReportMetric(slowest("gate"), "gate-p99-ms")
	b.ReportMetric(slowest("gate")/slowest("bare"), "p99-of-bare")
}

// BenchmarkSwitch is what it takes to tell a gate with 1,000 sites another address of one of its services.
func BenchmarkSwitch(b *testing.B) {
	g, err := New(Options{Folder: b.TempDir()})
	require.NoError(b, err)
	require.NoError(b, g.SetSettings(sites.Settings{Lab: "skerry", HTTP: true, Certificates: "none"}))
	for stack := range 100 {
		require.NoError(b, g.SetRoutes(b.Context(), fmt.Sprint("stack-", stack), routesOf(stack, 1), 0))
	}
	for n := 0; b.Loop(); n++ {
		require.NoError(b, g.SetRoutes(b.Context(), "stack-7", routesOf(7, n), 0))
	}
}

func routesOf(stack, n int) (routes []sites.Route) {
	for i := range 10 {
		routes = append(routes, sites.Route{Domain: fmt.Sprintf("s%d.t%d.skerry.example", i, stack), Path: "/", Service: fmt.Sprintf("stack-%d/s%d", stack, i), Host: "127.0.0.1",
			Port: 80, Addresses: []string{fmt.Sprintf("198.18.%d.%d:80", n%250, i)}})
	}
	return routes
}

// BenchmarkMemory is what a gate's process holds: with 1,000 sites and their certificates, with 10,000 connections that do
// nothing, after an upload of 1 GB, and after a client that reads slowly.
func BenchmarkMemory(b *testing.B) {
	for b.Loop() {
		service, _ := player(b, "service", "")
		at, pid := player(b, "gate", service)
		b.ReportMetric(float64(memory(b, pid))/1e6, "one-site-MB")
		var all []net.Conn
		for range 10_000 {
			conn, err := tls.Dial("tcp", at, &tls.Config{ServerName: "tides.skerry.example", InsecureSkipVerify: true})
			require.NoError(b, err)
			all = append(all, conn)
		}
		b.ReportMetric(float64(memory(b, pid))/1e6, "10000-idle-MB")
		for _, c := range all {
			c.Close()
		}
		time.Sleep(2 * time.Second)
		before := memory(b, pid)
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{ServerName: "tides.skerry.example", InsecureSkipVerify: true}}}
		r, err := http.NewRequest(http.MethodPost, "https://"+at+"/", io.LimitReader(zeros{}, 1<<30))
		require.NoError(b, err)
		r.Host = "tides.skerry.example"
		a, err := client.Do(r)
		require.NoError(b, err)
		a.Body.Close()
		require.Equal(b, 200, a.StatusCode)
		b.ReportMetric(float64(memory(b, pid)-before)/1e6, "more-after-1GB-MB")
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

// BenchmarkThousandSites is the memory of a gate with 1,000 sites, each with a certificate of its own.
func BenchmarkThousandSites(b *testing.B) {
	for b.Loop() {
		at, pid := player(b, "sites", "127.0.0.1:80")
		require.Eventually(b, func() bool {
			conn, err := tls.Dial("tcp", at, &tls.Config{ServerName: "s9.t99.skerry.example", InsecureSkipVerify: true})
			if err == nil {
				conn.Close()
			}
			return err == nil
		}, 10*patience, 50*time.Millisecond)
		time.Sleep(2 * time.Second)
		b.ReportMetric(float64(memory(b, pid))/1e6, "1000-sites-MB")
	}
}
