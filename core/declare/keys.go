package declare

import (
	"fmt"
	"slices"
	"strings"

	"github.com/agext/levenshtein"

	"proudlantern.example/lantern/core/source"
)

// key describes one key of a table: all that is known of it stands here once. A key without read is part of the format
// but not built yet, and says so.
type key[T any] struct {
	name string
	read func(r *reader, e entry, into *T)
}

// reader turns the tables of one file into declarations and collects what is wrong.
type reader struct {
	file           *source.File
	stack, service string // whose part is being read
	problems       []source.Problem
}

func (r *reader) problem(rule string, at source.Span, format string, args ...any) *source.Problem {
	r.problems = append(r.problems, source.Problem{Rule: rule, Stack: r.stack, Service: r.service, At: at, Message: fmt.Sprintf(format, args...)})
	return &r.problems[len(r.problems)-1]
}

// read fills into from a table by its keys. where names the table for the person: "a service", "a host".
func read[T any](r *reader, t *table, keys []key[T], where string, into *T) {
	for _, e := range t.entries {
		i := slices.IndexFunc(keys, func(k key[T]) bool { return k.name == e.key })
		switch {
		case i < 0:
			names := make([]string, len(keys))
			for i, k := range keys {
				names[i] = k.name
			}
			p := r.problem("key-unknown", e.keySpan, "%s has no key %s", where, e.key)
			if near := Nearest(e.key, names); near != "" {
				p.Mend = source.Replace(e.keySpan, near, near+" is one")
			}
		case keys[i].read == nil:
			r.problem("key-unknown", e.keySpan, "%s is not supported yet by this version of lantern", e.key)
		default:
			keys[i].read(r, e, into)
		}
	}
}

// Nearest returns the name that somebody who wrote s most likely meant, or "" when none is near.
func Nearest(s string, names []string) string {
	best, distance := "", 1+max(1, len(s)/3)
	for _, n := range names {
		d := levenshtein.Distance(strings.ToLower(s), strings.ToLower(n), nil)
		if strings.EqualFold(s, n) {
			d = -1
		}
		if d < distance {
			best, distance = n, d
		}
	}
	return best
}

// isName tells whether s is a name of our kind: a small letter, then small letters, digits and -, at most 40.
func isName(s string) bool {
	if s == "" || len(s) > 40 || s[0] < 'a' || s[0] > 'z' {
		return false
	}
	return strings.IndexFunc(s, func(c rune) bool { return (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' }) < 0
}

// name checks the name of a table such as [service.NAME].
func (r *reader) name(e entry, what string) bool {
	if isName(e.key) {
		return true
	}
	p := r.problem("name-invalid", e.keySpan, "%q is no name for %s: small letters, digits and -, starting with a letter, at most 40", e.key, what)
	if fixed := strings.Map(func(c rune) rune {
		switch {
		case c >= 'A' && c <= 'Z':
			return c + 'a' - 'A'
		case c == '_' || c == ' ' || c == '.':
			return '-'
		}
		return c
	}, e.key); isName(fixed) {
		p.Mend = source.Replace(e.keySpan, fixed, fixed+" would do")
	}
	return false
}

func (r *reader) wrongType(n *node, want string) {
	r.problem("value-type", n.span, "%s belongs here, this is %s", want, n.kind)
}

// text makes a key of one text.
func text[T any](name string, field func(*T) *Text) key[T] {
	return key[T]{name, func(r *reader, e entry, into *T) {
		if e.value.kind != kindString {
			r.wrongType(e.value, "a text")
			return
		}
		*field(into) = Text{Value: e.value.text, Span: e.value.span}
	}}
}

// texts makes a key of a list of texts.
func texts[T any](name string, field func(*T) *[]Text) key[T] {
	return key[T]{name, func(r *reader, e entry, into *T) {
		if e.value.kind != kindArray {
			r.wrongType(e.value, "a list of texts")
			return
		}
		for _, n := range e.value.items {
			if n.kind != kindString {
				r.wrongType(n, "a text")
				continue
			}
			*field(into) = append(*field(into), Text{Value: n.text, Span: n.span})
		}
	}}
}

// tables makes a key of named tables, such as [service.NAME].
func tables[T any](name, what string, each func(r *reader, e entry, into *T)) key[T] {
	return key[T]{name, func(r *reader, e entry, into *T) {
		if e.value.kind != kindTable {
			r.wrongType(e.value, "a table of names")
			return
		}
		for _, e := range e.value.table.entries {
			if r.name(e, what) {
				each(r, e, into)
			}
		}
	}}
}

// named makes a key of a table of texts with names of our kind, such as [folder].
func named[T any](name, what string, field func(*T) *[]Named) key[T] {
	return tables(name, what, func(r *reader, e entry, into *T) {
		if e.value.kind != kindString {
			r.wrongType(e.value, "a text")
			return
		}
		*field(into) = append(*field(into), Named{e.key, e.keySpan, Text{Value: e.value.text, Span: e.value.span}})
	})
}

// scalar returns the text of a value that may be a text, a number or a boolean.
func (r *reader) scalar(n *node) (Text, bool) {
	switch n.kind {
	case kindString, kindInteger, kindFloat, kindBool:
		return Text{Value: n.text, Span: n.span}, true
	}
	r.wrongType(n, "a text, a number or true/false")
	return Text{}, false
}

// table1 reads a value that is a table, such as { log = "…" }.
func table1[T any](r *reader, e entry, keys []key[T], where string, into *T) {
	if e.value.kind != kindTable {
		r.wrongType(e.value, "a table")
		return
	}
	read(r, e.value.table, keys, where, into)
}

// notYet makes keys of the format that this version does not read.
func notYet[T any](names ...string) []key[T] {
	keys := make([]key[T], len(names))
	for i, n := range names {
		keys[i] = key[T]{name: n}
	}
	return keys
}

// OneLetterAway tells whether one letter more, less or other makes a into b. Digits do not count: they tell names apart on purpose.
func OneLetterAway(a, b string) bool {
	digits := func(s string) string {
		return strings.Map(func(c rune) rune {
			if c >= '0' && c <= '9' {
				return c
			}
			return -1
		}, s)
	}
	return levenshtein.Distance(a, b, nil) == 1 && digits(a) == digits(b)
}
