package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// What works on this machine works over SSH: a real sshd before each real engine.
func TestOverSSH(t *testing.T) {
	sshd := os.Getenv("LANTERN_TEST_SSHD")
	if sshd == "" {
		t.Skip("LANTERN_TEST_SSHD is not set: scripts/with-engines starts an sshd")
	}
	_, err := program() // with the home folder that the compiler knows
	require.NoError(t, err)
	port, err := os.ReadFile(filepath.Join(sshd, "port"))
	require.NoError(t, err)
	known, err := os.ReadFile(filepath.Join(sshd, "known_hosts"))
	require.NoError(t, err)
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("hostconn's tests do this without an engine")
		}
		b := newBench(t, target)
		home := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(home, ".ssh"), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh/known_hosts"), known, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh/config"), fmt.Appendf(nil,
			"Host lighthouse\n  HostName 127.0.0.1\n  Port %s\n  User root\n  IdentityFile %s/client_key\n", port, sshd), 0o600))
		t.Setenv("HOME", home)
		t.Setenv("SSH_AUTH_SOCK", "")
		address := "ssh://lighthouse" + strings.TrimPrefix(target.Address, "unix://")
		b.write("tide-log/tide-log.env", "TIDES_DB_PASSWORD=the-moon-pulls-the-sea\n")
		front, desk := freePort(t), freePort(t)
		write := func(engine, image, level, within string) {
			b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, engine))
			b.write("tide-log/stack.toml", fmt.Sprintf(stackText, image, front, level, within, desk))
		}

		// The survey is the local one, but for what this way does not show.
		surveyOf := func(engine string) map[string]any {
			write(engine, enginetest.Page, "low", "20s")
			stdout, _ := b.run(0, "--format", "json", "survey", "lamp-room")
			var s map[string]any
			require.NoError(t, json.Unmarshal([]byte(stdout), &s))
			if inner, ok := s["surveys"].([]any); ok {
				s = inner[0].(map[string]any)
			}
			return s
		}
		local, far := surveyOf(target.Address), surveyOf(address)
		for _, same := range []string{"accounts", "groups", "timezone", "platform", "engine", "filesystems", "routes", "unprivileged-port-start"} {
			if same == "filesystems" {
				assert.Equal(t, len(local[same].([]any)), len(far[same].([]any)), same)
				continue
			}
			assert.Equal(t, local[same], far[same], same)
		}
		unknown := fmt.Sprint(far["unknown"])
		assert.Contains(t, unknown, "access control lists are not shown over SSH")

		b.run(0, "check")
		b.run(0, "deploy", "--yes")
		b.page(front)
		stdout, _ := b.run(0, "status")
		assert.Contains(t, stdout, "ready")
		b.run(0, "compare")
		stdout, _ = b.run(0, "logs", "tide-log")
		assert.Contains(t, stdout, "the probe starts")
		b.run(0, "prove")
		was := b.containers()
		write(address, enginetest.NeverReady, "high", "2s")
		b.run(4, "deploy", "--yes")
		for name, c := range b.containers() {
			assert.Equal(t, was[name].ID, c.ID, "what ran before runs")
		}
		write(address, enginetest.Page, "high", "20s")
		b.run(0, "deploy", "--yes")
		b.run(0, "stop", "tide-log")
		b.run(0, "start", "tide-log")
		_, stderr := b.run(2, "backup", "tide-log")
		assert.Contains(t, stderr, "lamp-room is another machine: run lantern backup there")
		b.run(0, "retire", "tide-log", "--yes")
		assert.Empty(t, b.containers())
	})
}
