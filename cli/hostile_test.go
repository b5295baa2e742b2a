//go:build linux

package cli_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// An engine that answers in a hostile way, to whatever it is asked, keeps no command from ending, soon, with
// the exit code that is right, and in little memory.
func TestHostileEngine(t *testing.T) {
	enginetest.SkipTwice(t)
	if testing.Short() {
		t.Skip("it measures memory and time")
	}
	t.Parallel() // it waits most of the time
	codes := map[string]int{
		"survey": 3, "check": 1, "compare": 3, "deploy --yes": 3, "prove": 3, "status": 3,
		"retire tide-log --yes": 3, "sweep --yes": 3, "revert tide-log 1 --yes": 3,
		"logs tide-log": 3, "logs tide-log --follow": 3, "shell tide-log/desk -- ls": 3, "update": 3,
		"status --processes tide-log/desk": 3, "restart tide-log": 3,
		"ports": 0, "mounts": 0, "env tide-log": 0, "logbook": 0,
	}
	server, good := enginetest.StartStandIn(t, standin.Options{})
	b := newBench(t, enginetest.Target{Name: "stand-in", Address: good})
	write := func(address string) { b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address)) }
	b.level("low")
	write(good)
	b.run(0, "deploy", "--yes")
	b.level("high")
	for _, all := range []bool{true, false} {
		for _, way := range enginetest.HostileWays {
			name := way
			if !all {
				name += ", but to the ping"
			}
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				own := *b
				own.dir = t.TempDir()
				require.NoError(t, os.CopyFS(own.dir, os.DirFS(b.dir)))
				own.t = t
				address := enginetest.Hostile(t, server.Handler(), way, func(r *http.Request) bool {
					return all || !strings.Contains(r.URL.Path, "_ping")
				})
				own.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address))
				for command, want := range codes {
					t.Run(command, func(t *testing.T) {
						t.Parallel()
						code, said, took, memory := own.measure(t, strings.Fields(command)...)
						assert.Equal(t, want, code, said)
						assert.Less(t, took, time.Minute, said)
						assert.Less(t, memory, int64(300<<20))
						assert.NotContains(t, said, "goroutine")
						assert.NotContains(t, said, "\x1b[2J")
					})
				}
			})
		}
	}
}

// A log that is hostile, in a deploy that waits for a line of it.
func TestHostileLog(t *testing.T) {
	enginetest.SkipTwice(t)
	if testing.Short() {
		t.Skip("it measures memory and time")
	}
	t.Parallel() // it waits most of the time
	for _, way := range enginetest.HostileWays {
		t.Run(way, func(t *testing.T) {
			t.Parallel()
			server, _ := enginetest.StartStandIn(t, standin.Options{})
			b := newBench(t, enginetest.Target{
				Name: "stand-in",
				Address: enginetest.Hostile(t, server.Handler(), way,
					func(r *http.Request) bool { return strings.HasSuffix(r.URL.Path, "/logs") }),
			})
			b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address))
			b.write("tide-log/stack.toml",
				fmt.Sprintf(
					"[service.desk]\nimage = %q\nready = { log = \"the keeper is "+
						"awake\", within = \"3s\" }\n", enginetest.Page))
			code, said, took, memory := b.measure(t, "deploy", "--yes")
			assert.Equal(t, 4, code, said)
			assert.Contains(t, said, "no line of its log matches")
			assert.Less(t, took, time.Minute)
			assert.Less(t, memory, int64(300<<20))
			assert.Less(t, len(said), 64<<10)
		})
	}
}

// measure runs the program with little patience, and tells what it needed.
func (b *bench) measure(t *testing.T, args ...string) (code int, said string, took time.Duration, memory int64) {
	t.Helper()
	path, err := program()
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), path, append([]string{"--lab", b.dir}, args...)...)
	cmd.Env = append(os.Environ(), "LANTERN_ENGINE_PATIENCE=1s")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	began := time.Now()
	require.NoError(t, cmd.Start())
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	// What the kernel tells of a process that has ended counts its parent's memory, too (getrusage(2)); what
	// it tells before does not.
	for ended := false; !ended; {
		select {
		case <-done:
			ended = true
		case <-time.After(10 * time.Millisecond):
			status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid))
			if m := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(status); m != nil {
				n, _ := strconv.ParseInt(string(m[1]), 10, 64)
				memory = max(memory, n<<10)
			}
		}
	}
	return cmd.ProcessState.ExitCode(), out.String(), time.Since(began), memory
}
