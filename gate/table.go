package gate

import (
	"cmp"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/sites"
)

// table is what leads where. It never changes: a new one takes its place.
type table struct {
	settings sites.Settings
	domains  map[string][]*route // the longest path first; wildcards by "*." and what is behind
}

// route is one that requests take.
type route struct {
	sites.Route
	stack    string
	segments []string // of its path
	service  *service
}

// newTable makes the table of routes by stacks. Of two that are for the same domain and path, the one of the stack that
// comes first by its name counts: a check has found that before.
func newTable(settings sites.Settings, stacks map[string][]sites.Route, known *services) *table {
	t := &table{settings: settings, domains: map[string][]*route{}}
	names := make([]string, 0, len(stacks))
	for name := range stacks {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, r := range stacks[name] {
			if slices.ContainsFunc(t.domains[r.Domain], func(o *route) bool { return o.Path == r.Path }) {
				continue
			}
			t.domains[r.Domain] = append(t.domains[r.Domain], &route{Route: r, stack: name, segments: segments(r.Path), service: known.of(r)})
		}
	}
	for _, all := range t.domains {
		slices.SortStableFunc(all, func(a, b *route) int { return cmp.Compare(len(b.segments), len(a.segments)) })
	}
	return t
}

// of returns the routes of a domain: its own, or those of all names right below the one that it is in.
func (t *table) of(domain string) []*route {
	if all := t.domains[domain]; all != nil {
		return all
	}
	if _, parent, ok := strings.Cut(domain, "."); ok {
		return t.domains["*."+parent]
	}
	return nil
}

// names returns the names that certificates are needed for.
func (t *table) names() []string {
	names := make([]string, 0, len(t.domains))
	for name := range t.domains {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// addressesWithout returns the addresses that a later table does not lead to any more.
func (t *table) addressesWithout(later *table) map[string]bool {
	gone := map[string]bool{}
	for _, all := range t.domains {
		for _, r := range all {
			for _, a := range r.Addresses {
				gone[a] = true
			}
		}
	}
	for _, all := range later.domains {
		for _, r := range all {
			for _, a := range r.Addresses {
				delete(gone, a)
			}
		}
	}
	return gone
}

// hostOf returns the domain that a request is for, as domains are compared: in small letters, without a port and without
// the dot of the root. It is "" for what is no name of a domain.
func hostOf(host string) string {
	if strings.HasPrefix(host, "[") {
		return "" // an address
	}
	if i := strings.LastIndexByte(host, ':'); i >= 0 {
		if strings.Trim(host[i+1:], "0123456789") != "" {
			return ""
		}
		host = host[:i]
	}
	host = strings.TrimSuffix(host, ".")
	if host == "" || len(host) > 253 {
		return ""
	}
	lower := false
	for _, c := range []byte(host) {
		switch {
		case c >= 'A' && c <= 'Z':
			lower = true
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9', c == '-', c == '.', c == '_':
		default:
			return ""
		}
	}
	if lower {
		host = strings.ToLower(host)
	}
	return host
}

// segments are the parts of a path between its slashes.
func segments(p string) []string {
	p = strings.Trim(p, "/")
	if p == "" {
		return nil
	}
	return strings.Split(p, "/")
}

// plainPath returns the path that routes are chosen by. It is not what the service gets: that is what the client sent. A
// path that programs read in different ways is none (ok is false): a part that is . or .., in whatever way it is
// written, a zero byte, and what is no path at all.
func plainPath(u *url.URL) (plain string, ok bool) {
	p := u.Path
	if p == "" || p[0] != '/' || strings.IndexByte(p, 0) >= 0 {
		return "", false
	}
	if !strings.ContainsAny(p, ".\\%") && !strings.Contains(p, "//") {
		return p, true // mostly
	}
	// A service may take what is escaped twice apart once more.
	for _, reading := range []string{p, unescaped(p)} {
		for part := range strings.FieldsFuncSeq(reading, func(c rune) bool { return c == '/' || c == '\\' }) {
			// Some programs take ;… off a part.
			if part, _, _ = strings.Cut(part, ";"); part == "." || part == ".." {
				return "", false
			}
		}
	}
	if clean := path.Clean(p); strings.HasSuffix(p, "/") && clean != "/" {
		return clean + "/", true
	} else {
		return clean, true
	}
}

func unescaped(p string) string {
	if again, err := url.PathUnescape(p); err == nil {
		return again
	}
	return p
}

// choose returns the route of a path among those of a domain; nil for none.
func choose(all []*route, plain string) *route {
	if len(all) == 1 && len(all[0].segments) == 0 {
		return all[0]
	}
	parts := segments(plain)
	for _, r := range all {
		if len(parts) >= len(r.segments) && slices.Equal(parts[:len(r.segments)], r.segments) {
			return r
		}
	}
	return nil
}

// stripped takes the path of a route off the path of a request as it was sent; ok is false where it is written in a way in
// which it cannot be told where it ends.
func stripped(escaped string, r *route) (rest string, ok bool) {
	rest = escaped
	for _, want := range r.segments {
		rest = strings.TrimLeft(rest, "/")
		part, _, _ := strings.Cut(rest, "/")
		if got, err := url.PathUnescape(part); err != nil || got != want {
			return "", false
		}
		rest = rest[len(part):]
	}
	if rest == "" {
		rest = "/"
	}
	return rest, true
}

// within reports whether an address lies in one of the networks.
func within(a netip.Addr, networks []netip.Prefix) bool {
	for _, n := range networks {
		if n.Contains(a) {
			return true
		}
	}
	return false
}
