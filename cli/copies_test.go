//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

const copiesLab = `
[gate.lamp-room]
http = "localhost:%d"
certificates = "none"
`

const copiesStack = `[service.desk]
image = "registry.skerry.example/probe:%[5]s"
copies = %[1]d
ready = { http = "8080/", within = "%[3]s" }
env = { LEVEL = "%[2]s" }
sites = ["tides.skerry.localhost -> 8080, plain"]

[service.vane]
image = "registry.skerry.example/probe:1"
copies = 3
ports = ["localhost:%[4]d-%[6]d -> 8080"]
env = { PROBE_NAMES = "desk" }
page = "8080/"
ready = { http = "8080/", within = "20s" }
after = ["desk"]
`

// Copies of a service behind a gate and on a range of ports: replaced in turn, put back, killed, fewer and more, without a
// failed request.
func TestCopies(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		b.alone()
		b.copies()
	})
}

func (b *bench) copies() {
	t := b.t
	plain, first := freePort(t), enginetest.FreePorts(t, 3)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address)+fmt.Sprintf(copiesLab, plain))
	write := func(copies int, level, within, tag string) {
		b.write("mast/stack.toml", fmt.Sprintf(copiesStack, copies, level, within, first, tag, first+2))
	}
	ids := func(service string) (all []string) {
		for name, c := range b.containers() {
			if strings.HasPrefix(name+".", "mast."+service+".") {
				all = append(all, name+" "+c.ID)
			}
		}
		slices.Sort(all)
		return all
	}
	write(3, "1", "20s", "1")
	b.run(0, "deploy", "--yes")
	require.Len(t, ids("desk"), 3)
	stdout, _ := b.run(0, "compare")
	assert.NotContains(t, stdout, "replace")
	b.run(0, "check", "--strict")
	b.run(0, "prove")
	for i := range 3 {
		page := b.page(first + i)
		if b.target.Real() {
			assert.Len(t, strings.Fields(page.Names["desk"]), 3, "one name, all answering")
		}
	}
	stdout, _ = b.run(0, "status")
	for _, name := range []string{"mast/desk", "mast/desk.copy-2", "mast/desk.copy-3", "mast/vane.copy-3"} {
		assert.Regexp(t, `(?m)`+name+` +(ready|running)`, stdout)
	}
	stdout, _ = b.run(0, "logs", "mast/desk", "--format", "json")
	said := map[string]bool{}
	for line := range strings.Lines(stdout) {
		var l struct{ Service string }
		require.NoError(t, json.Unmarshal([]byte(line), &l))
		said[l.Service] = true
	}
	assert.Equal(t, map[string]bool{"desk": true, "desk.copy-2": true, "desk.copy-3": true}, said)
	if b.target.Real() {
		b.run(1, "shell", "mast/desk.copy-2", "--", "/probe", "ask", "8081")
	}
	b.run(0, "shell", "mast/desk.copy-2", "--", "/probe", "ask", "8080")
	stdout, _ = b.run(0, "map")
	assert.Regexp(t, `desk.*3 copies`, stdout)
	b.run(0, "map", "-o", filepath.Join(t.TempDir(), "map.svg"))

	client := b.browser(plain, 0, nil)
	url := fmt.Sprintf("http://tides.skerry.localhost:%d/", plain)
	end := underLoad(t, 20, func() (*http.Response, error) { return client.Post(url, "text/plain", strings.NewReader("body")) })

	// Each copy is proven before the next one goes, and the other service stays.
	was, vane := ids("desk"), ids("vane")
	write(3, "2", "20s", "1")
	b.run(0, "deploy", "--yes")
	now := ids("desk")
	assert.Len(t, now, 3)
	for _, id := range now {
		assert.NotContains(t, was, id)
	}
	assert.Equal(t, vane, ids("vane"))
	c := b.containers()
	if b.target.Real() {
		assert.Greater(t, c["mast.desk.copy-2"].Started.Sub(c["mast.desk"].Started), 200*time.Millisecond)
		assert.Greater(t, c["mast.desk.copy-3"].Started.Sub(c["mast.desk.copy-2"].Started), 200*time.Millisecond)
	}

	// One that is never ready: the first copy shows that, and the others are not touched.
	write(3, "2", "3s", "never")
	b.run(4, "deploy", "--yes")
	assert.Equal(t, now, ids("desk"))
	write(3, "2", "20s", "1")
	stdout, _ = b.run(0, "compare")
	assert.NotContains(t, stdout, "replace")

	// Fewer, and more again.
	write(2, "2", "20s", "1")
	b.run(0, "deploy", "--yes")
	assert.Equal(t, now[:2], ids("desk"))
	write(3, "2", "20s", "1")
	b.run(0, "deploy", "--yes")
	require.Len(t, ids("desk"), 3)
	assert.Equal(t, now[:2], ids("desk")[:2])
	end()

	if b.target.Real() {
		b.killACopy(client, url)
	}
	b.run(0, "stop", "mast/desk")
	stdout, _ = b.run(1, "status", "mast/desk")
	assert.Equal(t, 3, strings.Count(stdout, "stopped"), stdout)
	b.run(0, "start", "mast/desk")
	b.run(0, "retire", "mast", "--yes")
	b.run(0, "retire", "gate-lamp-room", "--with-volumes", "--yes")
	assert.Empty(t, b.containers())
}

// killACopy ends one from outside: the engine starts it again, and until then the gate asks the others.
func (b *bench) killACopy(client *http.Client, url string) {
	t := b.t
	end := underLoad(t, 20, func() (*http.Response, error) { return client.Get(url) })
	r, err := b.api().ContainerInspect(t.Context(), "mast.desk.copy-2", asUsual)
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(r.Container.State.Pid, syscall.SIGKILL))
	require.Eventually(t, func() bool {
		now, err := b.api().ContainerInspect(t.Context(), "mast.desk.copy-2", asUsual)
		return err == nil && now.Container.State.Running && now.Container.State.Pid != r.Container.State.Pid
	}, time.Minute, 50*time.Millisecond)
	// All three are asked again.
	seen := map[string]bool{}
	require.Eventually(t, func() bool {
		a, err := client.Get(url)
		if err != nil {
			return false
		}
		defer a.Body.Close()
		var one struct{ Hostname string }
		if json.NewDecoder(a.Body).Decode(&one) == nil {
			seen[one.Hostname] = true
		}
		return seen["mast-desk"] && seen["mast-desk-2"] && seen["mast-desk-3"]
	}, time.Minute, 20*time.Millisecond)
	end()
}
