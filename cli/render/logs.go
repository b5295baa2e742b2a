package render

import (
	"encoding/json"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	"proudlantern.example/lantern/core/merge"
)

// LogLine is one line of logs --format json.
type LogLine struct {
	Time    time.Time `json:"time"`
	Host    string    `json:"host"`
	Stack   string    `json:"stack"`
	Service string    `json:"service"`
	Stream  string    `json:"stream"` // out or err
	Text    string    `json:"text"`   // bytes that are no UTF-8 as \xNN
}

// Logs writes lines of logs.
type Logs struct {
	W     io.Writer
	Paint Paint
	JSON  bool
	Raw   bool // the text alone, as the service wrote it
	Full  bool // times with their date and fraction

	Grep    *regexp.Regexp // nil: all lines
	Context int            // so many lines around each that matches

	Hosts, Stacks bool // names need them to be told apart

	// Hide takes secrets out of a text, before it is broken into several lines.
	Hide func(string) string

	width   int            // of the widest name so far
	colours map[string]int // by name
	before  []merge.Line   // lines that may turn out to stand before one that matches
	after   int            // so many lines are still shown
	skipped bool           // something was left out since the last line
	shown   bool
}

// Expect prepares for the name of a service, so that the columns stand from the first line on.
func (l *Logs) Expect(host, stack, service string) { l.colour(l.name(host, stack, service)) }

// Line writes a line, if it is to be shown.
func (l *Logs) Line(line merge.Line) error {
	if l.Grep == nil || l.Grep.MatchString(line.Text) {
		for _, b := range l.before {
			if err := l.write(b); err != nil {
				return err
			}
		}
		l.before, l.after = l.before[:0], l.Context
		return l.write(line)
	}
	if l.after > 0 {
		l.after--
		return l.write(line)
	}
	l.before = append(l.before, line)
	if len(l.before) > l.Context {
		l.before = l.before[1:]
		l.skipped = true
	}
	return nil
}

func (l *Logs) write(line merge.Line) error {
	gap := l.skipped && l.shown && l.Context > 0
	line.Text = l.Hide(line.Text)
	l.skipped, l.shown = false, true
	var b strings.Builder
	switch {
	case l.JSON:
		stream := map[bool]string{false: "out", true: "err"}[line.Stderr]
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		if err := e.Encode(LogLine{
			line.Time.UTC(), line.Host, line.Stack, line.Service, stream, validText(line.Text),
		}); err != nil {
			return err
		}
	case l.Raw:
		b.WriteString(line.Text + "\n")
	default:
		if gap {
			b.WriteString("  " + l.Paint.Faint("…") + "\n")
		}
		l.lay(&b, line)
	}
	_, err := io.WriteString(l.W, b.String())
	return err
}

// lay puts a line into its columns: time, service, text. On a terminal a long text goes on below itself.
func (l *Logs) lay(b *strings.Builder, line merge.Line) {
	layout := "15:04:05"
	if l.Full {
		layout = "2006-01-02T15:04:05.000000Z07:00"
	}
	name := l.name(line.Host, line.Stack, line.Service)
	mark := " "
	if line.Stderr {
		mark = l.Paint.Look("!")
	}
	pad := strings.Repeat(" ", max(0, l.width-ansi.StringWidth(name)))
	text := visibleText(line.Text)
	head := len(layout) + 2 + l.width + 3
	if l.Full {
		head = ansi.StringWidth(line.Time.Local().Format(layout)) + 2 + l.width + 3
	}
	rows, below := []string{text}, head
	switch room := l.Paint.width - head; {
	case l.Paint.width == 0:
	case room >= leastWidth:
		rows = wrap(text, room)
	case ansi.StringWidth(text) > room: // it has the rows below for itself
		below = 4
		rows = append([]string{""}, wrap(text, max(leastWidth, l.Paint.width-below))...)
	}
	first := fmt.Sprintf("%s  %s%s %s %s", l.Paint.Faint(line.Time.Local().Format(layout)),
		l.Paint.with(l.colour(name), name), pad, mark, rows[0])
	b.WriteString(strings.TrimRight(first, " ") + "\n")
	for _, row := range rows[1:] {
		fmt.Fprintf(b, "%s%s\n", strings.Repeat(" ", below), row)
	}
}

func (l *Logs) name(host, stack, service string) string {
	name := service
	if l.Stacks {
		name = stack + "/" + name
	}
	if l.Hosts {
		name = host + " " + name
	}
	return name
}

// colour returns the colour of a service, each another one as long as there are others.
func (l *Logs) colour(name string) int {
	if c, ok := l.colours[name]; ok {
		return c
	}
	if l.colours == nil {
		l.colours = map[string]int{}
	}
	l.colours[name] = firstOfNames + len(l.colours)%namesColours
	l.width = max(l.width, ansi.StringWidth(name))
	return l.colours[name]
}

// visibleText makes a line harmless; tabs become blanks.
func visibleText(text string) string { return Harmless(strings.ReplaceAll(text, "\t", "    ")) }

// validText writes bytes that are no UTF-8 as \xNN.
func validText(text string) string {
	if utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		r, size := utf8.DecodeRuneInString(text[i:])
		if r == utf8.RuneError && size == 1 {
			fmt.Fprintf(&b, `\x%02x`, text[i])
		} else {
			b.WriteRune(r)
		}
		i += size
	}
	return b.String()
}
