package gate

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httptrace"
	"net/netip"
	"net/textproto"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/bcrypt"

	"proudlantern.example/lantern/core/sites"
)

// patience is how long something may take that takes moments on an idle machine.
const patience = 30 * time.Second

// bench is a gate that runs in a test, with what it has said.
type bench struct {
	*testing.T
	gate        *Gate
	http, https string // addresses
	folder      string
	log         *said
	roots       *x509.CertPool
	end         func()
}

// said collects what is written at any time.
type said struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

func listen(t *testing.T) net.Listener {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	return l
}

// open starts a gate on a folder.
func open(t *testing.T, folder string, change ...func(*Options)) *bench {
	b := &bench{T: t, folder: folder, log: &said{}}
	o := Options{Folder: folder, HTTP: listen(t), HTTPS: listen(t), Log: b.log}
	for _, c := range change {
		c(&o)
	}
	b.http, b.https = o.HTTP.Addr().String(), o.HTTPS.Addr().String()
	var err error
	b.gate, err = New(o)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- b.gate.Serve(ctx) }()
	b.end = sync.OnceFunc(func() {
		stop()
		assert.NoError(t, <-ended)
	})
	t.Cleanup(b.end)
	return b
}

// own is a gate with an authority of its own, and what leads where; a % in a host stands for the address of a service.
func own(t *testing.T, service http.Handler, routes ...sites.Route) *bench {
	b := open(t, t.TempDir())
	server := httptest.NewServer(service)
	t.Cleanup(server.Close)
	require.NoError(t, b.gate.SetSettings(sites.Settings{Lab: "skerry", HTTP: true, HTTPS: 443, Certificates: "own", SignIns: users(t)}))
	b.lead("mast", server, routes...)
	return b
}

func (b *bench) lead(stack string, server *httptest.Server, routes ...sites.Route) {
	host, port, err := net.SplitHostPort(server.Listener.Addr().String())
	require.NoError(b, err)
	for i := range routes {
		routes[i].Host = host
		fmt.Sscan(port, &routes[i].Port)
		if routes[i].Service == "" {
			routes[i].Service = stack + "/desk"
		}
		if routes[i].Path == "" {
			routes[i].Path = "/"
		}
	}
	require.NoError(b, b.gate.SetRoutes(b.Context(), stack, routes, 0))
	b.trusted()
}

// trusted waits until all certificates are made, and trusts them.
func (b *bench) trusted() {
	require.Eventually(b, func() bool {
		for _, c := range b.gate.certs.all() {
			if c.Problem != "" {
				return false
			}
		}
		return true
	}, patience, 5*time.Millisecond)
	pem, err := b.gate.Authorities()
	require.NoError(b, err)
	b.roots = x509.NewCertPool()
	b.roots.AppendCertsFromPEM([]byte(pem))
}

var keepers = sync.OnceValue(func() map[string]map[string]string {
	hash, err := bcrypt.GenerateFromPassword([]byte("moonrise"), bcrypt.MinCost+2)
	if err != nil {
		panic(err)
	}
	return map[string]map[string]string{"keepers": {"maren": string(hash)}}
})

func users(*testing.T) map[string]map[string]string { return keepers() }

// client asks the gate whatever the name.
func (b *bench) client() *http.Client {
	t := &http.Transport{
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			at := b.http
			if strings.HasSuffix(address, ":443") {
				at = b.https
			}
			return (&net.Dialer{}).DialContext(ctx, network, at)
		},
		TLSClientConfig: &tls.Config{RootCAs: b.roots}, ForceAttemptHTTP2: true, DisableCompression: true,
	}
	b.Cleanup(t.CloseIdleConnections)
	return &http.Client{Transport: t, Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

func (b *bench) get(url string, header ...string) (*http.Response, string) {
	r, err := http.NewRequest(http.MethodGet, url, nil)
	require.NoError(b, err)
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Add(header[i], header[i+1])
	}
	a, err := b.client().Do(r)
	require.NoError(b, err, url)
	defer a.Body.Close()
	text, err := io.ReadAll(a.Body)
	require.NoError(b, err)
	return a, string(text)
}

// raw sends bytes to the plain port and returns the first answer.
func (b *bench) raw(request string) (*http.Response, string) {
	conn, err := net.Dial("tcp", b.http)
	require.NoError(b, err)
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(patience))
	_, err = io.WriteString(conn, request)
	require.NoError(b, err)
	a, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(b, err, "%q", request)
	defer a.Body.Close()
	text, _ := io.ReadAll(a.Body)
	return a, string(text)
}

// echo tells what a service was asked.
func echo(w http.ResponseWriter, r *http.Request) {
	fmt.Fprintf(w, "%s %s host=%s\n", r.Method, r.RequestURI, r.Host)
	r.Header.Write(w)
}

func TestWhereRequestsGo(t *testing.T) {
	b := own(t, http.HandlerFunc(echo),
		sites.Route{Domain: "tides.skerry.example", Plain: true},
		sites.Route{Domain: "tides.skerry.example", Path: "/charts", Strip: true, Plain: true, Service: "mast/charts"},
		sites.Route{Domain: "tides.skerry.example", Path: "/keep", SignIn: "keepers"},
		sites.Route{Domain: "tides.skerry.example", Path: "/inner", Plain: true, From: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}},
		sites.Route{Domain: "tides.skerry.example", Path: "/outer", Plain: true, From: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}},
		sites.Route{Domain: "*.rooms.skerry.example", Plain: true},
		sites.Route{Domain: "secure.skerry.example"},
	)
	for _, c := range []struct {
		url    string
		status int
		says   string // the service, or where it leads to
	}{
		{"http://tides.skerry.example/", 200, "GET / host=tides.skerry.example"},
		{"http://TIDES.Skerry.Example:8080/a?b=%41&c;d", 200, "GET /a?b=%41&c;d host=TIDES.Skerry.Example:8080"},
		{"http://tides.skerry.example./", 200, "GET / host=tides.skerry.example."},
		{"http://tides.skerry.example/charts/north%20sea", 200, "GET /north%20sea "},
		{"http://tides.skerry.example/charts/a%2Fb", 200, "GET /a%2Fb "},
		{"http://tides.skerry.example/charts", 308, "/charts/"},
		{"http://tides.skerry.example/charts?y=1", 308, "/charts/?y=1"},
		{"http://tides.skerry.example/chartsroom", 200, "GET /chartsroom "},
		{"http://tides.skerry.example/%63harts/x", 200, "GET /x "},
		{"http://tides.skerry.example/inner", 403, ""},
		{"http://tides.skerry.example/outer", 200, "GET /outer"},
		{"http://lamp.rooms.skerry.example/", 200, "GET / host=lamp.rooms.skerry.example"},
		{"http://rooms.skerry.example/", 421, ""}, // a wildcard does not cover the bare domain
		{"http://a.b.rooms.skerry.example/", 421, ""},
		{"http://other.example/", 421, ""},
		{"http://127.0.0.1/", 421, ""},
		{"http://secure.skerry.example/x?y", 308, "https://secure.skerry.example/x?y"},
		{"http://secure.skerry.example:8080/x", 308, "https://secure.skerry.example/x"},
		{"https://secure.skerry.example/x", 200, "GET /x "},
		{"http://tides.skerry.example/keep", 308, "https://tides.skerry.example/keep"}, // nobody is asked for a password before
		{"https://tides.skerry.example/keep", 401, ""},
		// What programs read in different ways leads nowhere.
		{"http://tides.skerry.example/a/../keep", 400, ""},
		{"http://tides.skerry.example/a/%2e%2E/keep", 400, ""},
		{"http://tides.skerry.example/a%2f..%2fkeep", 400, ""},
		{"http://tides.skerry.example/a/%252e%252e/keep", 400, ""},
		{"http://tides.skerry.example/a%5c..%5ckeep", 400, ""},
		{"http://tides.skerry.example/a/..;x/keep", 400, ""},
		{"http://tides.skerry.example/a%00b", 400, ""},
		{"http://tides.skerry.example//keep", 308, "https://tides.skerry.example//keep"},
		{"http://tides.skerry.example/x/..keep", 200, "GET /x/..keep"},
	} {
		a, text := b.get(c.url)
		assert.Equal(t, c.status, a.StatusCode, c.url)
		if c.status == 308 {
			text = a.Header.Get("Location")
			assert.Equal(t, c.says, text, c.url)
		}
		assert.True(t, strings.HasPrefix(text, c.says) || c.status >= 400, "%s: %s", c.url, text)
	}
	// Of a name without a site a client learns nothing, neither by TLS nor behind another name.
	_, err := tls.Dial("tcp", b.https, &tls.Config{ServerName: "other.example", RootCAs: b.roots})
	assert.ErrorContains(t, err, "unrecognized name")
	_, err = tls.Dial("tcp", b.https, &tls.Config{InsecureSkipVerify: true})
	assert.ErrorContains(t, err, "unrecognized name")
	conn, err := tls.Dial("tcp", b.https, &tls.Config{ServerName: "secure.skerry.example", RootCAs: b.roots})
	require.NoError(t, err)
	defer conn.Close()
	io.WriteString(conn, "GET / HTTP/1.1\r\nHost: tides.skerry.example\r\n\r\n")
	a, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	assert.Equal(t, http.StatusMisdirectedRequest, a.StatusCode, "a request behind another name's certificate")
	_, err = tls.Dial("tcp", b.https, &tls.Config{ServerName: "secure.skerry.example", RootCAs: b.roots, MaxVersion: tls.VersionTLS11})
	assert.Error(t, err)
}

// Requests that two programs could take apart in different ways are refused, or reach the service in one way only.
func TestSmuggling(t *testing.T) {
	var mu sync.Mutex
	var reached []string
	b := own(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		if r.Header.Get("X-Forwarded-For") == "" {
			reached = append(reached, "past the gate")
		}
		reached = append(reached, r.Method+" "+r.RequestURI+" "+string(body))
		mu.Unlock()
	}), sites.Route{Domain: "tides.skerry.example", Plain: true})
	const inner = "GET /smuggled HTTP/1.1\r\nHost: tides.skerry.example\r\n\r\n"
	for name, request := range map[string]string{
		"length and chunks":        "POST / HTTP/1.1\r\nHost: tides.skerry.example\r\nContent-Length: 4\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n" + inner,
		"two lengths":              "POST / HTTP/1.1\r\nHost: tides.skerry.example\r\nContent-Length: 0\r\nContent-Length: 60\r\n\r\n" + inner,
		"a list of lengths":        "POST / HTTP/1.1\r\nHost: tides.skerry.example\r\nContent-Length: 0, 60\r\n\r\n" + inner,
		"a sign before the length": "POST / HTTP/1.1\r\nHost: tides.skerry.example\r\nContent-Length: +0\r\n\r\n" + inner,
		"chunks by another name":   "POST / HTTP/1.1\r\nHost: tides.skerry.example\r\nTransfer-Encoding: xchunked\r\n\r\n0\r\n\r\n" + inner,
		"chunks twice":             "POST / HTTP/1.1\r\nHost: tides.skerry.example\r\nTransfer-Encoding: chunked, chunked\r\n\r\n0\r\n\r\n" + inner,
		"a blank before the colon": "POST / HTTP/1.1\r\nHost: tides.skerry.example\r\nTransfer-Encoding : chunked\r\n\r\n0\r\n\r\n" + inner,
		"a folded line":            "POST / HTTP/1.1\r\nHost: tides.skerry.example\r\nX: a\r\n b: c\r\nTransfer-Encoding:\r\n chunked\r\n\r\n0\r\n\r\n" + inner,
		"two hosts":                "GET / HTTP/1.1\r\nHost: tides.skerry.example\r\nHost: other.example\r\n\r\n",
		"no host":                  "GET / HTTP/1.1\r\n\r\n",
		"a line in a header":       "GET / HTTP/1.1\r\nHost: tides.skerry.example\r\nX: a\rGET /smuggled HTTP/1.1\r\n\r\n",
		"a zero byte":              "GET / HTTP/1.1\r\nHost: tides.skerry.example\r\nX: a\x00b\r\n\r\n",
		"an odd version":           "GET / HTTP/9.1\r\nHost: tides.skerry.example\r\n\r\n",
		"a long header":            "GET / HTTP/1.1\r\nHost: tides.skerry.example\r\nX: " + strings.Repeat("a", 100<<10) + "\r\n\r\n",
		"a host with a path":       "GET / HTTP/1.1\r\nHost: tides.skerry.example/x\r\n\r\n",
		"another absolute form":    "GET http://other.example/ HTTP/1.1\r\nHost: tides.skerry.example\r\n\r\n",
		"a tunnel":                 "CONNECT tides.skerry.example:80 HTTP/1.1\r\nHost: tides.skerry.example:80\r\n\r\n",
	} {
		a, _ := b.raw(request)
		if a.StatusCode == 200 && slices.Contains([]string{"length and chunks", "a folded line"}, name) {
			continue // chunks count (RFC 9112, 6.3): what follows is a request of its own, to the gate as well
		}
		assert.GreaterOrEqual(t, a.StatusCode, 400, name)
	}
	a, _ := b.raw("GET http://tides.skerry.example/absolute HTTP/1.1\r\nHost: other.example\r\n\r\n") // RFC 9112, 3.2.2
	assert.Equal(t, 200, a.StatusCode)
	mu.Lock()
	defer mu.Unlock()
	assert.NotContains(t, reached, "past the gate")
	assert.Contains(t, reached, "GET /absolute ")
}

func TestForwardingHeaders(t *testing.T) {
	b := own(t, http.HandlerFunc(echo), sites.Route{Domain: "tides.skerry.example", Plain: true})
	said := []string{"X-Forwarded-For", "203.0.113.9", "X-Forwarded-Proto", "gopher", "X-Forwarded-Host", "evil.example", "Forwarded", "for=203.0.113.9",
		"X-Real-IP", "203.0.113.9", "X_Forwarded_For", "203.0.113.8", "X-Forwarded-User", "root", "X-Original-URL", "/keep", "Connection", "X-Forwarded-For, X-Sign"}
	_, text := b.get("http://tides.skerry.example/", said...)
	assert.NotContains(t, text, "203.0.113")
	assert.NotContains(t, text, "evil")
	assert.NotContains(t, text, "root")
	assert.NotContains(t, text, "/keep")
	for _, want := range []string{"X-Forwarded-For: 127.0.0.1\r\n", "X-Forwarded-Proto: http\r\n", "X-Forwarded-Host: tides.skerry.example\r\n",
		"Forwarded: for=127.0.0.1;host=\"tides.skerry.example\";proto=http\r\n", "X-Real-Ip: 127.0.0.1\r\n"} {
		assert.Contains(t, text, want)
	}
	settings, _ := b.gate.store.all()
	settings.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("198.51.100.7/32")}
	require.NoError(t, b.gate.SetSettings(settings))
	_, text = b.get("http://tides.skerry.example/", "X-Forwarded-For", "10.0.0.1, 203.0.113.9, 198.51.100.7", "X-Forwarded-Proto", "https")
	assert.Contains(t, text, "X-Real-Ip: 203.0.113.9\r\n", "the last one that is no proxy of ours")
	assert.Contains(t, text, "X-Forwarded-For: 10.0.0.1, 203.0.113.9, 198.51.100.7, 127.0.0.1\r\n")
	assert.Contains(t, text, "X-Forwarded-Proto: https\r\n")
}

// What a client gets through the gate is what the service itself answers.
func TestConformance(t *testing.T) {
	file := strings.Repeat("the tide comes and goes\n", 5000)
	service := http.NewServeMux()
	service.HandleFunc("/file", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Etag", `"tide"`)
		http.ServeContent(w, r, "tides.txt", time.Unix(1_700_000_000, 0), strings.NewReader(file))
	})
	service.HandleFunc("/trailers", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Trailer", "Sum")
		io.WriteString(w, "text")
		w.Header().Set("Sum", "4")
		w.Header().Set(http.TrailerPrefix+"Late", "yes")
	})
	service.HandleFunc("/early", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Link", "</style.css>; rel=preload")
		w.WriteHeader(http.StatusEarlyHints)
		io.WriteString(w, "late")
	})
	service.HandleFunc("/empty", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusNoContent) })
	service.HandleFunc("/cookies", func(w http.ResponseWriter, r *http.Request) {
		w.Header()["Set-Cookie"] = []string{"a=1; Path=/", "b=2; HttpOnly"}
		w.Header().Set("X-Odd", "\x80\xff")
		w.WriteHeader(http.StatusTeapot)
	})
	service.HandleFunc("/upload", func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		fmt.Fprint(w, n, r.ContentLength, r.TransferEncoding, r.Trailer)
	})
	service.HandleFunc("/stream", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/event-stream")
		for i := range 3 {
			fmt.Fprintf(w, "data: %d\n\n", i)
			http.NewResponseController(w).Flush()
		}
	})
	b := own(t, service, sites.Route{Domain: "tides.skerry.example", Plain: true})
	direct := httptest.NewServer(service)
	defer direct.Close()
	ask := func(client *http.Client, base, method, path string, body io.Reader, header map[string]string) string {
		r, err := http.NewRequest(method, base+path, body)
		require.NoError(t, err)
		for k, v := range header {
			r.Header.Set(k, v)
		}
		var early []string
		trace := r.WithContext(httptrace.WithClientTrace(r.Context(), &httptrace.ClientTrace{Got1xxResponse: func(code int, h textproto.MIMEHeader) error {
			if code != http.StatusContinue {
				early = append(early, fmt.Sprint(code, h.Get("Link")))
			}
			return nil
		}}))
		a, err := client.Do(trace)
		require.NoError(t, err, path)
		defer a.Body.Close()
		text, err := io.ReadAll(a.Body)
		require.NoError(t, err, path)
		a.Header.Del("Date")
		out := &bytes.Buffer{}
		fmt.Fprintln(out, a.StatusCode, a.ContentLength, early)
		a.Header.Write(out)
		a.Trailer.Write(out)
		out.Write(text)
		return out.String()
	}
	h1 := &http.Client{Timeout: patience, Transport: &http.Transport{DisableCompression: true, DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, b.http)
	}}}
	for _, c := range []struct {
		method, path string
		body         string
		header       map[string]string
	}{
		{method: "GET", path: "/file"}, {method: "HEAD", path: "/file"},
		{method: "GET", path: "/file", header: map[string]string{"Range": "bytes=10-29"}},
		{method: "GET", path: "/file", header: map[string]string{"Range": "bytes=-7"}},
		{method: "GET", path: "/file", header: map[string]string{"Range": "bytes=999999-"}},
		{method: "GET", path: "/file", header: map[string]string{"If-None-Match": `"tide"`}},
		{method: "GET", path: "/trailers", header: map[string]string{"Te": "trailers"}},
		{method: "GET", path: "/early"}, {method: "GET", path: "/empty"}, {method: "DELETE", path: "/cookies"}, {method: "GET", path: "/none"},
		{method: "POST", path: "/upload", body: file}, {method: "PUT", path: "/upload", body: file, header: map[string]string{"Expect": "100-continue"}},
		{method: "POST", path: "/upload", body: ""}, {method: "GET", path: "/stream"}, {method: "OPTIONS", path: "/cookies"},
	} {
		body := func() io.Reader {
			if c.body == "" {
				return nil
			}
			return strings.NewReader(c.body)
		}
		want := ask(http.DefaultClient, direct.URL, c.method, c.path, body(), c.header)
		assert.Equal(t, want, ask(h1, "http://tides.skerry.example", c.method, c.path, body(), c.header), "%s %s", c.method, c.path)
		if c.path != "/trailers" { // HTTP/2 announces trailers otherwise
			second := ask(b.client(), "https://tides.skerry.example", c.method, c.path, body(), c.header)
			assert.Equal(t, want, second, "%s %s by HTTP/2", c.method, c.path)
		}
	}
	chunked := ask(h1, "http://tides.skerry.example", "POST", "/upload", io.MultiReader(strings.NewReader("of unknown length")), nil)
	assert.Contains(t, chunked, "17 -1 [chunked] map[]")
}

// A connection that becomes something else goes on byte for byte, both ways, and ends with either side.
func TestUpgrade(t *testing.T) {
	b := own(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		conn, buffer, err := http.NewResponseController(w).Hijack()
		if err != nil {
			return
		}
		defer conn.Close()
		fmt.Fprintf(buffer, "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: %s\r\n\r\n", r.Header.Get("Upgrade"))
		buffer.Flush()
		io.Copy(conn, buffer)
	}), sites.Route{Domain: "tides.skerry.example", Plain: true})
	conn, err := net.Dial("tcp", b.http)
	require.NoError(t, err)
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(patience))
	fmt.Fprintf(conn, "GET /socket HTTP/1.1\r\nHost: tides.skerry.example\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\r\n")
	reader := bufio.NewReader(conn)
	a, err := http.ReadResponse(reader, nil)
	require.NoError(t, err)
	assert.Equal(t, http.StatusSwitchingProtocols, a.StatusCode)
	assert.Equal(t, "websocket", a.Header.Get("Upgrade"))
	sent := bytes.Repeat([]byte("ping\x00\xff"), 20_000)
	go conn.Write(sent)
	got := make([]byte, len(sent))
	_, err = io.ReadFull(reader, got)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(sent, got))
}

func TestSignIn(t *testing.T) {
	clock := time.Date(2026, 10, 3, 12, 0, 0, 0, time.UTC)
	var mu sync.Mutex
	now := func() time.Time {
		mu.Lock()
		defer mu.Unlock()
		return clock
	}
	b := open(t, t.TempDir(), func(o *Options) { o.Now = now })
	server := httptest.NewServer(http.HandlerFunc(echo))
	t.Cleanup(server.Close)
	require.NoError(t, b.gate.SetSettings(sites.Settings{Lab: "skerry", HTTP: true, Certificates: "none", SignIns: users(t)}))
	b.lead("mast", server, sites.Route{Domain: "tides.skerry.example", SignIn: "keepers"},
		sites.Route{Domain: "pass.skerry.example", SignIn: "keepers", PassSignIn: true}, sites.Route{Domain: "none.skerry.example", SignIn: "nobody"})
	try := func(host, user, password string) (int, string, time.Duration) {
		r, err := http.NewRequest(http.MethodGet, "http://"+host+"/", nil)
		require.NoError(t, err)
		if user != "" {
			r.SetBasicAuth(user, password)
		}
		began := time.Now()
		a, err := b.client().Do(r)
		require.NoError(t, err)
		defer a.Body.Close()
		text, _ := io.ReadAll(a.Body)
		return a.StatusCode, string(text) + a.Header.Get("WWW-Authenticate") + a.Header.Get("Retry-After"), time.Since(began)
	}
	status, text, _ := try("tides.skerry.example", "", "")
	assert.Equal(t, 401, status)
	assert.Contains(t, text, `Basic realm="keepers", charset="UTF-8"`)
	status, text, _ = try("tides.skerry.example", "maren", "moonrise")
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, "Authorization", "the service does not see the password")
	status, text, _ = try("pass.skerry.example", "maren", "moonrise")
	assert.Equal(t, 200, status)
	assert.Contains(t, text, "Authorization: Basic")
	for _, wrong := range [][2]string{{"maren", "moonset"}, {"tor", "moonrise"}, {"maren", ""}, {"maren", strings.Repeat("m", 100)}} {
		status, _, _ = try("tides.skerry.example", wrong[0], wrong[1])
		assert.Equal(t, 401, status, "%v", wrong)
	}
	status, _, _ = try("none.skerry.example", "maren", "moonrise")
	assert.Equal(t, 401, status, "a sign-in that is not there lets nobody in")
	refused := 0
	for i := range 60 { // a flood
		status, text, _ = try("tides.skerry.example", fmt.Sprint("guess", i), "x")
		if status == 429 {
			refused++
			assert.Regexp(t, "[0-9]+$", text)
		}
	}
	assert.Greater(t, refused, 45, "after a few wrong ones the client waits")
	status, _, _ = try("tides.skerry.example", "maren", "moonrise")
	assert.Equal(t, 200, status, "who has signed in before is not locked out")
	mu.Lock()
	clock = clock.Add(2 * time.Minute)
	mu.Unlock()
	status, _, _ = try("tides.skerry.example", "guess", "x")
	assert.Equal(t, 401, status, "and later on it may try again")
	// The name of somebody who may sign in is not told by how long the answer takes: both are compared with a hash.
	for _, name := range []string{"maren", "tor"} {
		b.gate.signIns.mu.Lock()
		hash := b.gate.signIns.users["keepers"][name]
		if hash == "" {
			hash = b.gate.signIns.nobody["keepers"]
		}
		b.gate.signIns.mu.Unlock()
		cost, err := bcrypt.Cost([]byte(hash))
		require.NoError(t, err)
		assert.Equal(t, bcrypt.MinCost+2, cost, name)
	}
	// A changed file of users counts at once.
	require.NoError(t, b.gate.SetSettings(sites.Settings{Lab: "skerry", HTTP: true, Certificates: "none", SignIns: map[string]map[string]string{"keepers": {}}}))
	status, _, _ = try("tides.skerry.example", "maren", "moonrise")
	assert.Equal(t, 401, status)
	b.end()
	assert.NotContains(t, b.log.String(), "moon", "no password is in the log")
}

// Whatever a client writes, a line of the log is one object with one request.
func TestLog(t *testing.T) {
	b := own(t, http.HandlerFunc(echo), sites.Route{Domain: "tides.skerry.example", Plain: true})
	settings, _ := b.gate.store.all()
	settings.Shortened = true
	require.NoError(t, b.gate.SetSettings(settings))
	b.raw("GET /a%0a%22%7d%0a%7b%22site%22:%22x%22%7d%1b%5b31m HTTP/1.1\r\nHost: tides.skerry.example\r\nUser-Agent: \"}\u2028\xff" + strings.Repeat("x", 2000) +
		"\r\nReferer: https://harbour.example/\u202e\r\n\r\n")
	b.get("http://tides.skerry.example/looked", LookHeader, b.gate.look)
	_, text := b.get("http://tides.skerry.example/pretends", LookHeader, "guess")
	assert.NotContains(t, text, "Lantern-Look")
	b.raw("GET / HTTP/1.1\r\nHost: other.example\r\n\r\n")
	b.end()
	var paths []string
	for line := range strings.Lines(b.log.String()) {
		var any map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &any), line)
		assert.NotContains(t, line, "\x1b")
		assert.Less(t, len(line), 3000)
		if a, ok := sites.ReadAccess(line); ok {
			paths = append(paths, a.Path)
			assert.Equal(t, "tides.skerry.example", a.Site)
			assert.Equal(t, "mast/desk", a.Service)
			assert.Equal(t, "127.0.0.0", a.Client)
			assert.Equal(t, 200, a.Status)
		}
	}
	assert.Equal(t, []string{"/a\n\"}\n{\"site\":\"x\"}\x1b[31m", "/pretends"}, paths)
}

// A gate that starts again knows what it was told, also with garbage in the place of it.
func TestRemembers(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(echo))
	defer server.Close()
	folder := t.TempDir()
	b := open(t, folder)
	require.NoError(t, b.gate.SetSettings(sites.Settings{Lab: "skerry", HTTP: true, HTTPS: 443, Certificates: "own"}))
	b.lead("mast", server, sites.Route{Domain: "tides.skerry.example"})
	serial := (*b.gate.certs.served.Load())["tides.skerry.example"].Leaf.SerialNumber
	b.end()
	for _, garbage := range []string{"", "{", `{"mast": 7}`, "\x00\x00"} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, routesFile), []byte(garbage), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(folder, settingsFile), []byte(garbage), 0o600))
		b = open(t, folder)
		b.trusted()
		a, _ := b.get("https://tides.skerry.example/")
		assert.Equal(t, 200, a.StatusCode, "%q", garbage)
		assert.Equal(t, serial, a.TLS.PeerCertificates[0].SerialNumber, "certificates are kept")
		b.end()
	}
	files, err := filepath.Glob(filepath.Join(folder, "*", "*"))
	require.NoError(t, err)
	for _, f := range files {
		info, err := os.Stat(f)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), f)
	}
}

// A service of the lab's own authority is trusted for its domain alone.
func TestAuthority(t *testing.T) {
	b := own(t, http.HandlerFunc(echo), sites.Route{Domain: "tides.skerry.example"}, sites.Route{Domain: "lamp.harbour.example"}, sites.Route{Domain: "*.skerry.example"})
	pem, err := b.gate.Authorities()
	require.NoError(t, err)
	var domains []string
	for _, c := range Certificates(pem) {
		assert.True(t, c.PermittedDNSDomainsCritical)
		domains = append(domains, c.PermittedDNSDomains...)
	}
	assert.ElementsMatch(t, []string{"skerry.example", "harbour.example"}, domains)
	a, _ := b.get("https://any.skerry.example/")
	assert.Equal(t, 200, a.StatusCode)
	assert.Equal(t, []string{"*.skerry.example"}, a.TLS.PeerCertificates[0].DNSNames)
	// Somebody with its key could still not speak for others.
	forged := b.gate.certs
	require.NoError(t, os.Rename(forged.authorityFile("skerry.example"), forged.authorityFile("bank.example")))
	require.NoError(t, forged.issue("www.bank.example"))
	one, _, err := forged.read("www.bank.example")
	require.NoError(t, err)
	_, err = one.Leaf.Verify(x509.VerifyOptions{Roots: b.roots, DNSName: "www.bank.example"})
	assert.ErrorContains(t, err, "not permitted")
}

// Routes are switched under load without a lost request, and what is under way to the old service finishes.
func TestSwitch(t *testing.T) {
	service := func(name string) *httptest.Server {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/long" {
				time.Sleep(300 * time.Millisecond)
			}
			io.Copy(w, r.Body)
			io.WriteString(w, name)
		}))
		t.Cleanup(s.Close)
		return s
	}
	b := open(t, t.TempDir(), func(o *Options) {
		o.Lookup = func(context.Context, string) ([]string, error) { return nil, errNowhere } // names come late
	})
	require.NoError(t, b.gate.SetSettings(sites.Settings{Lab: "skerry", HTTP: true, Certificates: "none"}))
	lead := func(to *httptest.Server) {
		address := to.Listener.Addr().String()
		require.NoError(t, b.gate.SetRoutes(t.Context(), "mast", []sites.Route{{Domain: "tides.skerry.example", Path: "/", Service: "mast/desk", Host: "desk.mast", Port: 80,
			Addresses: []string{address}}}, patience))
	}
	now := service("0")
	lead(now)
	stopped := make(chan struct{})
	stop := func() bool {
		select {
		case <-stopped:
			return true
		default:
			return false
		}
	}
	var failed, done sync.Map
	var wait sync.WaitGroup
	for i := range 16 {
		wait.Go(func() {
			client := b.client()
			for n := 0; !stop(); n++ {
				path := "/"
				if n%20 == i {
					path = "/long"
				}
				a, err := client.Post("http://tides.skerry.example"+path, "text/plain", strings.NewReader("body"))
				if err != nil {
					failed.Store(fmt.Sprint(i, n), err.Error())
					continue
				}
				text, err := io.ReadAll(a.Body)
				a.Body.Close()
				if err != nil || a.StatusCode != 200 || !strings.HasPrefix(string(text), "body") {
					failed.Store(fmt.Sprint(i, n), fmt.Sprint(a.StatusCode, err, string(text)))
				}
				done.Store(string(text), true)
			}
		})
	}
	for i := range 20 {
		next := service(fmt.Sprint(i + 1))
		time.Sleep(20 * time.Millisecond)
		lead(next)
		now.Config.SetKeepAlivesEnabled(false)
		now.Close() // waits for nobody: all has been waited for
		now = next
	}
	close(stopped)
	wait.Wait()
	failed.Range(func(k, v any) bool { t.Errorf("%s: %v", k, v); return true })
	seen := 0
	done.Range(func(any, any) bool { seen++; return true })
	assert.Greater(t, seen, 10, "they came to nearly all of them")
}
