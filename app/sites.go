package app

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/sites"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/gate"
	"proudlantern.example/lantern/hostconn"
	"proudlantern.example/lantern/labdir"
)

// SiteStatus is how it stands with a site.
type SiteStatus struct {
	Site        string          `json:"site"`
	URL         string          `json:"url"`
	Host        string          `json:"host"` // of its gate
	Stack       string          `json:"stack"`
	Service     string          `json:"service"`
	Port        int             `json:"port"`
	SignIn      string          `json:"sign-in,omitempty"`
	Answers     SiteAnswers     `json:"answers"`
	Certificate SiteCertificate `json:"certificate"`
	Requests    int             `json:"requests"` // of the last 24 hours
	Errors      int             `json:"errors"`   // of these: answers from 500 on
}

// SiteAnswers is whether a site answers.
type SiteAnswers struct {
	Gate    bool   `json:"gate"` // its service, to the gate
	Here    bool   `json:"here"` // the site, to this machine
	Status  int    `json:"status"`
	Problem string `json:"problem,omitempty"`
}

// SiteCertificate is a site's certificate.
type SiteCertificate struct {
	Kind    string     `json:"kind"` // acme, own, files or none
	Issuer  string     `json:"issuer,omitempty"`
	Until   *time.Time `json:"until,omitempty"`
	Problem string     `json:"problem,omitempty"`
}

// visitsOfStatus is how far back the status of sites looks.
const visitsOfStatus = 24 * time.Hour

// eachGate calls f for the gates of the lab, or of one host, at the same time.
func (w *Workspace) eachGate(ctx context.Context, onHost string, f func(g *lab.Gate, e *engine.Engine) error) (away []Missing, err error) {
	var mu sync.Mutex
	var work errgroup.Group
	for _, g := range w.Gates {
		if onHost != "" && g.Host.Name != onHost {
			continue
		}
		work.Go(func() error {
			e, err := engine.DialHost(ctx, g.Host)
			if err != nil {
				mu.Lock()
				defer mu.Unlock()
				away = append(away, missing(g.Host.Name, nil, unreachable(g.Host.Name, err)))
				return nil
			}
			defer e.Close()
			return f(g, e)
		})
	}
	return away, work.Wait()
}

// Sites looks at all sites of the lab, or at those whose gate is on a host.
func (w *Workspace) Sites(ctx context.Context, onHost string) (all []SiteStatus, away []Missing, err error) {
	if len(w.Gates) == 0 {
		return nil, nil, usage("the lab has no gate: [gate.HOST] in lab.toml makes one")
	}
	var mu sync.Mutex
	away, err = w.eachGate(ctx, onHost, func(g *lab.Gate, e *engine.Engine) error {
		found, err := w.sitesOf(ctx, g, e)
		if err != nil {
			return unreachable(g.Host.Name, err)
		}
		mu.Lock()
		defer mu.Unlock()
		all = append(all, found...)
		return nil
	})
	order := map[string]int{}
	for i, site := range w.Lab.Sites() {
		order[site.Name()] = i
	}
	slices.SortStableFunc(all, func(a, b SiteStatus) int { return cmp.Compare(order[a.Site], order[b.Site]) })
	return all, away, err
}

func (w *Workspace) sitesOf(ctx context.Context, g *lab.Gate, e *engine.Engine) ([]SiteStatus, error) {
	var report gate.Report
	var seen map[string]gate.Seen
	closed := "its gate does not run: lantern deploy " + declare.GatePrefix + g.Host.Name
	client, err := w.talkTo(ctx, e, g.Host.Name)
	if err == nil {
		defer client.Close()
		closed = ""
		if report, err = client.Report(ctx); err == nil {
			seen, err = client.Looks(ctx)
		}
	}
	if err != nil && !errors.Is(err, errNoGate) {
		return nil, err
	}
	counted := map[string]sites.Visits{}
	if closed == "" {
		visits, err := w.visitsOf(ctx, g, e, time.Now().Add(-visitsOfStatus))
		if err != nil {
			return nil, err
		}
		for _, v := range visits {
			counted[v.Site] = v
		}
	}
	var all []SiteStatus
	for _, site := range w.Lab.Sites() {
		if site.Gate != g || !site.Known {
			continue
		}
		v := counted[site.Name()]
		st := SiteStatus{
			Site: site.Name(), URL: site.URL(), Host: g.Host.Name, Stack: site.Service.Stack.Name, Service: site.Service.Name, Port: site.Port,
			SignIn: site.SignIn, Requests: v.Requests, Errors: v.Errors, Certificate: w.certificateOf(site, report),
		}
		s, routed := seen[site.Name()]
		st.Answers = SiteAnswers{Gate: s.Status > 0 && s.Status < 500, Status: s.Status, Problem: s.Problem}
		switch {
		case closed != "":
			st.Answers.Problem = closed
		case !routed:
			st.Answers.Problem = "its gate does not know it: lantern deploy " + site.Service.Stack.Name
		}
		all = append(all, st)
	}
	if closed != "" {
		return all, nil
	}
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	roots.AppendCertsFromPEM([]byte(report.Authorities))
	here := &http.Client{
		Timeout:       10 * time.Second,
		Transport:     &http.Transport{DialContext: hostconn.DialHere, TLSClientConfig: &tls.Config{RootCAs: roots}, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	var looking errgroup.Group
	looking.SetLimit(stacksAtOnce)
	for i := range all {
		looking.Go(func() error {
			all[i].Answers.fromHere(ctx, here, all[i].URL, report.Look)
			return nil
		})
	}
	return all, looking.Wait()
}

// fromHere asks for a site as a browser on this machine would.
func (a *SiteAnswers) fromHere(ctx context.Context, client *http.Client, url, look string) {
	if url == "" {
		return // it has many names
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return
	}
	r.Header.Set(gate.LookHeader, look)
	answer, err := client.Do(r)
	if err != nil {
		if inner := errors.Unwrap(err); inner != nil {
			err = inner
		}
		if a.Problem == "" {
			a.Problem = "from here: " + err.Error()
		}
		return
	}
	answer.Body.Close()
	a.Status = answer.StatusCode
	a.Here = a.Status < 500 && a.Status != http.StatusMisdirectedRequest
}

// certificateOf returns what the gate says of a site's certificate.
func (w *Workspace) certificateOf(site *lab.Site, report gate.Report) SiteCertificate {
	for _, c := range report.Certificates {
		if c.Name != site.Domain {
			continue
		}
		one := SiteCertificate{Kind: c.Kind, Issuer: c.Issuer, Problem: c.Problem}
		if !c.Until.IsZero() {
			one.Until = &c.Until
		}
		return one
	}
	kind := site.Gate.Certificates
	if d := w.DomainOf(site.Domain); d != nil && d.Chain != nil {
		kind = "files"
	}
	return SiteCertificate{Kind: kind}
}

// Visits returns what the access logs of gates tell, of one site or of all, since a moment.
func (w *Workspace) Visits(ctx context.Context, site string, since time.Time) (all []sites.Visits, away []Missing, err error) {
	var names []string
	for _, s := range w.Lab.Sites() {
		names = append(names, s.Name())
	}
	if site != "" && !slices.Contains(names, site) {
		return nil, nil, usage("%s", declare.Unknown("the lab has no site "+site, site, names, "; lantern sites lists them"))
	}
	var mu sync.Mutex
	away, err = w.eachGate(ctx, "", func(g *lab.Gate, e *engine.Engine) error {
		found, err := w.visitsOf(ctx, g, e, since)
		if err != nil {
			return unreachable(g.Host.Name, err)
		}
		mu.Lock()
		defer mu.Unlock()
		all = append(all, found...)
		return nil
	})
	all = slices.DeleteFunc(all, func(v sites.Visits) bool { return site != "" && v.Site != site })
	slices.SortStableFunc(all, func(a, b sites.Visits) int {
		return cmp.Compare(slices.Index(names, a.Site), slices.Index(names, b.Site))
	})
	return all, away, err
}

// visitsOf counts what the log of a gate tells.
func (w *Workspace) visitsOf(ctx context.Context, g *lab.Gate, e *engine.Engine, since time.Time) ([]sites.Visits, error) {
	counter := sites.NewCounter(time.Local)
	var names []string
	for _, site := range w.Lab.Sites() {
		if site.Gate == g && !slices.Contains(names, site.Name()) {
			names = append(names, site.Name())
		}
	}
	c, err := e.Own(ctx, w.Name, lab.ContainerName(w.Name, declare.GatePrefix+g.Host.Name, lab.GateService))
	if errors.Is(err, engine.ErrNotFound) {
		return counter.Visits(names), nil
	}
	if err != nil {
		return nil, err
	}
	err = e.Logs(ctx, c.ID, engine.LogRange{Since: since}, func(line engine.LogLine) error {
		if a, ok := sites.ReadAccess(line.Text); ok && !a.Time.Before(since) {
			counter.Add(a)
		}
		return nil
	})
	return counter.Visits(names), err
}

// Authority is the certificates of the lab's own authorities on a host, in PEM, and the domains that they speak for.
type Authority struct {
	Host    string   `json:"host"`
	Domains []string `json:"domains"`
	PEM     string   `json:"pem"`
}

// Authorities asks the gates for the certificates of the lab's own authorities.
func (w *Workspace) Authorities(ctx context.Context, onHost string) (all []Authority, away []Missing, err error) {
	var mu sync.Mutex
	away, err = w.eachGate(ctx, onHost, func(g *lab.Gate, e *engine.Engine) error {
		report, err := w.knowsOf(ctx, e, g.Host, g)
		if err != nil {
			return unreachable(g.Host.Name, err)
		}
		if report == nil || report.Authorities == "" {
			return nil
		}
		one := Authority{Host: g.Host.Name, PEM: report.Authorities}
		for _, cert := range gate.Certificates(report.Authorities) {
			one.Domains = append(one.Domains, cert.PermittedDNSDomains...)
		}
		mu.Lock()
		defer mu.Unlock()
		all = append(all, one)
		return nil
	})
	slices.SortFunc(all, func(a, b Authority) int { return cmp.Compare(a.Host, b.Host) })
	if err == nil && len(all) == 0 && len(away) == 0 {
		err = usage(`no gate has an authority of the lab's own: certificates = "own" of [gate.HOST] in lab.toml, and a deployed site`)
	}
	return all, away, err
}

// ErrPasswordLength is that bcrypt would cut a password off.
var ErrPasswordLength = errors.New("a password has at most 72 bytes")

// SetPassword adds somebody to a file of those who may sign in, or changes the password. File is relative to the lab.
// It reports whether somebody of that name was there.
func (w *Workspace) SetPassword(file, name, password string) (was bool, err error) {
	if name == "" || strings.ContainsAny(name, ":#") || strings.ContainsFunc(name, func(c rune) bool { return c <= ' ' || c == 0x7f }) {
		return false, usage("%q is no name for somebody who signs in: it has no blanks, no : and no #", name)
	}
	p, inside := declare.EnvPath("", file)
	if !inside || filepath.IsAbs(file) {
		return false, usage("%s leads out of the lab", file)
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(password), passwordCost)
	if errors.Is(err, bcrypt.ErrPasswordTooLong) {
		return false, usage("%s", ErrPasswordLength)
	}
	if err != nil {
		return false, err
	}
	before, err := labdir.ReadIn(w.Dir, p)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return false, usage("%s cannot be read: %s", p, labdir.InWords(err))
	}
	var lines []string
	for line := range strings.Lines(before) {
		line = strings.TrimSuffix(line, "\n")
		if who, _, ok := strings.Cut(strings.TrimSpace(line), ":"); ok && who == name {
			if was {
				continue
			}
			line, was = name+":"+string(hash), true
		}
		lines = append(lines, line)
	}
	if !was {
		lines = append(lines, name+":"+string(hash))
	}
	if err := labdir.WriteIn(w.Dir, p, before, strings.Join(lines, "\n")+"\n", 0o600); err != nil {
		return was, usage("%s cannot be written: %s", p, labdir.InWords(err))
	}
	return was, nil
}

// passwordCost is that of bcrypt: a processor of these days takes about a fifth of a second.
const passwordCost = 12
