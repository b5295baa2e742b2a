package render

import (
	"fmt"
	"strings"
	"sync"

	tea "charm.land/bubbletea/v2"

	"proudlantern.example/lantern/core/merge"
)

// mostTail is how many lines of a log the live table keeps.
const mostTail = 5_000

// Tail keeps the last lines of a log. Several goroutines may use it.
type Tail struct {
	mu    sync.Mutex
	lines []merge.Line
	gone  int // so many lines were there before the first that is kept
}

// Line takes a line.
func (t *Tail) Line(l merge.Line) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.lines = append(t.lines, l)
	if len(t.lines) >= 2*mostTail {
		t.gone += len(t.lines) - mostTail
		t.lines = append(t.lines[:0], t.lines[len(t.lines)-mostTail:]...)
	}
	return nil
}

// Notice takes what happens to the service meanwhile.
func (t *Tail) Notice(text string) { t.Line(merge.Line{Text: text}) }

// before returns up to most lines that end before the one with the number end, and the number of all.
func (t *Tail) before(end, most int) (lines []merge.Line, all int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	all = t.gone + len(t.lines)
	last := max(0, min(end, all)-t.gone)
	return append(lines, t.lines[max(0, last-most):last]...), all
}

// watchLog is the log of one service, over the whole screen.
type watchLog struct {
	name, host string
	tail       *Tail
	stop       func()
	end        int // the number behind the last line that is shown; 0: the newest
}

func (m *Watch) closeLog() {
	m.log.stop()
	m.log = nil
}

// logKey takes a key while a log is shown.
func (m *Watch) logKey(k tea.KeyPressMsg) tea.Cmd {
	_, all := m.log.tail.before(0, 0)
	page := max(1, m.height-3)
	move := func(by int) {
		end := m.log.end
		if end == 0 {
			end = all
		}
		if m.log.end = max(min(page, all), end+by); m.log.end >= all {
			m.log.end = 0
		}
	}
	switch k.String() {
	case "q", "esc", "enter", "left":
		m.closeLog()
	case "up", "k":
		move(-1)
	case "down", "j":
		move(1)
	case "pgup":
		move(-page)
	case "pgdown", "space":
		move(page)
	case "home", "g":
		move(-all)
	case "end", "G":
		m.log.end = 0
	}
	return nil
}

// logLines are the screen with a log: as many lines as there is room for, the last one at the bottom.
func (m *Watch) logLines() []string {
	p := m.Paint
	room := max(1, m.height-3)
	end := m.log.end
	if end == 0 {
		end = int(^uint(0) >> 1)
	}
	lines, all := m.log.tail.before(end, room)
	var text strings.Builder
	out := &Logs{W: &text, Paint: p.Wide(m.width), Hide: m.Acts.Hide, Stacks: true}
	for _, l := range lines {
		if l.Time.IsZero() {
			fmt.Fprintln(&text, p.Faint("  "+Harmless(l.Text)))
			continue
		}
		out.Line(l)
	}
	drawn := strings.Split(strings.TrimSuffix(text.String(), "\n"), "\n")
	drawn = drawn[max(0, len(drawn)-room):]
	if len(lines) == 0 {
		drawn = []string{p.Faint("  nothing yet")}
	}
	at := "the newest at the bottom"
	if m.log.end > 0 {
		at = fmt.Sprintf("line %d of %d", m.log.end, all)
	}
	screen := []string{p.Head(m.log.name) + p.Faint(" on "+Harmless(m.log.host)+"   log, "+at), ""}
	screen = append(screen, drawn...)
	for len(screen) < m.height-1 {
		screen = append(screen, "")
	}
	return append(screen, "↑↓ "+p.Faint("scroll")+"   end "+p.Faint("newest")+"   esc "+p.Faint("back")+"   ctrl+c "+
		p.Faint("quit"))
}
