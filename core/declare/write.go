package declare

import (
	"fmt"
	"strings"

	"proudlantern.example/lantern/core/source"
)

// NewText returns a text that stands in no file, to be written into one.
func NewText(value string) Text { return FileText(source.NewFile("", value)) }

// FileText returns all that a file says, to the letter.
func FileText(f *source.File) Text { return Text{Value: f.Text, Span: f.All(), raw: true} }

// WriteLab returns a lab.toml that declares what a lab declares. Comments, and the order of keys, are not kept.
func WriteLab(l *Lab) string { return write(labKeys, l) }

// WriteStack returns a stack.toml that declares what a stack declares. Comments, and the order of keys, are
// not kept.
func WriteStack(s *Stack) string { return write(stackKeys, s) }

// writer writes a file table by table.
type writer struct{ b strings.Builder }

func write[T any](keys []key[T], from *T) string {
	w := &writer{}
	for _, line := range linesOf(keys, from) {
		w.b.WriteString(line + "\n")
	}
	writeTables(w, keys, "", from)
	return w.b.String()
}

// linesOf returns the lines of a table, those of its keys that are no tables themselves.
func linesOf[T any](keys []key[T], from *T) []string {
	var lines []string
	for _, k := range keys {
		if k.lines != nil {
			lines = append(lines, k.lines(from)...)
		}
	}
	return lines
}

// writeTables writes the keys of a table that are tables themselves. The path stands before their names.
func writeTables[T any](w *writer, keys []key[T], path string, from *T) {
	for _, k := range keys {
		if k.tables != nil {
			k.tables(w, path, from)
		}
	}
}

// table writes a table, unless nothing is in it.
func (w *writer) table(path string, lines []string) {
	if len(lines) > 0 {
		w.namedTable(path, lines)
	}
}

// namedTable writes a table also when nothing is in it: its name says something.
func (w *writer) namedTable(path string, lines []string) {
	if w.b.Len() > 0 {
		w.b.WriteString("\n")
	}
	fmt.Fprintf(&w.b, "[%s]\n", path)
	for _, line := range lines {
		w.b.WriteString(line + "\n")
	}
}

// ofText returns the line of a text; none where it is not set.
func ofText(name string, t Text, as func(string) string) []string {
	if !t.IsSet() {
		return nil
	}
	return []string{name + " = " + as(t.Value)}
}

// ofTexts returns the line of a list; none where none is declared. An empty one says something.
func ofTexts(name string, list []Text) []string {
	if list == nil {
		return nil
	}
	values := make([]string, len(list))
	for i, t := range list {
		values[i] = quote(t.Value)
	}
	return []string{name + " = [" + strings.Join(values, ", ") + "]"}
}

// ofNamed returns a line for each name.
func ofNamed(prefix string, list []Named) []string {
	var lines []string
	for _, n := range list {
		lines = append(lines, prefix+KeyName(n.Name)+" = "+quote(n.Text.Value))
	}
	return lines
}

// inline returns lines as one inline table.
func inline(name string, lines []string) []string {
	if len(lines) == 0 {
		return nil
	}
	return []string{name + " = { " + strings.Join(lines, ", ") + " }"}
}

// dotted puts a name before each line.
func dotted(name string, lines []string) []string {
	for i, line := range lines {
		lines[i] = name + "." + line
	}
	return lines
}

// KeyName returns a name as it is written before an equals sign (TOML 1.0, Keys).
func KeyName(name string) string {
	if isBare(name) {
		return name
	}
	return quote(name)
}

// ofLets returns what a [let] holds.
func ofLets(list []Let) []string {
	var lines []string
	for _, l := range list {
		if l.EnvFile.IsSet() || l.Later() {
			lines = append(lines, inline(l.Name, linesOf(letKeys, &l))...)
		} else {
			lines = append(lines, l.Name+" = "+quote(l.Value.Value))
		}
	}
	return lines
}

// ofVariables returns the lines of env.
func ofVariables(list []Variable) []string {
	var lines []string
	for _, v := range list {
		lines = append(lines, "env."+KeyName(v.Name)+" = "+quote(v.Value.Value))
	}
	return lines
}
