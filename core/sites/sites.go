// Package sites works out what a gate is told: the routes of each stack, and what holds for all of them.
package sites

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
)

// Settings is what a gate is told beside its routes.
type Settings struct {
	Lab          string                       `json:"lab"`
	Host         string                       `json:"host"`
	HTTP         bool                         `json:"http"`
	HTTPS        int                          `json:"https"`        // the host's port; 0: there is none
	Certificates string                       `json:"certificates"` // acme, own or none
	Contact      string                       `json:"contact,omitempty"`
	Authority    string                       `json:"authority,omitempty"`    // directory of an ACME server; "": the usual one
	AuthorityCA  string                       `json:"authority-ca,omitempty"` // PEM
	Trusted      []netip.Prefix               `json:"trusted,omitempty"`
	Shortened    bool                         `json:"shortened,omitempty"`
	Domains      []Domain                     `json:"domains,omitempty"`
	SignIns      map[string]map[string]string `json:"sign-ins,omitempty"` // name, user, bcrypt
}

// Domain is where the certificates of a domain's names come from.
type Domain struct {
	Name  string     `json:"name"`
	Chain string     `json:"chain,omitempty"` // PEM
	Key   string     `json:"key,omitempty"`   // PEM
	DNS   *DNSUpdate `json:"dns,omitempty"`
}

// DNSUpdate is a name server that is changed by RFC 2136.
type DNSUpdate struct {
	Server    string `json:"server"` // ADDRESS:PORT
	Zone      string `json:"zone"`
	KeyName   string `json:"key-name"`
	Algorithm string `json:"algorithm"` // hmac-sha256, …
	Key       string `json:"key"`       // base64
}

// Route leads a domain and a path to a service.
type Route struct {
	Domain  string `json:"domain"`  // may begin with "*."
	Path    string `json:"path"`    // "/", or longer without a / at its end
	Service string `json:"service"` // STACK/SERVICE

	Host      string   `json:"host"`                // a name on the gate's network, an address, or [OwnHost]
	Port      int      `json:"port"`                // there
	Addresses []string `json:"addresses,omitempty"` // that were proven last; Host is asked for others once none of them is its own

	Ready *Ready `json:"ready,omitempty"` // how a copy that went away shows that it is back; nil: it accepts connections

	SignIn     string         `json:"sign-in,omitempty"`
	From       []netip.Prefix `json:"from,omitempty"`
	Plain      bool           `json:"plain,omitempty"`
	Strip      bool           `json:"strip,omitempty"`
	TLS        bool           `json:"tls,omitempty"`
	Slow       bool           `json:"slow,omitempty"`
	PassSignIn bool           `json:"pass-sign-in,omitempty"`
}

// Ready is a page of a service that shows whether it does its work.
type Ready struct {
	Port        int    `json:"port"`
	Path        string `json:"path"`
	TLS         bool   `json:"tls,omitempty"`
	StatusFirst int    `json:"status-first"`
	StatusLast  int    `json:"status-last"`
}

// OwnHost stands for the machine that a gate's container is on.
const OwnHost = "host"

// Site returns the route's site, as people name it.
func (r Route) Site() string {
	if r.Path == "/" {
		return r.Domain
	}
	return r.Domain + r.Path
}

// SettingsOf returns what a gate is told beside its routes: of sign-ins and domains, what its sites use.
func SettingsOf(l *lab.Lab, g *lab.Gate) Settings {
	s := Settings{
		Lab: l.Name, Host: g.Host.Name, HTTP: g.HTTP != nil, Certificates: g.Certificates, Contact: g.Contact, Authority: g.Authority,
		Trusted: g.Trusted, Shortened: g.Shortened, SignIns: map[string]map[string]string{},
	}
	if g.HTTPS != nil {
		s.HTTPS = g.HTTPS.Host.First
	}
	if g.AuthorityCA != nil {
		s.AuthorityCA = g.AuthorityCA.Text.Reveal()
	}
	domains := map[*lab.Domain]bool{}
	for _, site := range l.Sites() {
		if site.Gate != g || !site.Known {
			continue
		}
		if d := l.DomainOf(site.Domain); d != nil {
			domains[d] = true
		}
		if in := l.SignIn(site.SignIn); in != nil {
			users := map[string]string{}
			for _, u := range in.Users {
				users[u.Name] = u.Hash
			}
			s.SignIns[in.Name] = users
		}
	}
	for d := range maps.Keys(domains) {
		one := Domain{Name: d.Name}
		if d.Chain != nil && d.Key != nil {
			one.Chain, one.Key = d.Chain.Text.Reveal(), d.Key.Text.Reveal()
		}
		if d.DNS != nil {
			one.DNS = &DNSUpdate{d.DNS.Server, d.DNS.Zone, d.DNS.KeyName, d.DNS.Algorithm, d.DNS.Key.Reveal()}
		}
		s.Domains = append(s.Domains, one)
	}
	slices.SortFunc(s.Domains, func(a, b Domain) int { return cmp.Compare(a.Name, b.Name) })
	return s
}

// RoutesOf returns the routes of a stack that a gate gets, by the services that they lead to. Addresses of containers are
// not in them.
func RoutesOf(st *lab.Stack, g *lab.Gate) []Route {
	routes := []Route{}
	for _, s := range st.Services {
		for _, site := range s.Sites {
			host, port, ok := reach(site, g)
			if site.Gate != g || !site.Known || !ok {
				continue
			}
			var ready *Ready
			if y := s.Ready; y != nil && y.HTTP != nil && s.HasCopies() {
				ready = &Ready{y.HTTP.Port, y.HTTP.Path, y.HTTP.TLS, y.StatusFirst, y.StatusLast}
			}
			routes = append(routes, Route{
				Domain: site.Domain, Path: site.Path, Service: s.FullName(), Host: host, Port: port, Ready: ready, SignIn: site.SignIn, From: site.From,
				Plain: site.Plain, Strip: site.Strip, TLS: site.TLS, Slow: site.Slow, PassSignIn: site.PassSignIn, Addresses: elsewhere(site, g),
			})
		}
	}
	return routes
}

// Reaches reports whether the gate of a site can reach its service.
func Reaches(site *lab.Site) bool {
	_, _, ok := reach(site, site.Gate)
	return ok
}

// reach returns where a gate finds the service of a site: by its name on their network, on the machine that they are both
// on, or at a published port of another machine.
func reach(site *lab.Site, g *lab.Gate) (host string, port int, ok bool) {
	s := site.Service
	switch at := s; {
	case g == nil || s.Stack.Host == nil:
		return "", 0, false
	case s.Stack.Host != g.Host:
		for _, p := range s.Ports {
			outside := len(p.Addresses) == 0 || !p.Localhost && !p.Addresses[0].IsLoopback()
			if n, published := p.HostPortOf(site.Port); published && outside {
				return s.Stack.Host.Address, n, s.Stack.Host.Address != "localhost"
			}
		}
		return "", 0, false
	case s.HostNetwork():
		return OwnHost, site.Port, true
	case s.NetworkMode != "":
		return "", 0, false
	default:
		if s.NetworkOf != nil {
			at = s.NetworkOf
		}
		return at.Name + "." + at.Stack.Name, site.Port, true
	}
}

// elsewhere returns where the copies of a service are that a gate reaches at published ports of another machine, each at one
// of its own; nil for one without copies, and for one that its network tells.
func elsewhere(site *lab.Site, g *lab.Gate) (addresses []string) {
	s := site.Service
	if s.Stack.Host == g.Host || !s.HasCopies() {
		return nil
	}
	at, err := netip.ParseAddr(s.Stack.Host.Address)
	if err != nil {
		return nil // a name is asked for each time
	}
	for _, c := range s.Copies() {
		for _, p := range c.Ports {
			if n, published := p.HostPortOf(site.Port); published && (len(p.Addresses) == 0 || !p.Localhost && !p.Addresses[0].IsLoopback()) {
				addresses = append(addresses, netip.AddrPortFrom(at, uint16(n)).String())
				break
			}
		}
	}
	return addresses
}

// Digest tells contents apart. It is for programs that hold them, and never shown: there are secrets in them.
func Digest(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic("sites: a value without JSON: " + err.Error()) // texts and numbers
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// String returns the route as a line of sites is written, with the service that it leads to.
func (r Route) String() string {
	line := declare.Site{
		Domain: r.Domain, Path: r.Path, Port: r.Port, SignIn: r.SignIn, From: r.From, Plain: r.Plain, Strip: r.Strip, TLS: r.TLS, Slow: r.Slow,
		PassSignIn: r.PassSignIn,
	}.String()
	site, rest, _ := strings.Cut(line, " -> ")
	return site + " -> " + r.Service + ":" + rest
}
