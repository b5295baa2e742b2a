package lab

import (
	_ "embed"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/source"
)

//go:embed zones.txt
var zoneText string

// Zones returns the names of the IANA time zone database, sorted (zones.txt, written by scripts/zones).
var Zones = sync.OnceValue(func() []string { return strings.Fields(zoneText) })

// IsZone reports whether name is an IANA time zone, in its right letter case.
func IsZone(name string) bool {
	_, found := slices.BinarySearch(Zones(), name)
	return found
}

// utcNames are the names that the database has for UTC itself (the file "etcetera" and the links to it).
var utcNames = []string{"Etc/GMT", "Etc/Greenwich", "Etc/UCT", "Etc/UTC", "Etc/Universal", "Etc/Zulu", "GMT",
	"Greenwich", "UCT", "UTC", "Universal", "Zulu"}

// SameZone reports whether two values of TZ show the same time at all times. None, and one with a colon before
// it, are as POSIX has them.
func SameZone(a, b string) bool {
	a, b = strings.TrimPrefix(a, ":"), strings.TrimPrefix(b, ":")
	utc := func(name string) bool { return name == "" || slices.Contains(utcNames, name) }
	return a == b || utc(a) && utc(b)
}

// zoneOf returns the zone that counts in a scope: the service's, else the stack's, the host's, the lab's.
func (r *resolver) zoneOf(in *scope) Zone {
	texts := make([]declare.Text, 0, 4)
	if in.service != nil {
		texts = append(texts, in.service.decl.Timezone)
	}
	if in.stack != nil {
		texts = append(texts, in.decl.Timezone)
		if in.stack.Host != nil {
			texts = append(texts, in.stack.Host.decl.Timezone)
		}
	}
	for _, t := range append(texts, r.decl.Timezone) {
		if !t.IsSet() {
			continue
		}
		v := Value{Text: t.Value, written: t}
		if strings.Contains(t.Value, "${") {
			if slices.Contains(r.circle, "timezone") {
				r.problem("reference-circular", t.Part(0, len(t.Value)), "a circle: timezone needs itself")
				return Zone{}
			}
			r.circle = append(r.circle, "timezone")
			v = r.expand(t, in)
			r.circle = r.circle[:len(r.circle)-1]
			if v.Unknown {
				return Zone{}
			}
		}
		at := v.Part(0, len(v.Text))
		switch {
		case v.Text == "none":
			return Zone{At: at}
		case v.Text == "host":
			if h := r.hostOf(in); h != nil && h.Survey != nil {
				return Zone{h.Survey.Timezone, at}
			}
			return Zone{At: at}
		case !IsZone(v.Text):
			r.zoneUnknown(v.Text, at)
		}
		return Zone{v.Text, at}
	}
	return Zone{}
}

// declaredZones reports zones of the lab and its hosts that are none, also where everybody says something else.
func (r *resolver) declaredZones() {
	r.declaredZone(r.decl.Timezone)
	for _, h := range r.decl.Hosts {
		r.declaredZone(h.Timezone)
	}
	if t := r.decl.Timezone; t.IsSet() {
		r.lab.ZoneAt = t.Part(0, len(t.Value))
	}
}

func (r *resolver) declaredZone(t declare.Text) {
	if t.IsSet() && !strings.Contains(t.Value, "${") && t.Value != "none" && t.Value != "host" && !IsZone(t.Value) {
		r.zoneUnknown(t.Value, t.Part(0, len(t.Value)))
	}
}

// posixZone is how POSIX writes a zone without a database: a name, the distance from UTC, and perhaps that of
// summer (IEEE Std 1003.1, chapter 8.3).
var posixZone = regexp.MustCompile(`^:|^/|^(<[A-Za-z0-9+-]+>|[A-Za-z]{3,})[+-]?[0-9]`)

// variableZone reports a variable such as TZ whose value is no zone.
func (r *resolver) variableZone(v Variable) {
	if name := v.Value.String(); name != "" && !v.Value.Secret() && !IsZone(name) && !posixZone.MatchString(name) {
		r.zoneUnknown(name, v.At)
	}
}

func (r *resolver) zoneUnknown(name string, at source.Span) {
	if slices.ContainsFunc(r.problems, func(p source.Problem) bool {
		return p.At == at && p.Rule == "zone-unknown"
	}) {
		return // many services share one line
	}
	p := r.problem("zone-unknown", at, "%q is no time zone of the IANA database", name)
	near := declare.Nearest(name, Zones())
	if strings.EqualFold(near, name) {
		p.Message = fmt.Sprintf("%q is not how the IANA database writes this time zone: letter case counts", name)
	}
	p.Mend = declare.Meant(at, name, Zones(), "is one")
}
