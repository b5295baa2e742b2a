//go:build linux

package cli_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/cli/render"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// evil is what nothing from outside may do to a terminal: clear it, colour it, give it a title, turn lines
// around, add lines.
const evil = "\x1b[2J\x1b[31mlamp\x1b]0;owned\x07\u009b31m\u202eX\u2066\u2028y\rz\x08\x7f"

// evilTOML is the same in a TOML string.
const evilTOML = `\u001b[2J\u001b[31mlamp\u001b]0;owned\u0007\u009b31m\u202eX\u2066\u2028y\rz\b\u007f`

// TestTerminal drives every command with such text in files, in what engines and processes say, and in logs;
// to a pipe and to a terminal.
func TestTerminal(t *testing.T) {
	catalogue, err := standin.ParseCatalogue([]byte(enginetest.Catalogue +
		"\n[image.\"registry.skerry.example/evil:1\"]\npresent = true\nenv = { \"NAME" + evilTOML +
		"\" = \"" + evilTOML + "\" }\nvolumes = [\"/data" + evilTOML +
		"\"]\nlog = [\"" + evilTOML + "\", \"" + evilTOML + "\"]\nexits = 3\nexits-after = \"50ms\"\n"))
	require.NoError(t, err)
	machine := &survey.Survey{Platform: "linux/amd64", Timezone: "Atlantic/Faroe",
		Accounts: []survey.Account{{Name: "keeper" + evil, UID: 1311, GID: 1400}},
		Groups:   []survey.Group{{Name: evil, GID: 1400}},
		Listeners: []survey.Listener{{Protocol: "tcp", Address: "0.0.0.0", Port: 8710, Process: evil, PID: 7,
			Container: ""}},
		Paths: []survey.Path{
			{Path: "/", Kind: survey.Folder, Mode: "0755"},
			{Path: "/srv", Kind: survey.Folder, Mode: "0755"},
		}}
	server, _ := enginetest.StartStandIn(t, standin.Options{Catalogue: catalogue, Machine: machine})
	var refuses atomic.Bool
	b := newBench(t, enginetest.Target{Name: "stand-in",
		Address: enginetest.Hostile(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if refuses.Load() && !strings.Contains(r.URL.Path, "_ping") {
				w.WriteHeader(500)
				fmt.Fprintf(w, `{"message":"%s"}`, evilTOML[:strings.Index(evilTOML, "\\r")]+"\\n  a new line")
				return
			}
			server.Handler().ServeHTTP(w, r)
		}), "", func(*http.Request) bool { return false })})
	for name, labels := range map[string]map[string]string{
		"foreign" + evil: {plan.LabelLab: "other" + evil},
		"tide-log.gone" + evil: {plan.LabelLab: "skerry-light", plan.LabelStack: "tide-log",
			plan.LabelService: "gone" + evil},
	} {
		_, err := b.engine.Create(t.Context(), name,
			plan.Container{
				Image:    enginetest.Page,
				Hostname: evil,
				Env:      []plan.Variable{{Name: evil, Value: secret.Plain(evil)}},
				Ports:    []plan.Port{{Host: freePort(t), Container: 8080, Protocol: "tcp"}},
			}, labels, "")
		require.NoError(t, err)
		require.NoError(t, b.engine.Start(t.Context(), name))
	}
	_, err = b.engine.CreateNetwork(t.Context(), plan.Network{
		Name: "net" + evil,
	}, map[string]string{plan.LabelLab: "skerry-light"})
	require.NoError(t, err)
	lab := strings.Replace(fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address), "[host",
		"[let]\nroom = \""+evilTOML+"\"\n[host", 1)
	b.write("lab.toml", lab)
	healthy := "about = \"" + evilTOML + "\"\n[service.desk]\nabout = \"" + evilTOML +
		"\"\nimage = \"registry.skerry.example/probe:1\"\nenv-files = [\"tide-log.env\"]\n" +
		"env.ROOM = \"${room}\"\ncommand = [\"" + evilTOML + "\"]\nlabels = { \"example.room\" = \"" +
		evilTOML + "\" }\nready = { tcp = 8080 }\n"
	b.write("tide-log/tide-log.env", "NAME="+evil[:4]+"\nOTHER='"+strings.Map(func(r rune) rune {
		if r == '\r' || r == '\u2028' {
			return -1
		}
		return r
	}, evil)+"'\n")
	stacks := []struct{ name, text string }{
		{"healthy", healthy},
		{"exits", strings.Replace(healthy, "probe:1", "evil:1", 1)},
		{"wrong",
			healthy + "mounts = [\"/srv/" + evilTOML + " -> /x" + evilTOML +
				"\"]\nports = [\"8710 -> 80\", \"" + evilTOML + "\"]\nrun-as = \"" + evilTOML +
				"\"\nhostname = \"" + evilTOML + "\"\n\"" + evilTOML + "\" = 1\naccept = { \"" + evilTOML +
				"\" = \"" + evilTOML + "\" }\nafter = [\"" + evilTOML + "\"]\n"},
		{"raw", healthy + "# " + evil + "\nimage = \"" + evil + "\"\n"},
	}
	commands := []string{"survey", "check", "check --verbose", "check --offline",
		"deploy --dry-run --verbose", "deploy --yes --despite port-in-use", "compare", "prove",
		"status --verbose", "ports", "mounts", "env tide-log", "logbook", "logbook tide-log", "sweep",
		"revert tide-log --dry-run", "tidy --check", "deploy --yes --format json", "check --format json",
		"check --format sarif", "survey --format json", "retire nobody" + evil, "about " + evil,
		"--host " + evil + " status", evil, "--" + evil, "logbook tide-log 1",
		"logs", "logs tide-log --format json", "logs " + evil, "status --processes tide-log/desk", "update",
		"shell tide-log/desk -- " + evil, "shell tide-log/desk", "restart tide-log"}
	harmful := regexp.MustCompile(
		`[^\n\t\x{20}-\x{7e}\x{a0}-\x{200d}\x{2010}-\x{2027}\x{202f}-\x{2065}\x{206a}-\x{fefe}\x{ff00}-\x{dffff}]`)
	own := regexp.MustCompile(`\x1b\[(m|1m|38;2;\d+;\d+;\d+m|1;38;2;\d+;\d+;\d+m)|\r\n`)
	path, err := program()
	require.NoError(t, err)
	for _, stack := range stacks {
		b.write("tide-log/stack.toml", stack.text)
		if testing.Short() && stack.name != "exits" {
			continue
		}
		for _, does := range []bool{false, true} {
			refuses.Store(does)
			for _, command := range commands {
				args := append([]string{"--lab", b.dir}, strings.Split(command, " ")...)
				ends, cancel := context.WithTimeout(t.Context(), time.Minute)
				out, _ := exec.CommandContext(ends, path, args...).CombinedOutput()
				require.NoError(t, ends.Err(), "%s %v %q", stack.name, does, command)
				cancel()
				assert.Empty(t, harmful.FindAllString(string(out), 3), "%s %v %q:\n%s", stack.name, does,
					command, render.Harmless(string(out)))
				assert.NotEmpty(t, out, command)
			}
		}
		refuses.Store(false)
		for _, command := range []string{"survey", "check --verbose", "status --verbose", "env tide-log", "logs"} {
			ends, cancel := context.WithTimeout(t.Context(), time.Minute)
			cmd := exec.CommandContext(ends, path,
				append([]string{"--lab", b.dir}, strings.Split(command, " ")...)...)
			cmd.Env = append(os.Environ(), "TERM=xterm-256color", "COLORTERM=truecolor")
			terminal, err := pty.Start(cmd)
			require.NoError(t, err)
			go func() {
				cmd.Wait() // a terminal whose program is gone is read to its end
				time.AfterFunc(10*time.Second, func() { terminal.Close() })
			}()
			out, _ := io.ReadAll(terminal)
			require.NoError(t, ends.Err(), "%s %q: %q", stack.name, command, out)
			cancel()
			assert.Contains(t, string(out), "\x1b[", "our own colours are there")
			assert.Empty(t, harmful.FindAllString(own.ReplaceAllString(string(out), "\n"), 3), "%s %q:\n%q",
				stack.name, command, out)
		}
	}
	require.FileExists(t, filepath.Join(b.dir, ".lantern", "logbook.db"))
}
