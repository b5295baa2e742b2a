package declare

import (
	"cmp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"

	"proudlantern.example/lantern/core/source"
)

// tidyWidth is how long a list may be, in bytes with its key, before its items get lines of their own.
const tidyWidth = 100

// piece is a header or a pair of a file, with the comments that belong to it.
type piece struct {
	path  []string // of the header; of a pair its key
	lead  []string // lines above: comments, "" for a blank line
	text  string
	trail string // the comment behind it
}

// section is a header with its pairs; the first section of a file has no header.
type section struct {
	header *piece
	pairs  []piece
}

// Tidy returns a file of a lab in its canonical layout: tables and keys in the order of the reference, one
// blank around =, lists on one line or with one item a line, a blank line before each table. Comments stay
// with what they stand at. Values are not touched. A file that is not TOML is returned as it is, with what is
// wrong.
func Tidy(file *source.File) (string, []source.Problem) {
	before, problems := readTOML(file)
	if len(problems) > 0 {
		return file.Text, problems
	}
	t := &tidier{file: file, docs: StackDocs()}
	_, isLab := before.get("lab")
	_, isCard := before.get("card")
	switch {
	case isLab || strings.HasSuffix(file.Path, LabFile):
		t.docs = LabDocs()
	case isCard:
		t.docs = CardDocs()
	}
	t.take()
	text := t.write()
	// Whatever this program does not foresee must not cost anybody a line of their file.
	if after, problems := readTOML(source.NewFile(file.Path, text)); len(problems) > 0 ||
		!sameTable(before, after) {
		return file.Text, []source.Problem{{Rule: "syntax", At: file.Span(0, 0),
			Message: "this file is left as it is: no tidy layout was found that means the same"}}
	}
	return text, nil
}

type tidier struct {
	file     *source.File
	docs     []KeyDoc
	head     []string // the comment at the top of the file
	sections []section
	foot     []string // comments behind everything
}

// take takes the file apart.
func (t *tidier) take() {
	text := t.file.Text
	t.sections = []section{{}}
	var last *piece
	at := 0
	between := func(end int) []string {
		lines := strings.Split(text[at:end], "\n")
		for i := range lines {
			lines[i] = strings.TrimSpace(lines[i])
		}
		if last != nil {
			last.trail, lines = lines[0], lines[1:]
		}
		if n := len(lines); n > 0 && end < len(text) {
			lines = lines[:n-1] // the indentation of what follows
		}
		return lines
	}
	var parser unstable.Parser
	parser.Reset([]byte(text))
	for parser.NextExpression() {
		e := parser.Expression()
		p := piece{}
		var first, end int
		for it := e.Key(); it.Next(); {
			raw := it.Node().Raw
			if first == 0 && len(p.path) == 0 {
				first = int(raw.Offset)
			}
			end = int(raw.Offset + raw.Length)
			p.path = append(p.path, string(it.Node().Data))
		}
		if e.Kind == unstable.KeyValue {
			p.lead = between(first)
			p.text, at = t.pair(e)
			s := &t.sections[len(t.sections)-1]
			s.pairs = append(s.pairs, p)
			last = &s.pairs[len(s.pairs)-1]
			continue
		}
		open, closing := "[", "]"
		if e.Kind == unstable.ArrayTable {
			open, closing = "[[", "]]"
		}
		p.lead = between(strings.LastIndex(text[:first], open))
		p.text = open + keyText(e) + closing
		at = end + strings.Index(text[end:], closing) + len(closing)
		t.sections = append(t.sections, section{header: &p})
		last = &p
	}
	t.foot = between(len(text))
	if first := t.first(); first != nil {
		// A comment at the top with a blank line behind it is the file's.
		lead := squeeze(first.lead)
		if len(lead) > 0 && lead[0] == "" {
			lead = lead[1:]
		}
		if i := slices.Index(lead, ""); i > 0 {
			t.head, first.lead = lead[:i], trimBlank(lead[i:])
		}
	}
}

// first returns the first piece of the file, nil when it has none.
func (t *tidier) first() *piece {
	if len(t.sections[0].pairs) > 0 {
		return &t.sections[0].pairs[0]
	}
	if len(t.sections) > 1 {
		return t.sections[1].header
	}
	return nil
}

// keyText returns a key as it is written, without blanks around its dots.
func keyText(e *unstable.Node) string {
	var parts []string
	for it := e.Key(); it.Next(); {
		n := it.Node()
		if part := string(n.Data); isBare(part) {
			parts = append(parts, part)
		} else {
			parts = append(parts, quote(part))
		}
	}
	return strings.Join(parts, ".")
}

func isBare(s string) bool {
	return s != "" && strings.IndexFunc(s, func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '-' && c != '_'
	}) < 0
}

// Quote writes a text between quotes, as it stands in a file of ours.
func Quote(s string) string { return quote(s) }

// quote writes a text between quotes (TOML 1.0, String): to the letter where that is possible.
func quote(s string) string {
	if !strings.ContainsAny(s, "\"\\") &&
		strings.IndexFunc(s, func(c rune) bool { return c < ' ' || c == 0x7f }) < 0 {
		return `"` + s + `"`
	}
	var b strings.Builder
	b.WriteByte('"')
	for _, c := range s {
		switch {
		case c == '"' || c == '\\':
			b.WriteByte('\\')
			b.WriteRune(c)
		case c == '\n':
			b.WriteString(`\n`)
		case c == '\t':
			b.WriteString(`\t`)
		case c == '\r':
			b.WriteString(`\r`)
		case c < ' ' || c == 0x7f:
			const hex = "0123456789abcdef"
			b.WriteString(`\u00` + string(hex[c>>4]) + string(hex[c&15]))
		default:
			b.WriteRune(c)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// pair lays a key and its value out, and returns where they end in the file.
func (t *tidier) pair(e *unstable.Node) (string, int) {
	text := t.file.Text
	end := int(e.Raw.Offset) + len(strings.TrimRight(text[e.Raw.Offset:e.Raw.Offset+e.Raw.Length], " \t\r\n"))
	start := 0
	for it := e.Key(); it.Next(); {
		start = int(it.Node().Raw.Offset + it.Node().Raw.Length)
	}
	start += strings.IndexByte(text[start:], '=') + 1
	start += len(text[start:end]) - len(strings.TrimLeft(text[start:end], " \t"))
	key := keyText(e)
	return key + " = " + t.value(e.Value(), start, end, len(key)), end
}

// value lays out a value that stands between two offsets, behind a key of some length.
func (t *tidier) value(v *unstable.Node, start, end, before int) string {
	written := t.file.Text[start:end]
	switch {
	case v.Kind == unstable.Array:
		return t.list(v, start, end, before)
	case v.Kind != unstable.InlineTable || strings.Contains(written, "\n"):
		return written
	}
	var pairs []string
	for it := v.Children(); it.Next(); {
		if it.Node().Kind == unstable.KeyValue {
			pair, _ := t.pair(it.Node())
			pairs = append(pairs, pair)
		}
	}
	if pairs == nil {
		return "{}"
	}
	return "{ " + strings.Join(pairs, ", ") + " }"
}

// list lays a list out: on one line where it was on one and fits, else with one item a line.
func (t *tidier) list(v *unstable.Node, start, end, before int) string {
	text := t.file.Text
	var items []piece
	from := start + len("[")
	// comments takes what stands between two items apart: behind the comma and on lines of its own.
	comments := func(to int) (lead []string) {
		for i, line := range strings.Split(text[from:to], "\n") {
			_, comment, found := strings.Cut(line, "#")
			comment = "#" + strings.TrimRight(comment, " \t\r")
			switch {
			case !found:
			case i == 0 && len(items) > 0:
				items[len(items)-1].trail = comment
			default:
				lead = append(lead, comment)
			}
		}
		return lead
	}
	for it := v.Children(); it.Next(); {
		n := it.Node()
		if n.Kind == unstable.Comment {
			continue
		}
		if n.Raw.Length == 0 || n.Kind == unstable.InlineTable || n.Kind == unstable.Array {
			return text[start:end] // no key takes such lists
		}
		item := int(n.Raw.Offset)
		lead := comments(item)
		from = item + int(n.Raw.Length)
		items = append(items, piece{lead: lead, text: text[item:from]})
	}
	foot := comments(end - len("]"))
	texts := make([]string, len(items))
	for i, item := range items {
		texts[i] = item.text
	}
	line := "[" + strings.Join(texts, ", ") + "]"
	if one := !strings.Contains(text[start:end], "\n"); len(items)+len(foot) == 0 ||
		one && before+len(" = ")+len(line) <= tidyWidth {
		return line
	}
	var b strings.Builder
	b.WriteString("[\n")
	for _, item := range items {
		for _, l := range item.lead {
			b.WriteString("  " + l + "\n")
		}
		b.WriteString("  " + item.text + ",")
		if item.trail != "" {
			b.WriteString("  " + item.trail)
		}
		b.WriteString("\n")
	}
	for _, l := range foot {
		b.WriteString("  " + l + "\n")
	}
	b.WriteString("]")
	return b.String()
}

// write puts the file together again, in order.
func (t *tidier) write() string {
	rank := func(docs []KeyDoc, key string) int {
		if i := slices.IndexFunc(docs, func(k KeyDoc) bool { return k.Name == key }); i >= 0 {
			return i
		}
		return len(docs)
	}
	group := map[string]int{} // where a table with a name, such as [service.desk], first stands
	name := func(s section) string { return strings.Join(s.header.path[:min(2, len(s.header.path))], ".") }
	for i, s := range t.sections[1:] {
		if _, seen := group[name(s)]; !seen {
			group[name(s)] = i
		}
	}
	slices.SortStableFunc(t.sections[1:], func(a, b section) int {
		return cmp.Or(cmp.Compare(rank(t.docs, a.header.path[0]), rank(t.docs, b.header.path[0])),
			cmp.Compare(group[name(a)], group[name(b)]))
	})
	var b strings.Builder
	line := func(s string) { b.WriteString(s + "\n") }
	for _, l := range trimBlank(t.head) {
		line(l)
	}
	blank := func() {
		if b.Len() > 0 {
			line("")
		}
	}
	put := func(p piece, lead []string) {
		for _, l := range lead {
			line(l)
		}
		if p.trail != "" {
			p.text += "  " + p.trail
		}
		line(p.text)
	}
	for i, s := range t.sections {
		if i > 0 {
			blank()
			put(*s.header, trimBlank(s.header.lead))
		} else if len(t.head) > 0 && len(s.pairs) > 0 {
			blank()
		}
		docs := t.docs
		if i > 0 {
			docs = docsOf(t.docs, s.header.path)
		}
		slices.SortStableFunc(s.pairs, func(a, b piece) int {
			return cmp.Compare(rank(docs, a.path[0]), rank(docs, b.path[0]))
		})
		for j, p := range s.pairs {
			lead := squeeze(p.lead)
			if j == 0 {
				lead = trimBlank(lead)
			}
			put(p, lead)
		}
	}
	if foot := trimBlank(t.foot); len(foot) > 0 {
		blank()
		for _, l := range foot {
			line(l)
		}
	}
	return b.String()
}

// docsOf returns the keys of a table by its path; nil for one whose keys are the user's own.
func docsOf(docs []KeyDoc, path []string) []KeyDoc {
	for i := 0; i < len(path); i++ {
		j := slices.IndexFunc(docs, func(k KeyDoc) bool { return k.Name == path[i] })
		if j < 0 {
			return nil
		}
		docs = docs[j].Keys
		if named := j >= 0 && i+1 < len(path); named && len(docs) > 0 && docs[0].Table != "ready" &&
			docs[0].Table != "tls" {
			i++ // the name of a named table
		}
	}
	return docs
}

// squeeze leaves one blank line of several.
func squeeze(lines []string) []string {
	return slices.CompactFunc(slices.Clone(lines), func(a, b string) bool { return a == "" && b == "" })
}

// trimBlank returns lines without blank ones at their ends, and with one where there are several.
func trimBlank(lines []string) []string {
	lines = squeeze(lines)
	for len(lines) > 0 && lines[0] == "" {
		lines = lines[1:]
	}
	for len(lines) > 0 && lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// sameTable reports whether two tables have the same entries, in whatever order.
func sameTable(a, b *table) bool {
	if len(a.entries) != len(b.entries) {
		return false
	}
	for _, e := range a.entries {
		o, ok := b.get(e.key)
		if !ok || !sameNode(e.value, o.value) {
			return false
		}
	}
	return true
}

func sameNode(a, b *node) bool {
	if a.kind != b.kind || a.text != b.text || len(a.items) != len(b.items) {
		return false
	}
	for i := range a.items {
		if !sameNode(a.items[i], b.items[i]) {
			return false
		}
	}
	return a.kind != kindTable || sameTable(a.table, b.table)
}
