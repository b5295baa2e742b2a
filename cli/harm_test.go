//go:build linux

package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// deskBench is a bench on the stand-in, with one stack of one service that is replaced when its level changes.
func deskBench(t *testing.T) *bench {
	b := standInBench(t)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address))
	b.level("low")
	return b
}

const deskText = "[service.desk]\nimage = %q\nready = { http = \"8080/\", within = \"10s\" }\nenv.LEVEL = %q\n"

func (b *bench) level(level string) {
	b.t.Helper()
	b.write("tide-log/stack.toml", fmt.Sprintf(deskText, enginetest.Page, level))
}

// neverReady declares a version that the deploy will wait for in vain.
func (b *bench) neverReady() {
	b.t.Helper()
	b.write("tide-log/stack.toml", fmt.Sprintf(deskText, enginetest.NeverReady, "high"))
}

// Two labs of one name on one host: what one has deployed the other one does not touch before somebody has
// said that they are the same.
func TestTwoLabsOfOneName(t *testing.T) {
	first := deskBench(t)
	first.write("mast/stack.toml", fmt.Sprintf(deskText, enginetest.Page, "low"))
	first.run(0, "deploy", "--yes")
	ran := containerIDs(first)
	second := *first
	second.dir = t.TempDir()
	second.write("lab.toml", fmt.Sprintf(labText, first.uid, first.gid, first.data, first.target.Address))
	second.level("high")
	for _, command := range [][]string{
		{"deploy", "--yes"},
		{"deploy", "tide-log", "--yes"},
		{"retire", "tide-log", "--yes"},
		{"retire", "mast", "--yes"},
	} {
		_, stderr := second.run(2, command...)
		assert.Contains(t, stderr,
			"lamp-room runs services of a lab skerry-light that were not deployed from here: "+
				"mast/desk, tide-log/desk", command)
		assert.Contains(t, stderr, "--same-lab says that it is the same lab")
		assert.NotContains(t, stderr, "these go", "nothing is said to go that does not")
		assert.Equal(t, ran, containerIDs(first), command)
	}
	second.run(0, "deploy", "--dry-run")
	second.run(0, "compare")
	second.run(0, "deploy", "--yes", "--same-lab")
	assert.NotEqual(t, ran, containerIDs(first))
	second.level("low")
	second.run(0, "deploy", "--yes")
	// The first one now meets the second.
	first.level("high")
	_, stderr := first.run(2, "revert", "tide-log", "1", "--yes")
	assert.Contains(t, stderr, "tide-log/desk")
	first.run(0, "retire", "tide-log", "--yes", "--same-lab")
	first.run(0, "retire", "mast", "--yes")
}

func containerIDs(b *bench) map[string]string {
	b.t.Helper()
	ids := map[string]string{}
	for name, c := range b.containers() {
		ids[name] = c.ID
	}
	return ids
}

// A closed connection and a closed output put back, as Ctrl-C does, and kill nobody.
func TestHangUps(t *testing.T) {
	enginetest.SkipTwice(t)
	path, err := program()
	require.NoError(t, err)
	for _, how := range []string{"SIGINT", "SIGHUP", "SIGTERM", "output closed"} {
		b := deskBench(t)
		b.run(0, "deploy", "--yes")
		ran := containerIDs(b)
		b.neverReady()
		cmd := exec.CommandContext(t.Context(), path, "--lab", b.dir, "--verbose", "deploy", "--yes")
		r, w, err := os.Pipe()
		require.NoError(t, err)
		cmd.Stdout, cmd.Stderr = w, w
		require.NoError(t, cmd.Start())
		w.Close()
		read := make([]byte, 4096)
		for said := ""; !strings.Contains(said, "started"); {
			n, err := r.Read(read)
			require.NoError(t, err, said)
			said += string(read[:n])
		}
		switch how {
		case "SIGINT":
			require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
		case "SIGHUP":
			require.NoError(t, cmd.Process.Signal(syscall.SIGHUP))
		case "SIGTERM":
			require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
		default:
			r.Close() // the next line that it says finds nobody
		}
		go io.Copy(io.Discard, r)
		cmd.Wait()
		assert.Equal(t, 130, cmd.ProcessState.ExitCode(), how)
		assert.Equal(t, ran, containerIDs(b), how)
		assert.True(t, b.containers()["tide-log.desk"].Running, how)
		r.Close()
	}
}

// Ctrl-C at a question ends at once and says that nothing was changed.
func TestInterruptedQuestion(t *testing.T) {
	path, err := program()
	require.NoError(t, err)
	for _, c := range []struct{ types, says string }{
		{"\x03", "interrupted; nothing was changed"},
		{"n\r", "nothing was changed"},
	} {
		b := deskBench(t)
		cmd := exec.CommandContext(t.Context(), path, "--lab", b.dir, "deploy")
		terminal, err := pty.Start(cmd)
		require.NoError(t, err)
		defer terminal.Close()
		var said bytes.Buffer
		read := make([]byte, 4096)
		for !strings.Contains(said.String(), "[y/N]") {
			n, err := terminal.Read(read)
			require.NoError(t, err, said.String())
			said.Write(read[:n])
		}
		began := time.Now()
		_, err = terminal.WriteString(c.types)
		require.NoError(t, err)
		said.WriteString(restOf(terminal, cmd))
		assert.Less(t, time.Since(began), 20*time.Second)
		want := 130
		if c.types != "\x03" {
			want = 1
		}
		assert.Equal(t, want, cmd.ProcessState.ExitCode(), said.String())
		assert.Contains(t, said.String(), c.says)
		assert.NotContains(t, said.String(), "in the middle")
		assert.Empty(t, b.containers())
	}
}

// restOf reads what a command still says on a terminal, to its end. Linux tells the end of a terminal (EIO) also while the
// last lines are on their way (seen once in 32,000 runs on a busy machine): after the command has ended, it reads on.
func restOf(terminal *os.File, cmd *exec.Cmd) string {
	var said bytes.Buffer
	io.Copy(&said, terminal) // ends with an error when the other side is closed
	cmd.Wait()
	for range 3 {
		io.Copy(&said, terminal)
		time.Sleep(10 * time.Millisecond)
	}
	return said.String()
}

// What is no plain file, or lies outside, is neither read nor written, whoever names it.
func TestOddFiles(t *testing.T) {
	b := deskBench(t)
	outside := filepath.Join(t.TempDir(), "stack.toml")
	untidy := "[service.desk]\nimage   =    \"registry.skerry.example/probe:1\"\n"
	require.NoError(t, os.WriteFile(outside, []byte(untidy), 0o644))
	pipe := filepath.Join(b.dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	b.write("mast/readme", "")
	link := filepath.Join(b.dir, "mast", "stack.toml")
	require.NoError(t, os.Symlink(outside, link))
	for _, args := range [][]string{{"tidy"}, {"tidy", link}, {"tidy", pipe}, {"check", "--offline", "--fix"}} {
		b.run(1, args...)
	}
	b.run(2, "check", "--survey", pipe)
	b.run(2, "survey", "--save", pipe)
	text, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, untidy, string(text))
	b.run(0, "tidy", outside)
	require.NoError(t, os.Remove(link))

	// The logbook's folder is not looked for behind a link.
	elsewhere := t.TempDir()
	require.NoError(t, os.Chmod(elsewhere, 0o755))
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(b.dir, ".lantern")))
	_, stderr := b.run(0, "deploy", "--yes")
	assert.Contains(t, stderr, "this is not in the logbook")
	left, err := os.ReadDir(elsewhere)
	require.NoError(t, err)
	assert.Empty(t, left)
	require.NoError(t, os.Remove(filepath.Join(b.dir, ".lantern")))
	require.NoError(t, os.Mkdir(filepath.Join(b.dir, ".lantern"), 0o777))
	b.level("high")
	b.run(0, "deploy", "--yes")
	for name, want := range map[string]os.FileMode{
		".lantern":            0o700,
		".lantern/logbook.db": 0o600,
		".lantern/.gitignore": 0o600,
	} {
		info, err := os.Stat(filepath.Join(b.dir, name))
		require.NoError(t, err)
		assert.Equal(t, want, info.Mode().Perm(), name)
	}
}

// A logbook that somebody made leads no file out of the lab, and gives none a mode that it should not have.
func TestForgedLogbook(t *testing.T) {
	b := deskBench(t)
	b.run(0, "deploy", "--yes")
	text := fmt.Sprintf(deskText, enginetest.Page, "forged")
	entry := func(n int, files ...history.File) {
		e := history.Entry{
			Number: n,
			Kind:   history.Deploy,
			Host:   "lamp-room",
			Stack:  "tide-log",
			Result: deploy.Done,
			Began:  time.Now(),
		}
		require.NoError(t,
			history.Of(b.dir).Add(e,
				append(files, history.File{Path: "tide-log/stack.toml", Text: text, Mode: 0o777})))
	}
	entry(7)
	b.run(0, "revert", "tide-log", "7", "--yes")
	info, err := os.Stat(filepath.Join(b.dir, "tide-log", "stack.toml"))
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o133)
	for i, path := range []string{"tide-log/../../owned", "/etc/owned", "tide-log/.git/config",
		".lantern/owned", "before/../../owned"} {
		entry(8+i, history.File{Path: path, Text: "owned", Mode: 0o755})
		for _, args := range [][]string{
			{"revert", "tide-log", fmt.Sprint(8 + i), "--yes", "--with-lab"},
			{"logbook", "tide-log", fmt.Sprint(8 + i), "--save", filepath.Join(t.TempDir(), "saved")},
		} {
			_, stderr := b.run(2, args...)
			assert.Contains(t, stderr, "damaged")
		}
		require.NoError(t, os.Remove(filepath.Join(b.dir, ".lantern", "logbook.db")))
		entry(1)
	}
	found, err := filepath.Glob(filepath.Join(filepath.Dir(b.dir), "owned"))
	require.NoError(t, err)
	assert.Empty(t, found)
}

// A line that somebody writes while a slow survey is made is not lost.
func TestChangedMeanwhile(t *testing.T) {
	server, _ := enginetest.StartStandIn(t, standin.Options{})
	var lab atomic.Value
	lab.Store("")
	b := newBench(t, enginetest.Target{Name: "stand-in",
		Address: enginetest.Hostile(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "/info") {
				path := filepath.Join(lab.Load().(string), "tide-log", "stack.toml")
				if text, err := os.ReadFile(path); err == nil && !strings.Contains(string(text), "# a line") {
					os.WriteFile(path, append(text, "# a line of the keeper's\n"...), 0o644)
				}
			}
			server.Handler().ServeHTTP(w, r)
		}), "", func(*http.Request) bool { return false })})
	lab.Store(b.dir)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address))
	b.write("tide-log/stack.toml",
		"timezone = \"atlantic/faroe\"\n[service.desk]\nimage = \"registry.skerry.example/probe:1\"\n")
	_, stderr := b.run(1, "check", "--fix")
	assert.Contains(t, stderr, "tide-log/stack.toml has changed since it was read, and was left as it is")
	text, err := os.ReadFile(filepath.Join(b.dir, "tide-log", "stack.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "# a line of the keeper's")
	assert.Contains(t, string(text), "atlantic/faroe")
	b.run(0, "check", "--fix")
}

// What is said after a deploy that failed, and after a retirement, is true, and names the way on.
func TestWaysOn(t *testing.T) {
	b := deskBench(t)
	b.neverReady()
	b.write("tide-log/stack.toml",
		strings.Replace(fmt.Sprintf(deskText, enginetest.NeverReady, "high"), `"10s"`, `"1s"`,
			1)+"mounts = [\"volume readings -> /readings\"]\n[volume.readings]\n")
	failing, err := os.ReadFile(filepath.Join(b.dir, "tide-log", "stack.toml"))
	require.NoError(t, err)
	_, stderr := b.run(4, "deploy", "--yes")
	assert.Contains(t, stderr, "nothing ran before; its containers are removed")
	assert.Contains(t, stderr, "the volume tide-log.readings, which it has made, stays with what is in it")
	assert.NotContains(t, stderr, "old version restored")
	b.level("low")
	b.run(0, "deploy", "--yes")
	ran := containerIDs(b)
	healthy, err := os.ReadFile(filepath.Join(b.dir, "tide-log", "stack.toml"))
	require.NoError(t, err)
	b.write("tide-log/stack.toml", string(failing))
	_, stderr = b.run(4, "deploy", "--yes")
	assert.Contains(t, stderr, "old version restored")
	assert.Contains(t, stderr,
		"the files still declare the version that failed: fix them, or restore those of the old version "+
			"with lantern revert tide-log")
	b.run(0, "revert", "tide-log", "--yes")
	text, err := os.ReadFile(filepath.Join(b.dir, "tide-log", "stack.toml"))
	require.NoError(t, err)
	assert.Equal(t, string(healthy), string(text))
	assert.Equal(t, ran, containerIDs(b), "nothing is restarted for that")
	_, stderr = b.run(0, "retire", "tide-log", "--yes")
	assert.Contains(t, stderr, "its folder stays: the next deploy creates it again")
	_, stderr = b.run(0, "revert", "tide-log", "--yes")
	assert.Contains(t, stderr, "of tide-log ran last")
	assert.Len(t, b.containers(), 1)
}

// status compares what runs, not what its labels say, with what was deployed and with the files; and names what it
// could not read.
func TestStatusSeesHands(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address))
		b.level("low")
		b.write("mast/stack.toml", "[service.import]\nimage = \""+enginetest.Job+"\"\nrestart = \"no\"\n"+
			"[service.vane]\nimage = \""+enginetest.Page+
			"\"\nafter = [\"import done\"]\nready = { http = \"8080/\" }\n")
		b.run(0, "deploy", "--yes")
		status := func(code int) string {
			stdout, _ := b.run(code, "status", "tide-log", "--format", "json")
			var list struct{ Services []observe.Status }
			require.NoError(t, json.Unmarshal([]byte(stdout), &list))
			require.Len(t, list.Services, 1)
			v := list.Services[0]
			return fmt.Sprintf("%s changed=%t outdated=%t", v.State, v.Changed, v.Outdated)
		}
		assert.Equal(t, "ready changed=false outdated=false", status(0))
		b.level("high")
		assert.Equal(t, "ready changed=false outdated=true", status(0))
		old := b.containers()["tide-log.desk"]
		require.NoError(t, b.engine.Remove(t.Context(), old.ID))
		c := old.Container
		c.Env = append(c.Env, plan.Variable{Name: "BY_HAND", Value: secret.Plain("yes")})
		id, err := b.engine.Create(t.Context(), "tide-log.desk", c, old.Labels, "")
		require.NoError(t, err)
		require.NoError(t, b.engine.Start(t.Context(), id))
		require.True(t, b.waitReady())
		assert.Equal(t, "ready changed=true outdated=true", status(0), "both: the logbook knows what was deployed")
		b.level("low")
		assert.Equal(t, "ready changed=true outdated=false", status(0))
		require.NoError(t, b.engine.Stop(t.Context(), id, time.Second))
		assert.Equal(t, "stopped changed=true outdated=false", status(1))
		stdout, _ := b.run(0, "status", "mast")
		assert.Regexp(t, `mast/import +done `, stdout)
		b.write("mast/stack.toml", "[service.vane\n")
		_, stderr := b.run(1, "status")
		assert.Contains(t, stderr, "mast/stack.toml:1")
		assert.Contains(t, stderr, "syntax  error")
	})
}

// waitReady waits until the service answers.
func (b *bench) waitReady() bool {
	for range 200 {
		if stdout, _ := exec.Command(must(program()), "--lab", b.dir,
			"status", "tide-log").Output(); strings.Contains(string(stdout), "ready") {
			return true
		}
		time.Sleep(50 * time.Millisecond)
	}
	return false
}

func must(path string, err error) string {
	if err != nil {
		panic(err)
	}
	return path
}
