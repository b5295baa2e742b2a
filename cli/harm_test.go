package cli_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
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

// Two labs of one name on one host: what one has deployed the other one does not touch before somebody has said that they are the same.
func TestTwoLabsOfOneName(t *testing.T) {
	first := deskBench(t)
	first.write("mast/stack.toml", fmt.Sprintf(deskText, enginetest.Page, "low"))
	first.run(0, "deploy", "--yes")
	ran := containerIDs(first)
	second := *first
	second.dir = t.TempDir()
	second.write("lab.toml", fmt.Sprintf(labText, first.uid, first.gid, first.data, first.target.Address))
	second.level("high")
	for _, command := range [][]string{{"deploy", "--yes"}, {"deploy", "tide-log", "--yes"}, {"retire", "tide-log", "--yes"}, {"retire", "mast", "--yes"}} {
		_, stderr := second.run(2, command...)
		assert.Contains(t, stderr, "lamp-room runs services of a lab skerry-light that were not deployed from here: mast/desk, tide-log/desk", command)
		assert.Contains(t, stderr, "--same-lab says that it is the same lab")
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
	for _, c := range []struct{ types, says string }{{"\x03", "interrupted; nothing was changed"}, {"n\r", "nothing was changed"}} {
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
		io.Copy(&said, terminal) // ends with an error when the other side is closed
		cmd.Wait()
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
