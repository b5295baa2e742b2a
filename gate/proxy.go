package gate

import (
	"context"
	"crypto/subtle"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/textproto"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// LookHeader marks a request by which lantern itself looks at a site. It does not count, and no service sees it.
const LookHeader = "Lantern-Look"

// asked is a request under way.
type asked struct {
	g       *Gate
	r       *http.Request
	domain  string
	plain   string // the path that routes are chosen by
	route   *route
	client  netip.Addr // on whose behalf it is made
	trusted bool       // it comes from a proxy that is
	user    string
	address string // of the service
	done    func() // once it is no longer under way there
	began   time.Time
}

// ServeHTTP answers a request.
func (g *Gate) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a := &asked{g: g, r: r, began: g.options.Now()}
	seen := &recorder{ResponseWriter: w}
	look := r.Header[LookHeader]
	r.Header.Del(LookHeader)
	own := len(look) == 1 && subtle.ConstantTimeCompare([]byte(look[0]), []byte(g.look)) == 1
	defer func() {
		// A service that breaks off in the middle of its answer ends the request by a panic, which the server takes for what it is.
		if lost := recover(); lost != nil {
			if !own {
				seen.broken = true
				g.log.access(a, seen)
			}
			panic(lost)
		}
		if !own {
			g.log.access(a, seen)
		}
	}()
	a.answer(seen)
}

// answer sends a request where it belongs, or says why not.
func (a *asked) answer(w *recorder) {
	r, t := a.r, a.g.table.Load()
	if a.r.TLS == nil && a.g.certs.challenge(w, r) {
		return
	}
	a.domain = hostOf(r.Host)
	all := t.of(a.domain)
	if all == nil || r.TLS != nil && hostOf(r.TLS.ServerName) != a.domain && !a.sameCertificate(t) {
		refuse(w, http.StatusMisdirectedRequest)
		return
	}
	plain, ok := plainPath(r.URL)
	if !ok {
		refuse(w, http.StatusBadRequest)
		return
	}
	if a.plain, a.route = plain, choose(all, plain); a.route == nil {
		refuse(w, http.StatusNotFound)
		return
	}
	a.who(t)
	switch {
	case len(a.route.From) > 0 && !within(a.client, a.route.From):
		refuse(w, http.StatusForbidden)
	case r.TLS == nil && t.settings.HTTPS > 0 && !a.route.Plain:
		http.Redirect(w, r, a.secure(t.settings.HTTPS), http.StatusPermanentRedirect)
	case a.route.SignIn != "" && !a.signedIn(w):
	case a.route.Strip && plain == a.route.Path && a.route.Path != "/":
		to := url.URL{Path: a.route.Path + "/", RawQuery: r.URL.RawQuery}
		w.Header().Set("Location", to.String())
		w.WriteHeader(http.StatusPermanentRedirect)
	default:
		if _, ok := stripped(r.URL.EscapedPath(), a.route); a.route.Strip && !ok {
			refuse(w, http.StatusBadRequest) // it cannot be told what is to be taken off
			return
		}
		a.forward(w)
	}
}

// sameCertificate reports whether the certificate of the connection is that of the request's domain, too: then a client
// may ask for both on one connection (RFC 9113, 9.1.1).
func (a *asked) sameCertificate(t *table) bool {
	name, own := hostOf(a.r.TLS.ServerName), a.g.certs.coverOf(a.domain)
	return own != nil && own == a.g.certs.coverOf(name)
}

// secure returns the address of the same page by TLS.
func (a *asked) secure(port int) string {
	to := *a.r.URL
	to.Scheme, to.Host = "https", a.domain
	if port != 443 {
		to.Host = net.JoinHostPort(a.domain, strconv.Itoa(port))
	}
	return to.String()
}

func refuse(w http.ResponseWriter, status int) {
	h := w.Header()
	h.Set("Content-Type", "text/plain; charset=utf-8")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	io.WriteString(w, http.StatusText(status)+"\n")
}

// who finds out on whose behalf the request is made.
func (a *asked) who(t *table) {
	at, err := netip.ParseAddrPort(a.r.RemoteAddr)
	if err != nil {
		return
	}
	a.client = at.Addr().Unmap().WithZone("")
	if a.trusted = within(a.client, t.settings.Trusted); !a.trusted {
		return
	}
	// The last one that is no proxy of ours: what stands before it, anybody could have written.
	said := strings.Split(strings.Join(a.r.Header.Values("X-Forwarded-For"), ","), ",")
	for _, s := range slices.Backward(said) {
		client, err := netip.ParseAddr(strings.Trim(strings.TrimSpace(s), "[]"))
		if err != nil {
			return
		}
		if a.client = client.Unmap().WithZone(""); !within(a.client, t.settings.Trusted) {
			return
		}
	}
}

// forward asks the service.
func (a *asked) forward(w *recorder) {
	transport := a.g.fast
	if a.route.Slow {
		transport = a.g.slow
	}
	defer func() {
		if a.done != nil {
			a.done()
		}
	}()
	if a.r.Body != nil && a.r.Body != http.NoBody {
		a.r.Body = kept{a.r.Body}
	}
	proxy := httputil.ReverseProxy{
		Rewrite: a.rewrite, Transport: toService{a, transport}, BufferPool: buffers, ErrorHandler: a.failed,
		ErrorLog: nothing,
	}
	proxy.ServeHTTP(w, a.r)
}

// kept is a body that stays open when an attempt to send it fails before it has begun: the server closes it itself.
type kept struct{ io.ReadCloser }

func (kept) Close() error { return nil }

// forwarding are the headers by which proxies say on whose behalf they ask; programs also read them with _ in place of -.
func isForwarding(name string) bool {
	name = textproto.CanonicalMIMEHeaderKey(strings.ReplaceAll(name, "_", "-"))
	return strings.HasPrefix(name, "X-Forwarded") || name == "Forwarded" || name == "X-Real-Ip" || name == "X-Client-Ip" ||
		name == "True-Client-Ip" || name == "X-Original-Url" || name == "X-Rewrite-Url"
}

func (a *asked) rewrite(p *httputil.ProxyRequest) {
	in, out := p.In.Header, p.Out.Header
	for name := range out {
		if isForwarding(name) {
			delete(out, name)
		}
	}
	scheme := "http"
	if a.route.TLS {
		scheme = "https"
	}
	p.Out.URL.Scheme, p.Out.URL.Host = scheme, a.route.Service // where that is, is found out when it is sent
	p.Out.URL.RawQuery = p.In.URL.RawQuery                     // as it was sent
	p.Out.Host = p.In.Host
	if a.route.Strip && a.route.Path != "/" {
		if rest, ok := stripped(p.In.URL.EscapedPath(), a.route); ok {
			if plain, err := url.PathUnescape(rest); err == nil {
				p.Out.URL.Path, p.Out.URL.RawPath = plain, rest
				out.Set("X-Forwarded-Prefix", a.route.Path)
			}
		}
	}
	peer := ""
	if at, err := netip.ParseAddrPort(p.In.RemoteAddr); err == nil {
		peer = at.Addr().Unmap().WithZone("").String()
	}
	proto, host, chain := "http", p.In.Host, peer
	if p.In.TLS != nil {
		proto = "https"
	}
	if a.trusted {
		if said := in.Values("X-Forwarded-For"); len(said) > 0 {
			chain = strings.Join(said, ", ") + ", " + peer
		}
		if said := in.Get("X-Forwarded-Proto"); said == "http" || said == "https" {
			proto = said
		}
		if said := in.Get("X-Forwarded-Host"); hostOf(said) != "" {
			host = said
		}
	}
	out.Set("X-Forwarded-For", chain)
	out.Set("X-Forwarded-Host", host)
	out.Set("X-Forwarded-Proto", proto)
	out.Set("X-Real-Ip", a.client.String())
	out.Set("Forwarded", forwarded(a.client, host, proto))
	if a.route.SignIn != "" && !a.route.PassSignIn {
		out.Del("Authorization")
	}
	if _, said := out["User-Agent"]; !said {
		out["User-Agent"] = nil // and not the one of this library
	}
}

// forwarded writes the header of RFC 7239.
func forwarded(client netip.Addr, host, proto string) string {
	of := client.String()
	if client.Is6() {
		of = `"[` + of + `]"`
	}
	return "for=" + of + `;host="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(host) + `";proto=` + proto
}

// toService sends a request to an address of its service. Where none can be reached, its name is asked for once more:
// nothing of the request was sent then.
type toService struct {
	a         *asked
	transport *http.Transport
}

func (s toService) RoundTrip(r *http.Request) (answer *http.Response, err error) {
	a := s.a
	for _, again := range []bool{false, true} {
		var all []string
		all, err = a.route.service.addresses(r.Context(), again)
		if err != nil {
			continue
		}
		one := r
		if len(all) > 1 {
			one = r.WithContext(context.WithValue(r.Context(), oneOf{}, true))
		}
		for tried, address := range a.route.service.inTurn(all) {
			if a.done != nil {
				a.done()
			}
			a.address, a.done = address, a.g.services.count(address)
			one.URL.Host = address
			answer, err = s.transport.RoundTrip(one)
			if err == nil && (answer.StatusCode != http.StatusServiceUnavailable || len(all) == 1) {
				return answer, nil
			}
			unsent := err != nil && notSent(err)
			switch {
			case len(all) == 1 && unsent:
			case len(all) > 1 && r.Context().Err() == nil && (unsent || repeatable(r, err)) && tried < len(all)-1:
				a.route.service.setAside(address, a.route.Ready, a.g.options.Dial)
				if answer != nil {
					answer.Body.Close()
				}
			case !unsent:
				return answer, err
			}
		}
	}
	return nil, err
}

// notSent reports whether nothing of a request was sent: there was nobody to send it to.
func notSent(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial" || errors.Is(err, errNowhere)
}

// failed answers in the place of a service.
func (a *asked) failed(w http.ResponseWriter, r *http.Request, err error) {
	status := http.StatusBadGateway
	var slow net.Error
	var large *http.MaxBytesError
	switch {
	case errors.Is(err, context.Canceled) && r.Context().Err() != nil:
		status = 499 // the client has gone: nobody reads this but the log
	case errors.As(err, &large):
		status = http.StatusRequestEntityTooLarge
	case errors.As(err, &slow) && slow.Timeout():
		status = http.StatusGatewayTimeout
	case notSent(err):
		status = http.StatusServiceUnavailable
		w.Header().Set("Retry-After", "2")
	}
	refuse(w, status)
}

// buffers are for what is copied between clients and services.
var buffers = &pool{}

type pool struct{ sync.Pool }

func (p *pool) Get() []byte {
	if b, ok := p.Pool.Get().(*[]byte); ok {
		return *b
	}
	return make([]byte, 32<<10)
}

func (p *pool) Put(b []byte) { p.Pool.Put(&b) }

// recorder remembers what was answered.
type recorder struct {
	http.ResponseWriter
	status int
	bytes  int64
	broken bool
}

func (w *recorder) WriteHeader(status int) {
	if w.status < 200 || w.status == 0 {
		w.status = status
	}
	w.ResponseWriter.WriteHeader(status)
}

func (w *recorder) Write(p []byte) (int, error) {
	if w.status < 200 {
		w.status = http.StatusOK
	}
	n, err := w.ResponseWriter.Write(p)
	w.bytes += int64(n)
	return n, err
}

// Unwrap is for [http.ResponseController].
func (w *recorder) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Flush is for those who ask for it by its type.
func (w *recorder) Flush() { http.NewResponseController(w.ResponseWriter).Flush() }
