package declare

import (
	"fmt"
	"net/netip"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/idna"

	"proudlantern.example/lantern/core/source"
)

// Gate is a [gate.HOST]: the reverse proxy that a host has in front of its sites.
type Gate struct {
	Host                                                                 string
	At                                                                   source.Span // of the host's name
	HTTP, HTTPS, Certificates, Contact, Authority, AuthorityCA, Visitors Text
	TrustedProxies                                                       []Text
}

// Domain is a [domain."NAME"]: where the certificates of the names at and below it come from.
type Domain struct {
	Name        string
	At          source.Span
	Certificate *CertificateFiles
	DNSUpdate   *DNSUpdate
}

// CertificateFiles are the files, relative to the lab, of a certificate that somebody else looks after.
type CertificateFiles struct {
	At         source.Span
	Chain, Key Text
}

// DNSUpdate says where a record is put that shows to an authority whose domain it is (RFC 2136, RFC 8945).
type DNSUpdate struct {
	At                               source.Span
	Server, Zone, KeyName, Algorithm Text
	Key                              Let // env-file and key
}

// SignIn is a [sign-in.NAME]: who may see a site.
type SignIn struct {
	Name  string
	At    source.Span
	Users Text
}

// Site is one line of sites: `DOMAIN[/PATH] -> PORT[, OPTION…]`.
type Site struct {
	Domain string // in small letters, as it is asked for (RFC 5891); may begin with "*."
	Path   string // "/" or longer, without a / at its end
	Port   int    // of the container

	SignIn     string         // "": everybody
	From       []netip.Prefix // nil: from everywhere
	Plain      bool           // also without TLS
	Strip      bool           // the path is taken off
	TLS        bool           // the container speaks TLS itself
	Slow       bool           // no time limit on answers
	PassSignIn bool           // the service sees who has signed in, and how

	DomainAt, PathAt, PortAt, SignInAt, FromAt, StripAt, PlainAt [2]int // where they stand in the value: offset, length
}

// Wildcard reports whether the site is that of all names below a domain.
func (s Site) Wildcard() bool { return strings.HasPrefix(s.Domain, "*.") }

// Name returns the site as people name it: its domain and path.
func (s Site) Name() string { return s.Domain + strings.TrimSuffix(s.Path, "/") }

// optionsOfSites are the options of a line of sites.
var optionsOfSites = []string{"sign-in", "from", "plain", "strip", "tls", "slow", "pass-sign-in"}

// ParseSite reads a line of sites. The error is a *[SyntaxError] that marks the part at fault. Whether the domain can be
// one is not looked at, see [DomainName].
func ParseSite(s string) (Site, error) {
	site := Site{Path: "/"}
	left, right, ok := strings.Cut(s, "->")
	if !ok {
		t, at := trimmed(s)
		return site, syntaxError(at, len(t), "only one side: a site is written DOMAIN[/PATH] -> PORT, such as tides.skerry.example -> 80")
	}
	name, move := trimmed(left)
	for _, scheme := range []string{"https://", "http://"} {
		if strings.HasPrefix(strings.ToLower(name), scheme) {
			return site, syntaxError(move, len(name), "a site is a domain and a path, without %s", scheme).meant(strings.TrimSuffix(name[len(scheme):], "/"))
		}
	}
	domain, rest, hasPath := strings.Cut(name, "/")
	site.DomainAt = [2]int{move, len(domain)}
	site.PathAt = [2]int{move + len(domain), len(name) - len(domain)}
	if domain == "" {
		return site, syntaxError(move, max(1, len(name)), "the domain is missing")
	}
	site.Domain = strings.ToLower(domain)
	if hasPath && rest != "" {
		clean, err := sitePath("/" + rest)
		if err != "" {
			return site, syntaxError(site.PathAt[0], site.PathAt[1], "%s", err)
		}
		site.Path = clean
	}
	port, options, more := strings.Cut(right, ",")
	at := len(left) + 2
	number, move := trimmed(port)
	site.PortAt = [2]int{at + move, len(number)}
	n, err := ParsePortNumber(number)
	if err != nil {
		return site, within(err, at+move)
	}
	site.Port = n
	for at += len(port) + 1; more; {
		var option string
		option, options, more = strings.Cut(options, ",")
		if err := site.readOption(option, at); err != nil {
			return site, err
		}
		at += len(option) + 1
	}
	return site, nil
}

// sitePath returns a path as requests for it are compared; err says what is wrong with it.
func sitePath(p string) (clean, err string) {
	for _, c := range p {
		if c <= ' ' || c > '~' || strings.ContainsRune(`%?#\"<>^{|}`+"`", c) {
			return "", fmt.Sprintf("%q has no place in the path of a site: it is written without escapes, questions and blanks", c)
		}
	}
	if clean = path.Clean(p); clean != strings.TrimSuffix(p, "/") && clean != p {
		return "", "the path of a site has no . or .. in it, and no // either"
	}
	return clean, ""
}

// readOption reads an option that stands at an offset of the value.
func (s *Site) readOption(text string, at int) error {
	option, move := trimmed(text)
	word, rest, _ := strings.Cut(option, " ")
	rest = strings.TrimSpace(rest)
	here, restAt := [2]int{at + move, len(option)}, at+move+len(option)-len(rest)
	switch {
	case word == "sign-in" && rest != "":
		s.SignIn, s.SignInAt = rest, [2]int{restAt, len(rest)}
		if !IsName(rest) {
			return syntaxError(restAt, len(rest), "%q is no name for a sign-in", rest)
		}
	case word == "from" && rest != "":
		s.FromAt = here
		for part := range strings.SplitSeq(rest, " and ") {
			network, skip := trimmed(part)
			prefix, err := ParseNetwork(network)
			if err != nil {
				return syntaxError(restAt+skip, len(network), "%q is no network: from 192.0.2.0/24 and 2001:db8::/48", network)
			}
			s.From = append(s.From, prefix)
			restAt += len(part) + len(" and ")
		}
	case option == "plain":
		s.Plain, s.PlainAt = true, here
	case option == "strip":
		s.Strip, s.StripAt = true, here
	case option == "tls":
		s.TLS = true
	case option == "slow":
		s.Slow = true
	case option == "pass-sign-in":
		s.PassSignIn = true
	default:
		e := syntaxError(here[0], here[1], "%q is no option of a site: sign-in NAME, from NETWORK, plain, strip, tls, slow or pass-sign-in", option)
		if near := Nearest(word, optionsOfSites); near != "" && Certain(word, near) {
			e.meant(strings.TrimSpace(near + " " + rest))
		}
		return e
	}
	return nil
}

// ParseNetwork reads a network, or one address.
func ParseNetwork(s string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(s); err == nil && a.Zone() == "" {
		return netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), nil
	}
	p, err := netip.ParsePrefix(s)
	return p.Masked(), err
}

// String returns the line as it is written in stack.toml.
func (s Site) String() string {
	line := s.Name() + " -> " + strconv.Itoa(s.Port)
	if s.SignIn != "" {
		line += ", sign-in " + s.SignIn
	}
	if len(s.From) > 0 {
		var all []string
		for _, p := range s.From {
			all = append(all, p.String())
		}
		line += ", from " + strings.Join(all, " and ")
	}
	for _, o := range []struct {
		is   bool
		word string
	}{{s.Plain, "plain"}, {s.Strip, "strip"}, {s.TLS, "tls"}, {s.Slow, "slow"}, {s.PassSignIn, "pass-sign-in"}} {
		if o.is {
			line += ", " + o.word
		}
	}
	return line
}

// DomainName returns a domain's name as it is asked for (RFC 5891: small letters, A-labels), and says what is wrong with
// one that is none.
func DomainName(s string) (name, wrong string) {
	rest, wild := strings.CutPrefix(s, "*.")
	switch _, err := netip.ParseAddr(rest); {
	case err == nil:
		return "", "it is an address: a site has a name"
	case strings.Contains(rest, ":"):
		return "", "a site has the ports of its gate, and none of its own"
	case strings.Contains(rest, "*"):
		return "", "a * stands for one whole part at the beginning: *.skerry.example"
	case strings.HasSuffix(rest, "."):
		return "", "it is written without the dot at its end"
	case !strings.Contains(rest, ".") && rest != "localhost":
		return "", "it has no dot, so nobody outside finds it"
	}
	profile := idna.New(idna.MapForLookup(), idna.StrictDomainName(true), idna.VerifyDNSLength(true), idna.BidiRule())
	name, err := profile.ToASCII(rest)
	if err != nil {
		return "", "it is no name of a domain (RFC 5891)"
	}
	if last := name[strings.LastIndex(name, ".")+1:]; strings.Trim(last, "0123456789") == "" {
		return "", "its last part is a number, so it would be taken for an address"
	}
	if wild {
		name = "*." + name
	}
	return name, ""
}

var gateKeys = []key[Gate]{
	text("http", "the host's port for plain HTTP, [ADDRESS:]PORT", `http = "80"`, func(g *Gate) *Text { return &g.HTTP }),
	text("https", "the host's port for HTTPS, [ADDRESS:]PORT", `https = "443"`, func(g *Gate) *Text { return &g.HTTPS }),
	word("certificates", "where the certificates of sites come from: an authority by ACME (RFC 8555), an authority of the "+
		"lab's own, or none for plain HTTP; acme when left out", `certificates = "own"`, certificateWords,
		func(g *Gate) *Text { return &g.Certificates }),
	text("contact", "where the authority writes to when something is wrong with a certificate", `contact = "keeper@skerry.example"`,
		func(g *Gate) *Text { return &g.Contact }),
	text("authority", "the directory of another ACME server than the usual one", `authority = "https://ca.skerry.example/directory"`,
		func(g *Gate) *Text { return &g.Authority }),
	text("authority-ca", "the file, relative to the lab, of the certificate by which that server is known", `authority-ca = "ca.pem"`,
		func(g *Gate) *Text { return &g.AuthorityCA }),
	texts("trusted-proxies", "networks of proxies in front of the gate, which say on whose behalf they ask",
		`trusted-proxies = ["192.0.2.8"]`, func(g *Gate) *[]Text { return &g.TrustedProxies }),
	word("visitors", "how much of a visitor's address the access log keeps: all of it, or the network only; whole when left out",
		`visitors = "shortened"`, visitorWords, func(g *Gate) *Text { return &g.Visitors }),
}

// certificateWords say where a gate's certificates come from.
var certificateWords = []string{"acme", "own", "none"}

var visitorWords = []string{"whole", "shortened"}

var certificateKeys = []key[CertificateFiles]{
	text("chain", "the file of the certificate, and of those that it rests on (PEM)", `chain = "skerry.pem"`,
		func(c *CertificateFiles) *Text { return &c.Chain }),
	text("key", "the file of its key (PEM)", `key = "skerry.key"`, func(c *CertificateFiles) *Text { return &c.Key }),
}

var dnsKeyKeys = []key[Let]{
	text("env-file", "the environment file that holds the key", `env-file = "dns.env"`, func(l *Let) *Text { return &l.EnvFile }),
	text("key", "the variable in that file", `key = "TSIG"`, func(l *Let) *Text { return &l.Key }),
}

var dnsUpdateKeys = []key[DNSUpdate]{
	text("server", "the address of the zone's name server, ADDRESS[:PORT]", `server = "192.0.2.1"`,
		func(d *DNSUpdate) *Text { return &d.Server }),
	text("zone", "the zone that it changes", `zone = "skerry.example"`, func(d *DNSUpdate) *Text { return &d.Zone }),
	text("key-name", "the name of the key by which it knows who asks", `key-name = "lamp"`,
		func(d *DNSUpdate) *Text { return &d.KeyName }),
	word("algorithm", "how that key is used (RFC 8945); hmac-sha256 when left out", `algorithm = "hmac-sha512"`,
		algorithmWords, func(d *DNSUpdate) *Text { return &d.Algorithm }),
	{
		name: "key", takes: FormTable, doc: "the key, in base64: a value of an environment file",
		example: `key = { env-file = "dns.env", key = "TSIG" }`,
		read: func(r *reader, e entry, d *DNSUpdate) {
			d.Key.At = e.keySpan
			readTable(r, e, dnsKeyKeys, "key", &d.Key)
		},
		lines: func(d *DNSUpdate) []string { return inline("key", linesOf(dnsKeyKeys, &d.Key)) },
	},
}

var algorithmWords = []string{"hmac-sha256", "hmac-sha224", "hmac-sha384", "hmac-sha512"}

var domainKeys = []key[Domain]{
	{
		name: "certificate", takes: FormTable, doc: "the files, relative to the lab, of a certificate that somebody else looks after",
		example: `certificate = { chain = "skerry.pem", key = "skerry.key" }`,
		read: func(r *reader, e entry, d *Domain) {
			d.Certificate = &CertificateFiles{At: e.keySpan}
			readTable(r, e, certificateKeys, "certificate", d.Certificate)
		},
		lines: func(d *Domain) []string {
			if d.Certificate == nil {
				return nil
			}
			return inline("certificate", linesOf(certificateKeys, d.Certificate))
		},
	},
	{
		name: "dns-update", takes: FormTable,
		doc:     "the name server in which the gate shows whose domain it is: for wildcards, and for hosts that are not reached from outside",
		example: `dns-update = { server = "192.0.2.1", zone = "skerry.example", key-name = "lamp", key = { env-file = "dns.env", key = "TSIG" } }`,
		read: func(r *reader, e entry, d *Domain) {
			d.DNSUpdate = &DNSUpdate{At: e.keySpan}
			readTable(r, e, dnsUpdateKeys, "dns-update", d.DNSUpdate)
		},
		lines: func(d *Domain) []string {
			if d.DNSUpdate == nil {
				return nil
			}
			return inline("dns-update", linesOf(dnsUpdateKeys, d.DNSUpdate))
		},
	},
}

var signInKeys = []key[SignIn]{
	text("users", "the file of those who may sign in, relative to the lab: NAME:BCRYPT a line, written by lantern password",
		`users = "keepers.users"`, func(s *SignIn) *Text { return &s.Users }),
}

// siteTables are the keys of lab.toml that are about sites.
var siteTables = []key[Lab]{
	tables("gate", "the reverse proxy that a host has in front of its sites, by the host's name", `[gate.lamp-room]`, "a gate",
		func(r *reader, e entry, l *Lab) {
			g := Gate{Host: e.key, At: e.keySpan}
			readTable(r, e, gateKeys, "a gate", &g)
			l.Gates = append(l.Gates, g)
		}),
	tablesOf("domain", "where the certificates of a domain come from, and of the names below it", `[domain."skerry.example"]`,
		func(r *reader, e entry, l *Lab) {
			d := Domain{Name: e.key, At: e.keySpan}
			before := len(r.problems)
			readTable(r, e, domainKeys, "a domain", &d)
			switch {
			case len(r.problems) > before:
			case d.Certificate != nil && d.DNSUpdate != nil:
				r.problem("value-grammar", e.keySpan, "a domain has a certificate of its own, or a name server to show in: not both")
			case d.Certificate != nil:
				r.needs("certificate", d.Certificate.At, map[string]Text{"chain": d.Certificate.Chain, "key": d.Certificate.Key})
			case d.DNSUpdate != nil:
				r.needs("dns-update", d.DNSUpdate.At, map[string]Text{"server": d.DNSUpdate.Server, "zone": d.DNSUpdate.Zone,
					"key-name": d.DNSUpdate.KeyName, "key.env-file": d.DNSUpdate.Key.EnvFile, "key.key": d.DNSUpdate.Key.Key})
			}
			l.Domains = append(l.Domains, d)
		}),
	tables("sign-in", "who may see a site that wants a sign-in", `sign-in.keepers.users = "keepers.users"`, "a sign-in",
		func(r *reader, e entry, l *Lab) {
			s := SignIn{Name: e.key, At: e.keySpan}
			before := len(r.problems)
			if readTable(r, e, signInKeys, "a sign-in", &s); len(r.problems) == before {
				r.needs("a sign-in", e.keySpan, map[string]Text{"users": s.Users})
			}
			l.SignIns = append(l.SignIns, s)
		}),
}

// needs reports keys of a table that are not there.
func (r *reader) needs(what string, at source.Span, texts map[string]Text) {
	var missing []string
	for name, t := range texts {
		if !t.IsSet() {
			missing = append(missing, name)
		}
	}
	if len(missing) > 0 {
		slices.Sort(missing)
		r.problem("key-missing", at, "%s needs %s", what, strings.Join(missing, ", "))
	}
}

// GatePrefix begins the name of the stack that a host's gate is.
const GatePrefix = "gate-"

// bcryptForm is that of a bcrypt hash.
var bcryptForm = regexp.MustCompile(`^\$2[aby]\$[0-3][0-9]\$[./A-Za-z0-9]{53}$`)

// IsBcrypt reports whether a text has the form of a bcrypt hash.
func IsBcrypt(s string) bool { return bcryptForm.MatchString(s) }
