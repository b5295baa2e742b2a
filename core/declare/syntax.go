package declare

import (
	"regexp"
	"strings"

	"proudlantern.example/lantern/core/source"
)

// A mistake in TOML's own grammar is said in the words of somebody who looks at the line, and with what to
// write instead. The parser's words are for those who know how it works.

var (
	colonKey  = regexp.MustCompile(`^\s*["']?[A-Za-z0-9_.-]+["']?\s*(:)(\s|$)`)
	dashItem  = regexp.MustCompile(`^\s*(-)\s+\S`)
	keyOnly   = regexp.MustCompile(`^\s*([A-Za-z0-9_.-]+)\s+(["'\[{0-9]|true|false)`)
	keyWords  = regexp.MustCompile(`^\s*([A-Za-z0-9_.-]+)\s+([A-Za-z0-9_.-]+)\s*=`)
	bareValue = regexp.MustCompile(`^\s*[A-Za-z0-9_."'-]+\s*=\s*([^"'\[{#\s=][^#]*?)\s*(#.*)?$`)
	openValue = regexp.MustCompile(`(?m)^\s*[A-Za-z0-9_."'-]+\s*=\s*[\[{]`)
	blankName = regexp.MustCompile(`^\s*\[\s*([A-Za-z0-9_-]+)\s+([A-Za-z0-9_-]+)\s*\]`)
	valueOf   = regexp.MustCompile(`([A-Za-z0-9_.-]+)["']?\s*[=:]\s*`)
	badEscape = regexp.MustCompile(`escape`)
)

// switches are how other formats write true and false.
var switches = map[string]string{
	"yes":   "true",
	"on":    "true",
	"True":  "true",
	"TRUE":  "true",
	"Yes":   "true",
	"On":    "true",
	"no":    "false",
	"off":   "false",
	"False": "false",
	"FALSE": "false",
	"No":    "false",
	"Off":   "false",
}

// explain words a mistake in the grammar: where the parser stopped, and what it said.
func explain(f *source.File, at source.Span, said string) (source.Span, string, *source.Mend) {
	start := strings.LastIndexByte(f.Text[:at.Start], '\n') + 1
	line, _, _ := strings.Cut(f.Text[start:], "\n")
	line = strings.TrimRight(line, "\r")
	part := func(from, to int) source.Span { return f.Span(start+from, start+to) }
	write := func(text string) *source.Mend { return &source.Mend{Text: "write " + text} }
	if hideBroken(f, start, line) {
		write = func(string) *source.Mend { return &source.Mend{Text: `texts stand in "…"`} }
	}
	if open, ok := unclosed(f, at); ok {
		end := map[string]string{"[": "]", "{": "}"}[open.Text()]
		return open, "what begins here is not closed", &source.Mend{
			Text: end + " closes it; a comma stands between two values",
		}
	}
	if i := strings.IndexAny(line, curlyQuotes); i >= 0 {
		_, size := decodeRune(line[i:])
		return part(i, i+size), "curly quotes are no quotes here",
			write(strings.NewReplacer("\u201c", `"`, "\u201d", `"`, "\u201e", `"`, "\u2018", "'", "\u2019",
				"'", "\u201a", "'", "\u00ab", `"`, "\u00bb", `"`).Replace(strings.TrimSpace(line)))
	}
	if m := colonKey.FindStringSubmatchIndex(line); m != nil {
		return part(m[2], m[3]), "a key and its value have = between them here, not :",
			write(strings.TrimSpace(line[:m[2]]) + " = …")
	}
	if m := dashItem.FindStringSubmatchIndex(line); m != nil {
		return part(m[2], m[3]), "a list is not written with - in front of its values", write(`NAME = ["…", "…"]`)
	}
	if m := blankName.FindStringSubmatch(line); m != nil {
		i := strings.Index(line, "[")
		return part(i, len(strings.TrimRight(line, " \t"))), "the parts of a name have a dot between them",
			write("[" + m[1] + "." + m[2] + "]")
	}
	if m := keyWords.FindStringSubmatchIndex(line); m != nil {
		return part(m[2], m[5]), "a key is one word", nil
	}
	if m := keyOnly.FindStringSubmatchIndex(line); m != nil {
		return part(m[2], m[3]), "= is missing behind the key", write(line[m[2]:m[3]] + " = …")
	}
	if m := bareValue.FindStringSubmatchIndex(line); m != nil && at.Start >= start+m[2] {
		value := line[m[2]:m[3]]
		switch right, isSwitch := switches[value]; {
		case isSwitch:
			return part(m[2], m[3]), "true and false are written just so", write(right)
		case value == "null" || value == "None" || value == "nil" || value == "~":
			return part(m[2], m[3]), "there is no value for nothing", &source.Mend{Text: "leave the key out"}
		case strings.HasPrefix(value, ".") && !strings.ContainsAny(value[1:], ".abcdefghijklmnopqrstuvwxyz/"):
			return part(m[2], m[3]), "a number begins with a digit", write("0" + value)
		case !strings.ContainsAny(value, `"'`):
			return part(m[2], m[3]), "a text stands in quotes",
				write(`"` + strings.ReplaceAll(value, `\`, `\\`) + `"`)
		}
	}
	return explainSaid(at, said, write)
}

// explainSaid goes by what the library says, where the line itself does not tell.
func explainSaid(at source.Span, said string, write func(string) *source.Mend) (source.Span, string, *source.Mend) {
	switch {
	case strings.Contains(said, "after array value") && strings.ContainsAny(at.Text(), `"'`):
		return at, "a list needs commas between its values", write(`"…", ` + at.Text() + "…")
	case strings.Contains(said, "after array value"):
		return at, "the values of a list have commas between them, and texts stand in quotes", write(`["…", "…"]`)
	case strings.Contains(said, "inline table"):
		return at, "what stands in { } has commas between its keys, and ends with }", nil
	case strings.Contains(said, "expected newline"):
		return at, "something follows the value on its line", &source.Mend{
			Text: `a quote inside a text is written \", or the text stands in '…'; a comment begins with #`,
		}
	case badEscape.MatchString(said):
		return at, `\ begins a sign of its own in "…"`, &source.Mend{
			Text: `write \\, or put the text in '…', where \ is a letter`,
		}
	case strings.Contains(said, "expected '=' after key"):
		return at, "= is missing behind the key", nil
	}
	return at, "not TOML: " + said, nil
}

// hideBroken keeps the value of a secret on a line that could not be parsed out of excerpts, and reports whether
// there is one.
func hideBroken(f *source.File, start int, line string) bool {
	for _, m := range valueOf.FindAllStringSubmatchIndex(line, -1) {
		if LooksSecret(line[m[2]:m[3]]) && m[1] < len(line) {
			f.Span(start+m[1], start+len(line)).Hide()
			return true
		}
	}
	return false
}

func decodeRune(s string) (r rune, size int) {
	for i, c := range s {
		if i > 0 {
			return r, i
		}
		r = c
	}
	return r, len(s)
}

// unclosed returns the bracket of a list or of an inline table that is still open where the parser stopped on
// a later line.
func unclosed(f *source.File, at source.Span) (source.Span, bool) {
	starts := openValue.FindAllStringIndex(f.Text[:at.Start], -1)
	if starts == nil {
		return source.Span{}, false
	}
	from := starts[len(starts)-1][1] - 1
	var open []int
	for i := from; i < at.Start; i++ {
		switch c := f.Text[i]; c {
		case '"', '\'':
			end := strings.IndexAny(f.Text[i+1:at.Start], string(c)+"\n")
			if end < 0 || f.Text[i+1+end] == '\n' {
				return source.Span{}, false // a quote is what is missing
			}
			i += 1 + end
		case '#':
			if end := strings.IndexByte(f.Text[i:at.Start], '\n'); end >= 0 {
				i += end
			}
		case '[', '{':
			open = append(open, i)
		case ']', '}':
			if len(open) > 0 {
				open = open[:len(open)-1]
			}
		}
	}
	if len(open) == 0 || !strings.Contains(f.Text[from:at.Start], "\n") {
		return source.Span{}, false
	}
	// A value that only lacks its quotes on a line of its own is no open list: the list is open where a key
	// of the file follows.
	rest := f.Text[strings.LastIndexByte(f.Text[:at.Start], '\n')+1:]
	line, _, _ := strings.Cut(rest, "\n")
	if !regexp.MustCompile(`^\s*(\[|[A-Za-z0-9_.-]+\s*=|$)`).MatchString(line) {
		return source.Span{}, false
	}
	last := open[len(open)-1]
	return f.Span(last, last+1), true
}
