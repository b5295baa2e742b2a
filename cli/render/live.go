package render

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/docker/go-units"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
)

// Live shows on a terminal how a deploy goes, service by service, and leaves its last picture behind.
type Live struct {
	paint   Paint
	program *tea.Program
	ended   chan struct{}
}

// NewLive returns a Live that draws on a terminal from the first event on. Services of other stacks than
// those of the plans are added as they come.
func NewLive(w io.Writer, p Paint, terminal colorprofile.Profile, plans []plan.Stack) *Live {
	p = p.Direct(terminal)
	l := &Live{paint: p, ended: make(chan struct{})}
	m := &liveModel{paint: p, width: 100, height: 40}
	for _, s := range plans {
		if !s.Changes() {
			continue
		}
		host := ""
		if s.Stack.Host != nil {
			host = s.Stack.Host.Name
		}
		st := m.stack(s.Stack.Name, host)
		for _, v := range s.Services {
			if v.Action != plan.Keep {
				st.row(v.Name).text = "queued"
			}
		}
	}
	l.program = tea.NewProgram(m, tea.WithOutput(w), tea.WithInput(nil), tea.WithoutSignalHandler())
	go func() {
		defer close(l.ended)
		l.program.Run()
	}()
	return l
}

// Event takes in what happened.
func (l *Live) Event(e deploy.Event) {
	for _, text := range []*string{&e.Detail, &e.Line, &e.Stack, &e.Service} {
		*text = Harmless(*text)
	}
	l.program.Send(e)
}

// Close draws the last picture and gives the terminal back.
func (l *Live) Close() {
	l.program.Send(closing{})
	<-l.ended
}

type (
	closing struct{}
	tick    time.Time
)

// liveModel is what is shown.
type liveModel struct {
	paint         Paint
	stacks        []*liveStack
	width, height int
	beat          int
	closed        bool
}

type liveStack struct {
	name, host   string
	began, ended time.Time
	note         string // of the stack as a whole
	rows         []*liveRow
}

// liveRow is a service, and how far it is.
type liveRow struct {
	name         string
	text, line   string
	tone         func(Paint, string) string
	began, ended time.Time
	notes        []string
	pull         deploy.Event
}

func (m *liveModel) stack(name, host string) *liveStack {
	for _, s := range m.stacks {
		if s.name == name {
			return s
		}
	}
	s := &liveStack{name: name, host: host}
	m.stacks = append(m.stacks, s)
	return s
}

func (s *liveStack) row(name string) *liveRow {
	for _, r := range s.rows {
		if r.name == name {
			return r
		}
	}
	r := &liveRow{name: name, tone: Paint.Faint}
	s.rows = append(s.rows, r)
	return r
}

// Init starts the clock.
func (m *liveModel) Init() tea.Cmd { return beat() }

func beat() tea.Cmd {
	return tea.Tick(200*time.Millisecond, func(t time.Time) tea.Msg { return tick(t) })
}

// Update takes in an event, the clock, or the size of the terminal.
func (m *liveModel) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch v := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = v.Width, v.Height
	case tick:
		m.beat++
		return m, beat()
	case closing:
		m.closed = true
		return m, tea.Quit
	case deploy.Event:
		m.take(v)
	}
	return m, nil
}

// take changes the row that an event is about.
func (m *liveModel) take(e deploy.Event) {
	s := m.stack(e.Stack, e.Host)
	if s.began.IsZero() {
		s.began = e.Time
	}
	s.ended = e.Time
	if e.Service == "" {
		if e.Step == deploy.StepPutBack {
			s.note = map[string]string{
				deploy.EventBegun:  "rolling back",
				deploy.EventDone:   "rolled back",
				deploy.EventFailed: "manual action needed",
			}[e.State]
		}
		return
	}
	r := s.row(e.Service)
	if r.began.IsZero() {
		r.began = e.Time
	}
	r.ended = e.Time
	r.take(e)
}

// take takes up what happened to the service.
func (r *liveRow) take(e deploy.Event) {
	say := func(tone func(Paint, string) string, text string) { r.tone, r.text, r.line = tone, text, "" }
	switch {
	case e.State == deploy.EventFailed:
		say(Paint.Bad, e.Detail)
	case e.Step == deploy.StepPull && e.State == deploy.EventDone:
		r.pull = deploy.Event{}
		say(Paint.Faint, "image is here")
	case e.Step == deploy.StepPull:
		r.pull = e
		say(Paint.Plain, "pulling "+e.Detail)
	case e.Step == deploy.StepBuild && e.State == deploy.EventDone:
		say(Paint.Faint, "image is built")
	case e.Step == deploy.StepBuild && e.State == deploy.EventBegun:
		say(Paint.Plain, "building "+e.Detail)
	case e.Step == deploy.StepBuild:
		say(Paint.Look, e.Detail)
		r.line = e.Line
	case e.Step == deploy.StepProve && e.State == deploy.EventProgress && e.Line != "":
		say(Paint.Look, e.Detail)
		r.line = e.Line
	case e.Step == deploy.StepProve && e.State == deploy.EventProgress:
		r.notes = append(r.notes, e.Detail)
	case e.Step == deploy.StepRemove && e.Detail == "the old version":
		// Ready stays the last word.
	default:
		r.step(e, say)
	}
}

// step words a step that begins or is done.
func (r *liveRow) step(e deploy.Event, say func(tone func(Paint, string) string, text string)) {
	done := e.State == deploy.EventDone
	switch e.Step {
	case deploy.StepCreate:
		say(Paint.Plain,
			map[bool]string{false: "creating the new container", true: "new container created"}[done])
	case deploy.StepStop:
		say(Paint.Plain,
			map[bool]string{
				false: "stopping the old version",
				true:  "old version stopped; it is kept until the new one has passed",
			}[done])
	case deploy.StepStart:
		say(Paint.Plain, map[bool]string{false: "starting", true: "started"}[done])
	case deploy.StepProve:
		say(Paint.Plain, "waiting for ready")
		if done {
			say(Paint.Good, e.Detail)
		}
	case deploy.StepRemove:
		say(Paint.Faint, "removed "+e.Detail)
	case deploy.StepPutBack:
		say(Paint.Good, e.Detail)
	}
}

// View draws all stacks, and leaves out what is settled where the terminal is too low for it.
func (m *liveModel) View() tea.View {
	now := time.Now()
	var lines []string
	for _, s := range m.stacks {
		lines = append(lines, m.head(s, now))
		for _, r := range s.rows {
			lines = append(lines, m.rowLines(r, now)...)
		}
	}
	if over := len(lines) - (m.height - 3); over > 0 && !m.closed {
		lines = append(lines[:max(1, len(lines)-over-1)],
			m.paint.Faint(fmt.Sprintf("  … and %d lines more", over+1)))
	}
	for i, line := range lines {
		lines[i] = lipgloss.NewStyle().MaxWidth(m.width).Render(line)
	}
	return tea.NewView("\n" + strings.Join(lines, "\n") + "\n")
}

func (m *liveModel) head(s *liveStack, now time.Time) string {
	p := m.paint
	text := p.Head(s.name)
	if s.host != "" {
		text += p.Faint(" on " + s.host)
	}
	if !s.began.IsZero() {
		end := now
		if m.settled(s) {
			end = s.ended
		}
		text += p.Faint("  " + clock(end.Sub(s.began)))
	}
	if s.note != "" {
		text += "  " + p.Look(s.note)
	}
	return text
}

// settled reports whether nothing goes on in a stack any more: the next one has begun.
func (m *liveModel) settled(s *liveStack) bool {
	return m.closed || slices.ContainsFunc(m.stacks, func(o *liveStack) bool { return o.began.After(s.began) })
}

// nameWidth is how much room the names of services get.
const nameWidth = 16

func (m *liveModel) rowLines(r *liveRow, now time.Time) []string {
	p := m.paint
	line := fmt.Sprintf("  %-*s ", nameWidth, r.name)
	if r.pull.Total > 0 {
		line += p.Look(bar(r.pull.Bytes, r.pull.Total)) + "  " + pulled(r.pull)
		if took := r.pull.Time.Sub(r.began).Seconds(); took > 1 {
			line += p.Faint("  " + units.HumanSize(float64(r.pull.Bytes)/took) + "/s")
		}
		return []string{line}
	}
	text := r.tone(p, r.text)
	if r.line != "" || r.text == "starting" || r.text == "waiting for ready" {
		text += p.Faint(strings.Repeat(".", m.beat%4))
	}
	lines := []string{line + text}
	if r.line != "" && r.line != "…" {
		lines = append(lines, fmt.Sprintf("  %-*s ", nameWidth, "")+p.Faint("| "+r.line))
	}
	for _, n := range r.notes {
		lines = append(lines, fmt.Sprintf("  %-*s ", nameWidth, "")+p.Look(n))
	}
	return lines
}

// barWidth is that of a bar, in columns.
const barWidth = 24

// bar shows a part of a whole.
func bar(part, whole int64) string {
	full := int(part * barWidth / max(whole, 1))
	return strings.Repeat("━", full) + strings.Repeat("╌", barWidth-full)
}

// clock writes a time that goes by.
func clock(d time.Duration) string {
	if d < time.Minute {
		return fmt.Sprintf("%.1fs", d.Seconds())
	}
	return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
}
