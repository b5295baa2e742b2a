package declare

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/internal/corpus"
)

// grammarCase is a value with what it reads as, or the part that its error marks and words that the error has.
type grammarCase struct{ in, want, at, says string }

func checkGrammar(t *testing.T, parse func(string) (string, error), cases []grammarCase) {
	for _, c := range cases {
		t.Run(c.in, func(t *testing.T) {
			got, err := parse(c.in)
			if c.says == "" {
				require.NoError(t, err)
				assert.Equal(t, c.want, got)
				return
			}
			var e *SyntaxError
			require.True(t, errors.As(err, &e), "an error with a place, got %v", err)
			require.LessOrEqual(t, e.Offset+e.Length, len(c.in))
			assert.Equal(t, c.at, c.in[e.Offset:e.Offset+e.Length])
			assert.Contains(t, e.Message, c.says)
		})
	}
}

func TestParsePort(t *testing.T) {
	checkGrammar(t, func(s string) (string, error) {
		p, err := ParsePort(s)
		return p.String(), err
	}, []grammarCase{
		{in: "8710 -> 80", want: "8710 -> 80/tcp"},
		{in: "8710->80", want: "8710 -> 80/tcp"},
		{in: " 8711 -> 8711 / udp ", want: "8711 -> 8711/udp"},
		{in: "8710-8712 -> 80-82/tcp+udp", want: "8710-8712 -> 80-82/tcp+udp"},
		{in: "192.0.2.14:8710 -> 80", want: "192.0.2.14:8710 -> 80/tcp"},
		{in: "[2001:db8::1] : 8710 -> 80", want: "[2001:db8::1]:8710 -> 80/tcp"},
		{in: "localhost:8710 -> 80", want: "localhost:8710 -> 80/tcp"},
		{in: "any -> 80/sctp", want: "any -> 80/sctp"},
		{in: "8710", at: "8710", says: "only one side"},
		{in: "8710:80", at: "8710:80", says: "host -> container"},
		{in: "8710 -> 80/tpc", at: "tpc", says: "no protocol"},
		{in: "8710-8712 -> 80-81", at: "80-81", says: "3 ports on the left, 2 on the right"},
		{in: "any -> 80-81", at: "any", says: "stands for one port"},
		{in: "70000 -> 80", at: "70000", says: "1 to 65535"},
		{in: "0 -> 80", at: "0", says: "1 to 65535"},
		{in: "8710 -> ", at: "", says: "missing"},
		{in: "8712-8710 -> 80-82", at: "8710", says: "ends before"},
		{in: "lamp-room:8710 -> 80", at: "lamp-room", says: "no address"},
		{in: "2001:db8::1:8710 -> 80", at: "2001:db8::1", says: "no address"},
		{in: "8x10 -> 80", at: "8x10", says: "no port number"},
	})
}

func TestParseMount(t *testing.T) {
	checkGrammar(t, func(s string) (string, error) {
		m, err := ParseMount(s)
		return m.String(), err
	}, []grammarCase{
		{in: "/srv/skerry/ -> /data", want: "/srv/skerry -> /data"},
		{in: "./pages->/pages , read-only", want: "./pages -> /pages, read-only"},
		{in: "'/srv/a, b -> c' -> /data", want: "'/srv/a, b -> c' -> /data"},
		{in: "/srv/new -> /data, create 0770", want: "/srv/new -> /data, create 0770"},
		{in: "volume tides -> /data, start-empty", want: "volume tides -> /data, start-empty"},
		{in: "memory 64MiB -> /tmp", want: "memory 67108864B -> /tmp"},
		{in: "engine -> /run/engine.sock", want: "engine -> /run/engine.sock"},
		{in: "/srv/skerry", at: "/srv/skerry", says: "only one side"},
		{in: "/srv/skerry -> data", at: "data", says: "starts with /"},
		{in: "srv -> /data", at: "srv", says: "starts with /"},
		{in: "~/x -> /data", at: "~/x", says: "whole path"},
		{in: "/srv -> /data, readonly", at: "readonly", says: "no option"},
		{in: "/srv -> /data, create 9", at: "9", says: "octal"},
		{in: "/srv -> /data, start-empty", at: "start-empty", says: "does not go with"},
		{in: "memory lots -> /tmp", at: "lots", says: "a size is"},
		{in: "'/srv -> /data", at: "'/srv -> /data", says: "closing '"},
		{in: "/srv -> ", at: " ", says: "missing"},
	})
}

func TestOtherGrammars(t *testing.T) {
	checkGrammar(t, func(s string) (string, error) {
		n, err := ParseSize(s)
		return fmt.Sprint(n), err
	}, []grammarCase{
		{in: "200kB", want: "200000"}, {in: "1 GiB", want: "1073741824"}, {in: "0.5MB", want: "500000"},
		{in: "7B", want: "7"},
		{in: "10", at: "10", says: "a size is"}, {in: "10mb", at: "10mb", says: "a size is"},
		{in: "-1MB", at: "-1MB", says: "a size is"}, {in: "1.2.3MB", at: "1.2.3", says: "no number"},
	})
	checkGrammar(t, func(s string) (string, error) {
		d, err := ParseDuration(s)
		return d.String(), err
	}, []grammarCase{
		{in: "90s", want: "1m30s"}, {in: "1m 30s", want: "1m30s"}, {in: "250ms", want: "250ms"},
		{in: "10", at: "10", says: "a duration is"}, {in: "-5s", at: "-5s", says: "a duration is"},
		{in: " 5 days", at: "5 days", says: "a duration is"},
	})
	checkGrammar(t, func(s string) (string, error) {
		l, err := ParseLogLimit(s)
		return fmt.Sprint(l), err
	}, []grammarCase{
		{in: "6 x 500kB", want: "{6 500000}"}, {in: "none", want: "{0 0}"},
		{in: "500kB", at: "500kB", says: "files x size"}, {in: "0 x 1MB", at: "0", says: "number of files"},
		{in: "2 x big", at: "big", says: "a size is"},
	})
	checkGrammar(t, func(s string) (string, error) {
		r, err := ParseRestart(s)
		return r.String(), err
	}, []grammarCase{
		{in: "unless-stopped", want: "unless-stopped"}, {in: "on-failure 3", want: "on-failure 3"},
		{in: "never", at: "never", says: "one of"}, {in: "on-failure x", at: "x", says: "number of tries"},
	})
	checkGrammar(t, func(s string) (string, error) {
		e, err := ParseEndpoint(s)
		return fmt.Sprint(e.TLS, e.Port, e.Path), err
	}, []grammarCase{
		{in: "80", want: "false 80/"}, {in: "https 8443/a?b=c", want: "true 8443/a?b=c"},
		{in: "/health", at: "", says: "missing"}, {in: "80/a b", at: " ", says: "no blanks"},
		{in: "https x/", at: "x", says: "no port number"},
	})
	checkGrammar(t, func(s string) (string, error) {
		a, b, err := ParseStatus(s)
		return fmt.Sprint(a, b), err
	}, []grammarCase{
		{in: "200-399", want: "200 399"}, {in: "204", want: "204 204"},
		{in: "20", at: "20", says: "100 to 599"}, {in: "399-200", at: "399-200", says: "a status is"},
	})
}

// fuzzGrammar looks for texts that a grammar stumbles over. parse returns the value as it is written in its
// own words, which has to mean the same again; "" where it has no such words.
func fuzzGrammar(f *testing.F, parse func(s string) (words string, err error), seeds ...string) {
	for _, s := range seeds {
		f.Add(s)
	}
	corpus.Add(f)
	f.Fuzz(func(t *testing.T, s string) {
		words, err := parse(s)
		var e *SyntaxError
		if errors.As(err, &e) && (e.Offset < 0 || e.Length < 0 || e.Offset+e.Length > len(s)) {
			t.Fatalf("%q: the error marks %d+%d, outside of the value", s, e.Offset, e.Length)
		}
		if err != nil || words == "" {
			return
		}
		if again, err := parse(words); err != nil || again != words {
			t.Fatalf("%q is %q in its own words, and these are %q: %v", s, words, again, err)
		}
	})
}

func FuzzPort(f *testing.F) {
	fuzzGrammar(f, func(s string) (string, error) {
		p, err := ParsePort(s)
		if err == nil {
			return p.String(), nil
		}
		if _, other := ParseListen(s); other != nil {
			err = other
		}
		if _, other := ParseReserved(s); other != nil {
			err = other
		}
		return "", err
	}, "8710 -> 80", "[::1]:1-2 -> 3-4/tcp+udp", "localhost : any->80 / sctp",
		"8780-8790/tcp for mast/sensor", "192.0.2.14:80/udp")
}

func FuzzMount(f *testing.F) {
	fuzzGrammar(f, func(s string) (string, error) {
		m, err := ParseMount(s)
		if err != nil || strings.ContainsAny(m.Source, "'") || strings.Contains(m.Target, "->") ||
			strings.TrimSpace(m.Target) != m.Target {
			return "", err
		}
		return m.String(), nil
	}, "/srv -> /data", "'/a, b' -> /b, create 0700, read-only", "volume readings -> /x, start-empty",
		"memory 64MiB -> /tmp", "engine -> /s", "./a -> /b, shared", "/- /->/0")
}

func FuzzSize(f *testing.F) {
	fuzzGrammar(f, func(s string) (string, error) {
		if l, err := ParseLogLimit(s); err == nil && l.Files > 0 {
			return fmt.Sprintf("%d x %dB", l.Files, l.Size), nil
		}
		n, err := ParseSize(s)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%dB", n), nil
	}, "10MB", "1.5 GiB", "6 x 500kB", "none", "0B")
}

func FuzzDuration(f *testing.F) {
	fuzzGrammar(f, func(s string) (string, error) {
		d, err := ParseDuration(s)
		if err != nil {
			if r, err := ParseRestart(s); err == nil {
				return r.String(), nil
			}
			return "", err
		}
		return fmt.Sprintf("%dms", d.Milliseconds()), nil
	}, "1m 30s", "500ms", "2h", "on-failure 3")
}
