//go:build linux

package cli_test

import (
	"bytes"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/term"

	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine/enginetest"
)

const dailyText = `[service.desk]
image = "registry.skerry.example/probe:1"
ready = { http = "8080/" }
after = ["store"]
env.LEVEL = "LOW"

[service.store]
image = "registry.skerry.example/probe-store:1"
ready = { tcp = 7410 }

[service.lamp]
image = "registry.skerry.example/probe:1"
ready = { http = "8080/" }
env.LEVEL = "LOW"
`

// dailyBench is a lab with two stacks.
func dailyBench(t *testing.T, target enginetest.Target) *bench {
	b := newBench(t, target)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
	b.write("tide-log/stack.toml", dailyText)
	b.write("mast/stack.toml",
		"[service.vane]\nimage = \"registry.skerry.example/probe:1\"\nready = { http = \"8080/\" }\n")
	return b
}

// steps returns what happened to which service, in its order.
func (b *bench) steps(stdout, step string) (services []string) {
	for line := range strings.Lines(stdout) {
		var e deploy.Event
		require.NoError(b.t, json.Unmarshal([]byte(line), &e))
		if e.Step == step && e.State == deploy.EventDone {
			services = append(services, e.Service)
		}
	}
	return services
}

// A service is deployed with what it needs, and the others stay as they are, whatever their files say.
func TestNamedServices(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := dailyBench(t, target)
		names := func() []string {
			var all []string
			for name := range b.containers() {
				all = append(all, name)
			}
			slices.Sort(all)
			return all
		}
		b.run(0, "deploy", "tide-log/desk", "--yes")
		assert.Equal(t, []string{"tide-log.desk", "tide-log.store"}, names())
		b.run(0, "deploy", "tide-log/lamp", "mast", "--yes")
		before := b.containers()
		assert.Equal(t, []string{"mast.vane", "tide-log.desk", "tide-log.lamp", "tide-log.store"}, names())
		b.write("tide-log/stack.toml", strings.ReplaceAll(dailyText, "LOW", "HIGH"))
		b.run(0, "deploy", "tide-log/lamp", "--yes")
		after := b.containers()
		assert.NotEqual(t, before["tide-log.lamp"].ID, after["tide-log.lamp"].ID)
		assert.Equal(t, before["tide-log.desk"].ID, after["tide-log.desk"].ID, "it was not named")
		stdout, _ := b.run(0, "status", "tide-log/desk", "mast")
		assert.Contains(t, stdout, "tide-log/desk  ready")
		assert.Contains(t, stdout, "files changed")
		assert.Contains(t, stdout, "mast/vane")
		assert.NotContains(t, stdout, "tide-log/lamp")
		stdout, _ = b.run(0, "compare", "tide-log/lamp", "tide-log/store")
		assert.Contains(t, stdout, "up to date")
		stdout, _ = b.run(1, "compare", "tide-log/desk", "--fail-if-different")
		assert.Contains(t, stdout, "HIGH")
		stdout, _ = b.run(0, "prove", "tide-log/lamp", "mast/vane")
		assert.Contains(t, stdout, "2 tests passed")
		stdout, _ = b.run(0, "env", "tide-log/lamp", "mast")
		assert.Regexp(t, `(?s)mast/vane.*tide-log/lamp`, stdout)
		assert.NotContains(t, stdout, "tide-log/desk")
		for args, says := range map[string]string{
			"deploy tide-log/lmap --yes":             "tide-log has no service lmap; lamp is one",
			"deploy mast tide-log/lamp/x --yes":      `"tide-log/lamp/x" names no stack and no service`,
			"deploy mast mats --yes":                 "the lab has no stack mats; mast is one",
			"prove /lamp":                            `"/lamp" names no stack`,
			"check mast tide-log/nothing":            "tide-log has no service nothing; it has desk, store, lamp",
			"restart mast tide-log/nothing":          "tide-log has no service nothing",
			"logs tide-log/nothing":                  "tide-log has no service nothing",
			"retire mast tide-log/lamp --yes":        "tide-log/lamp is a service: lantern retire takes whole stacks",
			"shell tide-log -- ls":                   "tide-log is a stack: write STACK/SERVICE",
			"status --processes tide-log/lamp mast":  "--processes needs one STACK/SERVICE",
			"stop":                                   "lantern stop needs the name of a stack",
			"exec tide-log/lamp":                     "there is no command exec; lantern shell does that",
			"logs mast --since tomorrow":             `--since: "tomorrow" is no time`,
			"logs mast --grep (":                     "--grep: ",
			"logs mast --context 2":                  "--context takes a number of lines, and belongs to --grep",
			"--host lamp-room status tide-log/lampe": "tide-log has no service lampe; lamp is one",
		} {
			_, stderr := b.run(2, strings.Fields(args)...)
			assert.Contains(t, stderr, says, args)
		}
		_, stderr := b.run(0, "retire", "mast", "tide-log", "--yes")
		assert.Contains(t, stderr, "mast is retired")
		assert.Contains(t, stderr, "tide-log is retired")
		assert.Empty(t, b.containers())
		_, stderr = b.run(0, "retire", "mast", "tide-log", "--yes")
		assert.Contains(t, stderr, "nothing of mast is on")
	})
}

// Services stop and start in their order; a deploy keeps others from it.
func TestStartAndStop(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := dailyBench(t, target)
		_, stderr := b.run(1, "start", "tide-log")
		assert.Contains(t, stderr, "desk, lamp, store are not deployed yet: lantern deploy tide-log")
		b.run(0, "deploy", "--yes")
		was := b.containers()
		stdout, _ := b.run(0, "stop", "tide-log", "--format", "json")
		stopped := b.steps(stdout, deploy.StepStop)
		assert.Less(t, slices.Index(stopped, "desk"), slices.Index(stopped, "store"), "%v", stopped)
		assert.Len(t, stopped, 3)
		stdout, _ = b.run(1, "status", "tide-log")
		assert.Equal(t, 3, strings.Count(stdout, " stopped "), stdout)
		_, stderr = b.run(0, "stop", "tide-log")
		assert.Contains(t, stderr, "tide-log: nothing to do")
		stdout, _ = b.run(0, "start", "tide-log/desk", "--format", "json")
		assert.Equal(t, []string{"store", "desk"}, b.steps(stdout, deploy.StepStart), "what it needs comes first")
		assert.Equal(t, []string{"store", "desk"}, b.steps(stdout, deploy.StepProve))
		assert.False(t, b.containers()["tide-log.lamp"].Running)
		b.run(0, "start", "tide-log", "mast")
		stdout, _ = b.run(0, "restart", "tide-log", "--format", "json")
		started := b.steps(stdout, deploy.StepStart)
		assert.Less(t, slices.Index(started, "store"), slices.Index(started, "desk"))
		for name, c := range b.containers() {
			assert.Equal(t, was[name].ID, c.ID, "%s is the same container", name)
			assert.True(t, c.Running)
		}
		b.run(0, "status")

		// While a deploy waits for ready, nothing else touches the stack.
		b.write("mast/stack.toml", "[service.vane]\nimage = \""+enginetest.NeverReady+
			"\"\nready = { http = \"8080/\", within = \"30s\" }\n")
		cmd := exec.CommandContext(t.Context(), must(program()), "--lab", b.dir, "deploy", "mast", "--yes", "-q")
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { _, ok := b.containers()["mast.deploying"]; return ok }, time.Minute,
			50*time.Millisecond)
		_, stderr = b.run(1, "stop", "mast")
		assert.Contains(t, stderr, "mast: nothing was changed: ")
		assert.Contains(t, stderr, "is changing this stack since")
		require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
		cmd.Wait()
		b.run(0, "status", "mast")

		// What ran before is in the middle of nothing; a service that does not become ready is told.
		b.write("mast/stack.toml", "[service.vane]\nimage = \""+enginetest.Page+
			"\"\nready = { http = \"8080/missing\", status = \"404\", within = \"1s\" }\n")
		_, stderr = b.run(1, "restart", "mast/vane")
		assert.Contains(t, stderr, "not all of it is ready; nothing was put back")
	})
}

// follower is a following of logs, as it writes.
type follower struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (f *follower) Write(p []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.text.Write(p)
}

func (f *follower) has(s string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return strings.Contains(f.text.String(), s)
}

func TestLogs(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := dailyBench(t, target)
		b.run(0, "deploy", "--yes")
		stdout, _ := b.run(0, "logs", "tide-log")
		assert.Len(t, strings.Split(strings.TrimSpace(stdout), "\n"), 6)
		assert.Regexp(t, `(?m)^\d\d:\d\d:\d\d  store   open for readings$`, stdout)
		stdout, _ = b.run(0, "logs", "--last", "1", "--times", "full")
		lines := strings.Split(strings.TrimSpace(stdout), "\n")
		assert.Len(t, lines, 4)
		assert.True(t,
			slices.IsSortedFunc(lines, func(a, b string) int { return strings.Compare(a[:27], b[:27]) }), stdout)
		assert.Regexp(t, `(?m)^\d{4}-\d\d-\d\dT\S+  mast/vane +open for readings$`, stdout)
		stdout, _ = b.run(0, "logs", "tide-log", "mast", "--grep", "^open", "--format", "json")
		assert.Equal(t, 4, strings.Count(stdout, "\n"))
		stdout, _ = b.run(0, "logs", "mast", "--grep", "^open", "--context", "1", "--raw")
		assert.Equal(t, "the probe starts\nopen for readings\n", stdout)
		stdout, _ = b.run(0, "logs", "--until", "2d")
		assert.Empty(t, stdout)
		if target.Name != "stand-in" {
			b.oddLogs()
		}
		b.followLogs(target.Name != "stand-in")
	})
}

// oddLogs has lines written that are long, that would do something to a terminal, that are no text.
func (b *bench) oddLogs() {
	t := b.t
	b.write("mast/stack.toml", "[service.vane]\nimage = \""+enginetest.Page+
		"\"\nready = { http = \"8080/\" }\nenv.PROBE_SAYS = \"odd\"\n")
	b.run(0, "deploy", "mast", "--yes")
	require.Eventually(t, func() bool {
		stdout, _ := b.run(0, "logs", "mast")
		return strings.Contains(stdout, "the odd ones end") && strings.Contains(stdout, "to standard error")
	}, time.Minute, 100*time.Millisecond)
	stdout, _ := b.run(0, "logs", "mast")
	assert.Contains(t, stdout, "long "+strings.Repeat("x", 1_000_000)+" end\n")
	assert.Contains(t, stdout, `\x1b[31mred\x1b[0m \x1b]0;title\x07 and    more`+"\n")
	assert.Regexp(t, `(?m)  vane ! to standard error$`, stdout)
	assert.Regexp(t, `bytes (\\xff\\xfe|��) that are no text`, stdout,
		"one engine writes its own sign in place of them")
	assert.NotContains(t, stdout, "\x1b")
	stdout, _ = b.run(0, "logs", "mast", "--raw")
	assert.Contains(t, stdout, "\n\x1b[31mred\x1b[0m \x1b]0;title\a and\tmore\n")
	stdout, _ = b.run(0, "logs", "mast", "--format", "json")
	var streams []string
	for line := range strings.Lines(stdout) {
		var l struct{ Stream, Text string }
		require.NoError(t, json.Unmarshal([]byte(line), &l))
		if l.Text == "to standard error" || len(l.Text) == 1_000_009 {
			streams = append(streams, l.Stream)
		}
	}
	slices.Sort(streams)
	assert.Equal(t, []string{"err", "out"}, streams)
}

// followLogs follows over five replacements, a stop and a start, and a stack that comes later: each line once.
func (b *bench) followLogs(numbered bool) {
	t := b.t
	b.run(0, "retire", "mast", "--yes")
	var out, notices follower
	cmd := exec.CommandContext(t.Context(), must(program()), "--lab", b.dir, "logs", "--follow",
		"tide-log/desk", "mast")
	cmd.Stdout, cmd.Stderr = &out, &notices
	require.NoError(t, cmd.Start())
	says := "the probe starts"
	for i := range 5 {
		level := fmt.Sprintf("L%d", i)
		text := strings.Replace(dailyText, "LOW", level, 1)
		if numbered {
			text = strings.Replace(text, "env.LEVEL", "env.PROBE_SAYS = \"200 lines at 400\"\nenv.LEVEL", 1)
			says = "line 199 of " + level + "\n"
		}
		b.write("tide-log/stack.toml", text)
		b.run(0, "deploy", "tide-log/desk", "--yes", "-q")
		require.Eventually(t, func() bool { return out.has(says) }, time.Minute, 20*time.Millisecond, level)
	}
	b.run(0, "deploy", "mast", "--yes", "-q")
	require.Eventually(t, func() bool { return notices.has("following mast/vane, too") }, time.Minute,
		20*time.Millisecond)
	b.run(0, "restart", "tide-log/desk", "-q")
	starts := func() int {
		out.mu.Lock()
		defer out.mu.Unlock()
		return len(regexp.MustCompile(`(?m)tide-log/desk +the probe starts$`).FindAllString(out.text.String(), -1))
	}
	// The first container's own, five new ones, and the restart.
	assert.Eventually(t, func() bool { return starts() == 7 }, time.Minute, 20*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	require.NoError(t, cmd.Wait(), "that is how a following ends")
	assert.Equal(t, 7, starts())
	assert.True(t, notices.has("tide-log/desk has a new container; following it"))
	for i := range 5 {
		for n := range 200 {
			want := 1
			if i == 4 {
				want = 2 // it was started again
			}
			if numbered {
				got := strings.Count(out.text.String(), fmt.Sprintf(" line %d of L%d\n", n, i))
				require.True(t, got == want || i == 4 && got == 1, "line %d of L%d came %d times", n, i, got)
			}
		}
	}
}

// A command inside gets input and output byte for byte, and its exit code comes back.
func TestShell(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := dailyBench(t, target)
		b.write("mast/stack.toml", "[service.vane]\nimage = \""+enginetest.Tools+
			"\"\nready = { http = \"8080/\" }\nrestart = \"no\"\n")
		_, stderr := b.run(1, "shell", "mast/vane")
		assert.Contains(t, stderr, "mast/vane is not deployed\n  what helps: lantern deploy mast/vane")
		b.run(0, "deploy", "mast", "tide-log/lamp", "--yes")
		stdout, _ := b.run(0, "shell", "tide-log/lamp", "--", "/probe", "ask", "8080")
		assert.Equal(t, "ready\n", stdout)
		code := map[bool]int{true: 127, false: 126}[target.IsPodman()]
		stdout, stderr = b.run(code, "shell", "tide-log/lamp", "--", "/nothing")
		assert.Contains(t, stdout+stderr, "/nothing")
		stdout, _ = b.run(0, "status", "--processes", "mast/vane")
		assert.Regexp(t, `pid +user +processor +memory +command\n +\d+ +\S+ +[\d.]+ % +[\d.]+\wiB +/\S+`, stdout)
		if target.Name == "stand-in" {
			return // it runs no programs
		}
		stdout, stderr = b.run(7, "shell", "mast/vane", "--user", "1311", "--working-dir", "/data", "--",
			"sh", "-c",
			"id -u; pwd; echo trouble >&2; exit 7")
		assert.Equal(t, "1311\n/data\n", stdout)
		assert.Equal(t, "trouble\n", stderr)
		_, stderr = b.run(1, "shell", "tide-log/lamp")
		assert.Contains(t, stderr, "the image of tide-log/lamp has no shell")
		stdout, stderr = b.run(3, "shell", "tide-log/lamp", "--from", enginetest.Tools, "--", "sh", "-c",
			"ls /proc/1/root/notes; ps; exit 3")
		assert.Contains(t, stdout, "/proc/1/root/notes\n")
		assert.Contains(t, stdout, "/probe")
		assert.Contains(t, stderr, "a helper of "+enginetest.Tools+" beside tide-log/lamp")
		list, err := b.engine.Survey(t.Context())
		require.NoError(t, err)
		for _, c := range list {
			assert.NotContains(t, c.Name, "helper")
		}
		b.pipeThrough()
		b.terminalInside()
		b.run(0, "stop", "mast")
		_, stderr = b.run(1, "shell", "mast/vane")
		assert.Contains(t, stderr, "mast/vane does not run: it ")
		assert.Contains(t, stderr, "lantern start mast/vane, or lantern logs mast/vane")
	})
}

// pipeThrough sends 100 MB through a command and back, and a script into a shell.
func (b *bench) pipeThrough() {
	t := b.t
	sent, came := sha256.New(), sha256.New()
	cmd := exec.CommandContext(t.Context(), must(program()), "--lab", b.dir, "shell", "mast/vane", "--", "cat")
	cmd.Stdin, cmd.Stdout = io.TeeReader(io.LimitReader(rand.Reader, 100_000_000), sent), came
	require.NoError(t, cmd.Run())
	assert.Equal(t, sent.Sum(nil), came.Sum(nil))

	script := exec.CommandContext(t.Context(), must(program()), "--lab", b.dir, "shell", "mast/vane")
	script.Stdin = strings.NewReader("GET /images HTTP/1.1\r\necho from the pipe\nexit 5\n")
	out, err := script.Output()
	assert.Equal(t, "from the pipe\n", string(out))
	var ended *exec.ExitError
	require.ErrorAs(t, err, &ended)
	assert.Equal(t, 5, ended.ExitCode())

	long := exec.CommandContext(t.Context(), must(program()), "--lab", b.dir, "shell", "mast/vane", "--",
		"sleep", "3611")
	require.NoError(t, long.Start())
	runs := func() bool {
		stdout, _ := b.run(0, "shell", "mast/vane", "--", "ps")
		return strings.Contains(stdout, "sleep 3611")
	}
	require.Eventually(t, runs, time.Minute, 50*time.Millisecond)
	require.NoError(t, long.Process.Signal(syscall.SIGINT))
	long.Wait()
	assert.Equal(t, 130, long.ProcessState.ExitCode())
	assert.Eventually(t, func() bool { return !runs() }, time.Minute, 50*time.Millisecond, "the signal went inside")
}

// terminalInside works in a shell as a person does.
func (b *bench) terminalInside() {
	t := b.t
	cmd := exec.CommandContext(t.Context(), must(program()), "--lab", b.dir, "shell", "mast/vane")
	cmd.Env = append(os.Environ(), "TERM=xterm")
	keyboard, screen, err := pty.Open()
	require.NoError(t, err)
	defer keyboard.Close()
	defer screen.Close()
	require.NoError(t, pty.Setsize(keyboard, &pty.Winsize{Rows: 31, Cols: 101}))
	before, err := term.GetState(int(screen.Fd()))
	require.NoError(t, err)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = screen, screen, screen
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	require.NoError(t, cmd.Start())
	var seen follower
	go io.Copy(&seen, keyboard)
	shows := func(what string) {
		t.Helper()
		if !assert.Eventually(t, func() bool { return seen.has(what) }, time.Minute, 20*time.Millisecond, what) {
			seen.mu.Lock()
			t.Fatalf("%q", seen.text.String())
		}
	}
	types := func(keys string) {
		_, err := keyboard.Write([]byte(keys))
		require.NoError(t, err)
	}
	shows("# ")
	types("stty size; echo $TERM\r")
	shows("31 101\r\nxterm\r\n")
	require.NoError(t, pty.Setsize(keyboard, &pty.Winsize{Rows: 43, Cols: 123}))
	require.Eventually(t, func() bool { types("stty size\r"); return seen.has("43 123\r\n") }, time.Minute,
		200*time.Millisecond)
	types("echo begin; sleep 3612; echo not reached\r")
	shows("\nbegin\r\n")
	// A shell that is between two commands may miss one.
	require.Eventually(t, func() bool {
		types("\x03")
		types("echo after $((6*7))\r")
		return seen.has("\nafter 42\r\n")
	}, 2*time.Minute, time.Second)
	assert.False(t, seen.has("\nnot reached\r\n"))
	types("exit 9\r")
	cmd.Wait()
	assert.Equal(t, 9, cmd.ProcessState.ExitCode())
	after, err := term.GetState(int(screen.Fd()))
	require.NoError(t, err)
	assert.Equal(t, before, after, "the terminal is as it was")
}
