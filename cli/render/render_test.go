package render

import (
	"bytes"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/core/check"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/merge"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
)

func TestStatusTable(t *testing.T) {
	now := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	var b bytes.Buffer
	Status(&b, NewPaint(false), []observe.Status{
		{Host: "lamp-room", Stack: "tide-log", Service: "desk", State: observe.StateReady,
			Since: now.Add(-90 * time.Minute), Image: "tide-desk:2.3", Links: []string{"http://lamp-room:8710/"}},
		{Host: "lamp-room", Stack: "tide-log", Service: "store", State: observe.StateRestarting,
			Since: now.Add(-5 * time.Second), Restarts: 3, Image: "store:4.2", Detail: "it ended with exit code 3"},
		{Host: "boathouse", Stack: "bird-count", Service: "counter", State: observe.StateRunning,
			Changed: true, Since: now.Add(-72 * time.Hour), Image: "counter:1", About: "counts"},
		{Host: "boathouse", Stack: "bird-count", Service: "queue", State: observe.StateReady,
			Since: now.Add(-3 * time.Second), Image: "queue:1", About: "what waits to be counted"},
		{Host: "boathouse", Stack: "bird-count", Service: "gallery", State: observe.StateMissing},
	}, now)
	assert.Equal(t, strings.TrimPrefix(`
  host       service             state       for  image          page                    note
  lamp-room  tide-log/desk       ready       1h   tide-desk:2.3  http://lamp-room:8710/
  lamp-room  tide-log/store      restarting  5s   store:4.2                              it ended with exit code 3; 3 restarts
  boathouse  bird-count/counter  running     3d   counter:1                              changed by hand
  boathouse  bird-count/queue    ready       3s   queue:1                                what waits to be counted
  boathouse  bird-count/gallery  missing
`, "\n"), b.String())
	b.Reset()
	Status(&b, NewPaint(false), nil, now)
	assert.Equal(t, "nothing is declared, and nothing of this lab runs\n", b.String())
}

func TestPlan(t *testing.T) {
	st := &lab.Stack{Name: "tide-log", Host: &lab.Host{Name: "lamp-room"}}
	p := plan.Stack{Stack: st, Services: []plan.Service{
		{Name: "store", Action: plan.Keep},
		{Name: "queue", Action: plan.Start},
		{Name: "desk", Action: plan.Replace,
			Differences: []plan.Difference{
				{Field: "env.LEVEL", Running: "low", Declared: "high"},
				{Field: "ports", Declared: "8711 -> 81"},
				{Field: "mounts", Running: "/a -> /b"},
			}},
		{Name: "pier", Action: plan.Create, Container: plan.Container{Image: "pier:1"}},
		{Name: "old", Action: plan.Remove},
		{Name: "odd", Action: plan.Replace},
	}}
	var b bytes.Buffer
	Plan(&b, NewPaint(false), p, false)
	assert.Equal(t, strings.TrimPrefix(`
tide-log on lamp-room
  start    queue  as declared, but it does not run
  replace  desk
           env.LEVEL          low becomes high
           ports              8711 -> 81  (new)
           mounts             /a -> /b  (removed)
  create   pier   pier:1
  remove   old    no longer in the file
  replace  odd    declared otherwise than when it was made
`, "\n"), b.String())
	b.Reset()
	Plan(&b, NewPaint(false), plan.Stack{Stack: st, Services: p.Services[:1]}, true)
	assert.Equal(t, "tide-log on lamp-room: up to date\n", b.String())
	b.Reset()
	require.NoError(t, PlansJSON(&b, []plan.Stack{p}, nil))
	assert.Contains(t, b.String(), `"field": "env.LEVEL"`)
}

func TestProgress(t *testing.T) {
	began := time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)
	var b bytes.Buffer
	g := NewLineReporter(&b, NewPaint(false), false)
	for i, e := range []deploy.Event{
		{Service: "desk", Step: deploy.StepPull, State: deploy.EventBegun, Detail: "tide-desk:2.3"},
		{Service: "desk", Step: deploy.StepPull, State: deploy.EventProgress, Bytes: 1000000, Total: 8000000,
			Layers: 3, LayersDone: 1},
		{Service: "desk", Step: deploy.StepPull, State: deploy.EventProgress, Bytes: 2000000, Total: 8000000,
			Layers: 3, LayersDone: 1},
		{Service: "desk", Step: deploy.StepPull, State: deploy.EventProgress, Bytes: 2500000, Total: 8000000,
			Layers: 3, LayersDone: 1},
		{Service: "desk", Step: deploy.StepPull, State: deploy.EventDone},
		{Service: "desk", Step: deploy.StepCreate, State: deploy.EventBegun},
		{Service: "desk", Step: deploy.StepCreate, State: deploy.EventDone},
		{Service: "desk", Step: deploy.StepStop, State: deploy.EventDone},
		{Service: "desk", Step: deploy.StepStart, State: deploy.EventFailed, Detail: "the port is held"},
		{Step: deploy.StepPutBack, State: deploy.EventBegun},
		{Service: "desk", Step: deploy.StepRemove, State: deploy.EventDone, Detail: "the new container"},
		{Service: "desk", Step: deploy.StepPutBack, State: deploy.EventDone, Detail: "old version restored"},
		{Step: deploy.StepPutBack, State: deploy.EventDone},
	} {
		e.Stack, e.Time = "tide-log", began.Add(time.Duration(i)*100*time.Millisecond)
		g.Event(e)
	}
	assert.Equal(t, strings.TrimPrefix(`
     0.0s  tide-log/desk            pulling tide-desk:2.3
     0.2s  tide-log/desk            2MB of 8MB, 1 of 3 layers
     0.4s  tide-log/desk            pulled
     0.6s  tide-log/desk            new container created
     0.7s  tide-log/desk            old version stopped; it is kept until the new one has passed
     0.8s  tide-log/desk            the port is held
     0.9s  tide-log                 rolling back
     1.0s  tide-log/desk            removed the new container
     1.1s  tide-log/desk            old version restored
     1.2s  tide-log                 rolled back
`, "\n"), b.String())
}

func TestFailure(t *testing.T) {
	for _, c := range []struct {
		out  deploy.Outcome
		want string
	}{
		{deploy.Outcome{Result: deploy.Refused, Holder: "keeper (pid 7) is changing this stack"},
			"\ntide-log: nothing was changed: keeper (pid 7) is changing this stack\n"},
		{deploy.Outcome{
			Result:  deploy.PutBack,
			Failure: &deploy.Failure{Service: "desk", Message: "it ended", Log: []string{"one", "two"}},
		},
			"\ntide-log: the deploy failed; old version restored\n  why  desk: it ended\n" +
				"  last log lines:\n      one\n      two\n"},
		{deploy.Outcome{Result: deploy.NeedsManual, ManualSteps: []string{"start it", "look at it"}},
			"\ntide-log: manual action needed\n  do   start it\n  do   look at it\n"},
	} {
		var b bytes.Buffer
		Failure(&b, NewPaint(false), "tide-log", c.out)
		assert.Equal(t, c.want, b.String())
	}
}

func TestSurveyTables(t *testing.T) {
	var b bytes.Buffer
	Survey(&b, NewPaint(false), &survey.Survey{
		Host: "lamp-room", Platform: "linux/amd64", Timezone: "Atlantic/Faroe", CPUs: 1, Memory: 8 << 30,
		Engine: &survey.Engine{
			Name: "engine", Version: "1.2", API: "1.41", Rootless: true, Lacks: []string{"init"},
			UIDMap: []survey.IDMap{{Inside: 0, Host: 1311, Count: 1}, {Inside: 1, Host: 100000, Count: 65536}},
		},
		Devices: []survey.DeviceFile{
			{Path: "/dev/lamp0", GID: 1400, Mode: "0660"},
			{Path: "/dev/lamp1", Missing: true},
		},
		FileSystems: []survey.FileSystem{
			{Mount: "/", Kind: "ext4", Size: 64e9, Free: 20e9, Mounted: true},
			{Mount: "/old", Kind: "ext4", Size: 8e9, Free: 1e9, Mounted: true, Options: []string{"ro"}},
			{Mount: "/mnt/plates", Kind: "ext4"},
		},
		Networks: []survey.Network{
			{Name: "bridge", Subnets: []string{"198.51.100.128/26"}},
			{Name: "host"},
			{Name: "mast.net", Lab: "skerry-light"},
		},
		Volumes: []survey.Volume{{Name: "old-data",
			Root: &survey.VolumeRoot{UID: 1311, GID: 1400, Mode: "0750", Empty: true}}},
		Accounts: []survey.Account{
			{Name: "root"},
			{Name: "daemon", UID: 1},
			{Name: "keeper", UID: 1311, GID: 1400, Groups: []survey.ID{1410}},
			{Name: "nobody", UID: 65534},
		},
		Groups: []survey.Group{{Name: "watch", GID: 1400}},
		Listeners: []survey.Listener{
			{Protocol: "tcp", Address: "::", Port: 8712},
			{Protocol: "tcp", Address: "127.0.0.1", Port: 631, Process: "printd", PID: 9},
			{Protocol: "udp", Address: "0.0.0.0", Port: 631, Container: "mast.sensor"},
		},
		Paths: []survey.Path{
			{Path: "/", Real: "/", Kind: survey.Folder, Mode: "0755"},
			{Path: "/srv", Real: "/disk", Kind: survey.Folder, UID: 1311, GID: 1400, Mode: "0750",
				ACL: []string{"mask::r-x"}, Inside: []survey.Inside{
					{UID: 1311, GID: 1400, Mode: "0640", Kind: survey.Regular, Count: 5, Example: "a"},
					{UID: 0, GID: 0, Mode: "0600", Kind: survey.Regular, Count: 3, Example: "old.db"},
				}},
			{Path: "/srv/Tide", Kind: survey.Missing, Near: []string{"/srv/tide"}},
			{Path: "/srv/x", Kind: survey.Hidden},
		},
		Containers: []survey.Container{{Name: "old-desk", State: "running", Image: "desk:1",
			Ports: []string{"0.0.0.0:8713 -> 80/tcp"}}},
		Images: []survey.Image{
			{Reference: "desk:1", Source: survey.FromEngine, Platforms: []string{"linux/amd64"},
				Ports: []string{"80/tcp"}},
			{Reference: "desk:9", Source: survey.Absent, Near: []string{"2.9", "1"}},
		},
		Unknown: map[string]string{"processes": "only root may see them"},
	})
	assert.Equal(t, strings.TrimPrefix(`
lamp-room  linux/amd64, time zone Atlantic/Faroe, 1 processor, 8GiB of memory
  engine engine 1.2, API 1.41, without root: root inside is keeper (uid 1311), uid 1-65536 inside is 100000-165535, without init

accounts
  name    uid   gid   group  also in
  root    0     0
  keeper  1311  1400  watch  gid 1410

ports in use
  port      address    by
  631/tcp   127.0.0.1  printd (pid 9)
  631/udp   all IPv4   container mast.sensor
  8712/tcp  all IPv6   a hidden process

folders of the lab
  path       kind         owner              group             mode  beyond the mode
  /srv       folder       keeper (uid 1311)  watch (gid 1400)  0750  really /disk  mask::r-x
    old.db   file         root (uid 0)       gid 0             0600  inside it, and 2 more like it
  /srv/Tide  missing                                                 near: /srv/tide
  /srv/x     not visible

devices of the lab
  path        owner         group             mode
  /dev/lamp0  root (uid 0)  watch (gid 1400)  0660
  /dev/lamp1  missing

space
  mounted at   kind  free  of    state
  /            ext4  20GB  64GB
  /old         ext4  1GB   8GB   read-only
  /mnt/plates  ext4              not mounted now

containers
  name      state    image   ports                   whose
  old-desk  running  desk:1  0.0.0.0:8713 -> 80/tcp  not of a lab

networks
  name      subnets            whose
  bridge    198.51.100.128/26  not of a lab
  mast.net                     skerry-light

volumes
  name      whose         owner and mode
  old-data  not of a lab  keeper (uid 1311):watch (gid 1400) 0750, empty

images of the lab
  image   where                  made for     ports   user
  desk:1  on the host            linux/amd64  80/tcp  root
  desk:9  nowhere; near: 2.9, 1

not known
  processes: only root may see them
`, "\n"), b.String())
}

// Colours are only added: without them the text is the same.
func TestColours(t *testing.T) {
	file := source.NewFile("mast/stack.toml", "ports = [\"8710 -> 80\"]\n")
	r := check.Result{
		Findings: []check.Finding{{Severity: check.Error,
			Problem: source.Problem{
				Rule:    "port-clash",
				At:      file.Span(10, 14),
				Message: "claimed twice",
				Mend:    &source.Mend{Text: "8711 is free"},
			}}},
	}
	var plain, coloured bytes.Buffer
	Findings(&plain, NewPaint(false), &lab.Lab{}, r, false)
	Findings(&coloured, NewPaint(true), &lab.Lab{}, r, false)
	assert.NotContains(t, plain.String(), "\x1b")
	assert.Contains(t, coloured.String(), "\x1b[")
	stripped := coloured.String()
	for {
		before, rest, ok := strings.Cut(stripped, "\x1b[")
		if !ok {
			break
		}
		_, after, _ := strings.Cut(rest, "m")
		stripped = before + after
	}
	assert.Equal(t, plain.String(), stripped)
}

func TestFindings(t *testing.T) {
	f := source.NewFile("mast/stack.toml", "[service.vane]\nports = [\"any -> 80\"]\nenv.A_TOKEN = \"moon\"\n")
	f.Span(52, 56).Hide()
	l := &lab.Lab{
		Name:   "skerry-light",
		Hosts:  []*lab.Host{{Name: "lamp-room"}},
		Stacks: []*lab.Stack{{Name: "mast", Services: []*lab.Service{{}}}},
	}
	r := check.Result{
		Findings: []check.Finding{
			{Severity: check.Error,
				Problem: source.Problem{
					Rule:    "env-weak-secret",
					At:      f.Span(53, 54),
					Message: "A_TOKEN is easy to guess",
					Because: []source.Because{{Text: "a fact"}, {Text: "a place", At: f.Span(9, 13)}},
				}},
			{Severity: check.Warning, Accepted: "nobody needs it",
				Problem: source.Problem{
					Rule:    "port-random",
					At:      f.Span(25, 28),
					Message: "the engine picks it",
					Mend:    source.Replace(f.Span(25, 28), "8710", "8710 is free"),
				}},
			{Severity: check.Note,
				Problem: source.Problem{
					Rule:    "account-root",
					Message: "without a place",
					Mend:    source.Replace(f.Span(25, 28), "8710", "8710 is free"),
				}},
		},
		Skipped: []check.Skip{{Rule: "mount-kind", Subject: "host lamp-room", Why: "nobody has looked"}},
	}
	var b bytes.Buffer
	Findings(&b, NewPaint(false), l, r, true)
	assert.Equal(t, strings.TrimPrefix(`
mast/stack.toml:3:17  env-weak-secret  error
    env.A_TOKEN = "«hidden (4 characters)»"
    A_TOKEN is easy to guess
    because   a fact
              mast/stack.toml:1:10   [service.«vane»]   a place

lab  account-root  note
    without a place
    fix       8710 is free (check --fix does it)

mast/stack.toml:2:11  port-random  accepted: nobody needs it

skipped: mount-kind for host lamp-room: nobody has looked
1 error, 0 warnings, 1 note in 1 stack, 1 service on 1 host; 1 accepted; 1 rule skipped in part
`, "\n"), b.String())
	b.Reset()
	require.NoError(t, FindingsJSON(&b, l, r, nil))
	for _, part := range []string{`"accepted": "nobody needs it"`, `"accepted": null`, `"accepted": 1`,
		`"warning": 0`} {
		assert.Contains(t, b.String(), part)
	}
	assert.NotContains(t, b.String(), "moon")
}

func TestRulesAsMarkdown(t *testing.T) {
	var b bytes.Buffer
	Rules(&b, []check.Rule{{Name: "port-random", Severity: check.Warning, Needs: check.Host, Mends: true,
		Title: "a | b", Text: "Why.", Mistake: "x = 1\ny = 2", Mended: "x = 2"}})
	assert.Contains(t, b.String(),
		"| [`port-random`](#port-random) | warning | a \\| b | the host's survey | ✓ |\n")
	assert.Contains(t, b.String(),
		"## port-random\nA | b. Why.\n\n```toml\n# wrong\nx = 1\ny = 2\n# right\nx = 2\n```\n")
}

// Many findings stand by rule, the worst first: one in full, then what is not said yet, and how many more.
func TestManyFindings(t *testing.T) {
	f := source.NewFile("mast/stack.toml",
		strings.Repeat("image = \"sensor:latest\"\nports = [\"any -> 80\"]\n", 8))
	var r check.Result
	for i := range 8 {
		line := i * len("image = \"sensor:latest\"\nports = [\"any -> 80\"]\n")
		image, port := f.Span(line+9, line+22), f.Span(line+34, line+37)
		r.Findings = append(r.Findings,
			check.Finding{
				Severity: check.Warning,
				Problem: source.Problem{
					Rule:    "image-moving-tag",
					Stack:   "mast",
					At:      image,
					Message: "the tag latest moves",
					Mend:    source.Replace(image, "sensor:1.4", "1.4 is there"),
				},
			},
			check.Finding{
				Severity: check.Error,
				Problem: source.Problem{
					Rule:    "port-random",
					Stack:   "mast",
					At:      port,
					Message: "service " + strconv.Itoa(i),
				},
			})
	}
	r.Findings = append(r.Findings, check.Finding{
		Severity: check.Error,
		Accepted: "we know",
		Problem:  source.Problem{Rule: "port-clash", At: f.Span(0, 5), Message: "twice"},
	})
	var b bytes.Buffer
	Findings(&b, NewPaint(false), &lab.Lab{}, r, false)
	assert.Equal(t, strings.TrimPrefix(`
mast/stack.toml:2:11  port-random  error
    ports = ["«any» -> 80"]
    service 0
    also      mast/stack.toml:4:11   service 1
              mast/stack.toml:6:11   service 2
              mast/stack.toml:8:11   service 3
              and 4 more in 1 stack

mast/stack.toml:1:10  image-moving-tag  warning
    image = "«sensor:latest»"
    the tag latest moves
    fix       1.4 is there (check --fix does it)
    also      mast/stack.toml:3:10
              mast/stack.toml:5:10
              mast/stack.toml:7:10
              and 4 more in 1 stack

mast/stack.toml:1:1  port-clash  accepted: we know

error    port-random 8
warning  image-moving-tag 8
check --fix fixes 8 of them; check STACK shows one stack alone, --verbose each finding in full
8 errors, 8 warnings, 0 notes in 0 stacks, 0 services on 0 hosts; 1 accepted
`, "\n"), b.String())
}

// A table is no wider than the terminal: columns become narrower in an order of importance, long cells go on
// below at a word, and what is left out is named.
func TestNarrowTables(t *testing.T) {
	heads := []string{"service", "state", "for", "image", "page", "note"}
	rows := [][]string{
		{"lamp-journal/archive", "ready", "3s", "registry.skerry.example/journal-archive:1.9",
			"http://localhost:8714/", NewPaint(true).Look("differs from the files; 2 restarts since yesterday")},
		{"tide-log/store", "ready", "1s", "registry.skerry.example/store:4.2", "", ""},
	}
	for _, width := range []int{0, 120, 80} {
		var b bytes.Buffer
		columns(&b, NewPaint(true).Wide(width), heads, rows)
		text := ansi.Strip(b.String())
		for line := range strings.Lines(text) {
			if width > 0 {
				assert.LessOrEqual(t, ansi.StringWidth(strings.TrimRight(line, "\n")), width, "%d: %s", width, text)
			}
		}
		assert.Contains(t, text, "http://localhost:8714/", "an address is in one piece")
		flat := strings.Join(strings.Fields(text), " ")
		for _, word := range []string{"differs", "restarts", "journal-archive:1.9", "ready"} {
			assert.Contains(t, flat, word, "%d", width)
		}
		if width == 80 {
			assert.Contains(t, text, "not shown here: for")
		}
	}
	// A colour goes on behind a break, and nothing of it is left open.
	lines := wrap(NewPaint(true).Bad("one two three")+" four", 8)
	assert.Equal(t,
		[]string{marker(red) + "one two" + marker(plain), marker(red) + "three" + marker(plain), "four"}, lines)
	var b bytes.Buffer
	columns(&b, NewPaint(false), []string{"a", "b"}, [][]string{{"x", ""}})
	assert.Equal(t, "  a\n  x\n", b.String(), "a column without anything in it is none")
}

// Colours are those that a terminal has.
func TestColoursOfTerminals(t *testing.T) {
	for profile, want := range map[colorprofile.Profile]string{
		colorprofile.TrueColor: "38;2;255;107;94",
		colorprofile.ANSI256:   "38;5;",
		colorprofile.ANSI:      "\x1b[31m",
	} {
		var b bytes.Buffer
		o := NewOutlet(&b, func() bool { return false }, profile)
		fmt.Fprint(o, NewPaint(true).Bad("bad"))
		assert.Contains(t, b.String(), want)
		assert.True(t, strings.HasSuffix(b.String(), "bad\x1b[m"))
	}
}

// Nothing from outside reaches the terminal of the live table, and every line of it fits.
func TestWatchIsHarmless(t *testing.T) {
	const evil = "\x1b[2Jlamp\x1b]0;owned\x07\u009b31m\u202eX\ny\rz\x08\x7f"
	m := &Watch{Title: evil, Paint: NewPaint(false), Acts: WatchActs{
		Hide: func(text string) string { return strings.ReplaceAll(text, "ink", "***") },
		Show: func(map[string]bool) {},
		Follow: func(_, _ string, tail *Tail) func() {
			tail.Notice(evil)
			tail.Line(merge.Line{Time: time.Now(), Text: evil})
			return func() {}
		},
		Run: func(_, _, _ string) (string, error) { return "", errors.New("ink" + evil) },
	}}
	var services []observe.Status
	for i := range 40 {
		services = append(services, observe.Status{
			Host: "mast" + evil, Stack: "tide" + evil, Service: fmt.Sprint("desk", i, evil), State: observe.StateFailed,
			Image: evil, Detail: "ink" + evil, Links: []string{evil}, Since: time.Now(),
		})
	}
	m.Begin(services)
	name := services[0].Stack + "/" + services[0].Service
	m.Update(app.WatchNews{Host: services[0].Host, Used: map[string]app.Used{name: {
		Rated: true, Line: "ink" + evil, Usage: engine.Usage{Memory: 3 << 20, Networked: true},
		Rates: engine.Rates{CPU: 3.21, NetOut: 1234567},
	}}})
	press := func(keys string) {
		for _, k := range keys {
			code := map[rune]rune{'\r': tea.KeyEnter, '\x1b': tea.KeyEscape}[k]
			if code == 0 {
				code = k
			}
			_, then := m.Update(tea.KeyPressMsg{Code: code, Text: string(k)})
			if done, ok := run(then).(acted); ok {
				m.Update(done)
			}
		}
	}
	for _, state := range []string{"", "/desk1", "\r", "\x1b", "-", "y", "\r", "\x1b"} {
		press(state)
		for width := 200; width >= 30; width -= 17 {
			m.Update(tea.WindowSizeMsg{Width: width, Height: 24})
			lines := strings.Split(m.View().Content, "\n")
			assert.LessOrEqual(t, len(lines), 24)
			for _, line := range lines {
				assert.LessOrEqual(t, ansi.StringWidth(line), width, line)
				assert.False(t, strings.ContainsFunc(line, func(r rune) bool { return unicode.IsControl(r) || r == '\u202e' }),
					"%q", line)
			}
			assert.NotContains(t, m.View().Content, "ink")
		}
	}
	press("q")
	m.Update(app.WatchNews{Host: services[0].Host, Lost: errors.New(evil)})
	assert.NotContains(t, m.View().Content, "\x1b")
}

// run carries out what a key has begun; nil where that is nothing, or ends the program.
func run(cmd tea.Cmd) tea.Msg {
	if cmd == nil {
		return nil
	}
	return cmd()
}
