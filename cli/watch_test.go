//go:build linux

package cli_test

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/term"

	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// console is a terminal with the program on it, and somebody at its keyboard.
type console struct {
	t        *testing.T
	cmd      *exec.Cmd
	screen   *vt.SafeEmulator
	keyboard *os.File
	tty      *os.File
	before   *term.State
	hidden   atomic.Bool // the cursor
	aside    atomic.Bool // a second screen is shown
}

// console starts the program, for the lab of the bench, on a terminal of its own.
func (b *bench) console(columns, rows int, args ...string) *console {
	return b.consoleAt(columns, rows, append([]string{"--lab", b.dir}, args...)...)
}

// consoleAt starts the program on a terminal of its own.
func (b *bench) consoleAt(columns, rows int, args ...string) *console {
	c := &console{t: b.t, screen: vt.NewSafeEmulator(columns, rows)}
	c.screen.SetCallbacks(vt.Callbacks{
		AltScreen:        func(on bool) { c.aside.Store(on) },
		CursorVisibility: func(visible bool) { c.hidden.Store(!visible) },
	})
	var err error
	c.keyboard, c.tty, err = pty.Open()
	require.NoError(b.t, err)
	b.t.Cleanup(func() { c.keyboard.Close(); c.tty.Close() })
	require.NoError(b.t, pty.Setsize(c.keyboard, &pty.Winsize{Rows: uint16(rows), Cols: uint16(columns)}))
	c.before, err = term.GetState(int(c.tty.Fd()))
	require.NoError(b.t, err)
	go io.Copy(c.screen, c.keyboard)
	go io.Copy(c.keyboard, c.screen) // a terminal answers questions
	c.cmd = exec.CommandContext(b.t.Context(), must(program()), args...)
	c.cmd.Env = append(os.Environ(), "TERM=xterm-256color")
	c.cmd.Stdin, c.cmd.Stdout, c.cmd.Stderr = c.tty, c.tty, c.tty
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(b.t, c.cmd.Start())
	return c
}

// text is what stands on the screen, without the blanks behind it.
func (c *console) text() string {
	return regexp.MustCompile(`(?m) +$`).ReplaceAllString(ansi.Strip(c.screen.Render()), "")
}

// shows waits until the screen fits a regular expression.
func (c *console) shows(pattern string) {
	c.t.Helper()
	re := regexp.MustCompile("(?m)" + pattern)
	if !assert.Eventually(c.t, func() bool { return re.MatchString(c.text()) }, time.Minute, 20*time.Millisecond) {
		c.t.Fatalf("no %q in\n%s", pattern, c.text())
	}
}

func (c *console) hides(pattern string) {
	c.t.Helper()
	re := regexp.MustCompile("(?m)" + pattern)
	if !assert.Eventually(c.t, func() bool { return !re.MatchString(c.text()) }, time.Minute, 20*time.Millisecond) {
		c.t.Fatalf("still %q in\n%s", pattern, c.text())
	}
}

func (c *console) types(keys string) {
	c.t.Helper()
	_, err := c.keyboard.Write([]byte(keys))
	require.NoError(c.t, err)
}

// ends waits for the end, after which the terminal has to be as it was.
func (c *console) ends(code int) {
	c.t.Helper()
	ended := make(chan error, 1)
	go func() { ended <- c.cmd.Wait() }()
	select {
	case <-ended:
	case <-time.After(time.Minute):
		c.cmd.Process.Kill()
		c.t.Fatalf("it does not end:\n%s", c.text())
	}
	assert.Equal(c.t, code, c.cmd.ProcessState.ExitCode(), c.text())
	after, err := term.GetState(int(c.tty.Fd()))
	require.NoError(c.t, err)
	assert.Equal(c.t, c.before, after, "the terminal is as it was")
	assert.Eventually(c.t, func() bool { return !c.aside.Load() && !c.hidden.Load() }, time.Minute,
		20*time.Millisecond, "its screen and its cursor are back")
}

const (
	keyDown, keyEnd, keyEscape, keyPageUp = "\x1b[B", "\x1b[F", "\x1b", "\x1b[5~"
)

// A person watches the lab and works in the table.
func TestWatch(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		b := dailyBench(t, target)
		b.write("mast/stack.toml", "[service.vane]\nimage = \""+enginetest.Tools+"\"\nready = { http = \"8080/\" }\n")
		b.run(0, "deploy", "mast", "tide-log/store", "--yes")
		c := b.console(120, 30, "status", "--watch")
		c.shows(`^skerry-light  4 services  2 ready  2 missing  processor \d+ %  memory `)
		c.shows(`^▸ mast/vane +ready +\d+s +[\d.]+ % +[\d.]+ \wiB +\S+ / \S+ `)
		c.shows(`^  tide-log/store +ready .* open for readings$`)
		c.shows(`^↑↓ choose   / filter   o order: name   enter log   ! shell   \+ start   - stop   r restart   q quit$`)

		require.NoError(t, b.engine.Stop(t.Context(), "tide-log.store", time.Second))
		c.shows(`^  tide-log/store +stopped `)
		b.write("mast/stack.toml", strings.Replace(b.read("mast/stack.toml"), "ready", "env.A = \"b\"\nready", 1))
		c.shows(`^mast/vane on .*files changed`)
		b.write("mast/stack.toml", "[service.vane\n")
		c.shows(`^▸ mast/vane +ready `)
		b.write("mast/stack.toml", "[service.vane]\nimage = \""+enginetest.Tools+"\"\nready = { http = \"8080/\" }\n")

		c.types("/store x\x7f\x7f\r")
		c.hides(`mast/vane`)
		c.shows(`^▸ tide-log/store`)
		c.types("+")
		c.shows(`^start tide-log/store\?  y yes   any other key no$`)
		c.types("y")
		c.shows(`^tide-log/store: started and ready$`)
		c.shows(`^▸ tide-log/store +ready `)
		c.types("-n")
		c.shows(`^nothing was changed$`)
		c.types("ry")
		c.shows(`^tide-log/store: started again and ready$`)
		c.types("\r")
		c.shows(`^tide-log/store on \S+   log, the newest at the bottom$`)
		c.shows(`(?s)open for readings.*open for readings`)
		c.types(keyEscape)
		c.shows(`/ filter: store `)
		c.types(keyEscape)
		c.shows(`/ filter   o order`)
		c.types("o")
		c.shows(`order: trouble first`)
		c.shows(`(?s)missing.*missing.*ready`)
		if target.Name != "stand-in" {
			c.types("oooooG" + "/vane\r!")
			c.shows(`^a shell in mast/vane; exit comes back`)
			c.types("echo in $((6*7))\r")
			c.shows(`^in 42`)
			c.types("exit 3\r")
			c.shows(`^▸ mast/vane +ready `)
		}
		c.types("q")
		c.ends(0)
	})
}

// However the table ends, the terminal is as it was; an engine that goes away is waited for.
func TestWatchEnds(t *testing.T) {
	catalogue, err := standin.ParseCatalogue([]byte(enginetest.Catalogue))
	require.NoError(t, err)
	server, address := enginetest.StartStandIn(t, standin.Options{Catalogue: catalogue})
	t.Cleanup(func() { server.Close() })
	target := enginetest.Target{Name: "stand-in", Address: address}
	b := newBench(t, target)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
	var stack strings.Builder
	for i := range 60 {
		fmt.Fprintf(&stack, "[service.lamp%d]\nimage = \"registry.skerry.example/probe:1\"\n", i)
	}
	b.write("mast/stack.toml", stack.String())
	for what, end := range map[string]func(c *console){
		"q":       func(c *console) { c.types("q") },
		"ctrl+c":  func(c *console) { c.types("\x03") },
		"sigterm": func(c *console) { require.NoError(t, c.cmd.Process.Signal(syscall.SIGTERM)) },
		"ctrl+c in a log": func(c *console) {
			c.types("\r")
			c.shows(`   log, the newest at the bottom`)
			c.types("\x03")
		},
	} {
		t.Log(what)
		c := b.console(80, 24, "status", "--watch")
		c.shows(`^skerry-light  60 services  60 missing`)
		c.shows(`^not shown here: last line, disk r / w; a wider window shows it$`)
		c.types(keyEnd)
		c.shows(`^▸ mast/lamp59 +missing$`)
		c.types(keyPageUp + keyDown)
		c.hides(`mast/lamp59`)
		end(c)
		c.ends(0)
	}
	c := b.console(80, 24, "status", "--watch")
	c.shows(`60 missing`)
	back := func() {
		server, err = standin.Start(strings.TrimPrefix(address, "unix://"), standin.Options{Catalogue: catalogue})
		require.NoError(t, err)
	}
	server.Close()
	c.shows(`; trying again`)
	c.shows(`^▸ mast/lamp0 +unknown`)
	back()
	c.hides(`trying again`)
	c.shows(`60 missing`)
	server.Close()
	c.shows(`; trying again`)
	c.types("q")
	c.ends(0)
	back()

	_, stderr := b.run(2, "status", "--watch")
	assert.Contains(t, stderr, "--watch needs a terminal; lantern status tells of one moment")
}
