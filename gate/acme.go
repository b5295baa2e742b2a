package gate

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/crypto/acme"

	"proudlantern.example/lantern/core/sites"
)

// alpnProtocol is what an authority speaks that asks for a sign by TLS (RFC 8737).
const alpnProtocol = acme.ALPNProto

// challenges are the signs that authorities ask for at the moment.
type challenges struct {
	mu    sync.Mutex
	texts map[string]string           // by name and token
	certs map[string]*tls.Certificate // by name
}

func (c *challenges) http(name, token string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.texts[name+" "+token]
}

func (c *challenges) certificate(name string) *tls.Certificate {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.certs[name]
}

// show shows a sign until it is taken back.
func (c *challenges) show(name, token, text string, cert *tls.Certificate) (back func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.texts == nil {
		c.texts, c.certs = map[string]string{}, map[string]*tls.Certificate{}
	}
	if cert != nil {
		c.certs[name] = cert
	} else {
		c.texts[name+" "+token] = text
	}
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		delete(c.texts, name+" "+token)
		if cert != nil {
			delete(c.certs, name)
		}
	}
}

// client makes a client of an ACME server, with the gate's account there.
func (c *certificates) client(ctx context.Context, settings sites.Settings) (*acme.Client, error) {
	directory := settings.Authority
	if directory == "" {
		directory = c.g.options.Authority
	}
	if directory == "" {
		return nil, errors.New("no ACME server is known")
	}
	roots, err := x509.SystemCertPool()
	if err != nil || settings.AuthorityCA != "" {
		roots = x509.NewCertPool()
	}
	if settings.AuthorityCA != "" && !roots.AppendCertsFromPEM([]byte(settings.AuthorityCA)) {
		return nil, errors.New("authority-ca holds no certificate")
	}
	c.mu.Lock()
	key, err := c.accountKey(directory)
	c.mu.Unlock()
	if err != nil {
		return nil, err
	}
	client := &acme.Client{
		Key: key, DirectoryURL: directory, UserAgent: "lantern",
		HTTPClient: &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{
			Proxy: http.ProxyFromEnvironment, TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}, ForceAttemptHTTP2: true,
		}},
		// A refusal is an answer: when to ask again is ours to judge.
		RetryBackoff: func(n int, r *http.Request, res *http.Response) time.Duration {
			if n > 3 || res != nil && res.StatusCode == http.StatusTooManyRequests {
				return -1
			}
			return time.Duration(n) * 500 * time.Millisecond
		},
	}
	account := &acme.Account{}
	if settings.Contact != "" {
		account.Contact = []string{"mailto:" + strings.TrimPrefix(settings.Contact, "mailto:")}
	}
	if _, err := client.Register(ctx, account, acme.AcceptTOS); err != nil && !errors.Is(err, acme.ErrAccountAlreadyExists) {
		return nil, fmt.Errorf("the account at the ACME server: %w", later(err))
	}
	return client, nil
}

// accountKey returns the key of the account at a server, which is made where there is none.
func (c *certificates) accountKey(directory string) (crypto.Signer, error) {
	file := filepath.Join(c.g.options.Folder, certificateFolder, "account-"+sites.Digest(directory)[:16]+".key")
	text, err := os.ReadFile(file)
	if err == nil {
		if block, _ := pem.Decode(text); block != nil {
			if key, err := x509.ParsePKCS8PrivateKey(block.Bytes); err == nil {
				return key.(crypto.Signer), nil
			}
		}
		return nil, errors.New("the key of the account at the ACME server cannot be read")
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	key, err := newKey()
	if err != nil {
		return nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	return key, writeWhole(file, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

// later words an error of an ACME server, and takes over when it wants to be asked again.
func later(err error) error {
	var said *acme.Error
	if !errors.As(err, &said) {
		return err
	}
	text := said.Detail
	if text == "" {
		text = said.Error()
	}
	for _, p := range said.Subproblems {
		text += "; " + p.Detail
	}
	worded := fmt.Errorf("%s", text)
	if after, limited := acme.RateLimit(err); limited {
		return &laterError{After: max(after, time.Minute), Err: worded}
	}
	return worded
}

// order gets a certificate for a name from an ACME server (RFC 8555), by the first kind of sign that it takes.
func (c *certificates) order(ctx context.Context, settings sites.Settings, name string) error {
	client, err := c.client(ctx, settings)
	if err != nil {
		return err
	}
	kinds := []string{}
	if d := domainOf(settings.Domains, name); d != nil && d.DNS != nil {
		kinds = append(kinds, "dns-01")
	} else if strings.HasPrefix(name, "*.") {
		return errors.New("an ACME server gives a certificate for all names below a domain only to who can change its zone: " +
			"[domain.NAME] with dns-update, or with a certificate of your own")
	} else {
		if settings.HTTP {
			kinds = append(kinds, "http-01")
		}
		kinds = append(kinds, "tls-alpn-01")
	}
	var problems []error
	for _, kind := range kinds {
		err := c.orderBy(ctx, client, settings, name, kind)
		if err == nil {
			return nil
		}
		problems = append(problems, fmt.Errorf("by %s: %w", kind, err))
		var wait *laterError
		if errors.As(err, &wait) || ctx.Err() != nil {
			break
		}
	}
	if len(problems) == 1 {
		return problems[0]
	}
	texts := make([]string, len(problems))
	for i, p := range problems {
		texts[i] = p.Error()
	}
	return errors.New(strings.Join(texts, "; "))
}

func (c *certificates) orderBy(ctx context.Context, client *acme.Client, settings sites.Settings, name, kind string) error {
	order, err := client.AuthorizeOrder(ctx, acme.DomainIDs(name))
	if err != nil {
		return later(err)
	}
	for _, u := range order.AuthzURLs {
		if err := c.authorize(ctx, client, settings, u, name, kind); err != nil {
			return err
		}
	}
	place := order.URI
	if order, err = client.WaitOrder(ctx, place); err != nil {
		return later(err)
	}
	key, err := newKey()
	if err != nil {
		return err
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{}, DNSNames: []string{name}}, key)
	if err != nil {
		return err
	}
	chain, _, err := client.CreateOrderCert(ctx, order.FinalizeURL, request, true)
	if err != nil {
		// Not every server says once more where the order is, which the library needs for waiting.
		done, waiting := client.WaitOrder(ctx, place)
		if waiting != nil || done.CertURL == "" {
			return later(err)
		}
		if chain, err = client.FetchCert(ctx, done.CertURL, true); err != nil {
			return later(err)
		}
	}
	return c.write(name, "acme", chain, key)
}

// authorize shows the sign that a server asks for, and waits until it has seen it.
func (c *certificates) authorize(ctx context.Context, client *acme.Client, settings sites.Settings, at, name, kind string) error {
	authorization, err := client.GetAuthorization(ctx, at)
	if err != nil {
		return later(err)
	}
	if authorization.Status == acme.StatusValid {
		return nil
	}
	var challenge *acme.Challenge
	for _, one := range authorization.Challenges {
		if one.Type == kind {
			challenge = one
		}
	}
	if challenge == nil {
		return errors.New("the ACME server does not ask for that")
	}
	back, err := c.sign(ctx, client, settings, challenge, name)
	if err != nil {
		return err
	}
	defer back()
	if _, err := client.Accept(ctx, challenge); err != nil {
		return later(err)
	}
	if _, err := client.WaitAuthorization(ctx, at); err != nil {
		var refused *acme.AuthorizationError
		if errors.As(err, &refused) && len(refused.Errors) > 0 {
			return later(refused.Errors[0])
		}
		return later(err)
	}
	return nil
}

// sign shows a sign until it is taken back.
func (c *certificates) sign(ctx context.Context, client *acme.Client, settings sites.Settings, challenge *acme.Challenge,
	name string) (back func(), err error) {
	switch challenge.Type {
	case "http-01":
		text, err := client.HTTP01ChallengeResponse(challenge.Token)
		return c.challenges.show(name, challenge.Token, text, nil), err
	case "tls-alpn-01":
		cert, err := client.TLSALPN01ChallengeCert(challenge.Token, name)
		if err != nil {
			return nil, err
		}
		return c.challenges.show(name, "", "", &cert), nil
	}
	text, err := client.DNS01ChallengeRecord(challenge.Token)
	if err != nil {
		return nil, err
	}
	return putRecord(ctx, *domainOf(settings.Domains, name).DNS, "_acme-challenge."+strings.TrimPrefix(name, "*.")+".", text)
}

// putRecord adds a TXT record to a zone (RFC 2136) until it is taken back.
func putRecord(ctx context.Context, d sites.DNSUpdate, name, text string) (back func(), err error) {
	record := &dns.TXT{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeTXT, Class: dns.ClassINET, Ttl: 1}, Txt: []string{text}}
	change := func(ctx context.Context, how func(m *dns.Msg)) error {
		m := new(dns.Msg)
		m.SetUpdate(dns.Fqdn(d.Zone))
		how(m)
		key := dns.Fqdn(strings.ToLower(d.KeyName))
		m.SetTsig(key, dns.Fqdn(d.Algorithm), 300, time.Now().Unix())
		client := &dns.Client{Net: "tcp", Timeout: 15 * time.Second, TsigSecret: map[string]string{key: d.Key}}
		answer, _, err := client.ExchangeContext(ctx, m, d.Server)
		switch {
		case err != nil:
			return fmt.Errorf("the name server %s: %w", d.Server, err)
		case answer.Rcode != dns.RcodeSuccess:
			return fmt.Errorf("the name server %s refuses to change %s: %s", d.Server, name, dns.RcodeToString[answer.Rcode])
		}
		return nil
	}
	if err := change(ctx, func(m *dns.Msg) { m.Insert([]dns.RR{record}) }); err != nil {
		return nil, err
	}
	return func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
		defer cancel()
		change(ctx, func(m *dns.Msg) { m.Remove([]dns.RR{record}) })
	}, nil
}
