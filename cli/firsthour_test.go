//go:build linux

package cli_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/registry"
)

// From an empty folder to a page that answers, on a terminal, without an editor: what a person types, and how long it
// takes, is logged.
func TestFirstHour(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("it is about a real page")
		}
		if os.Getuid() != 0 {
			t.Skip("preparing folders needs root")
		}
		b := newBench(t, target)
		image := pushWithPorts(t, enginetest.Registry(t)+fmt.Sprintf("/skerry/hour-%d:1", os.Getpid()))
		_, err := registry.Attach(t.Context(), image, fmt.Sprintf(`card = %q
about = "tides on a page"
ready = { log = "open for readings" }
[port.8080]
page = "/"
[data."/data"]
keep = true
[variable.STATION]
default = "lamp room"
`, strings.TrimSuffix(image, ":1")), time.Now(), &registry.Logins{})
		require.NoError(t, err)

		lab := filepath.Join(t.TempDir(), "my-lab")
		keys, began := 0, time.Now()
		run := func(words string, answers ...[2]string) {
			t.Helper()
			keys += len("lantern " + words + "\r")
			args := strings.Fields(words)
			if args[0] != "begin" {
				args = append([]string{"--lab", lab}, args...) // a person would have gone there
			}
			c := b.consoleAt(100, 60, args...)
			for _, a := range answers {
				c.shows(a[0])
				c.types(a[1])
				keys += len(a[1])
			}
			c.ends(0)
		}
		run("begin "+lab+" --engine "+target.Address, [][2]string{
			{`┃ What is the lab called\?`, "\r"}, {`┃ What is this machine called\?`, "\r"}, {`┃ How do browsers reach it\?`, "\r"},
			{`┃ In which zone are the services\?`, "\r"}, {`┃ Whose data is it\?`, "\r"},
			{`┃ Below which folder does the data lie\?`, "\x15" + b.data + "\r"},
		}...)
		run("image " + image)
		run("draft " + image + " --stack hello")
		// Other tests on this machine open and close ports; a person has them for himself.
		text, err := os.ReadFile(filepath.Join(lab, "hello/stack.toml"))
		require.NoError(t, err)
		port := freePort(t)
		text = regexp.MustCompile(`"\d+ -> 8080"`).ReplaceAll(text, fmt.Appendf(nil, `"%d -> 8080"`, port))
		require.NoError(t, os.WriteFile(filepath.Join(lab, "hello/stack.toml"), text, 0o644))
		run("check")
		run("prepare", [2]string{`Change this\?`, "y\r"})
		run("deploy", [2]string{`Deploy this\?`, "y\r"})
		require.Eventually(t, func() bool {
			answer, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", port))
			if err != nil {
				return false
			}
			answer.Body.Close()
			return answer.StatusCode == http.StatusOK
		}, time.Minute, 50*time.Millisecond)
		t.Logf("%s: %d keys, %.1f s", target.Name, keys, time.Since(began).Seconds())
		b.dir = lab
		stdout, _ := b.run(0, "status")
		assert.Contains(t, stdout, "ready")
		b.run(0, "retire", "hello", "--yes")
	})
}
