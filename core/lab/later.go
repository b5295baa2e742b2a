package lab

import (
	"regexp"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
)

// Later is a value of [let] that no file holds: a person is asked for it at a deploy, or another service makes it. It
// is a secret.
type Later struct {
	Name string
	At   source.Span

	Ask  string // the question; "" where it comes from a service
	Once bool   // only for the first deploy of a service

	From  *Service // who makes it
	File  string   // in which file inside
	Match *regexp.Regexp

	stack string // in whose file it stands; "" for lab.toml
	from  declare.Text
}

// mark stands in a value for what is not known yet. No value of a file has such characters: the environment of a
// process cannot hold them.
func (l *Later) mark() string { return "\x00" + l.stack + "/" + l.Name + "\x00" }

// Fill puts a value that has come to light into a text.
func (l *Later) Fill(text, value string) string { return strings.ReplaceAll(text, l.mark(), value) }

// Lacks reports whether a text still lacks the value.
func (l *Later) Lacks(text string) bool { return strings.Contains(text, l.mark()) }

// MostRead is how much of a file of another service may be read, in bytes.
const MostRead = 1 << 20

// Find returns the value in the text of its file; ok is false where nothing matches, or the value could not be one of
// a variable.
func (l *Later) Find(text string) (value string, ok bool) {
	for line := range strings.Lines(text) {
		if m := l.Match.FindStringSubmatch(strings.TrimRight(line, "\r\n")); m != nil {
			value = strings.TrimSpace(m[1])
			return value, value != "" && !strings.ContainsRune(value, 0)
		}
	}
	return "", false
}

// later returns the value of an entry of [let] that no file holds: what was given for it, else a mark.
func (r *resolver) later(l *let) Value {
	d := l.decl
	later := l.later
	if later == nil {
		later = &Later{Name: d.Name, At: d.At, Ask: d.Ask.Value, Once: declare.IsTrue(d.Once), stack: l.dir}
		if d.From.IsSet() {
			later.File, later.from = d.File.Value, d.From
			later.Match = regexp.MustCompile(d.Match.Value) // it was read
		}
		l.later = later
	}
	v := Value{secret: secret.Of(later.mark(), true), later: []*Later{later}}
	if value, ok := r.in.value(d.Name); ok && d.Ask.IsSet() {
		v.secret = secret.Of(value, true)
		return r.secret(v)
	}
	return v
}

// value returns what was given for a value that is asked for.
func (in Input) value(name string) (string, bool) {
	if value, ok := in.Values[name]; ok {
		return value, true
	}
	if in.Shell == nil {
		return "", false
	}
	value, ok := in.Shell(ValueVariable(name))
	return value, ok && value != ""
}

// ValueVariable is the variable of the shell that gives a value which is asked for.
func ValueVariable(name string) string {
	return "LANTERN_VALUE_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// makers finds the services that make values of a service's variables, and lets them be ready before it.
func (r *resolver) makers(s *Service, in *scope) {
	for i, v := range s.Env {
		for j, l := range v.Later {
			if l.Match == nil {
				continue
			}
			before := len(s.After)
			if r.after(s, l.from, in); len(s.After) == before {
				continue // reported
			}
			own := *l // services may share an entry of lab.toml
			own.From = s.After[before].Service
			s.Env[i].Later[j] = &own
			if own.From == s {
				r.once("order-circular", l.from.Part(0, len(l.from.Value)), "%s cannot wait for itself", s.FullName())
			}
			if own.From == s || slices.ContainsFunc(s.After[:before], func(a After) bool { return a.Service == own.From }) {
				s.After = s.After[:before]
			}
		}
	}
}

// notHere reports values that come to light only at a deploy where a service cannot get them.
func (r *resolver) notHere(v Value) bool {
	if len(v.later) == 0 {
		return false
	}
	r.once("value-grammar", v.written.Part(0, len(v.written.Value)),
		"the value %s is known only at a deploy: it can stand in env alone", v.later[0].Name)
	return true
}
