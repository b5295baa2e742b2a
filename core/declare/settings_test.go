package declare

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSettingGrammars(t *testing.T) {
	checkGrammar(t, func(s string) (string, error) {
		d, err := ParseDevice(s)
		return d.String(), err
	}, []grammarCase{
		{in: "/dev/lamp0", want: "/dev/lamp0"}, {in: "/dev/lamp0/ -> /dev/lamp", want: "/dev/lamp0 -> /dev/lamp"},
		{in: "lamp0", at: "lamp0", says: "starts with /"},
		{in: "/dev/a -> b", at: "b", says: "starts with /"}, {in: "/dev/a ->", at: "", says: "starts with /"},
	})
	checkGrammar(t, func(s string) (string, error) {
		u, err := ParseUlimit("nofile", s)
		return u.String(), err
	}, []grammarCase{
		{in: "1024", want: "nofile = 1024"}, {in: "256:512", want: "nofile = 256:512"},
		{in: "-1", want: "nofile = -1"}, {in: "5:-1", want: "nofile = 5:-1"},
		{in: "many", at: "many", says: "a limit is"}, {in: "1:few", at: "few", says: "a limit is"},
		{in: "9:3", at: "9", says: "above the hard one"}, {in: "-1:3", at: "-1", says: "above the hard one"},
	})
	checkGrammar(t, ParseCapability, []grammarCase{
		{in: "NET_ADMIN", want: "NET_ADMIN"}, {in: "cap_net_raw", want: "NET_RAW"}, {in: "all", want: "ALL"},
		{in: "NET_ADMN", at: "NET_ADMN", says: "NET_ADMIN is one"},
		{in: "lamp", at: "lamp", says: "no capability of Linux"},
	})
	checkGrammar(t, ParseSignal, []grammarCase{
		{in: "SIGTERM", want: "SIGTERM"}, {in: "int", want: "SIGINT"}, {in: "9", want: "SIGKILL"},
		{in: "SIGRTMIN+3", want: "37"},
		{in: "SIGSTOPP", at: "SIGSTOPP", says: "no signal"}, {in: "0", at: "0", says: "no signal"},
		{in: "RTMIN+99", at: "RTMIN+99", says: "no signal"},
	})
	checkGrammar(t, ParsePlatform, []grammarCase{
		{in: "linux/arm64", want: "linux/arm64"}, {in: " linux/arm/v7 ", want: "linux/arm/v7"},
		{in: "arm64", at: "arm64", says: "such as"}, {in: "Linux/amd64", at: "Linux/amd64", says: "such as"},
		{in: "linux/", at: "linux/", says: "such as"},
	})
	checkGrammar(t, ParseAddress, []grammarCase{
		{in: "192.0.2.53", want: "192.0.2.53"},
		{in: "2001:DB8::53", want: "2001:db8::53"},
		{in: "lamp", at: "lamp", says: "no IP address"},
	})
	checkGrammar(t, ParseHostname, []grammarCase{
		{in: "desk-1.skerry", want: "desk-1.skerry"},
		{in: "wind vane", at: "wind vane", says: "letters, digits"},
		{in: "-x", at: "-x", says: "letters, digits"}, {in: "", at: "", says: "letters, digits"},
	})
	checkGrammar(t, ParseFolder, []grammarCase{
		{in: "/data/", want: "/data"},
		{in: "data", at: "data", says: "starts with /"},
	})
	for in, want := range map[string]string{"15": "SIGTERM", "SIGINT": "SIGINT", "37": "37", "": ""} {
		assert.Equal(t, want, SignalName(in))
	}
}

func TestNearest(t *testing.T) {
	names := []string{"keeper", "ranger", "lamp-room", "Atlantic/Faroe"}
	for in, want := range map[string]string{
		"keper":          "keeper",
		"KEEPER":         "keeper",
		"rangr":          "ranger",
		"lamproom":       "lamp-room",
		"atlantic/faroe": "Atlantic/Faroe",
		"x":              "",
		"somebody":       "",
	} {
		assert.Equal(t, want, Nearest(in, names), in)
	}
	for _, c := range []struct {
		a, b string
		away bool
	}{
		{"journal", "journals", true},
		{"mats", "mast", true},
		{"disk1", "disk2", false},
		{"tide", "tide", false},
		{"a1b", "a1c", true},
	} {
		assert.Equal(t, c.away, OneLetterAway(c.a, c.b), c)
	}
}

func FuzzSettings(f *testing.F) {
	fuzzGrammar(f, func(s string) (words string, err error) {
		for _, parse := range []func(string) (string, error){
			func(s string) (string, error) {
				d, err := ParseDevice(s)
				if strings.TrimSpace(d.Host) != d.Host || strings.TrimSpace(d.Container) != d.Container {
					return "", err // blanks at the end of a path have no words
				}
				return d.String(), err
			},
			func(s string) (string, error) { a, err := ParseEngineAddress(s); return a.String(), err },
			func(s string) (string, error) { _, err := ParseUlimit("core", s); return "", err },
			func(s string) (string, error) {
				e, err := ParseEndpoint(s)
				return "", errors.Join(err, outside(e.Path))
			},
			ParseCapability, ParseSignal, ParsePlatform, ParseHostname, ParseSubnet, ParseEngineName, ParseVariable,
		} {
			var e *SyntaxError
			if words, err = parse(s); err == nil && words != "" {
				if again, err := parse(words); err != nil || again != words {
					return "", &SyntaxError{Offset: -1, Message: words} // not the same again
				}
			} else if errors.As(err, &e) && (e.Offset < 0 || e.Length < 0 || e.Offset+e.Length > len(s)) {
				return "", err
			}
		}
		return "", nil
	}, "/dev/a -> /dev/b", "1:2", "NET_ADMIN", "RTMIN+3", "linux/arm/v7", "198.51.100.0/26", "a-b.c",
		"ssh://keeper@[2001:db8::1]:22/run/x.sock", "tcp://lamp:2376", "https 80/x")
}

// outside is never true: a path of an endpoint begins with its slash.
func outside(path string) error {
	if path != "" && path[0] != '/' {
		return &SyntaxError{Offset: -1}
	}
	return nil
}
