package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/x/ansi"
)

// givesWay are headings of columns in the order in which they become narrower on a terminal that is too
// narrow for all: what is said beside comes first.
var givesWay = []string{
	"beyond the mode", "also in", "networks", "note", "newer", "new leading number", "what it did", "how", "why", "what", "wins over",
	"from", "who", "image", "belongs to", "near", "group", "owner", "whose", "seen at", "of", "ports",
	"command", "folder", "path", "value", "as", "inside", "service",
}

// leastWidth is how narrow a column becomes that gives way, in letters: a word is only cut where it is longer.
const leastWidth = 24

// cutWidth is how narrow a column becomes at the very last.
const cutWidth = 8

// leftOut are headings of columns that are left out at last, in this order, where narrower ones do not help.
var leftOut = []string{"beyond the mode", "also in", "host", "took", "near", "group", "mode", "entry",
	"owner", "networks", "for", "who"}

// columns writes rows under headings, indented and aligned, as wide as the terminal is. Long cells go on
// below at a word.
func columns(w io.Writer, p Paint, heads []string, rows [][]string) {
	heads, rows = slices.Clone(heads), slices.Clone(rows)
	for i, row := range rows {
		rows[i] = slices.Clone(row)
		for j, cell := range row {
			rows[i][j] = inCell(cell)
		}
	}
	heads, rows = filled(heads, rows)
	heads, rows, widths, left := fit(heads, rows, p.width)
	t := table.New().BorderTop(false).BorderBottom(false).BorderLeft(false).BorderRight(false).BorderColumn(
		false).BorderHeader(false).
		Wrap(true).
		StyleFunc(func(_, column int) lipgloss.Style {
			if column == len(heads)-1 {
				return lipgloss.NewStyle()
			}
			return lipgloss.NewStyle().PaddingRight(2)
		})
	shown := make([]string, len(heads))
	for i, h := range heads {
		shown[i] = p.Faint(h)
	}
	for i, row := range rows {
		for j, cell := range row {
			if ansi.StringWidth(cell) > widths[j] {
				rows[i][j] = strings.Join(wrap(cell, widths[j]), "\n")
			}
		}
	}
	t.Headers(shown...).Rows(rows...)
	for line := range strings.Lines(t.String()) {
		fmt.Fprintln(w, strings.TrimRight("  "+line, " \n"))
	}
	if len(left) > 0 {
		fmt.Fprintln(w,
			p.Faint("  not shown here: "+strings.Join(left, ", ")+"; a wider window, or --format json, shows it"))
	}
}

// filled leaves out columns behind the first one in which nothing stands.
func filled(heads []string, rows [][]string) ([]string, [][]string) {
	for j := len(heads) - 1; j > 0; j-- {
		if slices.ContainsFunc(rows, func(row []string) bool { return j < len(row) && row[j] != "" }) {
			continue
		}
		heads = slices.Delete(heads, j, j+1)
		for i := range rows {
			if j < len(rows[i]) {
				rows[i] = slices.Delete(rows[i], j, j+1)
			}
		}
	}
	return heads, rows
}

// fit makes columns narrower, and at last leaves some out, until a table is no wider than the terminal; 0 is
// any width.
func fit(heads []string, rows [][]string,
	terminal int) (keptHeads []string, keptRows [][]string, widths []int, left []string) {
	widths, least := make([]int, len(heads)), make([]int, len(heads))
	for j, h := range heads {
		widths[j] = ansi.StringWidth(h)
		least[j] = widths[j]
		for _, row := range rows {
			if j >= len(row) {
				continue
			}
			widths[j] = max(widths[j], ansi.StringWidth(row[j]))
			for _, word := range strings.FieldsFunc(ansi.Strip(row[j]), func(c rune) bool {
				return strings.ContainsRune(" /,", c)
			}) {
				least[j] = max(least[j], min(1+ansi.StringWidth(word), leastWidth))
			}
		}
	}
	over := func() int {
		total := 0
		for _, n := range widths {
			total += n + 2
		}
		return total - terminal
	}
	for _, h := range givesWay {
		if j := slices.Index(heads, h); j >= 0 && terminal > 0 && over() > 0 {
			widths[j] = max(min(widths[j], least[j]), widths[j]-over())
		}
	}
	for _, h := range leftOut {
		j := slices.Index(heads, h)
		if j < 0 || terminal == 0 || over() <= 0 {
			continue
		}
		heads, widths, left = slices.Delete(heads, j, j+1), slices.Delete(widths, j, j+1), append(left, h)
		for i := range rows {
			if j < len(rows[i]) {
				rows[i] = slices.Delete(rows[i], j, j+1)
			}
		}
	}
	for _, h := range givesWay { // then words are cut
		if j := slices.Index(heads, h); j >= 0 && terminal > 0 && over() > 0 {
			widths[j] = max(min(widths[j], cutWidth), widths[j]-over())
		}
	}
	return heads, rows, widths, left
}

// Lines breaks a text into lines that fit on the terminal behind so many letters; where there is none, it stays
// one.
func (p Paint) Lines(text string, indent int) []string {
	if room := min(p.width, 100) - indent; p.width > 0 && room >= leastWidth {
		return wrap(text, room)
	}
	return []string{text}
}

// wrap breaks a cell into lines of at most width letters: behind blanks, slashes and commas, and inside of a
// word only where that is longer than a line. Colours go on.
func wrap(cell string, width int) []string {
	var lines []string
	var line strings.Builder // as it is written, with the markers of colours
	colour, used := plain, 0
	mayBreak, usedThere := -1, 0 // behind the last place for a break: its offset in line, and the letters before it
	var colourThere int
	flush := func(text string, at int) {
		text = strings.TrimRight(text, " ")
		if at != plain {
			text += marker(plain)
		}
		lines = append(lines, text)
	}
	for len(cell) > 0 {
		if c, length := ours([]byte(cell)); length > 0 {
			colour = c
			line.WriteString(cell[:length])
			cell = cell[length:]
			continue
		}
		r, size := utf8.DecodeRuneInString(cell)
		letters := ansi.StringWidth(string(r))
		if used+letters > width && used > 0 {
			text, rest, restUsed, restColour := line.String(), "", 0, colour
			if mayBreak > 0 {
				text, rest = text[:mayBreak], text[mayBreak:]
				restUsed, restColour = used-usedThere, colourThere
			}
			flush(text, restColour)
			line.Reset()
			if restColour != plain {
				line.WriteString(marker(restColour))
			}
			line.WriteString(rest)
			used, mayBreak = restUsed, -1
			if used == 0 && r == ' ' {
				cell = cell[size:]
				continue
			}
		}
		line.WriteString(cell[:size])
		used += letters
		cell = cell[size:]
		if strings.ContainsRune(" /,", r) {
			mayBreak, usedThere, colourThere = line.Len(), used, colour
		}
	}
	lines = append(lines, line.String())
	return lines
}
