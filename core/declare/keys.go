package declare

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/agext/levenshtein"

	"proudlantern.example/lantern/core/source"
)

// key describes one key of a table: all that is known of it stands here once.
type key[T any] struct {
	name    string
	takes   Form
	doc     string   // what it means, one sentence
	example string   // a line of TOML
	words   []string // the only texts that it takes, where there are such
	read    func(r *reader, e entry, into *T)

	// How it is written: as lines of the table that it belongs to, or as tables of its own. Nothing is
	// written of what is not set.
	lines  func(from *T) []string
	tables func(w *writer, path string, from *T)
}

// reader turns the tables of one file into declarations and collects what is wrong.
type reader struct {
	file           *source.File
	stack, service string // whose part is being read
	problems       []source.Problem
	toml           *tomlReader
}

func (r *reader) problem(rule string, at source.Span, format string, args ...any) *source.Problem {
	r.problems = append(r.problems, source.Problem{
		Rule:    rule,
		Stack:   r.stack,
		Service: r.service,
		At:      at,
		Message: fmt.Sprintf(format, args...),
	})
	return &r.problems[len(r.problems)-1]
}

// read fills into from a table by its keys. where names the table for the person: "a service", "a host".
func read[T any](r *reader, t *table, keys []key[T], where string, into *T) {
	for _, e := range t.entries {
		i := slices.IndexFunc(keys, func(k key[T]) bool { return k.name == e.key })
		switch {
		case i < 0:
			var names []string // those that are there already are not meant
			for _, k := range keys {
				if _, there := t.get(k.name); !there {
					names = append(names, k.name)
				}
			}
			hideSecrets(e)
			r.unknownKey(e, names, where, func(name string) Form {
				return keys[slices.IndexFunc(keys, func(k key[T]) bool { return k.name == name })].takes
			})
		default:
			keys[i].read(r, e, into)
		}
	}
}

// unknownKey answers a key that is not there: with ours for a word from elsewhere, else with the nearest one.
func (r *reader) unknownKey(e entry, names []string, where string, takes func(name string) Form) {
	word, known := Elsewhere(where, e.key)
	if written := ours(e.key); !known && written != e.key && slices.Contains(names, written) {
		word, known = Word{Key: written}, true
	}
	switch {
	case !known:
		r.problem("key-unknown", e.keySpan, "%s has no key %s", where, e.key).Mend = Meant(e.keySpan, e.key,
			names, "is one")
	case word.Key == "":
		r.problem("key-unknown", e.keySpan, "%s has no key %s: %s", where, e.key, word.Text)
	default:
		p := r.problem("key-unknown", e.keySpan, "%s has no key %s; the key is %s", where, e.key, word.Key)
		switch {
		case word.Text != "":
			p.Mend = &source.Mend{Text: word.Text}
		case slices.Contains(names, word.Key) && e.value.fits(takes(word.Key)):
			p.Mend = source.Replace(e.keySpan, word.Key, word.Key+" is the key")
		case slices.Contains(names, word.Key):
			p.Mend = &source.Mend{Text: "lantern about " + word.Key + " says how it is written"}
		default:
			p.Mend = &source.Mend{Text: "add it to the " + word.Key + " that exists"}
		}
	}
}

// fits reports whether a value is of the kind that a form of keys takes.
func (n *node) fits(takes Form) bool {
	switch takes {
	case FormText:
		return n.kind == kindString
	case FormTexts, FormTextsOrNumbers:
		return n.kind == kindArray
	case FormInteger:
		return n.kind == kindInteger
	case FormNumber:
		return n.kind == kindInteger || n.kind == kindFloat
	case FormBoolean:
		return n.kind == kindBool
	}
	return n.kind == kindTable
}

// hideSecrets keeps what a key says that is not known, or that is wrong, out of excerpts, where a name in it
// is one of a secret.
func hideSecrets(e entry) { e.value.hideSecrets(LooksSecret(e.key)) }

func (n *node) hideSecrets(all bool) {
	switch {
	case n.kind == kindTable:
		for _, inner := range n.table.entries {
			inner.value.hideSecrets(all || LooksSecret(inner.key))
		}
	case all:
		n.hide()
	}
}

func (n *node) hide() {
	if n.kind == kindString {
		n.asText().Hide()
		return
	}
	n.span.Hide()
}

// Nearest returns the name that somebody who wrote s most likely meant, or "" when none is near, or two are.
// Names that only their digits tell apart are not near: they are different on purpose.
func Nearest(s string, names []string) string {
	best, least := "", 1+max(1, len(s)/3)
	for _, n := range names {
		d := distance(strings.ToLower(s), strings.ToLower(n))
		switch {
		case strings.EqualFold(s, n):
			d = -1
		case digits(s) != digits(n) && withoutDigits(s) == withoutDigits(n):
			continue
		}
		switch {
		case d < least:
			best, least = n, d
		case d == least && n != best:
			best = "" // a guess
		}
	}
	return best
}

// Meant offers the name that somebody who wrote a wrong one most likely meant; nil where none is near. Only
// one letter, or the letter case, is so certain that it is an edit, of the place where the wrong name stands.
// what follows the name in the words of the mend.
func Meant(at source.Span, wrong string, names []string, what string) *source.Mend {
	near := Nearest(wrong, names)
	if near == "" || near == wrong {
		return nil
	}
	text := "change to " + near
	if !Certain(wrong, near) || !strings.Contains(at.Text(), wrong) {
		return &source.Mend{Text: text}
	}
	return source.Replace(at, strings.Replace(at.Text(), wrong, near, 1), text)
}

// Certain reports whether a wrong name can only be meant for another one: letter case, or one letter, is the
// difference.
func Certain(wrong, right string) bool {
	return strings.EqualFold(wrong, right) || OneLetterAway(strings.ToLower(wrong), strings.ToLower(right))
}

// distance returns how many letters more, less or other make a into b. Two that have changed places count as
// one.
func distance(a, b string) int {
	if swapped(a, b) {
		return 1
	}
	return levenshtein.Distance(a, b, nil)
}

// swapped reports whether two letters side by side have changed places.
func swapped(a, b string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range len(a) - 1 {
		if a[i] != b[i] {
			return a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
		}
	}
	return false
}

func isDigit(c rune) bool { return c >= '0' && c <= '9' }

// digits returns the digits of a text alone.
func digits(s string) string { return keep(s, isDigit) }

func withoutDigits(s string) string { return keep(s, func(c rune) bool { return !isDigit(c) }) }

func keep(s string, which func(rune) bool) string {
	return strings.Map(func(c rune) rune {
		if which(c) {
			return c
		}
		return -1
	}, s)
}

// Unknown returns text, which says that a name does not exist, with the name that is meant, or else with what
// the caller says instead.
func Unknown(text, name string, names []string, instead string) string {
	if near := Nearest(name, names); near != "" {
		return text + "; " + near + " is one"
	}
	return text + instead
}

// Near reports whether somebody who wrote s may have meant a name: it differs in a third of its letters at most, or
// begins or ends with the other.
func Near(s, name string) bool {
	return strings.HasPrefix(name, s) || strings.HasSuffix(name, s) || strings.HasPrefix(s, name) ||
		distance(strings.ToLower(s), strings.ToLower(name)) <= max(2, len(s)/3)
}

// NearestFew returns at most n names that are like s, the most like first: those that begin alike count as
// nearer.
func NearestFew(s string, names []string, n int) []string {
	unlike := func(name string) int {
		alike := 0
		for alike < min(len(s), len(name)) && s[alike] == name[alike] {
			alike++
		}
		return distance(s, name) - alike
	}
	near := slices.Clone(names)
	slices.SortStableFunc(near, func(a, b string) int {
		return cmp.Or(unlike(a)-unlike(b), len(a)-len(b), cmp.Compare(a, b))
	})
	return near[:min(n, len(near))]
}

// IsName reports whether s is a name of our kind: a small letter, then small letters, digits and -, at most 40.
func IsName(s string) bool {
	if s == "" || len(s) > 40 || s[0] < 'a' || s[0] > 'z' {
		return false
	}
	return strings.IndexFunc(s, func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-'
	}) < 0
}

// takenNames are those of the containers that a deploy makes in a stack beside its services; core/plan names
// them, too.
var takenNames = []string{"deploying", "proven", "undoing", "folders"}

// IsTaken reports whether a service cannot have a name, as lantern makes containers of that name.
func IsTaken(name string) bool { return slices.Contains(takenNames, name) }

// name checks the name of a table such as [service.NAME].
func (r *reader) name(e entry, what string, among *table) bool {
	if what == "a service" && IsTaken(e.key) {
		p := r.problem("name-invalid", e.keySpan,
			"a service cannot be called %s: lantern itself makes a container of that name in a stack", e.key)
		p.Mend = &source.Mend{Text: "another name, such as " + e.key + "-1"}
		return false
	}
	if IsName(e.key) {
		return true
	}
	p := r.problem("name-invalid", e.keySpan,
		"%q is no name for %s: small letters, digits and -, starting with a letter, at most 40", e.key, what)
	if fixed := strings.Map(func(c rune) rune {
		switch {
		case c >= 'A' && c <= 'Z':
			return c + 'a' - 'A'
		case c == '_' || c == ' ' || c == '.':
			return '-'
		}
		return c
	}, e.key); IsName(fixed) {
		if _, taken := among.get(fixed); !taken {
			p.Mend = source.Replace(e.keySpan, fixed, fixed+" would do")
		}
	}
	return false
}

func (r *reader) wrongType(n *node, want string) {
	p := r.problem("value-type", n.span, "%s belongs here, this is %s", want, n.kind)
	bare := n.kind == kindInteger || n.kind == kindFloat
	switch written := n.span.Text(); {
	case want == "a text" && bare:
		p.Mend = source.Replace(n.span, `"`+written+`"`, "in quotes it is a text")
	case strings.HasPrefix(want, "a list of texts") && n.kind == kindString,
		strings.HasSuffix(want, "or whole numbers") && n.kind == kindInteger:
		p.Mend = source.Replace(n.span, "["+written+"]", "a list of one stands in [ ]")
	case want == "a list of texts" && bare:
		p.Mend = source.Replace(n.span, `["`+written+`"]`, "a list of one stands in [ ], a text in quotes")
	case want == "true or false" && n.kind == kindString &&
		(switches[n.text] != "" || n.text == "true" || n.text == "false"):
		right := cmp.Or(switches[n.text], n.text)
		p.Mend = source.Replace(n.span, right, right+" stands without quotes")
	case strings.Contains(want, "number") && n.kind == kindString && n.text != "" &&
		strings.Trim(n.text, "0123456789.") == "" && strings.Count(n.text, ".") <= 1:
		p.Mend = source.Replace(n.span, n.text, "a number stands without quotes")
	}
}

// text makes a key of one text.
func text[T any](name, doc, example string, field func(*T) *Text) key[T] {
	return key[T]{name: name, takes: FormText, doc: doc, example: example, read: func(r *reader, e entry, into *T) {
		if e.value.kind != kindString {
			r.wrongType(e.value, "a text")
			return
		}
		*field(into) = e.value.asText()
	}, lines: func(from *T) []string { return ofText(name, *field(from), quote) }}
}

// word makes a key of one text out of a few.
func word[T any](name, doc, example string, words []string, field func(*T) *Text) key[T] {
	k := text(name, doc, example, field)
	read := k.read
	k.words = words
	k.read = func(r *reader, e entry, into *T) {
		read(r, e, into)
		if t := *field(into); t.IsSet() && !r.oneOf(name, t, words) {
			*field(into) = Text{}
		}
	}
	return k
}

// texts makes a key of a list of texts.
func texts[T any](name, doc, example string, field func(*T) *[]Text) key[T] {
	return key[T]{name: name, takes: FormTexts, doc: doc, example: example,
		read: func(r *reader, e entry, into *T) {
			*field(into) = r.listOfTexts(e.value)
		}, lines: func(from *T) []string { return ofTexts(name, *field(from)) }}
}

// textsOrNumbers makes a key of a list of texts in which bare numbers are texts, too.
func textsOrNumbers[T any](name, doc, example string, field func(*T) *[]Text) key[T] {
	return key[T]{name: name, takes: FormTextsOrNumbers, doc: doc, example: example,
		read: func(r *reader, e entry, into *T) {
			for _, item := range e.value.items {
				if item.kind == kindInteger {
					item.kind = kindString
				}
			}
			list := r.listOf(e.value, "a text or a whole number")
			for i, t := range list {
				list[i].raw = t.Span.Text() == t.Value // without quotes
			}
			*field(into) = list
		}, lines: func(from *T) []string { return ofTexts(name, *field(from)) }}
}

// number makes a key of a number, kept as it is written.
func number[T any](name string, takes Form, doc, example string, field func(*T) *Text) key[T] {
	return key[T]{name: name, takes: takes, doc: doc, example: example, read: func(r *reader, e entry, into *T) {
		if e.value.kind != kindInteger && (takes != FormNumber || e.value.kind != kindFloat) {
			r.wrongType(e.value, string("a "+takes))
			return
		}
		*field(into) = e.value.asText()
	}, lines: func(from *T) []string {
		return ofText(name, *field(from), func(number string) string { return number })
	}}
}

// boolean makes a key of true or false; nil stands for neither.
func boolean[T any](name, doc, example string, field func(*T) **bool) key[T] {
	return key[T]{name: name, takes: FormBoolean, doc: doc, example: example,
		read: func(r *reader, e entry, into *T) {
			if e.value.kind != kindBool {
				r.wrongType(e.value, "true or false")
				return
			}
			value := e.value.text == "true"
			*field(into) = &value
			if s, ok := any(into).(*Service); ok {
				s.switched(name, e.value.span)
			}
		}, lines: func(from *T) []string {
			if value := *field(from); value != nil {
				return []string{name + " = " + strconv.FormatBool(*value)}
			}
			return nil
		}}
}

// pairs makes a key of a table of texts, numbers or booleans by names of any kind, such as labels.
func pairs[T any](name string, takes Form, doc, example string, field func(*T) *[]Named) key[T] {
	return key[T]{name: name, takes: takes, doc: doc, example: example, read: func(r *reader, e entry, into *T) {
		if e.value.kind != kindTable {
			r.wrongType(e.value, "a table")
			return
		}
		for _, e := range most(r, e.value.table.flat(""), e.keySpan) {
			if e.value.kind == kindString || takes == FormValues {
				if value, ok := r.scalar(e.value); ok {
					*field(into) = append(*field(into), Named{e.key, e.keySpan, value})
				}
			} else {
				r.wrongType(e.value, "a text")
			}
		}
	}, lines: func(from *T) []string { return ofNamed(name+".", *field(from)) }}
}

// MostEntries is how many entries of a list, or names of a table, are read: a lab that a person looks after
// has no more of anything in one place.
const MostEntries = 1000

// most returns as much of a list as is read; what is left out is reported.
func most[T any](r *reader, list []T, at source.Span) []T {
	if len(list) <= MostEntries {
		return list
	}
	r.problem("value-grammar", at, "%d stand here, and at most %d are read", len(list), MostEntries)
	return list[:MostEntries]
}

// flat returns the entries of a table with those of tables inside under their dotted names:
// sysctls.net.core.somaxconn is one name.
func (t *table) flat(prefix string) []entry {
	var out []entry
	for _, e := range t.entries {
		e.key = prefix + e.key
		if e.value.kind == kindTable && e.value.table.dotted {
			out = append(out, e.value.table.flat(e.key+".")...)
		} else {
			out = append(out, e)
		}
	}
	return out
}

// listOfTexts reads a list; what is no text in it is reported and left out.
func (r *reader) listOfTexts(n *node) []Text { return r.listOf(n, "a text") }

func (r *reader) listOf(n *node, what string) []Text {
	if n.kind != kindArray {
		r.wrongType(n,
			"a list of "+strings.NewReplacer("a text", "texts", "a whole number", "whole numbers").Replace(what))
		return nil
	}
	list := make([]Text, 0, min(len(n.items), MostEntries))
	for _, item := range most(r, n.items, n.span) {
		if item.kind != kindString {
			r.wrongType(item, what)
			continue
		}
		list = append(list, item.asText())
	}
	return list
}

func (n *node) asText() Text { return Text{Value: n.text, Span: n.span} }

// tables makes a key of named tables, such as [service.NAME].
func tables[T any](name, doc, example, what string, each func(r *reader, e entry, into *T)) key[T] {
	return key[T]{name: name, takes: FormTables, doc: doc, example: example,
		read: func(r *reader, e entry, into *T) {
			if e.value.kind != kindTable {
				r.wrongType(e.value, "a table of names")
				return
			}
			all := e.value.table
			for _, e := range most(r, all.entries, e.keySpan) {
				if r.name(e, what, all) {
					each(r, e, into)
				}
			}
		}}
}

// named makes a key of a table of texts with names of our kind, such as [folder].
func named[T any](name, doc, example, what string, field func(*T) *[]Named) key[T] {
	k := tables(name, doc, example, what, func(r *reader, e entry, into *T) {
		if e.value.kind != kindString {
			r.wrongType(e.value, "a text")
			return
		}
		*field(into) = append(*field(into), Named{e.key, e.keySpan, e.value.asText()})
	})
	k.takes = FormNamed
	k.tables = func(w *writer, path string, from *T) { w.table(path+name, ofNamed("", *field(from))) }
	return k
}

// namedWord makes a key of a table of texts out of a few, with names of our kind.
func namedWord[T any](name, doc, example, what string, words []string, field func(*T) *[]Named) key[T] {
	k := tables(name, doc, example, what, func(r *reader, e entry, into *T) {
		if e.value.kind != kindString {
			r.wrongType(e.value, "a text")
		} else if t := e.value.asText(); r.oneOf(e.key, t, words) {
			*field(into) = append(*field(into), Named{e.key, e.keySpan, t})
		}
	})
	k.takes, k.words = FormNamed, words
	k.tables = func(w *writer, path string, from *T) { w.table(path+name, ofNamed("", *field(from))) }
	return k
}

// oneOf reports a text that is none of the words.
func (r *reader) oneOf(name string, t Text, words []string) bool {
	if slices.Contains(words, t.Value) {
		return true
	}
	at := t.Part(0, len(t.Value))
	p := r.problem("value-grammar", at, "%s is %s", name, strings.Join(words, " or "))
	if p.Mend = Meant(at, t.Value, words, "is one"); p.Mend == nil {
		if ours := sameWord[strings.ToLower(strings.NewReplacer("_", "-", " ",
			"-").Replace(t.Value))]; slices.Contains(words, ours) {
			p.Mend = source.Replace(at, ours, ours+" is one")
		}
	}
	return false
}

// sameWord are other words for those that some keys take.
var sameWord = map[string]string{
	"warn":           "warning",
	"info":           "note",
	"hint":           "note",
	"err":            "error",
	"fatal":          "error",
	"ignore":         "off",
	"none":           "off",
	"disabled":       "off",
	"always":         "each-deploy",
	"missing":        "if-absent",
	"if-not-present": "if-absent",
	"ifnotpresent":   "if-absent",
	"if-missing":     "if-absent",
}

// scalar returns the text of a value that may be a text, a number or a boolean.
func (r *reader) scalar(n *node) (Text, bool) {
	switch n.kind {
	case kindString, kindInteger, kindFloat, kindBool:
		return n.asText(), true
	}
	r.wrongType(n, "a text, a number or true/false")
	return Text{}, false
}

// readTable reads a value that is a table, such as { log = "…" }.
func readTable[T any](r *reader, e entry, keys []key[T], where string, into *T) {
	if e.value.kind != kindTable {
		r.wrongType(e.value, "a table")
		return
	}
	read(r, e.value.table, keys, where, into)
}

// OneLetterAway reports whether one letter more, less or other, or two that changed places, make a into b.
// Digits do not count: they tell names apart on purpose.
func OneLetterAway(a, b string) bool {
	// Between what both begin and end with there is no more than that letter; most names are told apart by
	// that alone.
	first, last, shorter := 0, 0, min(len(a), len(b))
	for first < shorter && a[first] == b[first] {
		first++
	}
	for last < shorter-first && a[len(a)-1-last] == b[len(b)-1-last] {
		last++
	}
	if max(len(a), len(b))-first-last > utf8.UTFMax {
		return false
	}
	return distance(a, b) == 1 && digits(a) == digits(b)
}
