package draft

import (
	"cmp"
	"path"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
)

// madeUp is a value of [let] that is made up once: for a variable of a service.
type madeUp struct{ of, name, key, why string }

// peer is what others have to know to reach a service.
type peer struct {
	port                     int
	user, password, database string // "" where its card knows none; password is a reference
}

// secretLength is how many characters a value that is made up has.
const secretLength = 32

// wire finds out who reaches whom, and makes up what both ends have to know.
func (d *stackDraft) wire() {
	for _, s := range d.services {
		if s.Card == nil {
			continue
		}
		for _, v := range s.Card.Variables {
			if o := d.other(s, v); o != nil {
				o.wired = true
				d.meet(o, s.name)
			}
		}
	}
	for _, s := range d.services {
		if s.Card != nil {
			d.meet(s, s.name) // also who is reached by nobody has a password of its own
		}
	}
}

// other returns the service that a variable of a card leads to; nil where none of the draft is one.
func (d *stackDraft) other(s *service, v declare.CardVariable) *service {
	name := v.Other()
	if name == "" {
		return nil
	}
	for _, o := range d.services {
		if o != s && o.answers(name) {
			return o
		}
	}
	return nil
}

// answers reports whether a card means this one by a name.
func (s *service) answers(name string) bool {
	repository, _, _ := strings.Cut(s.Reference, "@")
	last, _, _ := strings.Cut(path.Base(repository), ":")
	return last == name || s.Card != nil &&
		slices.ContainsFunc(s.Card.AnswersTo, func(t declare.Text) bool { return t.Value == name })
}

// meet works out what others have to know of a service, once. The user and the database that it makes are called
// after the first who reaches it.
func (d *stackDraft) meet(s *service, first string) {
	if s.peer != nil {
		return
	}
	s.peer = &peer{port: s.wirePort()}
	if s.Card == nil {
		return
	}
	for _, v := range s.Card.Variables {
		if v.Of.IsSet() {
			continue
		}
		switch v.Is.Value {
		case declare.IsUser:
			s.peer.user = cmp.Or(v.Default.Value, first)
		case declare.IsDatabase:
			s.peer.database = cmp.Or(v.Default.Value, first)
		case declare.IsPassword:
			s.peer.password = d.secret(s, v.Name, s.name+"-password", "the password of "+s.name+", on both ends")
		}
	}
}

// wirePort returns the port that others in a network use: the first that is no page. 0 where none is known.
func (s *service) wirePort() int {
	port := 0
	if s.Card != nil {
		for _, p := range s.Card.Ports {
			if p.Protocol == "tcp" && (port == 0 && !declare.IsTrue(p.Optional) || !p.Page.IsSet()) {
				port = p.Port
				if !p.Page.IsSet() {
					return port
				}
			}
		}
	}
	for _, p := range s.Ports {
		number, protocol, _ := strings.Cut(p, "/")
		if n, err := strconv.Atoi(number); err == nil && protocol != "udp" && port == 0 {
			port = n
		}
	}
	return port
}

// secret returns the reference to a value that is made up once for a variable.
func (d *stackDraft) secret(s *service, variable, name, why string) string {
	of := s.name + "/" + variable
	for _, m := range d.let {
		if m.of == of {
			return "${" + m.name + "}"
		}
	}
	name = nameFrom(name, "secret")
	taken := func(name string) bool {
		return slices.ContainsFunc(d.let, func(m madeUp) bool { return m.name == name })
	}
	if taken(name) {
		name = nameFrom(s.name+"-"+name, "secret")
	}
	for n := 2; taken(name); n++ {
		name = nameFrom("secret-"+strconv.Itoa(n), "secret")
	}
	key := strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
	if !declare.IsSecret(key) {
		key += "_SECRET"
	}
	d.let = append(d.let, madeUp{of, name, key, why})
	return "${" + name + "}"
}

// writeLet writes the values that are made up.
func (d *stackDraft) writeLet() {
	// Secrets of single services come to light only here.
	for _, s := range d.services {
		if s.Card == nil {
			continue
		}
		for _, v := range s.Card.Variables {
			d.valueOf(s, v)
		}
	}
	if len(d.let) == 0 {
		return
	}
	d.line("")
	d.line("[let]  # made up once, and written into " + d.envFile() + "; nobody has to know them")
	for _, m := range d.let {
		d.line(m.name + " = { env-file = " + declare.Quote(d.envFile()) + ", key = " + declare.Quote(m.key) +
			", random = " + strconv.Itoa(secretLength) + " }  # " + m.why)
	}
}

// valueOf returns the value of a variable of a card, and where it comes from; "" where it is not known.
func (d *stackDraft) valueOf(s *service, v declare.CardVariable) (value, why string) {
	p, from := s.peer, s
	if v.Other() != "" {
		from = d.other(s, v)
		if from == nil {
			return "", ""
		}
		p = from.peer
	}
	leads := "leads to " + from.name
	switch v.Is.Value {
	case declare.IsMadeUp:
		return d.secret(s, v.Name, v.Name, "a secret of "+s.name), "made up once"
	case declare.IsUser:
		return p.user, "the user of " + from.name
	case declare.IsPassword:
		return p.password, "the password of " + from.name
	case declare.IsDatabase:
		return p.database, "the database of " + from.name
	case declare.IsHost:
		return from.name, leads
	case declare.IsPort:
		if p.port == 0 {
			return "", ""
		}
		return strconv.Itoa(p.port), leads
	case declare.IsWire:
		return p.fill(cmp.Or(v.Form.Value, "HOST:PORT"), from.name), leads
	}
	return "", ""
}

// fill puts a wire together; "" where something of it is not known.
func (p *peer) fill(form, host string) string {
	port := ""
	if p.port > 0 {
		port = strconv.Itoa(p.port)
	}
	var pairs []string
	for _, part := range []struct{ word, value string }{
		{"USER", p.user}, {"PASSWORD", p.password}, {"DATABASE", p.database}, {"HOST", host}, {"PORT", port},
	} {
		if strings.Contains(form, part.word) && part.value == "" {
			return ""
		}
		pairs = append(pairs, part.word, part.value)
	}
	return strings.NewReplacer(pairs...).Replace(form)
}
