package render

import (
	"cmp"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/deploy/observe"
)

// WatchActs are what the keys of the live table do with a service.
type WatchActs struct {
	// Run starts, stops or restarts a service, as what says, and returns how it ended in words.
	Run func(what, stack, service string) (string, error)
	// Shell opens a shell that takes the whole terminal.
	Shell func(stack, service string) tea.ExecCommand
	// Follow begins to read a log, until stop is called.
	Follow func(stack, service string, tail *Tail) (stop func())
	// Show tells which services are on the screen, by STACK/SERVICE.
	Show func(names map[string]bool)
	// Hide takes secrets out of a text.
	Hide func(string) string
}

// Watch is the live table of status --watch: a model of a terminal program. It takes [app.WatchNews] as messages.
type Watch struct {
	Title string
	Paint Paint
	Acts  WatchActs

	hosts    []*watchHost
	files    error // why the files cannot be read
	selected string
	top      int // the first row that is shown
	order    int // of orders
	filter   string
	typing   bool // the filter
	question string
	acting   string // what is at work
	message  string
	bad      bool // the message is one of trouble
	leaving  bool
	log      *watchLog

	width, height int
}

// watchHost is what was seen of a host.
type watchHost struct {
	name     string
	services []observe.Status
	used     map[string]app.Used
	lost     error
}

// watchRow is a service of the table.
type watchRow struct {
	observe.Status
	used  app.Used
	name  string // STACK/SERVICE
	shown string // the same, harmless
	key   string // with its host
	lost  bool   // its host does not answer: what is shown is old
}

// orders are the orders of rows that the key o goes through.
var orders = []struct {
	name string
	less func(a, b watchRow) int
}{
	{"name", func(a, b watchRow) int { return 0 }},
	{"trouble first", func(a, b watchRow) int { return cmp.Compare(trouble(b.Status), trouble(a.Status)) }},
	{"processor", func(a, b watchRow) int { return cmp.Compare(b.used.Rates.CPU, a.used.Rates.CPU) }},
	{"memory", func(a, b watchRow) int { return cmp.Compare(b.used.Usage.Memory, a.used.Usage.Memory) }},
	{"network", func(a, b watchRow) int {
		return cmp.Compare(b.used.Rates.NetIn+b.used.Rates.NetOut, a.used.Rates.NetIn+a.used.Rates.NetOut)
	}},
	{"disk", func(a, b watchRow) int {
		return cmp.Compare(b.used.Rates.Read+b.used.Rates.Written, a.used.Rates.Read+a.used.Rates.Written)
	}},
}

// trouble tells how much a service is to be looked at.
func trouble(s observe.Status) int {
	switch {
	case s.State == observe.StateFailed, s.State == observe.StateRestarting, s.State == observe.StateMissing:
		return 3
	case !s.Well():
		return 2
	case s.Changed || s.Outdated:
		return 1
	}
	return 0
}

// Begin fills in what was seen first.
func (m *Watch) Begin(services []observe.Status) {
	m.width, m.height = 100, 30
	for _, s := range services {
		h := m.host(s.Host)
		h.services = append(h.services, s)
	}
}

func (m *Watch) host(name string) *watchHost {
	for _, h := range m.hosts {
		if h.name == name {
			return h
		}
	}
	h := &watchHost{name: name}
	m.hosts = append(m.hosts, h)
	return h
}

type (
	// acted is what an action ended with.
	acted struct {
		text string
		err  error
	}
	// watchTick moves on what counts time.
	watchTick struct{}
)

// Init starts the clock.
func (m *Watch) Init() tea.Cmd { return m.tick() }

// tick waits: a second for the table, less for a log that is followed.
func (m *Watch) tick() tea.Cmd {
	d := time.Second
	if m.log != nil {
		d = 200 * time.Millisecond
	}
	return tea.Tick(d, func(time.Time) tea.Msg { return watchTick{} })
}

// Update takes in news, keys and the size of the terminal.
func (m *Watch) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch v := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = max(v.Width, 1), max(v.Height, 1)
	case watchTick:
		return m, m.tick()
	case app.WatchNews:
		m.take(v)
	case acted:
		m.acting, m.message, m.bad = "", v.text, v.err != nil
		if v.err != nil {
			m.message = v.err.Error()
		}
		if m.leaving {
			return m, tea.Quit
		}
	case tea.KeyPressMsg:
		return m, m.key(v)
	}
	return m, nil
}

// take takes in what was seen.
func (m *Watch) take(n app.WatchNews) {
	if n.Host == "" {
		m.files = n.Files
		return
	}
	h := m.host(n.Host)
	h.lost = n.Lost
	if n.Used != nil {
		h.used = n.Used
	}
	if n.Services == nil {
		return
	}
	at := slices.IndexFunc(h.services, func(s observe.Status) bool { return s.Stack >= n.Stack })
	if at < 0 {
		at = len(h.services)
	}
	rest := slices.DeleteFunc(slices.Clone(h.services), func(s observe.Status) bool { return s.Stack == n.Stack })
	h.services = slices.Insert(rest, min(at, len(rest)), n.Services...)
}

// rows are the services that the filter lets through, in their order.
func (m *Watch) rows() []watchRow {
	var rows []watchRow
	for _, h := range m.hosts {
		for _, s := range h.services {
			r := watchRow{Status: s, name: s.Stack + "/" + s.Service, lost: h.lost != nil}
			r.shown = Harmless(r.name)
			r.key = s.Host + " " + r.name
			if r.used = h.used[r.name]; r.lost {
				r.used = app.Used{}
			}
			if m.matches(r) {
				rows = append(rows, r)
			}
		}
	}
	slices.SortStableFunc(rows, orders[m.order].less)
	return rows
}

// matches reports whether a row has all words of the filter in its names, its state, or what is to be said of it.
func (m *Watch) matches(r watchRow) bool {
	text := strings.ToLower(r.key + " " + r.State + " " + shortImage(r.Image) + " " + noteOf(r.Status))
	for _, word := range strings.Fields(strings.ToLower(m.filter)) {
		if !strings.Contains(text, word) {
			return false
		}
	}
	return true
}

// current returns the row that is selected: the first one, where the one before is gone.
func (m *Watch) current(rows []watchRow) int {
	return max(0, slices.IndexFunc(rows, func(r watchRow) bool { return r.key == m.selected }))
}

// key does what a key says.
func (m *Watch) key(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+c" {
		return m.leave()
	}
	switch {
	case m.log != nil:
		return m.logKey(k)
	case m.typing:
		m.typed(k)
		return nil
	case m.question != "":
		return m.answer(k)
	}
	m.message = ""
	rows := m.rows()
	at := m.current(rows)
	room := m.room()
	switch k.String() {
	case "q":
		return m.leave()
	case "up", "k":
		at--
	case "down", "j":
		at++
	case "pgup":
		at -= room
	case "pgdown", "space":
		at += room
	case "home", "g":
		at = 0
	case "end", "G":
		at = len(rows) - 1
	case "o":
		m.order = (m.order + 1) % len(orders)
		return nil
	case "/":
		m.typing = true
		return nil
	case "esc":
		m.filter = ""
		return nil
	case "enter", "!", "+", "-", "r":
		return m.act(k.String(), rows, at)
	}
	if len(rows) > 0 {
		m.selected = rows[min(max(at, 0), len(rows)-1)].key
	}
	return nil
}

// typed takes a key for the filter.
func (m *Watch) typed(k tea.KeyPressMsg) {
	switch k.String() {
	case "enter":
		m.typing = false
	case "esc":
		m.typing, m.filter = false, ""
	case "backspace":
		if letters := []rune(m.filter); len(letters) > 0 {
			m.filter = string(letters[:len(letters)-1])
		}
	default:
		if len(m.filter) < 60 {
			m.filter += Harmless(k.Text)
		}
	}
}

// act begins what a key does with the selected service.
func (m *Watch) act(key string, rows []watchRow, at int) tea.Cmd {
	if len(rows) == 0 {
		return nil
	}
	r := rows[at]
	m.selected = r.key
	switch key {
	case "enter":
		tail := &Tail{}
		m.log = &watchLog{name: r.shown, host: r.Host, tail: tail, stop: m.Acts.Follow(r.Stack, r.Service, tail)}
		return nil
	case "!":
		return tea.Exec(m.Acts.Shell(r.Stack, r.Service), func(err error) tea.Msg { return acted{err: err} })
	}
	if m.acting != "" {
		m.message, m.bad = "one at a time: "+m.acting, false
		return nil
	}
	m.question = map[string]string{"+": "start", "-": "stop", "r": "restart"}[key]
	return nil
}

// answer takes the answer to a question.
func (m *Watch) answer(k tea.KeyPressMsg) tea.Cmd {
	what := m.question
	m.question = ""
	rows := m.rows()
	if k.String() != "y" || len(rows) == 0 {
		m.message, m.bad = "nothing was changed", false
		return nil
	}
	r := rows[m.current(rows)]
	m.acting = what + " of " + r.shown + " is at work …"
	return func() tea.Msg {
		text, err := m.Acts.Run(what, r.Stack, r.Service)
		return acted{text, err}
	}
}

// leave ends the program; what is at work ends before.
func (m *Watch) leave() tea.Cmd {
	if m.log != nil {
		m.closeLog()
	}
	if m.acting == "" || m.leaving {
		return tea.Quit
	}
	m.leaving = true
	return nil
}
