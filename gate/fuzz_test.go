package gate

import (
	"net/http"
	"net/url"
	"path"
	"strings"
	"testing"

	"proudlantern.example/lantern/core/sites"
)

// Whatever is asked for: a route is chosen by the path that every program reads in the same way, a path behind a sign-in is
// never reached by another one, and what is taken off is what was declared.
func FuzzRoutes(f *testing.F) {
	for _, seed := range []string{"/", "/keep/x", "/%6beep", "/a/../keep", "//keep", "/charts%2f..%2fkeep", "/keep;x", `/a\..\keep`, "/charts/%252e%252e/keep", "/charts"} {
		f.Add("Tides.skerry.example:80", seed)
	}
	t := newTable(sites.Settings{}, map[string][]sites.Route{"mast": {
		{Domain: "tides.skerry.example", Path: "/", Service: "mast/desk"},
		{Domain: "tides.skerry.example", Path: "/keep", Service: "mast/keep", SignIn: "keepers"},
		{Domain: "tides.skerry.example", Path: "/charts", Service: "mast/charts", Strip: true},
		{Domain: "*.skerry.example", Path: "/", Service: "mast/any"},
	}}, newServices(nil))
	f.Fuzz(func(test *testing.T, host, target string) {
		u, err := url.ParseRequestURI(target)
		if err != nil || !strings.HasPrefix(target, "/") {
			return
		}
		domain := hostOf(host)
		if domain != strings.ToLower(domain) || strings.ContainsAny(domain, ":/ \\") {
			test.Fatalf("the domain of %q is %q", host, domain)
		}
		plain, ok := plainPath(u)
		if !ok {
			return
		}
		r := choose(t.of("tides.skerry.example"), plain)
		if r == nil {
			test.Fatalf("%q leads nowhere", target)
		}
		// What a service may make of it: taken apart, slashes as one, .. carried out.
		read := path.Clean("/" + strings.ReplaceAll(u.Path, `\`, "/"))
		keep := read == "/keep" || strings.HasPrefix(read, "/keep/")
		if keep && r.SignIn == "" && !strings.Contains(u.Path, `\`) {
			test.Fatalf("%q is %q to a service, and no sign-in was asked for", target, read)
		}
		if r.Strip {
			if rest, ok := stripped(u.EscapedPath(), r); ok {
				if !strings.HasPrefix(rest, "/") {
					test.Fatalf("%q becomes %q", target, rest)
				}
				if _, err := http.NewRequest(http.MethodGet, "http://service"+rest, nil); err != nil {
					test.Fatalf("%q becomes %q: %s", target, rest, err)
				}
			}
		}
	})
}
