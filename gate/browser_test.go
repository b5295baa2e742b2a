//go:build linux

package gate

import (
	"context"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/sites"
)

// Who follows the steps of sites --trust sees the lab's sites without a warning: curl, and a real browser; before, not.
func TestDevicesTrust(t *testing.T) {
	b := own(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, "<p>the tide is "+"high</p>") }),
		sites.Route{Domain: "tides.skerry.localhost"})
	pem, err := b.gate.Authorities()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "skerry-light.pem")
	require.NoError(t, os.WriteFile(file, []byte(pem), 0o644))
	url := "https://tides.skerry.localhost:" + strconv.Itoa(portOf(t, b.https)) + "/"
	ask := func(name string, args ...string) string {
		ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
		defer cancel()
		c := exec.CommandContext(ctx, name, args...)
		c.Env = append(os.Environ(), "HOME="+filepath.Dir(file))
		out, _ := c.CombinedOutput()
		return string(out)
	}
	if curl, err := exec.LookPath("curl"); err == nil {
		resolve := []string{"-sS", "--resolve", "tides.skerry.localhost:" + strconv.Itoa(portOf(t, b.https)) + ":127.0.0.1", url}
		assert.Contains(t, ask(curl, resolve...), "certificate")
		assert.Contains(t, ask(curl, append(resolve, "--cacert", file)...), "the tide is high")
	}
	browser, err := exec.LookPath("chromium")
	certutil, lost := exec.LookPath("certutil")
	if err != nil || lost != nil {
		t.Skip("the browser needs Debian's packages chromium and libnss3-tools")
	}
	open := func() (seen string) {
		// It gives up whenever a network comes or goes on this machine, as those of the tests of engines do.
		for range 20 {
			seen = ask(browser, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
				"--disable-component-update", "--disable-sync", "--user-data-dir="+t.TempDir(), "--dump-dom", url)
			if !strings.Contains(seen, "ERR_NETWORK_CHANGED") {
				break
			}
		}
		return seen
	}
	assert.NotContains(t, open(), "the tide is high")
	store := filepath.Join(filepath.Dir(file), ".pki", "nssdb")
	require.NoError(t, os.MkdirAll(store, 0o700))
	ask(certutil, "-d", "sql:"+store, "-N", "--empty-password")
	require.Empty(t, ask(certutil, "-d", "sql:"+store, "-A", "-t", "C,,", "-n", "skerry-light", "-i", file))
	assert.Contains(t, open(), "the tide is high")
}
