package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

// View draws the table, or the log.
func (m *Watch) View() tea.View {
	v := tea.NewView("")
	v.AltScreen = true
	if m.log != nil {
		v.Content = m.fitted(m.logLines())
		return v
	}
	v.Content = m.fitted(m.table())
	return v
}

// fitted cuts lines to the size of the terminal; what is cut has a sign.
func (m *Watch) fitted(lines []string) string {
	lines = lines[:min(len(lines), m.height)]
	for i, line := range lines {
		lines[i] = ansi.Truncate(line, m.width, "…")
	}
	return strings.Join(lines, "\n")
}

// room is how many rows of the table have room on the screen.
func (m *Watch) room() int { return max(1, m.height-len(m.head())-1-len(m.foot(nil, nil))) }

// table is the screen with all services.
func (m *Watch) table() []string {
	rows := m.rows()
	at := m.current(rows)
	heads, left := m.columns(rows)
	head, foot := m.head(), m.foot(rows, left)
	room := max(1, m.height-len(head)-1-len(foot))
	m.top = max(0, min(m.top, at, len(rows)-room))
	if at >= m.top+room {
		m.top = at - room + 1
	}
	shown := rows[m.top:min(len(rows), m.top+room)]
	names := map[string]bool{}
	lines := append(head, m.line("  ", heads, func(c watchColumn) string { return m.Paint.Faint(c.head) }))
	for i, r := range shown {
		names[r.name] = true
		marker := "  "
		if m.top+i == at {
			marker = m.Paint.Look("▸ ")
		}
		lines = append(lines, m.line(marker, heads, func(c watchColumn) string { return c.cell(m.Paint, r) }))
	}
	if len(rows) == 0 {
		text := "nothing is declared, and nothing of this lab runs"
		if m.filter != "" {
			text = "no service matches " + m.filter
		}
		lines = append(lines, "  "+m.Paint.Faint(text))
	}
	m.Acts.Show(names)
	for len(lines) < m.height-len(foot) {
		lines = append(lines, "")
	}
	return append(lines, foot...)
}

// line lays cells into their columns.
func (m *Watch) line(marker string, columns []watchColumn, cell func(watchColumn) string) string {
	var b strings.Builder
	b.WriteString(marker)
	for i, c := range columns {
		text := cell(c)
		if c.width > 0 {
			text = ansi.Truncate(text, c.width, "…")
		}
		pad := strings.Repeat(" ", max(0, c.width-ansi.StringWidth(text)))
		if c.right {
			text = pad + text
		} else if i < len(columns)-1 {
			text += pad
		}
		b.WriteString(text)
		if i < len(columns)-1 {
			b.WriteString("  ")
		}
	}
	return strings.TrimRight(b.String(), " ")
}

// head says how all of it is.
func (m *Watch) head() []string {
	p := m.Paint
	count, processor, memory, all := map[string]int{}, 0.0, int64(0), 0
	for _, h := range m.hosts {
		for _, s := range h.services {
			all++
			if h.lost == nil {
				count[s.State]++
			}
		}
		for _, u := range h.used {
			if h.lost == nil {
				processor += u.Rates.CPU
				memory += u.Usage.Memory
			}
		}
	}
	text := p.Head(Harmless(m.Title)) + "  " + declare.Counted(all, "service")
	for _, state := range []string{observe.StateReady, observe.StateRunning, observe.StateDone, observe.StateStarting,
		observe.StateDeploying, observe.StateStopped, observe.StateRestarting, observe.StateFailed, observe.StateMissing} {
		if n := count[state]; n > 0 {
			text += "  " + stateColour(p, state)(fmt.Sprintf("%d %s", n, state))
		}
	}
	if memory > 0 {
		text += p.Faint(fmt.Sprintf("  processor %.0f %%  memory %s", processor, bytesOf(memory)))
	}
	return append(m.wrapped(text), "")
}

// wrapped breaks a text with colours at words.
func (m *Watch) wrapped(text string) []string {
	return strings.Split(ansi.Wrap(text, m.width, " "), "\n")
}

// stateColour is the colour of a state.
func stateColour(p Paint, state string) func(string) string {
	switch trouble(observe.Status{State: state}) {
	case 0:
		return p.Good
	case 3:
		return p.Bad
	}
	return p.Look
}

// watchColumn is one of the table.
type watchColumn struct {
	head  string
	width int
	right bool
	cell  func(Paint, watchRow) string
}

// Widths of columns, in letters: of the longest that can stand there.
const (
	widestService = 40
	widestHost    = 16
	stateWidth    = 10
	agoWidth      = 4
	percentWidth  = 9
	bytesWidth    = 8
	rateWidth     = 5
	pairWidth     = 2*rateWidth + len(" / ")
)

// narrower are the columns that are left out, the first set of them that makes room. The last line of the log tells
// more than the disk.
var narrower = [][]string{
	{}, {"disk r / w"}, {"disk r / w", "host"}, {"last line"}, {"last line", "host"},
	{"last line", "disk r / w"}, {"last line", "disk r / w", "host"},
	{"last line", "disk r / w", "net in / out", "host"},
	{"last line", "disk r / w", "net in / out", "host", "for", "memory"},
	{"last line", "disk r / w", "net in / out", "host", "for", "memory", "processor"},
}

// columns returns those that have room, and the names of those that have not.
func (m *Watch) columns(rows []watchRow) (shown []watchColumn, left []string) {
	all := m.allColumns(rows)
	for _, left = range narrower {
		shown = slices.DeleteFunc(slices.Clone(all), func(c watchColumn) bool { return slices.Contains(left, c.head) })
		used := 0
		for _, c := range shown {
			used += c.width + 2
		}
		if used > m.width {
			continue
		}
		if last := &shown[len(shown)-1]; last.head == "last line" {
			last.width += m.width - used
		}
		break
	}
	if len(m.hosts) < 2 {
		left = slices.DeleteFunc(slices.Clone(left), func(head string) bool { return head == "host" })
	}
	return shown, left
}

// allColumns are those of a very wide terminal.
func (m *Watch) allColumns(rows []watchRow) []watchColumn {
	service, host := len("service"), len("host")
	for _, r := range rows {
		service = max(service, ansi.StringWidth(r.shown))
		host = max(host, ansi.StringWidth(Harmless(r.Host)))
	}
	rate := func(in, out func(engine.Rates) float64, known func(engine.Usage) bool) func(Paint, watchRow) string {
		return func(p Paint, r watchRow) string {
			if !r.used.Rated || !known(r.used.Usage) {
				return ""
			}
			first, second := rateOf(in(r.used.Rates)), rateOf(out(r.used.Rates))
			pad := strings.Repeat(" ", max(0, rateWidth-len(second))) // the strokes stand below each other
			return quiet(p, first) + p.Faint(" / ") + quiet(p, second) + pad
		}
	}
	columns := []watchColumn{
		{"host", min(host, widestHost), false, func(p Paint, r watchRow) string { return Harmless(r.Host) }},
		{"service", min(service, widestService), false, func(p Paint, r watchRow) string { return r.shown }},
		{"state", stateWidth, false, func(p Paint, r watchRow) string {
			if r.lost {
				return p.Faint("unknown")
			}
			return stateColour(p, r.State)(r.State)
		}},
		{"for", agoWidth, true, func(p Paint, r watchRow) string {
			if r.Since.IsZero() || r.lost {
				return ""
			}
			return ago(time.Since(r.Since))
		}},
		{"processor", percentWidth, true, func(p Paint, r watchRow) string {
			if !r.used.Rated {
				return ""
			}
			return quiet(p, fmt.Sprintf("%.1f %%", r.used.Rates.CPU))
		}},
		{"memory", bytesWidth, true, func(p Paint, r watchRow) string {
			if r.used.Usage.Memory == 0 {
				return ""
			}
			return bytesOf(r.used.Usage.Memory)
		}},
		{"net in / out", pairWidth, true, rate(func(u engine.Rates) float64 { return u.NetIn },
			func(u engine.Rates) float64 { return u.NetOut }, func(u engine.Usage) bool { return u.Networked })},
		{"disk r / w", pairWidth, true, rate(func(u engine.Rates) float64 { return u.Read },
			func(u engine.Rates) float64 { return u.Written }, func(engine.Usage) bool { return true })},
		{"last line", leastWidth, false, func(p Paint, r watchRow) string {
			if note := noteOf(r.Status); note != "" {
				return p.Look(m.clean(note))
			}
			return p.Faint(m.lastLine(r))
		}},
	}
	if len(m.hosts) < 2 {
		return columns[1:]
	}
	return columns
}

// clean makes a text harmless, and takes secrets out of it.
func (m *Watch) clean(text string) string { return Harmless(m.Acts.Hide(text)) }

func (m *Watch) lastLine(r watchRow) string { return visibleText(m.Acts.Hide(r.used.Line)) }

// quiet makes a figure faint that is as good as none.
func quiet(p Paint, figure string) string {
	if figure == "0" || figure == "0.0 %" {
		return p.Faint(figure)
	}
	return figure
}

// rateOf shortens bytes a second.
func rateOf(n float64) string {
	if n < 1 {
		return "0"
	}
	return strings.TrimSuffix(units.CustomSize("%.3g%s", n, 1000, []string{"B", "k", "M", "G", "T"}), "B")
}

func bytesOf(n int64) string {
	return units.CustomSize("%.3g %s", float64(n), 1024, []string{"B", "KiB", "MiB", "GiB", "TiB"})
}

// foot says more of the selected service, and what the keys do.
func (m *Watch) foot(rows []watchRow, left []string) []string {
	p := m.Paint.Wide(m.width)
	lines := []string{""}
	if len(rows) > 0 {
		lines = append(lines, m.about(rows[m.current(rows)], left)...)
	} else if rows == nil {
		lines = append(lines, "", "") // as high as with one
	}
	for _, h := range m.hosts {
		if h.lost != nil {
			lines = append(lines, m.wrapped(p.Bad(m.clean(h.lost.Error()))+p.Faint("; trying again"))...)
		}
	}
	if m.files != nil {
		lines = append(lines, m.wrapped(p.Bad(m.clean(m.files.Error())))...)
	}
	if len(left) > 0 {
		lines = append(lines, m.wrapped(p.Faint("not shown here: "+strings.Join(left, ", ")+
			"; a wider window shows it"))...)
	}
	return append(lines, m.prompt(p)...)
}

// about says in two lines what has no room in the table.
func (m *Watch) about(r watchRow, left []string) []string {
	p := m.Paint
	first := p.Head(r.shown) + p.Faint(" on "+Harmless(r.Host))
	if r.Image != "" {
		first += "  " + Harmless(shortImage(r.Image))
	}
	for _, l := range r.Links {
		first += "  " + p.Link(Harmless(l))
	}
	if note := noteOf(r.Status); note != "" && !r.lost {
		first += "  " + p.Look(m.clean(note))
	}
	if slices.Contains(left, "disk r / w") && r.used.Rated {
		first += p.Faint("  disk r / w ") + rateOf(r.used.Rates.Read) + p.Faint(" / ") + rateOf(r.used.Rates.Written)
	}
	return []string{first, p.Faint(m.lastLine(r))}
}

// prompt is the last line: a question, what is at work, what happened, and the keys.
func (m *Watch) prompt(p Paint) []string {
	rows := m.rows()
	switch {
	case m.leaving:
		return []string{p.Look("ends when the " + m.acting)}
	case m.typing:
		return []string{"show only: " + m.filter + p.Look("▏") + p.Faint("   enter keeps it  esc clears it")}
	case m.question != "" && len(rows) > 0:
		return []string{p.Look(m.question+" "+rows[m.current(rows)].shown+"?") + "  y yes   any other key no"}
	}
	var lines []string
	if m.acting != "" {
		lines = append(lines, p.Look(m.acting))
	}
	if m.message != "" {
		tone := p.Good
		if m.bad {
			tone = p.Bad
		}
		for l := range strings.SplitSeq(m.Acts.Hide(m.message), "\n") {
			lines = append(lines, m.wrapped(tone(Harmless(l)))...)
		}
	}
	filter := "/ filter"
	if m.filter != "" {
		filter = "/ filter: " + m.filter
	}
	keys := []string{"↑↓ choose", filter, "o order: " + orders[m.order].name, "enter log", "! shell", "+ start", "- stop",
		"r restart", "q quit"}
	line := ""
	for _, k := range keys {
		key, does, _ := strings.Cut(k, " ")
		word := key + " " + p.Faint(does)
		if line != "" && ansi.StringWidth(line)+3+ansi.StringWidth(word) > m.width {
			lines, line = append(lines, line), ""
		}
		if line != "" {
			line += "   "
		}
		line += word
	}
	return append(lines, line)
}
