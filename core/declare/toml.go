package declare

import (
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"

	"proudlantern.example/lantern/core/source"
)

// kind is the type of a TOML value.
type kind int

const (
	kindString kind = iota
	kindInteger
	kindFloat
	kindBool
	kindDate
	kindArray
	kindTable
)

var kindNames = map[kind]string{
	kindString: "a text", kindInteger: "a number", kindFloat: "a number with a fraction", kindBool: "true or false",
	kindDate: "a date", kindArray: "a list", kindTable: "a table",
}

func (k kind) String() string { return kindNames[k] }

// node is a TOML value with its place.
type node struct {
	kind  kind
	span  source.Span // of the value; for a table of its header or its first key
	text  string      // kindString: the decoded text; other scalars: as written
	items []*node     // kindArray
	table *table      // kindTable
}

// entry is one key of a table.
type entry struct {
	key     string
	keySpan source.Span
	value   *node
}

// table keeps its entries in the order of the file.
type table struct {
	entries []entry
	index   map[string]int

	// How it came to be decides what may be added to it (TOML 1.0, "Table" and "Inline Table").
	explicit bool // by its own [header]
	dotted   bool // by a dotted key
	closed   bool // inline
}

// indexFrom is how many entries a table has before looking them up one by one takes longer than an index.
const indexFrom = 16

func (t *table) get(key string) (entry, bool) {
	if t.index != nil {
		i, ok := t.index[key]
		if !ok {
			return entry{}, false
		}
		return t.entries[i], true
	}
	for i := range t.entries {
		if t.entries[i].key == key {
			return t.entries[i], true
		}
	}
	return entry{}, false
}

func (t *table) add(e entry) {
	if len(t.entries) == indexFrom {
		t.index = make(map[string]int, 2*indexFrom)
		for i, e := range t.entries {
			t.index[e.key] = i
		}
	}
	if t.index != nil {
		t.index[e.key] = len(t.entries)
	}
	t.entries = append(t.entries, e)
}

// tomlReader builds the trees of files, one after the other: a tree holds only until the next is built. Nodes
// and tables come out of slabs that are used again, because a lab of a thousand stacks has half a million of
// them.
type tomlReader struct {
	file     *source.File
	text     []byte
	parser   unstable.Parser
	problems []source.Problem

	nodes  slab[node]
	tables slab[table]
}

// slab hands out values whose addresses stay, and takes them all back at once.
type slab[T any] struct {
	chunks [][]T
	used   int // of all chunks together
}

// chunk is how many values are allocated at once.
const chunk = 256

func (s *slab[T]) next() *T {
	if s.used == len(s.chunks)*chunk {
		s.chunks = append(s.chunks, make([]T, chunk))
	}
	v := &s.chunks[s.used/chunk][s.used%chunk]
	s.used++
	return v
}

func (r *tomlReader) node(n node) *node {
	p := r.nodes.next()
	items := p.items[:0]
	*p = n
	p.items = items
	return p
}

func (r *tomlReader) table() *table {
	p := r.tables.next()
	*p = table{entries: p.entries[:0]}
	return p
}

// readTOML returns the file's top table. What is not TOML 1.0 is a problem of rule syntax; after an error in
// the grammar itself nothing behind it is read.
func readTOML(file *source.File) (*table, []source.Problem) {
	return new(tomlReader).read(file)
}

func (r *tomlReader) read(file *source.File) (*table, []source.Problem) {
	r.file, r.problems, r.nodes.used, r.tables.used = file, nil, 0, 0
	r.text = append(r.text[:0], file.Text...)
	r.parser.Reset(r.text)
	top := r.table()
	top.explicit = true
	current := top
	for r.parser.NextExpression() {
		e := r.parser.Expression()
		switch e.Kind {
		case unstable.Table:
			current = r.header(top, e)
		case unstable.ArrayTable:
			key := e.Key()
			key.Next()
			r.problem(r.span(key.Node().Raw),
				"a list of tables ([[%s]]) has no meaning here: every table of a lab has a name of its own",
				key.Node().Data)
			current = r.table()
		case unstable.KeyValue:
			r.keyValue(current, e)
		}
	}
	if err := r.parser.Error(); err != nil {
		r.grammarError(err)
	}
	return top, r.problems
}

// grammarError reports where the parser stopped.
func (r *tomlReader) grammarError(err error) {
	at, text := r.file.Span(len(r.file.Text), len(r.file.Text)), err.Error()
	var syntax *unstable.ParserError
	if errors.As(err, &syntax) {
		text = syntax.Message
		// At the end of the file there is nothing left to mark, and Range accepts only parts of the text.
		if len(syntax.Highlight) > 0 {
			at = r.span(r.parser.Range(syntax.Highlight))
		}
	}
	if strings.Contains(text, "cannot have new lines") {
		// A mark on the end of a line is not seen.
		start := strings.LastIndexByte(r.file.Text[:at.Start], '\n') + 1
		line := r.file.Text[start:at.Start]
		at = r.file.Span(start+len(line)-len(strings.TrimLeft(line, " \t")),
			start+len(strings.TrimRight(line, " \t\r")))
		hideBroken(r.file, start, strings.TrimRight(r.file.Text[start:at.End], "\r"))
		r.problem(at, "the closing quote is missing on this line")
		return
	}
	at, message, mend := explain(r.file, at, text)
	r.problem(at, "%s", message)
	r.problems[len(r.problems)-1].Mend = mend
}

func (r *tomlReader) span(raw unstable.Range) source.Span {
	return r.file.Span(int(raw.Offset), int(raw.Offset+raw.Length))
}

func (r *tomlReader) problem(at source.Span, format string, args ...any) {
	r.problems = append(r.problems, source.Problem{Rule: "syntax", At: at, Message: fmt.Sprintf(format, args...)})
}

// decoded returns the text of a key or a value: part of the file's own text wherever nothing is escaped.
func (r *tomlReader) decoded(n *unstable.Node) string {
	raw := r.file.Text[n.Raw.Offset : n.Raw.Offset+n.Raw.Length]
	switch {
	case len(raw) == len(n.Data):
		return raw
	case len(raw) == len(n.Data)+2 && !strings.Contains(raw, "\\"):
		return raw[1 : len(raw)-1]
	}
	return string(n.Data)
}

// mostParts is how many parts, with dots between them, a name may have.
const mostParts = 32

// header returns the table that a [header] opens.
func (r *tomlReader) header(top *table, e *unstable.Node) *table {
	t, deep := top, 0
	for it := e.Key(); it.Next(); {
		key, span := r.decoded(it.Node()), r.span(it.Node().Raw)
		if deep++; deep > mostParts {
			r.problem(span, "a name of more than %d parts has no meaning here", mostParts)
			return r.table()
		}
		found, ok := t.get(key)
		switch {
		case !ok:
			next := r.table()
			t.add(entry{key, span, r.node(node{kind: kindTable, span: span, table: next})})
			t = next
		case found.value.kind != kindTable || found.value.table.closed:
			r.problem(span, "%s has a value already, in line %d", key, found.keySpan.Place().Line)
			return r.table()
		default:
			t = found.value.table
		}
		if it.IsLast() {
			if t.explicit || t.dotted {
				r.problem(span,
					"two tables of one name: %s is there already, in line %d, and takes these keys, too", key,
					found.keySpan.Place().Line)
				return r.table()
			}
			t.explicit = true
		}
	}
	return t
}

// keyValue adds a key, dotted or not, to a table.
func (r *tomlReader) keyValue(t *table, e *unstable.Node) {
	var last unstable.Range
	deep := 0
	// Also what is not understood is shown, in the excerpt of what is wrong with it.
	hide := func() {
		secret := false
		for it := e.Key(); it.Next(); {
			secret = secret || LooksSecret(r.decoded(it.Node()))
		}
		r.value(e.Value(), r.span(e.Raw)).hideSecrets(secret)
	}
	for it := e.Key(); it.Next(); {
		raw := it.Node().Raw
		key, span := r.decoded(it.Node()), r.span(raw)
		if deep++; deep > mostParts {
			r.problem(span, "a name of more than %d parts has no meaning here", mostParts)
			hide()
			return
		}
		last = raw
		found, ok := t.get(key)
		if it.IsLast() {
			if ok {
				r.problem(span, "two values for one key: %s is there already, in line %d", key,
					found.keySpan.Place().Line)
				hide()
				return
			}
			// Without a range of its own (lists), a value reaches from behind the equals sign to the end of
			// the pair.
			whole := r.span(e.Raw)
			rest := r.file.Text[last.Offset+last.Length : whole.End]
			start := whole.End - len(strings.TrimLeft(rest[strings.IndexByte(rest, '=')+1:], " \t"))
			value := r.file.Span(start, start+len(strings.TrimRight(r.file.Text[start:whole.End], " \t\r\n")))
			t.add(entry{key, span, r.value(e.Value(), value)})
			return
		}
		switch {
		case !ok:
			next := r.table()
			next.dotted = true
			t.add(entry{key, span, r.node(node{kind: kindTable, span: span, table: next})})
			t = next
		case found.value.kind != kindTable || !found.value.table.dotted:
			r.problem(span, "two values for one key: %s is there already, in line %d", key,
				found.keySpan.Place().Line)
			hide()
			return
		default:
			t = found.value.table
		}
	}
}

// value builds the tree below a value; whole is where it stands when it does not say so itself.
func (r *tomlReader) value(v *unstable.Node, whole source.Span) *node {
	n := r.node(node{span: whole})
	if v.Raw.Length > 0 && v.Kind != unstable.InlineTable {
		n.span = r.span(v.Raw)
	}
	switch v.Kind {
	case unstable.String:
		n.kind, n.text = kindString, r.decoded(v)
	case unstable.Bool:
		n.kind, n.text = kindBool, string(v.Data)
	case unstable.Integer:
		n.kind, n.text = kindInteger, r.decoded(v)
	case unstable.Float:
		n.kind, n.text = kindFloat, string(v.Data)
	case unstable.Array:
		n.kind = kindArray
		for it := v.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment {
				item := r.value(it.Node(), whole)
				if item.span == whole {
					item.span = r.around(item)
				}
				n.items = append(n.items, item)
			}
		}
	case unstable.InlineTable:
		n.kind, n.table = kindTable, r.table()
		for it := v.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				r.keyValue(n.table, it.Node())
			}
		}
		// Only now: its own dotted keys may still add to it while it is read.
		n.table.closed = true
	default:
		n.kind, n.text = kindDate, string(v.Data)
	}
	return n
}

// around returns where a list or table inside a list stands: the parser tells that of what is in it only.
func (r *tomlReader) around(n *node) source.Span {
	var first, last source.Span
	switch {
	case len(n.items) > 0:
		first, last = n.items[0].span, n.items[len(n.items)-1].span
	case n.kind == kindTable && len(n.table.entries) > 0:
		first, last = n.table.entries[0].keySpan, n.table.entries[len(n.table.entries)-1].value.span
	default:
		return n.span
	}
	before, after := r.file.Text[:first.Start], r.file.Text[last.End:]
	start := len(strings.TrimRight(before, " \t\r\n"))
	end := last.End + len(after) - len(strings.TrimLeft(after, " \t\r\n,"))
	if start == 0 || end == len(r.file.Text) || !strings.Contains("[{", before[start-1:start]) ||
		!strings.Contains("]}", r.file.Text[end:end+1]) {
		return n.span // a comment is between
	}
	return r.file.Span(start-1, end+1)
}

// Text is a text value of a lab's file with its place. The zero Text is one that is not there.
type Text struct {
	Value string
	Span  source.Span // with its quotes; for an environment file's value, the value
	raw   bool        // Span holds the value to the letter
}

// onlyReferences matches a text that is nothing but references: it gives nothing away.
var onlyReferences = regexp.MustCompile(`^(\$\{[^{}]*\})+$`)

// Hide keeps a secret out of excerpts.
func (t Text) Hide() {
	if !onlyReferences.MatchString(t.Value) {
		t.Span.Hide()
	}
}

// IsSet reports whether the text is in a file at all.
func (t Text) IsSet() bool { return !t.Span.IsZero() }

// Part returns the place of the bytes from start to end of the value, also where escapes make the text in the
// file longer.
func (t Text) Part(start, end int) source.Span {
	if !t.IsSet() {
		return t.Span
	}
	if t.raw {
		return t.Span.File.Span(t.Span.Start+start, t.Span.Start+end)
	}
	written := t.Span.Text()
	if len(written) == len(t.Value)+2 && !strings.Contains(written, "\\") {
		return t.Span.File.Span(t.Span.Start+1+start, t.Span.Start+1+end) // nothing is escaped
	}
	quote, escapes := 1, true
	if strings.HasPrefix(written, `"""`) || strings.HasPrefix(written, `'''`) {
		quote = 3
	}
	if strings.HasPrefix(written, "'") {
		escapes = false
	}
	if !strings.HasPrefix(written, "'") && !strings.HasPrefix(written, `"`) { // a number or a boolean taken as text
		return t.Span
	}
	at := quote
	if quote == 3 { // a line break right behind the opening quotes is not part of the value
		if strings.HasPrefix(written[at:], "\r\n") {
			at += 2
		} else if strings.HasPrefix(written[at:], "\n") {
			at++
		}
	}
	from, to := -1, -1
	for value := 0; at <= len(written)-quote; {
		source, decoded := 1, 1
		if escapes && written[at] == '\\' && at < len(written)-quote {
			source, decoded = escapeLength(written[at:])
		}
		if value >= end {
			to = at
			break
		}
		if value >= start && from < 0 && decoded > 0 {
			from = at
		}
		at += source
		value += decoded
	}
	if from < 0 && start == end {
		from = to
	}
	if from < 0 || to < from {
		return t.Span
	}
	return t.Span.File.Span(t.Span.Start+from, t.Span.Start+to)
}

// escapeLength returns how many bytes an escape takes in the file and in the value.
func escapeLength(s string) (written, decoded int) {
	if len(s) < 2 {
		return 1, 1
	}
	digits := 0
	switch s[1] {
	case 'x':
		digits = 2
	case 'u':
		digits = 4
	case 'U':
		digits = 8
	case '\n', '\r', ' ', '\t': // a line-ending backslash takes the white space behind it along
		rest := strings.TrimLeft(s[1:], " \t\r\n")
		return len(s) - len(rest), 0
	default:
		return 2, 1
	}
	if len(s) < 2+digits {
		return len(s), 1
	}
	n, err := strconv.ParseUint(s[2:2+digits], 16, 32)
	if err != nil {
		return 2 + digits, 1
	}
	return 2 + digits, len(string(rune(n)))
}
