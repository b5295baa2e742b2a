//go:build linux

package gate

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/sites"
)

// acmePrograms builds the ACME server of the tests, once.
var acmePrograms = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "lantern-acme-")
	if err != nil {
		return "", err
	}
	const from = "github.com/letsencrypt/pebble/v2/cmd/"
	out, err := exec.Command("go", "build", "-o", dir+"/", from+"pebble", from+"pebble-challtestsrv").CombinedOutput()
	if err != nil {
		err = fmt.Errorf("%w: %s", err, out)
	}
	return dir, err
})

func TestMain(m *testing.M) {
	if role := os.Getenv(roleVariable); role != "" {
		play(role)
		return
	}
	code := m.Run()
	if dir, err := acmePrograms(); err == nil && dir != "" {
		os.RemoveAll(dir)
	}
	os.Exit(code)
}

func freePort(t *testing.T) int {
	l := listen(t)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// background runs a program until the test ends, and waits until it accepts connections.
func background(t *testing.T, port int, env []string, name string, args ...string) (stop func()) {
	c := exec.Command(name, args...)
	c.Env = append(os.Environ(), env...)
	out := &said{}
	c.Stdout, c.Stderr = out, out
	require.NoError(t, c.Start())
	stop = sync.OnceFunc(func() {
		c.Process.Kill()
		c.Wait()
	})
	t.Cleanup(func() {
		stop()
		if t.Failed() {
			text := out.String()
			t.Log(name, text[max(0, len(text)-4000):])
		}
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", fmt.Sprint("127.0.0.1:", port))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 2*patience, 20*time.Millisecond, "%s: %s", name, out)
	return stop
}

// authority is a real ACME server on loopback.
type authority struct {
	directory, ca, cert string
	stop                func()
}

// startAuthority starts one, whose certificates live for so long. It asks names at a name server, by default one that answers
// with 127.0.0.1, and for signs at the gate's ports.
func startAuthority(t *testing.T, lives time.Duration, httpPort, httpsPort int, nameServer string) authority {
	if testing.Short() {
		t.Skip("it builds and starts an ACME server")
	}
	dir, err := acmePrograms()
	require.NoError(t, err)
	cert, ca := forLocalhost(t)
	if nameServer == "" {
		port := freePort(t)
		nameServer = fmt.Sprint("127.0.0.1:", port)
		background(t, port, nil, filepath.Join(dir, "pebble-challtestsrv"), "-dnsserver", nameServer, "-http01", "", "-https01", "", "-tlsalpn01", "", "-doh", "",
			"-management", fmt.Sprint("127.0.0.1:", freePort(t)), "-defaultIPv6", "")
	}
	port := freePort(t)
	config, err := json.Marshal(map[string]any{"pebble": map[string]any{
		"listenAddress": fmt.Sprint("127.0.0.1:", port), "certificate": cert, "privateKey": cert, "httpPort": httpPort, "tlsPort": httpsPort,
		"domainBlocklist": []string{"refused.example"}, "retryAfter": map[string]int{"authz": 1, "order": 1}, "keyAlgorithm": "ecdsa",
		"profiles": map[string]any{"default": map[string]any{"description": "the usual one", "validityPeriod": int(lives / time.Second)}},
	}})
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "acme.json")
	require.NoError(t, os.WriteFile(file, config, 0o600))
	stop := background(t, port, []string{"PEBBLE_VA_NOSLEEP=1"}, filepath.Join(dir, "pebble"), "-config", file, "-dnsserver", nameServer)
	return authority{fmt.Sprintf("https://localhost:%d/dir", port), ca, cert, stop}
}

// forLocalhost makes a certificate for this machine: the file of it and its key, and by whom it is known.
func forLocalhost(t *testing.T) (file, ca string) {
	g, err := New(Options{Folder: t.TempDir()})
	require.NoError(t, err)
	require.NoError(t, g.certs.issue("localhost"))
	ca, err = g.Authorities()
	require.NoError(t, err)
	return g.certs.file("localhost"), ca
}

func portOf(t *testing.T, address string) int {
	_, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	var n int
	fmt.Sscan(port, &n)
	return n
}

func (b *bench) certificate(name string) (found Certificate) {
	for _, c := range b.gate.certs.all() {
		if c.Name == name {
			found = c
		}
	}
	return found
}

func (b *bench) becomes(name string, is func(Certificate) bool) (c Certificate) {
	require.Eventually(b, func() bool {
		c = b.certificate(name)
		return is(c)
	}, 4*patience, 20*time.Millisecond, "%s: %+v", name, &c)
	return c
}

func isMade(c Certificate) bool { return !c.Until.IsZero() && c.Problem == "" }

func failedToBeMade(c Certificate) bool { return c.Problem != "" && c.Problem != BeingMade }

// shown is the certificate that a client gets; it is not trusted here: the server makes its root anew at each start.
func (b *bench) shown(name string) *x509.Certificate {
	conn, err := tls.Dial("tcp", b.https, &tls.Config{ServerName: name, InsecureSkipVerify: true})
	require.NoError(b, err, name)
	defer conn.Close()
	return conn.ConnectionState().PeerCertificates[0]
}

func TestACME(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(echo))
	defer service.Close()
	folder := t.TempDir()
	b := open(t, folder)
	ca := startAuthority(t, 90*24*time.Hour, portOf(t, b.http), portOf(t, b.https), "")
	settings := sites.Settings{Lab: "skerry", HTTP: true, HTTPS: 443, Certificates: "acme", Contact: "keeper@skerry.example", Authority: ca.directory, AuthorityCA: ca.ca}
	require.NoError(t, b.gate.SetSettings(settings))
	lead := func(b *bench, names ...string) {
		var routes []sites.Route
		for _, name := range names {
			routes = append(routes, sites.Route{Domain: name, Path: "/", Service: "mast/desk", Host: "127.0.0.1", Port: portOf(t, service.Listener.Addr().String())})
		}
		require.NoError(t, b.gate.SetRoutes(t.Context(), "mast", routes, 0))
	}
	lead(b, "tides.skerry.example")
	c := b.becomes("tides.skerry.example", isMade)
	assert.Equal(t, "acme", c.Kind)
	assert.Contains(t, c.Issuer, "Pebble")
	assert.WithinDuration(t, time.Now().Add(90*24*time.Hour), c.Until, 2*time.Hour)
	assert.Equal(t, []string{"tides.skerry.example"}, b.shown("tides.skerry.example").DNSNames)
	assert.Contains(t, b.log.String(), `"path":"/.well-known/acme-challenge/`, "it was asked for by plain HTTP")

	t.Log("by TLS alone, for a gate without plain HTTP")
	settings.HTTP = false
	require.NoError(t, b.gate.SetSettings(settings))
	asked := strings.Count(b.log.String(), "acme-challenge")
	lead(b, "tides.skerry.example", "charts.skerry.example")
	b.becomes("charts.skerry.example", isMade)
	time.Sleep(2 * logEvery)
	assert.Equal(t, asked, strings.Count(b.log.String(), "acme-challenge"))

	t.Log("a name that it refuses, and one that needs a name server: they say why, and hold nobody up")
	settings.HTTP = true
	require.NoError(t, b.gate.SetSettings(settings))
	lead(b, "tides.skerry.example", "charts.skerry.example", "refused.example", "*.rooms.example", "log.skerry.example")
	b.becomes("log.skerry.example", isMade)
	assert.Contains(t, b.becomes("refused.example", failedToBeMade).Problem, "refuse")
	assert.Contains(t, b.becomes("*.rooms.example", failedToBeMade).Problem, "dns-update")
	serial := b.shown("tides.skerry.example").SerialNumber

	t.Log("a server that limits the rate")
	limited := limiting(t, ca)
	settings.Authority = limited
	require.NoError(t, b.gate.SetSettings(settings))
	assert.Equal(t, serial, b.shown("tides.skerry.example").SerialNumber, "another server is no reason for another certificate")
	lead(b, "tides.skerry.example", "more.skerry.example")
	c = b.becomes("more.skerry.example", failedToBeMade)
	assert.Contains(t, c.Problem, "too many for today")
	assert.Contains(t, c.Problem, "asked again after 1h0m0s")

	t.Log("a server that is down, a restart, and what it had")
	ca.stop()
	settings.Authority = ca.directory
	require.NoError(t, b.gate.SetSettings(settings))
	lead(b, "tides.skerry.example", "down.skerry.example")
	assert.Contains(t, b.becomes("down.skerry.example", failedToBeMade).Problem, "refused")
	b.end()
	b = open(t, folder)
	assert.Equal(t, serial, b.shown("tides.skerry.example").SerialNumber)
	_, err := tls.Dial("tcp", b.https, &tls.Config{ServerName: "down.skerry.example", InsecureSkipVerify: true})
	assert.Error(t, err)
}

// limiting is an ACME server that has had enough orders, in front of one that has not.
func limiting(t *testing.T, ca authority) string {
	to, err := url.Parse(ca.directory)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM([]byte(ca.ca))
	pair, err := tls.LoadX509KeyPair(ca.cert, ca.cert)
	require.NoError(t, err)
	s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.Path, "order") {
			w.Header().Set("Content-Type", "application/problem+json")
			w.Header().Set("Retry-After", "3600")
			w.WriteHeader(http.StatusTooManyRequests)
			fmt.Fprint(w, `{"type":"urn:ietf:params:acme:error:rateLimited","detail":"too many for today","status":429}`)
			return
		}
		p := httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) {
			p.Out.URL.Scheme, p.Out.URL.Host = "https", to.Host
		}, Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, ServerName: "localhost"}}}
		p.ServeHTTP(w, r)
	}))
	s.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
	s.StartTLS()
	t.Cleanup(s.Close)
	return fmt.Sprintf("https://localhost:%d/dir", portOf(t, s.Listener.Addr().String()))
}

// Certificates that live for moments are renewed while requests come, and none of these fails.
func TestRenewal(t *testing.T) {
	service := httptest.NewServer(http.HandlerFunc(echo))
	defer service.Close()
	b := open(t, t.TempDir())
	ca := startAuthority(t, 30*time.Second, portOf(t, b.http), portOf(t, b.https), "")
	require.NoError(t, b.gate.SetSettings(sites.Settings{Lab: "skerry", HTTP: true, HTTPS: 443, Certificates: "acme", Authority: ca.directory, AuthorityCA: ca.ca}))
	require.NoError(t, b.gate.SetRoutes(t.Context(), "mast", []sites.Route{{Domain: "tides.skerry.example", Path: "/", Service: "mast/desk", Host: "127.0.0.1",
		Port: portOf(t, service.Listener.Addr().String())}}, 0))
	b.becomes("tides.skerry.example", isMade)
	first := b.shown("tides.skerry.example")
	var failed, done atomic.Int64
	stopped := make(chan struct{})
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			for {
				select {
				case <-stopped:
					return
				default:
				}
				// A connection for each: every handshake gets a certificate that is good now.
				conn, err := tls.Dial("tcp", b.https, &tls.Config{ServerName: "tides.skerry.example", InsecureSkipVerify: true})
				if err == nil {
					leaf := conn.ConnectionState().PeerCertificates[0]
					fmt.Fprint(conn, "GET / HTTP/1.1\r\nHost: tides.skerry.example\r\nConnection: close\r\n\r\n")
					var a *http.Response
					if a, err = http.ReadResponse(bufio.NewReader(conn), nil); err == nil && (a.StatusCode != 200 || time.Now().After(leaf.NotAfter)) {
						err = fmt.Errorf("%d, %s", a.StatusCode, leaf.NotAfter)
					}
					conn.Close()
				}
				if err != nil {
					t.Error(err)
					failed.Add(1)
				}
				done.Add(1)
			}
		})
	}
	renewed := func() bool { return b.shown("tides.skerry.example").SerialNumber.Cmp(first.SerialNumber) != 0 }
	assert.Eventually(t, renewed, 4*patience, 100*time.Millisecond)
	second := b.shown("tides.skerry.example")
	left := float64(time.Until(first.NotAfter)) / float64(first.NotAfter.Sub(first.NotBefore))
	assert.Greater(t, left, 0.0, "it was renewed in time")
	assert.True(t, second.NotAfter.After(first.NotAfter))
	close(stopped)
	wait.Wait()
	assert.Zero(t, failed.Load())
	t.Logf("%d requests; renewed with %.2f of its life left", done.Load(), left)
}

// By a name server that is changed, also for all names below a domain.
func TestDNSUpdate(t *testing.T) {
	const named = "/usr/sbin/named"
	if _, err := os.Stat(named); err != nil {
		t.Skip("there is no name server (Debian's package bind9): scripts/with-engines installs it")
	}
	port := freePort(t)
	dir := t.TempDir()
	key := base64.StdEncoding.EncodeToString([]byte("a key of the lamp room's own ...."))
	config := fmt.Sprintf(`options { directory %q; listen-on port %d { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; pid-file none; session-keyfile none; dnssec-validation no; };
controls { };
key "lamp" { algorithm hmac-sha256; secret %q; };
zone "skerry.example" { type primary; file "zone"; allow-update { key "lamp"; }; };
`, dir, port, key)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "named.conf"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "zone"), []byte(`$TTL 1
@ IN SOA ns hostmaster 1 60 60 60 1
@ IN NS ns
ns IN A 127.0.0.1
* IN A 127.0.0.1
`), 0o644))
	background(t, port, nil, named, "-g", "-c", filepath.Join(dir, "named.conf"))
	server := fmt.Sprint("127.0.0.1:", port)
	service := httptest.NewServer(http.HandlerFunc(echo))
	defer service.Close()
	b := open(t, t.TempDir())
	ca := startAuthority(t, time.Hour, 1, 1, server) // it would find no other sign
	settings := sites.Settings{Lab: "skerry", HTTPS: 443, Certificates: "acme", Authority: ca.directory, AuthorityCA: ca.ca, Domains: []sites.Domain{
		{Name: "skerry.example", DNS: &sites.DNSUpdate{Server: server, Zone: "skerry.example", KeyName: "lamp", Algorithm: "hmac-sha256", Key: key}},
	}}
	require.NoError(t, b.gate.SetSettings(settings))
	var routes []sites.Route
	for _, name := range []string{"*.skerry.example", "tides.skerry.example"} {
		routes = append(routes, sites.Route{Domain: name, Path: "/", Service: "mast/desk", Host: "127.0.0.1", Port: portOf(t, service.Listener.Addr().String())})
	}
	require.NoError(t, b.gate.SetRoutes(t.Context(), "mast", routes, 0))
	b.becomes("*.skerry.example", isMade)
	b.becomes("tides.skerry.example", isMade)
	assert.Equal(t, []string{"*.skerry.example"}, b.shown("lamp.skerry.example").DNSNames)
	assert.Equal(t, []string{"tides.skerry.example"}, b.shown("tides.skerry.example").DNSNames)
	question := new(dns.Msg)
	question.SetQuestion("_acme-challenge.skerry.example.", dns.TypeTXT)
	assert.Eventually(t, func() bool {
		answer, _, err := new(dns.Client).Exchange(question, server)
		return err == nil && len(answer.Answer) == 0
	}, patience, 50*time.Millisecond, "the sign is taken back")

	settings.Domains[0].DNS.Key = base64.StdEncoding.EncodeToString([]byte("somebody else's key"))
	require.NoError(t, b.gate.SetSettings(settings))
	require.NoError(t, b.gate.SetRoutes(t.Context(), "mast", append(routes, sites.Route{Domain: "log.skerry.example", Path: "/", Service: "mast/log", Host: "127.0.0.1", Port: 1}), 0))
	assert.Regexp(t, "name server .*(NOTAUTH|bad|signature|time)", b.becomes("log.skerry.example", failedToBeMade).Problem)
	assert.Equal(t, []string{"*.skerry.example"}, b.shown("log.skerry.example").DNSNames, "the other one is good for it meanwhile")
}
