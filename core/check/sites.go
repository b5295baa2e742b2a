package check

import (
	"crypto/tls"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/sites"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// eachSite calls f for each site of the services that have a host.
func eachSite(in *Input, f func(site *lab.Site)) {
	for _, s := range in.services() {
		for _, site := range s.Sites {
			f(site)
		}
	}
}

var siteRules = []Rule{
	{
		Name: "site-clash", Severity: Error, Needs: Files,
		Title: "one domain and path lead to two places",
		Text:  "A request goes to one of them, and whoever meant the other finds nothing. A longer path wins over a shorter one, a name over a *.",
		Mistake: `[service.desk]
sites = ["skerry.example -> 80"]
[service.log]
sites = ["skerry.example -> 8080"]`,
		Mended: `[service.desk]
sites = ["skerry.example -> 80"]
[service.log]
sites = ["skerry.example/log -> 8080"]`,
		Find: siteClash,
	}, {
		Name: "site-no-gate", Severity: Error, Needs: Files,
		Title:   "a site has no gate that leads to it",
		Text:    "The gate of the service's host leads to it, or the lab's only one. A gate on another host reaches what is published there.",
		Mistake: `sites = ["tides.skerry.example -> 80"]    # lab.toml has no [gate.lamp-room]`,
		Mended: `[gate.lamp-room]
https = "443"`,
		Find: siteNoGate,
	}, {
		Name: "site-port-unknown", Severity: Warning, Needs: Image,
		Title:   "the image does not say that it listens on a site's port",
		Text:    "Where nothing listens, the gate answers with 503.",
		Mistake: `sites = ["tides.skerry.example -> 8080"]    # the image declares 7410`,
		Mended:  `sites = ["tides.skerry.example -> 7410"]`,
		Mends:   true,
		Find:    sitePortUnknown,
	}, {
		Name: "site-name", Severity: Error, Needs: Files,
		Title:   "a site's domain is no name of one",
		Text:    "It has a dot in it, letters, digits and - between dots (RFC 1123, RFC 5891), and neither a port nor the dot of the root.",
		Mistake: `sites = ["tides_log.skerry.example:8443 -> 80"]`,
		Mended:  `sites = ["tides-log.skerry.example -> 80"]`,
		Find:    resolverFinds,
	}, {
		Name: "site-elsewhere", Severity: Warning, Needs: Host,
		Title: "a site's name does not lead to its gate",
		Text: "The host's own resolver was asked. What it answers may differ from what others get: behind a router with an address of " +
			"its own, accept it, or let address in lab.toml say that one.",
		Mistake: `sites = ["tides.skerry.example -> 80"]    # it leads to 198.51.100.9, the gate is 192.0.2.14`,
		Mended: `[host.lamp-room]
address = "198.51.100.9"`,
		Find: siteElsewhere,
	}, {
		Name: "site-also-published", Severity: Note, Needs: Files, Mends: true,
		Title: "what has a site is published past the gate, too",
		Text:  "Whoever knows the port goes there without a certificate, and without a sign-in.",
		Mistake: `ports = ["8710 -> 80"]
sites = ["tides.skerry.example -> 80"]`,
		Mended: `sites = ["tides.skerry.example -> 80"]`,
		Find:   siteAlsoPublished,
	}, {
		Name: "site-sign-in-unknown", Severity: Error, Needs: Files, Mends: true,
		Title:   "a site wants a sign-in that the lab does not have",
		Text:    "Nobody could sign in.",
		Mistake: `sites = ["tides.skerry.example -> 80, sign-in keeper"]    # lab.toml has [sign-in.keepers]`,
		Mended:  `sites = ["tides.skerry.example -> 80, sign-in keepers"]`,
		Find:    siteSignInUnknown,
	}, {
		Name: "site-certificate", Severity: Error, Needs: Host,
		Title: "a certificate of a domain cannot be used",
		Text:  "Browsers refuse one that has expired, or is for other names; without its own key the gate cannot use it at all.",
		Mistake: `[domain."skerry.example"]
certificate = { chain = "skerry.pem", key = "skerry.key" }    # it was good until last week`,
		Mended: `[domain."skerry.example"]
certificate = { chain = "skerry-2027.pem", key = "skerry-2027.key" }`,
		Find: siteCertificate,
	}, {
		Name: "site-insecure-sign-in", Severity: Error, Needs: Files, Mends: true,
		Title:   "a sign-in goes over the network without encryption",
		Text:    "Everybody on the way reads the password.",
		Mistake: `sites = ["tides.skerry.example -> 80, sign-in keepers, plain"]`,
		Mended:  `sites = ["tides.skerry.example -> 80, sign-in keepers"]`,
		Find:    siteInsecureSignIn,
	},
}

func siteClash(in *Input) {
	first := map[string]*lab.Site{}
	eachSite(in, func(site *lab.Site) {
		if !site.Known || site.Gate == nil {
			return
		}
		key := site.Gate.Host.Name + " " + site.Name()
		if other := first[key]; other != nil {
			in.report(site.Service, source.Problem{
				At:      site.Part([2]int{site.DomainAt[0], site.DomainAt[1] + site.PathAt[1]}),
				Message: fmt.Sprintf("%s leads to %s and to %s", site.Name(), other.Service.FullName(), site.Service.FullName()),
				Because: []source.Because{{Text: "the other one", At: other.At}},
				Mend:    &source.Mend{Text: "another domain, or another path"},
			})
			return
		}
		first[key] = site
	})
}

func siteNoGate(in *Input) {
	eachSite(in, func(site *lab.Site) {
		s := site.Service
		switch {
		case site.Gate == nil && len(in.Lab.Gates) > 0:
			in.report(s, source.Problem{
				At: site.At, Message: fmt.Sprintf("%s has no gate, and the lab has several: it is not known which one leads to it", s.Stack.Host.Name),
				Mend: &source.Mend{Text: "[gate." + s.Stack.Host.Name + "] in lab.toml"},
			})
		case site.Gate == nil:
			in.report(s, source.Problem{
				At: site.At, Message: "the lab has no gate that leads to " + site.Name(),
				Mend: &source.Mend{Text: "[gate." + s.Stack.Host.Name + "] in lab.toml"},
			})
		case s.NetworkMode == "none":
			in.report(s, source.Problem{At: site.At, Message: s.Name + ` has network = "none": no gate reaches it`})
		case !sites.Reaches(site):
			mend := fmt.Sprintf("publish port %d, or [gate.%s] in lab.toml", site.Port, s.Stack.Host.Name)
			if s.Stack.Host.Address == "localhost" {
				mend = "address of [host." + s.Stack.Host.Name + "], and " + mend
			}
			in.report(s, source.Problem{
				At: site.At, Message: fmt.Sprintf("the gate of %s does not reach port %d of %s, which is on %s", site.Gate.Host.Name, site.Port, s.Name, s.Stack.Host.Name),
				Mend: &source.Mend{Text: mend},
			})
		}
	})
}

func sitePortUnknown(in *Input) {
	for _, s := range in.surveyed() {
		for _, site := range s.Sites {
			ports, ok := imagePorts(s, "tcp")
			if !ok || slices.Contains(ports, site.Port) || setByVariable(s, site.Port) {
				continue
			}
			words := make([]string, len(ports))
			for i, p := range ports {
				words[i] = strconv.Itoa(p)
			}
			p := source.Problem{
				At:      site.Part(site.PortAt),
				Message: fmt.Sprintf("the image declares %s, and not %d", strings.Join(words, ", "), site.Port),
			}
			if len(ports) == 1 && p.At.Text() == strconv.Itoa(site.Port) {
				p.Mend = source.Replace(p.At, words[0], "the image's own port")
			}
			in.report(s, p)
		}
	}
}

// gateAddresses returns the addresses that a name may lead to so that it leads to a gate; ok is false where that is not
// known.
func gateAddresses(h *lab.Host) (all []netip.Addr, ok bool) {
	if a, err := netip.ParseAddr(h.Address); err == nil {
		all = append(all, a.Unmap())
	}
	for _, text := range h.Survey.Addresses {
		if a, err := netip.ParseAddr(text); err == nil {
			all = append(all, a.Unmap())
		}
	}
	if n, found := h.Survey.Name(h.Address); found {
		for _, text := range n.Addresses {
			if a, err := netip.ParseAddr(text); err == nil {
				all = append(all, a.Unmap())
			}
		}
	}
	return all, len(all) > 0
}

func siteElsewhere(in *Input) {
	said := map[string]bool{}
	in.surveyed() // says which hosts were not
	eachSite(in, func(site *lab.Site) {
		if site.Gate == nil || !site.Known || site.Wildcard() || said[site.Domain] || site.Gate.Host.Survey == nil {
			return
		}
		h := site.Gate.Host
		said[site.Domain] = true
		name, asked := h.Survey.Name(site.Domain)
		ours, known := gateAddresses(h)
		if !asked || !known {
			return
		}
		at := site.Part(site.DomainAt)
		if len(name.Addresses) == 0 {
			f := in.report(site.Service, source.Problem{
				At: at, Message: fmt.Sprintf("on %s nothing is known of the name %s: %s", h.Name, site.Domain, name.Problem),
			})
			f.Severity = Note
			return
		}
		for _, text := range name.Addresses {
			a, err := netip.ParseAddr(text)
			if err == nil && (slices.Contains(ours, a.Unmap()) || a.IsLoopback() && h.Address == "localhost") {
				return
			}
		}
		in.report(site.Service, source.Problem{
			At:      at,
			Message: fmt.Sprintf("%s leads to %s, and its gate is on %s", site.Domain, strings.Join(name.Addresses, ", "), h.Name),
			Because: []source.Because{{Text: fmt.Sprintf("%s has %s", h.Name, addressList(ours))}},
		})
	})
}

// addressList names addresses; of many, the first few.
func addressList(all []netip.Addr) string {
	var words []string
	for _, a := range all {
		if s := a.String(); !slices.Contains(words, s) && !a.IsLoopback() {
			words = append(words, s)
		}
	}
	if len(words) > 4 {
		words = append(words[:4], "…")
	}
	if len(words) == 0 {
		return "no other address than its own"
	}
	return strings.Join(words, ", ")
}

func siteAlsoPublished(in *Input) {
	eachSite(in, func(site *lab.Site) {
		s := site.Service
		if site.Gate == nil || site.Gate.Host != s.Stack.Host {
			return
		}
		for i, p := range s.Ports {
			if n, ok := p.HostPortOf(site.Port); ok && !p.Localhost && (len(p.Addresses) == 0 || !p.Addresses[0].IsLoopback()) {
				problem := source.Problem{
					At: p.HostAt, Message: fmt.Sprintf("port %d of %s leads past the gate to what %s leads to", n, s.Stack.Host.Name, site.Name()),
					Because: []source.Because{{Text: "the site", At: site.At}},
					Mend:    &source.Mend{Text: "without it, nobody gets past the gate"},
				}
				if p.Container.Count() == 1 && len(s.Declared().Ports) == len(s.Ports) {
					problem.Mend = withoutItem(s.Declared().Ports, i, problem.Mend.Text)
				}
				in.reportOnce(s, problem)
			}
		}
	})
}

// withoutItem offers to take an item out of a list that stands in one line; of the only one, the whole line.
func withoutItem(list []declare.Text, i int, text string) *source.Mend {
	at := list[i].Span
	if len(list) == 1 {
		if line := lineSpan(at); strings.HasPrefix(strings.TrimSpace(line.Text()), "ports = [") && strings.HasSuffix(strings.TrimSpace(line.Text()), "]") {
			return source.Replace(line, "", text)
		}
		return &source.Mend{Text: text}
	}
	whole := at.File.Text
	if i+1 < len(list) {
		next := list[i+1].Span.Start
		if between := whole[at.End:next]; strings.TrimSpace(between) == "," {
			return source.Replace(at.File.Span(at.Start, next), "", text)
		}
		return &source.Mend{Text: text}
	}
	before := list[i-1].Span.End
	if between := whole[before:at.Start]; strings.TrimSpace(between) == "," {
		return source.Replace(at.File.Span(before, at.End), "", text)
	}
	return &source.Mend{Text: text}
}

func siteSignInUnknown(in *Input) {
	var names []string
	for _, s := range in.Lab.SignIns {
		names = append(names, s.Name)
	}
	eachSite(in, func(site *lab.Site) {
		at := site.Part(site.SignInAt)
		switch in2 := in.Lab.SignIn(site.SignIn); {
		case site.SignIn == "":
		case in2 == nil:
			p := source.Problem{At: at, Message: "lab.toml has no sign-in " + site.SignIn, Mend: declare.Meant(at, site.SignIn, names, "is one")}
			if p.Mend == nil {
				p.Mend = &source.Mend{Text: "[sign-in." + site.SignIn + "] in lab.toml"}
			}
			in.report(site.Service, p)
		case in2.File != nil && len(in2.Users) == 0:
			in.report(site.Service, source.Problem{
				At: at, Message: fmt.Sprintf("nobody may sign in: %s holds no user", in2.File.Path),
				Because: []source.Because{{Text: "the sign-in", At: in2.At}},
				Mend:    &source.Mend{Text: "lantern password " + in2.File.Path + " NAME adds one"},
			})
		}
	})
}

// soon is how long before its end a certificate of somebody else is worth a word.
const soon = 14 * 24

func siteCertificate(in *Input) {
	in.surveyed() // the day is theirs
	for _, d := range in.Lab.Domains {
		if d.Chain == nil || d.Key == nil {
			continue
		}
		pair, err := tls.X509KeyPair([]byte(d.Chain.Text.Reveal()), []byte(d.Key.Text.Reveal()))
		if err != nil {
			at, what := d.Chain.At, strings.TrimPrefix(err.Error(), "tls: ")
			if strings.Contains(what, "private key") {
				at = d.Key.At
			}
			in.add(source.Problem{At: at, Message: fmt.Sprintf("%s and %s cannot be used together: %s", d.Chain.Path, d.Key.Path, what)})
			continue
		}
		var named []string
		for _, site := range in.Lab.Sites() {
			if !site.Known || in.Lab.DomainOf(site.Domain) != d || slices.Contains(named, site.Domain) {
				continue
			}
			named = append(named, site.Domain)
			name := site.Domain
			if rest, wild := strings.CutPrefix(name, "*."); wild {
				name = "some-name." + rest
			}
			if pair.Leaf.VerifyHostname(name) != nil {
				in.report(site.Service, source.Problem{
					At:      site.Part(site.DomainAt),
					Message: fmt.Sprintf("the certificate in %s is not for %s: it is for %s", d.Chain.Path, site.Domain, strings.Join(pair.Leaf.DNSNames, ", ")),
					Because: []source.Because{{Text: "the certificate", At: d.Chain.At}},
				})
			}
		}
		taken := latest(in.Lab)
		switch until := pair.Leaf.NotAfter; {
		case taken == nil:
		case until.Before(taken.Taken):
			in.add(source.Problem{At: d.Chain.At, Message: fmt.Sprintf("the certificate in %s has expired: it was good until %s", d.Chain.Path, until.Format("2006-01-02"))})
		case pair.Leaf.NotBefore.After(taken.Taken):
			in.add(source.Problem{At: d.Chain.At, Message: fmt.Sprintf("the certificate in %s is good from %s on", d.Chain.Path, pair.Leaf.NotBefore.Format("2006-01-02"))})
		case until.Sub(taken.Taken).Hours() < soon:
			in.add(source.Problem{At: d.Chain.At, Message: fmt.Sprintf("the certificate in %s is good until %s", d.Chain.Path, until.Format("2006-01-02"))}).Severity = Warning
		}
	}
}

// latest returns the survey of a lab that was taken last; nil for none.
func latest(l *lab.Lab) (last *survey.Survey) {
	for _, h := range l.Hosts {
		if h.Survey != nil && (last == nil || h.Survey.Taken.After(last.Taken)) {
			last = h.Survey
		}
	}
	return last
}

func siteInsecureSignIn(in *Input) {
	eachSite(in, func(site *lab.Site) {
		switch g := site.Gate; {
		case site.SignIn == "" || g == nil:
		case g.HTTPS == nil || g.Certificates == "none":
			in.report(site.Service, source.Problem{
				At: site.Part(site.SignInAt), Message: fmt.Sprintf("passwords for %s go over the network as they are: the gate of %s speaks plain HTTP alone", site.Name(), g.Host.Name),
				Because: []source.Because{{Text: "the gate", At: g.At}},
				Mend:    &source.Mend{Text: `https, and certificates = "own" where no authority reaches it`},
			})
		case site.Plain:
			p := source.Problem{
				At: site.Part(site.PlainAt), Message: fmt.Sprintf("passwords for %s go over the network as they are, for who comes without TLS", site.Name()),
				Because: []source.Because{{Text: "the sign-in", At: site.Part(site.SignInAt)}},
			}
			if at := p.At; at.Text() == "plain" {
				start := strings.LastIndexByte(at.File.Text[:at.Start], ',')
				if start >= 0 && strings.TrimSpace(at.File.Text[start+1:at.Start]) == "" {
					p.Mend = source.Replace(at.File.Span(start, at.End), "", "without TLS there is a redirection then")
				}
			}
			in.report(site.Service, p)
		}
	})
}
