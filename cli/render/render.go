// Package render turns results into what people and programs read: excerpts, tables, progress, JSON.
package render

import (
	"encoding/json"
	"image/color"
	"io"
	"strings"

	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"

	"proudlantern.example/lantern/core/check"
)

// Paint colours words, or leaves them as they are.
type Paint struct {
	on, direct bool
	sixteen    bool // the terminal has no more colours than those; only where it is written to directly
	width      int  // of the terminal, in letters; 0: none, or as wide as may be
}

// NewPaint returns a Paint that colours when on is true, for what goes through an [Outlet].
func NewPaint(on bool) Paint { return Paint{on: on} }

// Wide returns a Paint for a terminal of that many letters a line.
func (p Paint) Wide(width int) Paint {
	p.width = width
	return p
}

// Direct returns a Paint for what goes to a terminal by itself. Text from outside has to be made [Harmless]
// before.
func (p Paint) Direct(terminal colorprofile.Profile) Paint {
	p.direct, p.sixteen = true, terminal == colorprofile.ANSI
	return p
}

// The colours: lamp amber for what to look at, sea tones for what is well, signal red for what is wrong.
const (
	plain = iota
	amber
	red
	sea
	mist
	bold
	firstOfNames // and those that follow tell services apart
)

// namesColours is how many colours tell services apart: none of them means anything else.
const namesColours = 6

var styles = [...]lipgloss.Style{
	amber: lipgloss.NewStyle().Foreground(lipgloss.Color("#f2b84b")),
	red:   lipgloss.NewStyle().Foreground(lipgloss.Color("#ff6b5e")),
	sea:   lipgloss.NewStyle().Foreground(lipgloss.Color("#5fc9b8")),
	mist:  lipgloss.NewStyle().Foreground(lipgloss.Color("#8796a5")),
	bold:  lipgloss.NewStyle().Bold(true),

	firstOfNames:     lipgloss.NewStyle().Foreground(lipgloss.Color("#7aa2f7")),
	firstOfNames + 1: lipgloss.NewStyle().Foreground(lipgloss.Color("#c792ea")),
	firstOfNames + 2: lipgloss.NewStyle().Foreground(lipgloss.Color("#e8a2c8")),
	firstOfNames + 3: lipgloss.NewStyle().Foreground(lipgloss.Color("#a3b86c")),
	firstOfNames + 4: lipgloss.NewStyle().Foreground(lipgloss.Color("#8fb7ff")),
	firstOfNames + 5: lipgloss.NewStyle().Foreground(lipgloss.Color("#b8a1d9")),
}

// few are the colours on a terminal that has sixteen of them: those nearest by sight would make amber red.
var few = [...]color.Color{
	amber: lipgloss.Yellow,
	red:   lipgloss.Red,
	sea:   lipgloss.Cyan,
	mist:  lipgloss.BrightBlack,

	// without blue, which is hard to read on black
	firstOfNames:     lipgloss.BrightBlue,
	firstOfNames + 1: lipgloss.BrightMagenta,
	firstOfNames + 2: lipgloss.BrightGreen,
	firstOfNames + 3: lipgloss.Magenta,
	firstOfNames + 4: lipgloss.Green,
	firstOfNames + 5: lipgloss.BrightWhite,
}

// sequences are the control sequences that begin each colour on a terminal; the first one ends it.
func sequences(terminal colorprofile.Profile) []string {
	all := []string{"\x1b[m"}
	for i, s := range styles[1:] {
		switch colour := i + 1; {
		case colour == bold:
		case terminal == colorprofile.ANSI:
			s = s.Foreground(few[colour])
		default:
			s = s.Foreground(terminal.Convert(s.GetForeground()))
		}
		begins, _, _ := strings.Cut(s.Render("x"), "x")
		all = append(all, begins)
	}
	return all
}

func (p Paint) with(colour int, text string) string {
	switch {
	case !p.on || text == "":
		return text
	case p.direct:
		return p.style(colour).Render(text)
	}
	return marker(colour) + text + marker(plain)
}

// style is that of a colour, for what goes to a terminal by itself.
func (p Paint) style(colour int) lipgloss.Style {
	switch {
	case !p.on:
		return lipgloss.NewStyle()
	case p.sixteen && few[colour] != nil:
		return styles[colour].Foreground(few[colour])
	}
	return styles[colour]
}

// Form is how questions look.
func (p Paint) Form() huh.Theme {
	return huh.ThemeFunc(func(dark bool) *huh.Styles {
		t := huh.ThemeBase(dark)
		for _, f := range []*huh.FieldStyles{&t.Focused, &t.Blurred} {
			f.Title, f.Description = p.style(bold), p.style(mist)
			f.SelectSelector = p.style(amber).SetString("> ")
			f.TextInput.Prompt = p.style(amber)
			f.ErrorMessage, f.ErrorIndicator = p.style(red), p.style(red).SetString(" !")
		}
		t.Blurred.Title, t.Blurred.TextInput.Prompt = p.style(mist), p.style(mist)
		t.Blurred.SelectSelector = p.style(mist).SetString("> ")
		return t
	})
}

// Bad is for errors.
func (p Paint) Bad(s string) string { return p.with(red, s) }

// Look is for what to look at.
func (p Paint) Look(s string) string { return p.with(amber, s) }

// Good is for what is well.
func (p Paint) Good(s string) string { return p.with(sea, s) }

// Faint is for what is said beside.
func (p Paint) Faint(s string) string { return p.with(mist, s) }

// Plain leaves a text as it is.
func (p Paint) Plain(text string) string { return text }

// Head is for headings.
func (p Paint) Head(s string) string { return p.with(bold, s) }

// Mark is for the culprit in an excerpt.
func (p Paint) Mark(s string) string { return p.with(bold, s) }

// Link is for addresses to open.
func (p Paint) Link(s string) string { return p.with(sea, s) }

// Severity colours the word of a severity.
func (p Paint) Severity(s check.Severity) string {
	switch s {
	case check.Error:
		return p.Bad(string(s))
	case check.Warning:
		return p.Look(string(s))
	}
	return p.Faint(string(s))
}

// JSON writes a value as indented JSON.
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// inCell makes what stands in a cell harmless; colours of ours stay.
func inCell(cell string) string {
	var b strings.Builder
	for {
		at := strings.Index(cell, "\x1b["+nonce+";")
		if at < 0 {
			return b.String() + Harmless(cell)
		}
		_, length := ours([]byte(cell[at:]))
		length = max(length, 1)
		b.WriteString(Harmless(cell[:at]) + cell[at:at+length])
		cell = cell[at+length:]
	}
}
