//go:build linux

package cli_test

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/moby/moby/client"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// sitesText has every key of a gate; the lab's own authority speaks for it.
const sitesText = `
[let]
domain = "skerry.localhost"
[gate.lamp-room]
http = "localhost:%d"
https = "localhost:%d"
certificates = "own"
contact = "keeper@skerry.example"
authority = "https://ca.skerry.example/directory"
authority-ca = "ca.pem"
trusted-proxies = ["192.0.2.8"]
visitors = "shortened"
[domain."harbour.localhost"]
certificate = { chain = "harbour.pem", key = "harbour.key" }
[domain."fog.localhost"]
dns-update = { server = "127.0.0.1:9", zone = "fog.localhost", key-name = "lamp", algorithm = "hmac-sha512", key = { env-file = "dns.env", key = "TSIG" } }
[sign-in.keepers]
users = "keepers.users"
`

const siteStack = `[service.desk]
image = "%s"
overlap = true
ready = { http = "8080/", within = "20s" }
env.LEVEL = "%s"
sites = [%s]
%s`

// TestSites goes through the life of sites on each engine.
func TestSites(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("its gate is that of the demo")
		}
		b := newBench(t, target)
		b.alone()
		b.sites()
	})
}

// browser asks as somebody outside would, whatever the name.
func (b *bench) browser(httpPort, httpsPort int, roots *x509.CertPool) *http.Client {
	transport := &http.Transport{
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			port := httpPort
			if strings.HasSuffix(address, ":"+strconv.Itoa(httpsPort)) {
				port = httpsPort
			}
			return (&net.Dialer{}).DialContext(ctx, network, fmt.Sprint("127.0.0.1:", port))
		},
		TLSClientConfig: &tls.Config{RootCAs: roots}, MaxIdleConnsPerHost: 64,
	}
	b.t.Cleanup(transport.CloseIdleConnections)
	return &http.Client{
		Transport: transport, Timeout: 30 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
}

// authorities are those of the lab's own, by lantern itself.
func (b *bench) authorities() *x509.CertPool {
	file := filepath.Join(b.t.TempDir(), "own.pem")
	b.run(0, "sites", "--trust", "-o", file)
	text, err := os.ReadFile(file)
	require.NoError(b.t, err)
	roots := x509.NewCertPool()
	require.True(b.t, roots.AppendCertsFromPEM(text))
	return roots
}

func (b *bench) sites() {
	t := b.t
	plain, secure := freePort(t), freePort(t)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address)+fmt.Sprintf(sitesText, plain, secure))
	b.write("ca.pem", "not used by an authority of the lab's own\n")
	certificates(t, filepath.Join(b.dir, "tls"))
	for from, to := range map[string]string{"tls/lantern.pem": "harbour.pem", "tls/lantern.key": "harbour.key"} {
		require.NoError(t, os.Rename(filepath.Join(b.dir, from), filepath.Join(b.dir, to)))
	}
	require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "tls")))
	b.write("dns.env", "TSIG=bGFtcA==\n")
	b.write("moon.txt", "moonrise\n")
	b.run(0, "password", "keepers.users", "maren", "--from", filepath.Join(b.dir, "moon.txt"))
	require.NoError(t, os.Remove(filepath.Join(b.dir, "moon.txt")))
	stack := func(level, sites, more string) {
		b.write("mast/stack.toml", fmt.Sprintf(siteStack, enginetest.Page, level, sites, more))
	}
	const first = `"tides.${domain} -> 8080", "${domain}/keep -> 8080, strip, sign-in keepers"`
	stack("1", first, "")
	_, stderr := b.run(0, "deploy", "--yes")
	assert.Contains(t, stderr, "gate-lamp-room/gate")
	client := b.browser(plain, secure, b.authorities())
	get := func(url string, header ...string) (int, string) {
		r, err := http.NewRequest(http.MethodGet, strings.NewReplacer("SECURE", strconv.Itoa(secure), "PLAIN", strconv.Itoa(plain)).Replace(url), nil)
		require.NoError(t, err)
		for i := 0; i+1 < len(header); i += 2 {
			r.SetBasicAuth(header[i], header[i+1])
		}
		a, err := client.Do(r)
		require.NoError(t, err, url)
		defer a.Body.Close()
		text, _ := io.ReadAll(a.Body)
		return a.StatusCode, string(text) + a.Header.Get("Location")
	}
	status, text := get("https://tides.skerry.localhost:SECURE/")
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "LEVEL=1")
	status, text = get("http://tides.skerry.localhost:PLAIN/x")
	assert.Equal(t, 308, status)
	assert.Contains(t, text, fmt.Sprintf("https://tides.skerry.localhost:%d/x", secure))
	status, _ = get("https://skerry.localhost:SECURE/keep/")
	assert.Equal(t, 401, status)
	status, _ = get("https://skerry.localhost:SECURE/keep/", "maren", "moonrise")
	assert.Equal(t, 200, status)

	// Right after its own deploy nothing is to be done, and nothing is found.
	stdout, _ := b.run(0, "check", "--strict")
	assert.Contains(t, stdout, "0 errors, 0 warnings")
	stdout, _ = b.run(0, "compare")
	assert.Equal(t, "gate-lamp-room on lamp-room: up to date\nmast on lamp-room: up to date\n", stdout)

	// What the engine says of the gate, and of what is behind it.
	gate := b.lab() + ".gate-lamp-room"
	r, err := b.api().ContainerInspect(t.Context(), gate, asUsual)
	require.NoError(t, err)
	c := r.Container
	assert.True(t, c.HostConfig.ReadonlyRootfs)
	assert.Equal(t, "61000:61000", c.Config.User)
	assert.False(t, c.HostConfig.Privileged)
	assert.Empty(t, c.HostConfig.CapAdd)
	assert.NotEmpty(t, c.HostConfig.CapDrop)
	require.Len(t, c.Mounts, 1, "its state, and no socket of an engine")
	assert.Equal(t, "/state", c.Mounts[0].Destination)
	assert.Equal(t, gate, c.Mounts[0].Name)
	facts, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", c.State.Pid))
	require.NoError(t, err)
	assert.Contains(t, string(facts), "CapEff:\t0000000000000000")
	assert.Contains(t, string(facts), "CapBnd:\t0000000000000000")
	desk, err := b.api().ContainerInspect(t.Context(), "mast.desk", asUsual)
	require.NoError(t, err)
	assert.Empty(t, desk.Container.HostConfig.PortBindings)

	// Another site is a line and a deploy, and no service starts anew.
	before := b.containers()["mast.desk"].ID
	stack("1", first+`, "log.${domain} -> 8080"`, "")
	stdout, _ = b.run(0, "deploy", "--dry-run")
	assert.Contains(t, stdout, "log.skerry.localhost -> mast/desk:8080")
	b.run(0, "deploy", "--yes")
	assert.Equal(t, before, b.containers()["mast.desk"].ID)
	require.Eventually(t, func() bool {
		a, err := client.Get(fmt.Sprintf("https://log.skerry.localhost:%d/", secure))
		if err == nil {
			a.Body.Close()
		}
		return err == nil && a.StatusCode == 200
	}, 30*time.Second, 50*time.Millisecond)

	// Somebody new may sign in after a deploy, without a restart of the gate.
	b.write("moon.txt", "moonset")
	b.run(0, "password", "keepers.users", "tor", "--from", filepath.Join(b.dir, "moon.txt"))
	open := b.containers()[gate].Started
	b.run(0, "deploy", "--yes")
	status, _ = get("https://skerry.localhost:SECURE/keep/", "tor", "moonset")
	assert.Equal(t, 200, status)
	assert.Equal(t, open, b.containers()[gate].Started)

	b.replacedUnderLoad(client, secure, func(level, more string) { stack(level, first, more) })

	// What lantern tells of it.
	stdout, _ = b.run(0, "sites", "--format", "json")
	var list render.SiteList
	require.NoError(t, json.Unmarshal([]byte(stdout), &list))
	require.Len(t, list.Sites, 2)
	one := list.Sites[0]
	assert.Equal(t, "tides.skerry.localhost", one.Site)
	assert.Equal(t, fmt.Sprintf("https://tides.skerry.localhost:%d/", secure), one.URL)
	assert.Equal(t, [2]string{"mast", "desk"}, [2]string{one.Stack, one.Service})
	assert.True(t, one.Answers.Gate && one.Answers.Here, "%+v", one.Answers)
	assert.Equal(t, 200, one.Answers.Status)
	assert.Equal(t, "own", one.Certificate.Kind)
	assert.Greater(t, one.Requests, 50)
	assert.Zero(t, one.Errors)
	stdout, _ = b.run(0, "sites", "--visits", "tides.skerry.localhost", "--format", "json")
	var visits render.VisitList
	require.NoError(t, json.Unmarshal([]byte(stdout), &visits))
	require.Len(t, visits.Visits, 1)
	assert.Equal(t, 1, visits.Visits[0].Visitors)
	assert.Equal(t, "/", visits.Visits[0].Paths[0].Path)
	for _, picture := range []string{"v.png", "v.svg"} {
		b.run(0, "sites", "--visits", "-o", filepath.Join(t.TempDir(), picture))
	}
	b.run(0, "prove")
	b.run(0, "status")

	// A gate that starts again finds what is behind it by itself.
	b.run(0, "restart", "gate-lamp-room")
	require.Eventually(t, func() bool {
		a, err := client.Get(fmt.Sprintf("https://tides.skerry.localhost:%d/", secure))
		if err == nil {
			a.Body.Close()
		}
		return err == nil && a.StatusCode == 200
	}, 30*time.Second, 50*time.Millisecond)

	// What is retired leads nowhere; and at last nothing is left.
	b.run(0, "retire", "mast", "--yes")
	_, err = client.Get(fmt.Sprintf("https://tides.skerry.localhost:%d/", secure))
	assert.Error(t, err)
	b.run(0, "retire", "gate-lamp-room", "--with-volumes", "--yes")
	assert.Empty(t, b.containers())
}

// asUsual asks for nothing beyond the usual.
var asUsual client.ContainerInspectOptions

// replacedUnderLoad replaces the service while requests come, and lets one replacement fail: no request does.
func (b *bench) replacedUnderLoad(client *http.Client, secure int, stack func(level, more string)) {
	t := b.t
	number := func(name string, otherwise int) int {
		n, _ := strconv.Atoi(cmp.Or(os.Getenv(name), strconv.Itoa(otherwise)))
		return n
	}
	// The machine of the tests has other things to do; where it has not, more can be asked of it.
	rate, times := number("LANTERN_TEST_RATE", 50), number("LANTERN_TEST_REPLACEMENTS", 2)
	end := underLoad(t, rate, func() (*http.Response, error) {
		return client.Post(fmt.Sprintf("https://tides.skerry.localhost:%d/", secure), "text/plain", strings.NewReader("body"))
	})
	for i := range times {
		before := b.containers()["mast.desk"].ID
		stack(fmt.Sprint("load ", i), "")
		b.run(0, "deploy", "--yes")
		assert.NotEqual(t, before, b.containers()["mast.desk"].ID)
	}
	// One that never becomes ready, and one whose page is not there: both are put back, and nobody noticed.
	before := b.containers()["mast.desk"]
	for _, more := range []string{"env.PROBE_NEVER_READY = \"1\"\n", "page = \"8099/\"\n"} {
		stack("never", more)
		text := b.read("mast/stack.toml")
		b.write("mast/stack.toml", strings.Replace(text, "within = \"20s\"", "within = \"3s\"", 1))
		b.run(4, "deploy", "--yes", "--despite", "page-unpublished", "--despite", "ready-unreachable")
		now := b.containers()["mast.desk"]
		assert.Equal(t, [2]any{before.ID, before.Started}, [2]any{now.ID, now.Started}, "%s: it has never been stopped", more)
	}
	stack(fmt.Sprint("load ", times-1), "")
	b.run(0, "deploy", "--yes")
	end()
}

// underLoad asks so many times a second until end is called, which demands that no request has failed.
func underLoad(t *testing.T, rate int, ask func() (*http.Response, error)) (end func()) {
	stopped := make(chan struct{})
	var asked, failed atomic.Int64
	var wait sync.WaitGroup
	const workers = 10
	for range workers {
		wait.Go(func() {
			ticks := time.NewTicker(time.Second * workers / time.Duration(rate))
			defer ticks.Stop()
			for {
				select {
				case <-stopped:
					return
				case <-ticks.C:
				}
				a, err := ask()
				asked.Add(1)
				if err == nil {
					_, err = io.Copy(io.Discard, a.Body)
					a.Body.Close()
					if a.StatusCode != 200 {
						err = fmt.Errorf("status %d", a.StatusCode)
					}
				}
				if err != nil && failed.Add(1) < 10 {
					t.Error(time.Now(), err)
				}
			}
		})
	}
	began := time.Now()
	stop := sync.OnceFunc(func() { close(stopped) })
	t.Cleanup(func() {
		stop()
		wait.Wait()
	})
	return func() {
		require.Eventually(t, func() bool { return asked.Load() > 100 }, time.Minute, 50*time.Millisecond)
		stop()
		wait.Wait()
		t.Logf("%d requests in %s, %d failed", asked.Load(), time.Since(began).Round(time.Second), failed.Load())
		assert.Zero(t, failed.Load())
		assert.Greater(t, asked.Load(), int64(50))
	}
}

// Somebody's password is asked for twice on a terminal, shows nowhere, and stands in the file as a hash alone.
func TestPassword(t *testing.T) {
	_, address := enginetest.StartStandIn(t, standin.Options{})
	b := newBench(t, enginetest.Target{Name: "stand-in", Address: address})
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address))
	b.write("keepers.users", "# who keeps the lamp\nold:$2a$10$"+strings.Repeat("a", 53)+"\n")
	c := b.console(100, 30, "password", "keepers.users", "maren")
	c.shows("Password of maren")
	c.types("moonrise\r")
	c.shows("once more")
	c.types("moonrise\r")
	c.shows("added maren to keepers.users")
	c.hides("moonrise")
	c.ends(0)
	text := b.read("keepers.users")
	assert.Regexp(t, `^# who keeps the lamp\nold:\$2a\$10\$a+\nmaren:\$2a\$12\$.{53}\n$`, text)
	_, hash, _ := strings.Cut(strings.TrimSpace(text[strings.Index(text, "maren"):]), ":")
	assert.NoError(t, bcrypt.CompareHashAndPassword([]byte(hash), []byte("moonrise")))
	c = b.console(100, 30, "password", "keepers.users", "maren")
	c.shows("Password of maren")
	c.types("moonset\r")
	c.shows("once more")
	c.types("sunset\r")
	c.shows("two different passwords")
	c.ends(2)
	assert.Equal(t, text, b.read("keepers.users"))
	b.write("moon", "moonset\n")
	_, stderr := b.run(0, "password", "keepers.users", "maren", "--from", filepath.Join(b.dir, "moon"))
	assert.Contains(t, stderr, "changed the password of maren")
	assert.Equal(t, 1, strings.Count(b.read("keepers.users"), "maren:"))
	b.run(0, "password", "new.users", "maren", "--from", filepath.Join(b.dir, "moon"))
	info, err := os.Stat(filepath.Join(b.dir, "new.users"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	b.write("long", strings.Repeat("m", 73))
	for _, wrong := range [][]string{
		{"password"}, {"password", "keepers.users"}, {"password", "keepers.users", "a:b"}, {"password", "../keepers.users", "maren", "--from", filepath.Join(b.dir, "moon")},
		{"password", "keepers.users", "maren", "--from", filepath.Join(b.dir, "long")}, {"password", "keepers.users", "maren"}, {"sites", "--visits", "--trust"},
		{"sites", "tides.skerry.example"}, {"sites"}, {"sites", "--visits", "-o", "visits.gif"},
	} {
		b.run(2, wrong...)
	}
}
