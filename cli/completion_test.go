//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/demo"
)

// Each shell is started bare, and asked what a word may become. The answers are the program's own, so the shells
// are compared with each other.
func TestCompletion(t *testing.T) {
	lab := t.TempDir()
	require.NoError(t, demo.Write(lab))
	questions := map[string]string{
		"lantern dep":                      "deploy",
		"lantern st":                       "start status stop",
		"lantern logs ti":                  "tide-log",
		"lantern logs tide-log/":           "tide-log/desk tide-log/store",
		"lantern status tide-log bird":     "bird-count",
		"lantern shell lamp-journal/a":     "lamp-journal/archive",
		"lantern deploy --dr":              "--dry-run",
		"lantern deploy --despite mount-d": "mount-denied mount-duplicate",
		"lantern --host b":                 "boathouse",
		"lantern --host boathouse logs b":  "bird-count",
		"lantern --format j":               "json",
		"lantern update --write m":         "major minor",
		"lantern about port-c":             "port-clash",
		"lantern schema s":                 "stack",
	}
	dir := filepath.Dir(must(program()))
	environment := append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "LANTERN_LAB="+lab, "HOME="+t.TempDir())
	for shell, ask := range map[string]func(question string) *exec.Cmd{
		"bash": func(question string) *exec.Cmd {
			return exec.Command("bash", "--norc", "-c", `source <(lantern completion bash); read -ra COMP_WORDS <<<"$0"
				COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _lantern; printf '%s\n' "${COMPREPLY[@]}"`, question)
		},
		"fish": func(question string) *exec.Cmd {
			return exec.Command("fish", "--no-config", "-c",
				`lantern completion fish | source; complete -C "$argv[1]"`, question)
		},
	} {
		t.Run(shell, func(t *testing.T) {
			if _, err := exec.LookPath(shell); err != nil {
				t.Skip("scripts/with-engines installs " + shell)
			}
			for question, want := range questions {
				cmd := ask(question)
				cmd.Env, cmd.Dir = environment, lab
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, "%s: %s", question, out)
				assert.Equal(t, strings.Fields(want), strings.Fields(string(out)), question)
			}
		})
	}
	t.Run("zsh", func(t *testing.T) {
		if _, err := exec.LookPath("zsh"); err != nil {
			t.Skip("scripts/with-engines installs zsh")
		}
		cmd := exec.Command("zsh", "-f", "-i")
		cmd.Env, cmd.Dir = append(environment, "PS1=ask> ", "TERM=dumb"), lab
		keyboard, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 200})
		require.NoError(t, err)
		defer func() {
			cmd.Process.Kill()
			cmd.Wait()
			keyboard.Close()
		}()
		var seen follower
		go func() {
			buffer := make([]byte, 4096)
			for n, err := keyboard.Read(buffer); err == nil; n, err = keyboard.Read(buffer) {
				seen.Write(buffer[:n])
			}
		}()
		types := func(keys string) { fmt.Fprint(keyboard, keys) }
		types("autoload -U compinit && compinit -u -D; source <(lantern completion zsh); echo re''ady\r")
		require.Eventually(t, func() bool { return seen.has("\nready") }, time.Minute, 20*time.Millisecond)
		for question, want := range map[string]string{
			"echo lantern; lantern dep":            "lantern deploy ",
			"echo x; lantern logs tide-log/d":      "lantern logs tide-log/desk ",
			"echo y; lantern --host b":             "lantern --host boathouse ",
			"echo z; lantern shell lamp-journal/a": "lantern shell lamp-journal/archive ",
		} {
			types(question + "\t")
			assert.Eventually(t, func() bool { return seen.has(strings.SplitN(question, ";", 2)[0] + "; " + want) },
				time.Minute, 20*time.Millisecond, question)
			types("\x15")
		}
	})
}

// The manual page holds every command, and mandoc has nothing to say about it.
func TestManual(t *testing.T) {
	out, err := exec.Command(must(program()), "manual").Output()
	require.NoError(t, err)
	page := string(out)
	for _, part := range []string{".SS logs [OPTIONS] [STACK[/SERVICE]]...", ".SS update [OPTIONS]",
		`.B \-\-despite RULE`, ".SH EXIT STATUS", ".B 130"} {
		assert.Contains(t, page, part)
	}
	if _, err := exec.LookPath("mandoc"); err != nil {
		t.Skip("scripts/with-engines installs mandoc")
	}
	file := filepath.Join(t.TempDir(), "lantern.1")
	require.NoError(t, os.WriteFile(file, out, 0o600))
	said, err := exec.Command("mandoc", "-T", "lint", file).CombinedOutput()
	assert.NoError(t, err)
	assert.Empty(t, string(said))
}
