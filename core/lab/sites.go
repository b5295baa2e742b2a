package lab

import (
	"cmp"
	"errors"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
)

// Gate is the reverse proxy that a host has in front of its sites. What runs of it is a stack like others.
type Gate struct {
	Host         *Host
	At           source.Span
	Stack        *Stack // nil where its host is not known
	HTTP, HTTPS  *Port  // nil: not offered
	Certificates string // acme, own or none
	Contact      string
	Authority    string    // the directory of an ACME server; "" for the usual one
	AuthorityCA  *SiteFile // nil: known as all are
	Trusted      []netip.Prefix
	Shortened    bool // of a visitor's address, the log keeps the network only
}

// Domain is where the certificates of a domain's names come from.
type Domain struct {
	Name       string // as it is asked for; "" where it is no name of a domain
	At         source.Span
	Chain, Key *SiteFile  // of a certificate that somebody else looks after; nil: none
	DNS        *DNSUpdate // nil: none
}

// Covers reports whether a name is the domain's, or lies below it.
func (d *Domain) Covers(name string) bool {
	name = strings.TrimPrefix(name, "*.")
	return d.Name != "" && (name == d.Name || strings.HasSuffix(name, "."+d.Name))
}

// DNSUpdate is a name server in which the gate shows whose domain it is.
type DNSUpdate struct {
	Server, Zone, KeyName, Algorithm string
	Key                              secret.Text
}

// SignIn is who may see a site.
type SignIn struct {
	Name  string
	At    source.Span
	File  *SiteFile // nil: it could not be read
	Users []User
}

// User is somebody who may sign in.
type User struct{ Name, Hash string }

// SiteFile is a file of the lab that gates need.
type SiteFile struct {
	Path string // in the lab
	At   source.Span
	Text secret.Text
}

// Site is a domain, and perhaps a path, that leads to a port of a service.
type Site struct {
	declare.Site
	Service *Service
	At      source.Span // of the whole line
	Gate    *Gate       // nil: none leads to it
	Known   bool        // its domain can be one

	value Value
}

// Part returns the place of a part of the line.
func (s *Site) Part(at [2]int) source.Span { return s.value.Part(at[0], at[0]+at[1]) }

// URL returns the address under which a person finds the site; "" where that is not one name.
func (s *Site) URL() string {
	if s.Gate == nil || s.Wildcard() {
		return ""
	}
	scheme, port, usual := "https", s.Gate.HTTPS, 443
	if port == nil || s.Gate.Certificates == "none" {
		scheme, port, usual = "http", s.Gate.HTTP, 80
	}
	if port == nil {
		return ""
	}
	at := ""
	if n := port.Host.First; n != usual {
		at = ":" + strconv.Itoa(n)
	}
	return scheme + "://" + s.Domain + at + s.Path
}

// SiteLinks returns the addresses of the service's sites.
func (s *Service) SiteLinks() (links []string) {
	for _, site := range s.Sites {
		if url := site.URL(); url != "" && site.Known {
			links = append(links, url)
		}
	}
	return links
}

// Inside of a gate: what its program listens on, where its state lies, and as whom it runs.
const (
	GateService   = "gate"
	GateNetwork   = "gate" // that the gate and what is behind it share on a host
	GateHTTP      = 8080
	GateHTTPS     = 8443
	GateState     = "/state"
	GateUID       = 61000
	GateUser      = "61000:61000"
	GateImageName = "localhost/lantern-gate" // its tag is the digest of the program
)

// GateProgram is where the program lies in the image of a gate, and how it is told what it is.
var GateProgram = []string{"/lantern", "as-gate"}

// IsGate reports whether a stack is a host's gate, by its name.
func IsGate(stack string) bool { return strings.HasPrefix(stack, declare.GatePrefix) }

// EngineName returns the name of a stack on an engine, which begins those of its containers. The one of a gate has the
// lab's before it: several labs may have one on a host.
func EngineName(lab, stack string) string {
	if IsGate(stack) {
		return lab + "." + stack
	}
	return stack
}

// ContainerName returns the name of a service's container on its host.
func ContainerName(lab, stack, service string) string {
	if IsGate(stack) && service == GateService {
		return EngineName(lab, stack)
	}
	return EngineName(lab, stack) + "." + service
}

// gates works out the gates of the lab, but for what runs of them.
func (r *resolver) gates() {
	for _, d := range r.decl.Gates {
		g := &Gate{Host: r.lab.Host(d.Host), At: d.At, Certificates: cmp.Or(d.Certificates.Value, "acme"), Shortened: d.Visitors.Value == "shortened"}
		if g.Host == nil {
			var names []string
			for _, h := range r.lab.Hosts {
				names = append(names, h.Name)
			}
			p := r.problem("host-unknown", d.At, "lab.toml has no host %s; it has %s", d.Host, strings.Join(names, ", "))
			p.Mend = declare.Meant(d.At, d.Host, names, "is one")
			continue
		}
		word := func(t declare.Text) string {
			v, _ := r.known(t, r.labScope)
			return v.Text
		}
		g.Contact, g.Authority = word(d.Contact), word(d.Authority)
		if v, ok := r.known(d.Authority, r.labScope); ok && !strings.HasPrefix(v.Text, "https://") {
			r.problem("value-grammar", v.Part(0, len(v.Text)), "the directory of an ACME server is an address that begins with https://")
		}
		g.AuthorityCA = r.siteFile(d.AuthorityCA)
		for _, t := range d.TrustedProxies {
			v, ok := r.known(t, r.labScope)
			if !ok {
				continue
			}
			one, err := declare.ParseNetwork(v.Text)
			if err != nil {
				r.problem("value-grammar", v.Part(0, len(v.Text)), "%q is no network: 192.0.2.0/24, or one address", v.Text)
				continue
			}
			g.Trusted = append(g.Trusted, one)
		}
		if g.Certificates == "none" && d.HTTPS.IsSet() {
			r.problem("value-grammar", d.HTTPS.Span, `certificates = "none" is plain HTTP: there is nothing to be had on an https port`)
		}
		r.lab.Gates = append(r.lab.Gates, g)
	}
	if len(r.lab.Gates) == 0 {
		return
	}
	for _, n := range r.decl.Networks {
		if n.Name == GateNetwork {
			r.problem("name-invalid", n.At, "a network cannot be called %s: it is the one of the gate", GateNetwork)
		}
	}
	r.lab.Networks = append(r.lab.Networks, &Network{Name: GateNetwork, At: r.lab.Gates[0].At, EngineName: r.lab.Name + "." + GateNetwork})
}

// siteFile reads a file of the lab that a gate needs; nil, and a finding, where that cannot be.
func (r *resolver) siteFile(t declare.Text) *SiteFile {
	v, ok := r.known(t, r.labScope)
	if !ok {
		return nil
	}
	at := v.Part(0, len(v.Text))
	p, inside := declare.EnvPath("", v.Text)
	if !inside || path.IsAbs(v.Text) {
		r.problem("value-grammar", at, "this file lies inside the lab: %s leads out of it", v.Text)
		return nil
	}
	found, err := r.decl.Tree(p)
	var known *declare.Unreadable
	switch {
	case errors.Is(err, fs.ErrNotExist):
		r.problem("files-missing", at, "there is no file %s", p)
	case errors.As(err, &known):
		r.problem("files-missing", at, "%s: %s", p, known.Message)
	case err != nil:
		r.problem("files-missing", at, "%s cannot be read: %s", p, err)
	case len(found) != 1 || found[0].Folder:
		r.problem("files-missing", at, "%s is a folder", p)
	default:
		return &SiteFile{Path: p, At: at, Text: secret.Of(found[0].Text, true)}
	}
	return nil
}

// domains works out where certificates come from.
func (r *resolver) domains() {
	for _, d := range r.decl.Domains {
		name, wrong := declare.DomainName(d.Name)
		if wrong == "" && strings.HasPrefix(name, "*.") {
			name, wrong = "", "it is for all names below it anyway: it is written without *."
		}
		if wrong != "" {
			r.problem("site-name", d.At, "%s: %s", d.Name, wrong)
		}
		domain := &Domain{Name: name, At: d.At}
		if d.Certificate != nil {
			domain.Chain, domain.Key = r.siteFile(d.Certificate.Chain), r.siteFile(d.Certificate.Key)
		}
		if u := d.DNSUpdate; u != nil {
			r.dnsUpdate(domain, u)
		}
		r.lab.Domains = append(r.lab.Domains, domain)
	}
	for _, d := range r.decl.SignIns {
		s := &SignIn{Name: d.Name, At: d.At, File: r.siteFile(d.Users)}
		if s.File != nil {
			s.Users = r.users(s.File)
		}
		r.lab.SignIns = append(r.lab.SignIns, s)
	}
}

// dnsUpdate works out a name server.
func (r *resolver) dnsUpdate(domain *Domain, u *declare.DNSUpdate) {
	server, ok := r.known(u.Server, r.labScope)
	zone, and := r.known(u.Zone, r.labScope)
	name, also := r.known(u.KeyName, r.labScope)
	if !ok || !and || !also || !u.Key.EnvFile.IsSet() || !u.Key.Key.IsSet() {
		return
	}
	at := server.Part(0, len(server.Text))
	address, err := netip.ParseAddrPort(server.Text)
	if err != nil {
		a, err := netip.ParseAddr(strings.Trim(server.Text, "[]"))
		if err != nil {
			r.problem("value-grammar", at, "the name server is an address, such as 192.0.2.1 or [2001:db8::1]:53")
			return
		}
		address = netip.AddrPortFrom(a, 53)
	}
	if domain.Name != "" && !(&Domain{Name: strings.TrimSuffix(zone.Text, ".")}).Covers(domain.Name) {
		r.problem("value-grammar", zone.Part(0, len(zone.Text)), "%s is not in the zone %s", domain.Name, zone.Text)
	}
	v := r.letValue(&let{decl: u.Key, scope: r.labScope, secret: true})
	if v.Unknown {
		return
	}
	domain.DNS = &DNSUpdate{
		Server: address.String(), Zone: zone.Text, KeyName: name.Text, Algorithm: cmp.Or(u.Algorithm.Value, "hmac-sha256"), Key: v.all(),
	}
}

// users reads the lines of a file of users; a line that is none is reported, and left out.
func (r *resolver) users(f *SiteFile) (users []User) {
	number := 0
	for line := range strings.Lines(f.Text.Reveal()) {
		number++
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		name, hash, ok := strings.Cut(line, ":")
		switch {
		case !ok || name == "" || !declare.IsBcrypt(hash):
			r.problem("value-grammar", f.At, "line %d of %s is not NAME:BCRYPT: lantern password %s NAME writes one", number, f.Path, f.Path)
		case slices.ContainsFunc(users, func(u User) bool { return u.Name == name }):
			r.problem("value-grammar", f.At, "%s stands twice in %s", name, f.Path)
		default:
			users = append(users, User{name, hash})
		}
	}
	return users
}

// gateStack declares what runs of a gate, at the places of its own keys.
func (r *resolver) gateStack(g declare.Gate) *declare.Stack {
	said := func(value string) declare.Text { return declare.Text{Value: value, Span: g.At} }
	yes, no := true, false
	host := r.lab.Host(g.Host)
	http, https := g.HTTP, g.HTTPS
	if plain := g.Certificates.Value == "none"; !http.IsSet() && !https.IsSet() {
		http = said("80")
		if !plain {
			https = said("443")
		}
	} else if plain {
		https = declare.Text{}
	}
	var ports []declare.Text
	for _, p := range []struct {
		text   declare.Text
		inside int
	}{{http, GateHTTP}, {https, GateHTTPS}} {
		if p.text.IsSet() {
			ports = append(ports, declare.Text{Value: p.text.Value + " -> " + strconv.Itoa(p.inside), Span: p.text.Span})
		}
	}
	name := declare.GatePrefix + g.Host
	s := &declare.Service{
		Name: GateService, At: g.At, About: said("the gate of " + g.Host), Image: said(GateImageName + ":" + cmp.Or(r.in.GateImages[host.Name], "unknown")),
		Fetch: said("never"), Timezone: said("none"), RunAs: said(GateUser), Ports: ports,
		Mounts: []declare.Text{said("volume state -> " + GateState)}, Networks: []declare.Text{said(GateNetwork)},
		Ready: &declare.Ready{At: g.At, Command: []declare.Text{said(GateProgram[0]), said(GateProgram[1]), said("ready")}},
		Settings: &declare.Settings{
			ReadOnly: &yes, DropCapabilities: []declare.Text{said("ALL")}, Hostname: said(GateService),
		},
	}
	return &declare.Stack{
		Name: name, File: r.decl.File, About: said("the gate of " + g.Host), Host: said(g.Host), OwnNetwork: &no,
		Volumes:  []declare.Volume{{Name: "state", At: g.At, EngineName: said(EngineName(r.lab.Name, name))}},
		Services: []*declare.Service{s},
	}
}

// gateStacks adds the stacks of gates to those that have files of their own.
func (r *resolver) gateStacks() {
	for _, g := range r.lab.Gates {
		i := slices.IndexFunc(r.decl.Gates, func(d declare.Gate) bool { return d.Host == g.Host.Name })
		r.stack(r.gateStack(r.decl.Gates[i]))
		g.Stack = r.lab.Stacks[len(r.lab.Stacks)-1]
		g.Stack.Gate = g
	}
}

// published remembers which ports of the host a gate got.
func (g *Gate) published() {
	for i, p := range g.Stack.Service(GateService).Ports {
		switch p.Container.First {
		case GateHTTP:
			g.HTTP = &g.Stack.Service(GateService).Ports[i]
		case GateHTTPS:
			g.HTTPS = &g.Stack.Service(GateService).Ports[i]
		}
	}
}

// gateFor returns the gate that leads to a service: that of its host, else the only one; nil for none.
func (r *resolver) gateFor(st *Stack) *Gate {
	for _, g := range r.lab.Gates {
		if g.Host == st.Host {
			return g
		}
	}
	if len(r.lab.Gates) == 1 {
		return r.lab.Gates[0]
	}
	return nil
}

// sites works out the domains that lead to a service.
func (r *resolver) sites(s *Service, d *declare.Settings, in *scope) {
	for _, t := range d.Sites {
		v := r.expand(t, in)
		if v.Unknown {
			continue
		}
		parsed, err := declare.ParseSite(v.Text)
		if err != nil {
			r.syntax(err, v)
			continue
		}
		site := &Site{Site: parsed, Service: s, At: v.Part(0, len(v.Text)), Gate: r.gateFor(s.Stack), value: v}
		name, wrong := declare.DomainName(parsed.Domain)
		if wrong != "" {
			r.problem("site-name", site.Part(site.DomainAt), "%s: %s", parsed.Domain, wrong)
		} else {
			site.Domain, site.Known = name, true
		}
		s.Sites = append(s.Sites, site)
	}
}

// behindGate returns the network that a service shares with the gate of its host; nil where it has no site there.
func (r *resolver) behindGate(s *Service) *Network {
	for _, site := range slices.Concat(s.Sites, r.guestSites(s)) {
		if site.Gate != nil && site.Gate.Host == s.Stack.Host {
			for _, n := range r.lab.Networks {
				if n.Name == GateNetwork {
					return n
				}
			}
		}
	}
	return nil
}

// guestSites returns the sites of the services that live in the network of a service, as far as it is known yet.
func (r *resolver) guestSites(s *Service) (sites []*Site) {
	for _, guest := range s.Stack.Services {
		rare := settingsOf(guest.decl)
		if rare.SharesNetworkWith.Value == s.Name && len(rare.Sites) > 0 {
			sites = append(sites, &Site{Gate: r.gateFor(s.Stack)})
		}
	}
	return sites
}

// Sites returns the sites of all services, in the order of the files.
func (l *Lab) Sites() (all []*Site) {
	for _, st := range l.Stacks {
		for _, s := range st.Services {
			all = append(all, s.Sites...)
		}
	}
	return all
}

// DomainOf returns the domain of the lab that a site's certificate comes by: the closest one; nil for none.
func (l *Lab) DomainOf(name string) *Domain {
	var best *Domain
	for _, d := range l.Domains {
		if d.Covers(name) && (best == nil || len(d.Name) > len(best.Name)) {
			best = d
		}
	}
	return best
}

// SignIn returns the sign-in of that name, or nil.
func (l *Lab) SignIn(name string) *SignIn {
	for _, s := range l.SignIns {
		if s.Name == name {
			return s
		}
	}
	return nil
}
