package lab

import (
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

// Value is a text with its references replaced.
type Value struct {
	Text    string // "" where a secret is in it
	Unknown bool   // a reference leads nowhere, or to a fact that was not surveyed

	secret  secret.Text // all of it, where a secret is in it by reference
	written declare.Text
	pieces  []piece
	later   []*Later // values in it that no file holds
}

// valueOf returns a value that is written nowhere.
func valueOf(t secret.Text) Value {
	if t.Secret() {
		return Value{secret: t}
	}
	return Value{Text: t.Reveal()}
}

// all returns the text of the value, secret or not.
func (v Value) all() secret.Text {
	if v.secret.Secret() {
		return v.secret
	}
	return secret.Plain(v.Text)
}

// piece is a stretch of a value: letters of the file, or all that one reference stands for.
type piece struct {
	start, end int // in the value
	from, to   int // in the written text
	reference  bool
	secret     bool
}

// Span returns where the value is written.
func (v Value) Span() source.Span { return v.written.Span }

// Part returns where the bytes from start to end of the value are written; what a reference stands for, is at
// the reference.
func (v Value) Part(start, end int) source.Span {
	from, to := -1, -1
	for _, p := range v.pieces {
		if from < 0 && start < p.end {
			from = p.from
			if !p.reference {
				from += start - p.start
			}
		}
		if end <= p.end && to < 0 {
			to = p.to
			if !p.reference {
				to = p.from + end - p.start
			}
		}
	}
	switch n := len(v.pieces); {
	case n == 0:
		return v.written.Part(start, end)
	case from < 0: // behind the last letter
		from = v.pieces[n-1].to
	}
	if to < from {
		to = v.pieces[len(v.pieces)-1].to
	}
	return v.written.Part(from, max(from, to))
}

// scope is where a reference is read: what the names mean there.
type scope struct {
	lets    map[string]*let
	host    *Host    // for whom lab.toml is read; nil for no host in particular, or where stack says it
	stack   *Stack   // nil in lab.toml
	service *Service // nil outside of services
	decl    *declare.Stack
}

// let is an entry of [let], worked out on first use.
type let struct {
	decl   declare.Let
	dir    string // of the file that it stands in
	scope  *scope
	value  Value
	secret bool // a secret is made of it
	used   atomic.Bool
	later  *Later // of one that no file holds
	state  int    // 0 new, 1 being worked out, 2 done
}

// expand replaces the references in a text that everybody may read. A secret has no place there: it is
// reported, and no caller gets the value.
func (r *resolver) expand(t declare.Text, in *scope) Value {
	v := r.expandSecret(t, in)
	if r.notHere(v) {
		return Value{Unknown: true, written: t}
	}
	if v.secret.Secret() && !v.Unknown {
		r.once("secret-misplaced", t.Part(0, len(t.Value)),
			"a secret stands here, and everybody may read this: it belongs into a variable of a service")
		return Value{Unknown: true, written: t}
	}
	return v
}

// expandSecret replaces the references in a text that may hold a secret.
func (r *resolver) expandSecret(t declare.Text, in *scope) Value {
	return r.expandUpTo(t, in, mostValue)
}

// expandUpTo replaces the references in a text that may become so many bytes long.
func (r *resolver) expandUpTo(t declare.Text, in *scope, most int) Value {
	v := Value{written: t}
	if !strings.Contains(t.Value, "${") {
		v.Text = t.Value
		return v
	}
	v.pieces = make([]piece, 0, 1+2*strings.Count(t.Value, "${"))
	var b strings.Builder
	b.Grow(2 * len(t.Value))
	hides := false
	add := func(t secret.Text, from, to int, reference bool) {
		text := t.Reveal()
		v.pieces = append(v.pieces, piece{b.Len(), b.Len() + len(text), from, to, reference, t.Secret()})
		hides = hides || t.Secret()
		b.WriteString(text)
	}
	for at := 0; at < len(t.Value); {
		open := strings.Index(t.Value[at:], "${")
		if open < 0 {
			add(secret.Plain(t.Value[at:]), at, len(t.Value), false)
			break
		}
		if open > 0 {
			add(secret.Plain(t.Value[at:at+open]), at, at+open, false)
		}
		open += at
		end := strings.IndexByte(t.Value[open:], '}')
		if end < 0 {
			r.problem("value-grammar", t.Part(open, len(t.Value)),
				"the closing } is missing; a plain dollar sign before a { is written ${$}")
			v.Unknown = true
			break
		}
		end += open + 1
		name := t.Value[open+2 : end-1]
		if name == "$" {
			add(secret.Plain("$"), open, end, true)
		} else {
			found := r.reference(name, t.Part(open, end), t.Part(open+2, end-1), in)
			v.Unknown = v.Unknown || found.Unknown
			v.later = append(v.later, found.later...)
			add(found.all(), open, end, true)
		}
		at = end
		if b.Len() > most {
			r.once("value-grammar", t.Part(0, len(t.Value)),
				"with what its references stand for this is longer than %d KiB", most>>10)
			return Value{Unknown: true, written: t}
		}
	}
	if hides {
		v.secret = secret.Of(b.String(), true)
	} else {
		v.Text = b.String()
	}
	return v
}

// refers reports whether one of the bytes from start to end comes out of a reference.
func (v Value) refers(start, end int) bool {
	return slices.ContainsFunc(v.pieces, func(p piece) bool {
		return p.reference && p.start < end && start < p.end
	})
}

// cut makes a secret of the bytes from start to end, which come out of no reference.
func (v *Value) cut(start, end int) {
	if v.pieces == nil {
		n := len(v.all().Reveal())
		v.pieces = []piece{{start: 0, end: n, from: 0, to: n}}
	}
	var pieces []piece
	for _, p := range v.pieces {
		if p.reference || p.end <= start || end <= p.start {
			pieces = append(pieces, p)
			continue
		}
		part := func(a, b int, hides bool) {
			if a < b {
				pieces = append(pieces, piece{
					start:  a,
					end:    b,
					from:   p.from + a - p.start,
					to:     p.from + b - p.start,
					secret: hides || p.secret,
				})
			}
		}
		part(p.start, max(start, p.start), false)
		part(max(start, p.start), min(end, p.end), true)
		part(min(end, p.end), p.end, false)
	}
	v.pieces = pieces
}

// hides reports whether a secret is in the bytes from start to end of the value.
func (v Value) hides(start, end int) bool {
	return slices.ContainsFunc(v.pieces, func(p piece) bool { return p.secret && p.start < end && start < p.end })
}

// mostValue is how long a value may become, in bytes: ten values of which each names the one before twice are
// a thousand times as long as the first.
const mostValue = 64 << 10

// reference returns what a name between ${ and } stands for. An unknown one is reported once, at its own place.
func (r *resolver) reference(name string, whole, at source.Span, in *scope) Value {
	text := func(s string) Value { return Value{Text: s} }
	unknown := Value{Unknown: true}
	first, rest, dotted := strings.Cut(name, ".")
	host := r.hostOf(in)
	switch {
	case !dotted && name == "timezone":
		zone := r.zoneOf(in)
		if zone.Name == "" {
			r.problem("reference-unknown", at, "no time zone is declared that ${timezone} could stand for")
			return unknown
		}
		return text(zone.Name)
	case !dotted:
		if l := in.lets[name]; l != nil {
			l.used.Store(true)
		}
		return r.let(name, at, in)
	case first == "folder":
		if p, ok := r.folder(rest, in); ok {
			return p
		}
		return r.unknownReference(rest, "folder.", "", at, r.folderNames(in),
			"there is no folder %s in [folder]", rest)
	case first == "host" && in.stack == nil:
		r.problem("reference-unknown", at,
			"${%s} means the host of a stack, and lab.toml stands for all of them", name)
		return unknown
	case first == "host" && (rest == "name" || rest == "address"):
		if host == nil {
			return unknown // reported as host-unknown
		}
		if rest == "name" {
			return text(host.Name)
		}
		return text(host.Address)
	case name == "stack.name" && in.stack != nil:
		return text(in.stack.Name)
	case first == "service" && in.stack != nil:
		return r.serviceReference(name, rest, at, in)
	case name == "owner.uid" || name == "owner.gid":
		if in.service == nil || in.service.Owner == nil {
			r.problem("reference-unknown", at, "no owner is declared here that ${%s} could stand for", name)
			return unknown
		}
		if !in.service.Owner.Known {
			return unknown
		}
		if rest == "uid" {
			return text(itoa(in.service.Owner.UID))
		}
		return text(itoa(in.service.Owner.GID))
	case first == "shell":
		if value, ok := r.in.Shell(rest); ok {
			return r.secret(valueOf(secret.Of(value, !declare.IsPlain(rest))))
		}
		r.problem("reference-unknown", at, "the variable %s is not set in the shell that runs lantern", rest)
		return unknown
	}
	return r.unknownReference(name, "", "", at,
		[]string{"host.name", "host.address", "stack.name", "owner.uid", "owner.gid", "timezone"},
		"${%s} leads nowhere", name)
}

// unknownReference reports a reference that leads nowhere; the nearest of names, between prefix and suffix,
// is its mend.
func (r *resolver) unknownReference(name, prefix, suffix string, at source.Span, names []string,
	format string, args ...any) Value {
	p := r.problem("reference-unknown", at, format, args...)
	if near := declare.Nearest(name, names); near != "" {
		right := prefix + near + suffix
		p.Mend = &source.Mend{Text: "change to " + right}
		if near == name || declare.Certain(name, near) {
			p.Mend = source.Replace(at, right, p.Mend.Text)
		}
	}
	return Value{Unknown: true}
}

// serviceReference returns what service.NAME.name or service.NAME.port.NUMBER stands for.
func (r *resolver) serviceReference(name, rest string, at source.Span, in *scope) Value {
	service, what, _ := strings.Cut(rest, ".")
	target := in.stack.Service(service)
	if target == nil {
		var names []string
		for _, s := range in.stack.Services {
			names = append(names, s.Name)
		}
		return r.unknownReference(service, "service.", "."+what, at, names, "the stack has no service %s", service)
	}
	if what == "name" {
		return Value{Text: target.Name}
	}
	number, ok := strings.CutPrefix(what, "port.")
	port, err := strconv.Atoi(number)
	if !ok || err != nil {
		r.problem("reference-unknown", at,
			"${%s} leads nowhere; of a service there are ${service.%s.name} and ${service.%s.port.NUMBER}",
			name, service, service)
		return Value{Unknown: true}
	}
	if target.portsState == resolving {
		r.problem("reference-circular", at, "the ports of %s and this reference need each other", target.Name)
		return Value{Unknown: true}
	}
	r.ports(target)
	for _, p := range target.Ports {
		if port >= p.Container.First && port <= p.Container.Last && p.Host.First > 0 {
			return Value{Text: strconv.Itoa(p.Host.First + port - p.Container.First)}
		}
	}
	// A mapping that could not be read is reported itself, and may well be the one that is meant.
	if len(target.Ports) == len(target.decl.Ports) {
		r.problem("reference-unknown", at, "%s publishes no host port for its port %d", target.Name, port)
	}
	return Value{Unknown: true}
}

// let returns the value of an entry of [let].
func (r *resolver) let(name string, at source.Span, in *scope) Value {
	l, ok := in.lets[name]
	if !ok {
		names := []string{"timezone"}
		for n := range in.lets {
			names = append(names, n)
		}
		slices.Sort(names)
		prefix := ""
		if folders := r.folderNames(in); slices.Contains(folders, name) {
			names, prefix = folders, "folder."
		}
		return r.unknownReference(name, prefix, "", at, names, "there is no value %s in [let]", name)
	}
	switch l.state {
	case resolving:
		i := slices.Index(r.circle, name)
		r.problem("reference-circular", at, "a circle: %s",
			strings.Join(append(slices.Clone(r.circle[i:]), name), " needs "))
		return Value{Unknown: true}
	case resolved:
		return l.value
	}
	l.state = resolving
	r.circle = append(r.circle, name)
	l.value = r.letValue(l)
	r.circle = r.circle[:len(r.circle)-1]
	l.state = resolved
	return l.value
}

func (r *resolver) letValue(l *let) Value {
	if l.decl.Value.IsSet() {
		v := r.expandSecret(l.decl.Value, l.scope)
		if l.secret || declare.IsSecret(l.decl.Name) {
			v.Text, v.secret = "", secret.Of(v.all().Reveal(), true)
			l.decl.Value.Hide()
		}
		return r.secret(v)
	}
	if l.decl.Later() {
		return r.later(l)
	}
	path, file := r.envFile(l.dir, l.decl.EnvFile, l.scope)
	if file == nil {
		return Value{Unknown: true} // reported where the file is named
	}
	e, ok := file.Get(l.decl.Key.Value)
	if !ok {
		var names []string
		for _, e := range file.Entries {
			names = append(names, e.Name)
		}
		p := r.problem("reference-unknown", l.decl.Key.Part(0, len(l.decl.Key.Value)), "%s has no entry %s",
			path, l.decl.Key.Value)
		if p.Mend = declare.Meant(p.At, l.decl.Key.Value, names, "is there"); l.decl.Random.IsSet() {
			p.Mend = declare.MakesUp()
		}
		return Value{Unknown: true}
	}
	v := valueOf(secret.Of(e.Value.Value, l.secret || declare.IsSecret(e.Name) || declare.IsSecret(l.decl.Name) ||
		l.decl.Random.IsSet()))
	v.written = e.Value
	return r.secret(v)
}

// secret remembers a secret, so that nothing that is said holds it.
func (r *resolver) secret(v Value) Value {
	if v.secret.Secret() {
		r.secrets[v.secret] = true
	}
	return v
}

// folder returns what ${folder.NAME} stands for: the host's own meaning, else the lab's.
func (r *resolver) folder(name string, in *scope) (Value, bool) {
	lists := [][]declare.Named{r.decl.Folders}
	if h := r.hostOf(in); h != nil {
		lists = [][]declare.Named{h.decl.Folders, r.decl.Folders}
	}
	for _, list := range lists {
		for _, f := range list {
			if f.Name == name {
				if slices.Contains(r.circle, "folder."+name) {
					r.problem("reference-circular", f.At, "a circle: folder.%s needs itself", name)
					return Value{Unknown: true}, true
				}
				r.circle = append(r.circle, "folder."+name)
				v := r.expandSecret(f.Text, r.scopeFor(r.hostOf(in)))
				r.circle = r.circle[:len(r.circle)-1]
				return v, true
			}
		}
	}
	return Value{}, false
}

func (r *resolver) folderNames(in *scope) []string {
	var names []string
	if h := r.hostOf(in); h != nil {
		for _, f := range h.decl.Folders {
			names = append(names, f.Name)
		}
	}
	for _, f := range r.decl.Folders {
		names = append(names, f.Name)
	}
	return names
}

func (r *resolver) hostOf(in *scope) *Host {
	if in.stack == nil {
		return in.host
	}
	return in.stack.Host
}

func itoa(n survey.ID) string { return strconv.FormatInt(n, 10) }

func number(s string) (survey.ID, error) {
	n, err := strconv.ParseUint(s, 10, 32)
	return survey.ID(n), err
}
