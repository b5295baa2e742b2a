package gate

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"proudlantern.example/lantern/core/sites"
)

// certificateFolder is where certificates are kept, below the gate's state.
const certificateFolder = "certificates"

// certificates are those of a gate's names: made or fetched at once, kept, and renewed at two thirds of their life.
type certificates struct {
	g          *Gate
	challenges challenges
	wake       chan struct{}

	served atomic.Pointer[map[string]*tls.Certificate] // by name; wildcards by "*." and what is behind

	mu       sync.Mutex
	settings sites.Settings
	states   map[string]*state // of the names that are needed
}

// state is how it stands with the certificate of a name.
type state struct {
	name    string
	kind    string // own, acme or files
	next    time.Time
	tries   int // in a row that failed
	problem string
	working bool
	by      string // digest of how it is to be had: another way is tried at once
}

// Certificate is what is known of a name's certificate.
type Certificate struct {
	Name    string    `json:"name"`
	Kind    string    `json:"kind"`
	Issuer  string    `json:"issuer,omitempty"`
	Until   time.Time `json:"until,omitzero"`
	Problem string    `json:"problem,omitempty"`
}

// BeingMade is the problem of a certificate that nothing is wrong with but that it is not there yet.
const BeingMade = "it is being made"

func newCertificates(g *Gate) (*certificates, error) {
	c := &certificates{g: g, wake: make(chan struct{}, 1), states: map[string]*state{}}
	c.served.Store(&map[string]*tls.Certificate{})
	return c, nil
}

// config is how connections are made safe: TLS 1.2 and 1.3, as the library recommends.
func (c *certificates) config() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get, NextProtos: []string{"h2", "http/1.1", alpnProtocol}}
}

// get returns the certificate for a handshake. Without one the client is told that the name is none of ours
// (unrecognized_name in RFC 6066), and no other name.
func (c *certificates) get(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	name := hostOf(hello.ServerName)
	if len(hello.SupportedProtos) == 1 && hello.SupportedProtos[0] == alpnProtocol {
		if answer := c.challenges.certificate(name); answer != nil {
			return answer, nil
		}
		return nil, nil
	}
	if name == "" || c.g.table.Load().of(name) == nil {
		return nil, nil
	}
	if one := c.coverOf(name); one != nil {
		return one, nil
	}
	return nil, nil
}

// coverOf returns the certificate that a name is served with; nil for none.
func (c *certificates) coverOf(name string) *tls.Certificate {
	served := *c.served.Load()
	if one := served[name]; one != nil {
		return one
	}
	if _, parent, ok := strings.Cut(name, "."); ok {
		return served["*."+parent]
	}
	return nil
}

// challenge answers an authority that asks for a sign by plain HTTP (RFC 8555, 8.3).
func (c *certificates) challenge(w http.ResponseWriter, r *http.Request) bool {
	token, ok := strings.CutPrefix(r.URL.Path, "/.well-known/acme-challenge/")
	if !ok {
		return false
	}
	answer := c.challenges.http(hostOf(r.Host), token)
	if answer == "" {
		return false // perhaps the service does that itself
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Write([]byte(answer))
	return true
}

// set takes over what certificates are needed now.
func (c *certificates) set(settings sites.Settings, t *table) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settings = settings
	states := map[string]*state{}
	if settings.HTTPS > 0 {
		for _, name := range t.names() {
			kind := settings.Certificates
			d := domainOf(settings.Domains, name)
			if d != nil && d.Chain != "" {
				kind = "files"
			}
			s := &state{name: name, kind: kind, by: sites.Digest([]any{kind, d, settings.Authority, settings.AuthorityCA, settings.Contact})}
			if before := c.states[name]; before != nil && before.by == s.by {
				s = before
			}
			states[name] = s
		}
	}
	c.states = states
	c.load()
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// domainOf returns the closest domain that covers a name; nil for none.
func domainOf(all []sites.Domain, name string) (best *sites.Domain) {
	name = strings.TrimPrefix(name, "*.")
	for i, d := range all {
		if (name == d.Name || strings.HasSuffix(name, "."+d.Name)) && (best == nil || len(d.Name) > len(best.Name)) {
			best = &all[i]
		}
	}
	return best
}

// load puts into force what there is. The caller holds the lock.
func (c *certificates) load() {
	served := map[string]*tls.Certificate{}
	before := *c.served.Load()
	for name, s := range c.states {
		if s.kind == "files" {
			d := domainOf(c.settings.Domains, name)
			pair, err := tls.X509KeyPair([]byte(d.Chain), []byte(d.Key))
			if err != nil {
				s.problem = err.Error()
				continue
			}
			s.problem = ""
			if err := pair.Leaf.VerifyHostname(sample(name)); err != nil {
				s.problem = err.Error()
			}
			served[name] = &pair
			continue
		}
		if one := before[name]; one != nil && s.next.After(c.g.options.Now()) {
			served[name] = one
			continue
		}
		one, by, err := c.read(name)
		if err == nil && by == s.kind {
			served[name] = one
			if s.tries == 0 {
				s.next = renewAt(one.Leaf)
			}
		}
	}
	c.served.Store(&served)
}

// sample is a name that a certificate for a name, perhaps a wildcard, has to be good for.
func sample(name string) string {
	if rest, ok := strings.CutPrefix(name, "*."); ok {
		return "x." + rest
	}
	return name
}

// renewAt is when a certificate has lived for two thirds of its life.
func renewAt(c *x509.Certificate) time.Time {
	return c.NotBefore.Add(c.NotAfter.Sub(c.NotBefore) * 2 / 3)
}

func (c *certificates) file(name string) string {
	return filepath.Join(c.g.options.Folder, certificateFolder, strings.ReplaceAll(name, "*", "_")+".pem")
}

// read reads what is kept of a name: its key, its certificates, and of which kind they are.
func (c *certificates) read(name string) (*tls.Certificate, string, error) {
	text, err := os.ReadFile(c.file(name))
	if err != nil {
		return nil, "", err
	}
	pair, err := tls.X509KeyPair(text, text)
	if err != nil {
		return nil, "", err
	}
	if err := pair.Leaf.VerifyHostname(sample(name)); err != nil {
		return nil, "", err
	}
	kind := ""
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if block.Headers["Kind"] != "" {
			kind = block.Headers["Kind"]
		}
	}
	return &pair, kind, nil
}

// write keeps a certificate and its key.
func (c *certificates) write(name, kind string, chain [][]byte, key crypto.Signer) error {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	for i, one := range chain {
		block := &pem.Block{Type: "CERTIFICATE", Bytes: one}
		if i == len(chain)-1 {
			block.Headers = map[string]string{"Kind": kind}
		}
		text = append(text, pem.EncodeToMemory(block)...)
	}
	return writeWhole(c.file(name), text)
}

const (
	madeAtOnce = 4 // certificates
	retryFirst = 20 * time.Second
	retryMost  = 3 * time.Hour
)

// run makes and renews certificates until ctx ends.
func (c *certificates) run(ctx context.Context) {
	atOnce := make(chan struct{}, madeAtOnce)
	for {
		now, next := c.g.options.Now(), c.g.options.Now().Add(time.Hour)
		var due []*state
		c.mu.Lock()
		for _, s := range c.states {
			if s.kind == "files" || s.kind == "none" || s.working {
				continue
			}
			if !s.next.After(now) {
				s.working = true
				due = append(due, s)
			} else if s.next.Before(next) {
				next = s.next
			}
		}
		settings := c.settings
		c.mu.Unlock()
		slices.SortFunc(due, func(a, b *state) int { return strings.Compare(a.name, b.name) })
		for _, s := range due {
			go func() {
				select {
				case atOnce <- struct{}{}:
				case <-ctx.Done():
					return
				}
				err := c.make(ctx, settings, s)
				<-atOnce
				c.made(ctx, s, err)
			}()
		}
		select {
		case <-ctx.Done():
			return
		case <-c.wake:
		case <-time.After(max(100*time.Millisecond, next.Sub(c.g.options.Now()))):
		}
	}
}

// make gets a certificate for a name.
func (c *certificates) make(ctx context.Context, settings sites.Settings, s *state) error {
	if s.kind == "own" {
		return c.issue(s.name)
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	return c.order(ctx, settings, s.name)
}

// made notes how the making of a certificate ended.
func (c *certificates) made(ctx context.Context, s *state, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	s.working = false
	switch {
	case ctx.Err() != nil:
		return
	case err != nil:
		s.problem, s.tries = err.Error(), s.tries+1
		wait := min(retryMost, retryFirst<<min(s.tries-1, 12))
		var later *laterError
		if errors.As(err, &later) && later.After > wait {
			wait = min(later.After, 24*time.Hour)
		}
		s.next = c.g.options.Now().Add(wait)
		c.g.log.note("warning", "no certificate", "name", s.name, "because", s.problem, "next", s.next.UTC().Format(time.RFC3339))
	default:
		s.problem, s.tries, s.next = "", 0, time.Time{}
		c.load()
		if one := (*c.served.Load())[s.name]; one != nil {
			c.g.log.note("info", "certificate", "name", s.name, "issuer", one.Leaf.Issuer.String(), "until", one.Leaf.NotAfter.UTC().Format(time.RFC3339))
		}
	}
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// states returns how it stands with all names.
func (c *certificates) all() []Certificate {
	c.mu.Lock()
	defer c.mu.Unlock()
	served := *c.served.Load()
	out := []Certificate{}
	for name, s := range c.states {
		one := Certificate{Name: name, Kind: s.kind, Problem: s.problem}
		if cert := served[name]; cert != nil {
			one.Issuer, one.Until = issuer(cert.Leaf), cert.Leaf.NotAfter
			if now := c.g.options.Now(); now.After(cert.Leaf.NotAfter) {
				one.Problem = strings.TrimSpace("it has expired; " + one.Problem)
			}
		} else if s.problem == "" {
			one.Problem = BeingMade
		}
		out = append(out, one)
	}
	slices.SortFunc(out, func(a, b Certificate) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func issuer(c *x509.Certificate) string {
	if len(c.Issuer.Organization) > 0 {
		return c.Issuer.Organization[0]
	}
	return c.Issuer.CommonName
}

// newKey makes a key for a certificate.
func newKey() (*ecdsa.PrivateKey, error) { return ecdsa.GenerateKey(elliptic.P256(), rand.Reader) }

// laterError is that an authority wants to be asked again only after a while.
type laterError struct {
	After time.Duration
	Err   error
}

func (e *laterError) Error() string {
	return fmt.Sprintf("%s; it wants to be asked again after %s", e.Err, e.After.Round(time.Second))
}

func (e *laterError) Unwrap() error { return e.Err }
