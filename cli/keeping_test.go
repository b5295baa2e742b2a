//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

// What lantern made and nothing uses any more is found and removed; what is used, wanted for a revert, or
// somebody else's stays.
func TestSweep(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		at := ""
		if target.Real() {
			at = enginetest.Registry(t)
		}
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		var images []string
		for i, like := range []string{enginetest.PageNew, enginetest.Page, enginetest.Store} {
			image := enginetest.Own(t, target, at, like, fmt.Sprintf("sweep-%d", i))
			b.write("tide-log/stack.toml",
				"[service.desk]\nimage = \""+image+"\"\ntimezone = \"none\"\nready = { log = \"open\" }\n")
			b.run(0, "deploy", "--yes", "--despite", "port-unlisted")
			found, err := b.engine.Image(t.Context(), image)
			require.NoError(t, err)
			images = append(images, found.ID)
		}
		sweep := func(args ...string) (kinds []string) {
			stdout, _ := b.run(0, append([]string{"sweep", "--format", "json"}, args...)...)
			var list struct{ Found []observe.Sweepable }
			require.NoError(t, json.Unmarshal([]byte(stdout), &list))
			for _, f := range list.Found {
				kinds = append(kinds, f.Kind)
				if f.Kind == observe.SweepImage {
					assert.Equal(t, images[0], f.Name)
				}
			}
			return kinds
		}
		// The first image keeps data where nothing was mounted.
		assert.Equal(t, []string{observe.SweepImage, observe.SweepVolume}, sweep())
		stdout, stderr := b.run(0, "sweep")
		assert.Contains(t, stdout, "left by tide-log")
		assert.Contains(t, stderr, "nothing was removed")
		assert.Equal(t, []string{observe.SweepImage, observe.SweepVolume}, sweep("--yes"))
		assert.Empty(t, sweep())
		_, err := b.engine.Image(t.Context(), images[0])
		assert.ErrorIs(t, err, engine.ErrNotFound)
		for _, id := range images[1:] {
			_, err := b.engine.Image(t.Context(), id)
			assert.NoError(t, err)
		}
		b.run(0, "revert", "tide-log", "--yes")
	})
}

// Retiring with volumes removes them and what images made by themselves; without, they stay and are named.
func TestRetireWithVolumes(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		b.write("tide-log/stack.toml",
			"[volume.readings]\n[service.desk]\nimage = \"registry.skerry.example/probe:2\"\n"+
				"mounts = [\"volume readings -> /readings\"]\nready = { tcp = 8080 }\n")
		volumes := func() (names []string) {
			list, err := b.engine.Volumes(t.Context())
			require.NoError(t, err)
			for _, v := range list {
				names = append(names, v.Name)
			}
			return names
		}
		b.run(0, "deploy", "--yes")
		unnamed := b.containers()["tide-log.desk"].AnonymousVolumes
		require.Len(t, unnamed, 1)
		_, stderr := b.run(0, "retire", "tide-log", "--yes")
		assert.Contains(t, stderr, "host folders stay, and these volumes: tide-log.readings")
		assert.Subset(t, volumes(), append(unnamed, "tide-log.readings"))
		_, stderr = b.run(0, "retire", "tide-log", "--yes")
		assert.Contains(t, stderr, "nothing of tide-log is on lamp-room but its volumes: tide-log.readings")
		b.run(0, "deploy", "--yes")
		again := b.containers()["tide-log.desk"].AnonymousVolumes
		_, stderr = b.run(0, "retire", "tide-log", "--with-volumes", "--yes")
		assert.Contains(t, stderr, "and these volumes with all that they hold: tide-log.readings")
		assert.NotContains(t, volumes(), "tide-log.readings")
		assert.NotContains(t, volumes(), again[0])
		assert.Contains(t, volumes(), unnamed[0], "sweep knows of it")
		b.run(0, "sweep", "--yes")
		assert.NotContains(t, volumes(), unnamed[0])
	})
}

// The proof at any time, and what it points to when it fails.
func TestProve(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		desk, spare := freePort(t), freePort(t)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		text := fmt.Sprintf(
			"[service.store]\nimage = \"registry.skerry.example/probe-store:1\"\n"+
				"ready = { log = \"open\" }\n[service.desk]\nimage = \"registry.skerry.example/probe:1\"\n"+
				"ports = [\"localhost:%d -> 8080\", \"localhost:%d -> 9090\"]\npage = \"8080/\"\n"+
				"after = [\"store\"]\nenv.STORE = \"store:7410\"\nenv.QUEUE = \"store:7411\"\n", desk, spare)
		b.write("tide-log/stack.toml", text)
		_, stderr := b.run(0, "deploy", "--yes")
		assert.Contains(t, stderr, fmt.Sprintf("published, and nothing accepts connections: tcp %d -> 9090", spare))
		proofs := func(code int) map[string]bool {
			stdout, _ := b.run(code, "prove", "--format", "json")
			var list struct{ Proofs []observe.Proven }
			require.NoError(t, json.Unmarshal([]byte(stdout), &list))
			by := map[string]bool{}
			for _, p := range list.Proofs {
				by[strings.TrimSpace(p.Service+" "+p.What+" "+p.Target)] = p.OK
			}
			return by
		}
		port := fmt.Sprintf("desk port %d -> 9090", spare)
		want := map[string]bool{
			"store ready":                   true,
			"desk ready":                    true,
			"desk page 8080/":               true,
			port:                            false,
			"desk wire tide-log/store 7410": true,
			"desk wire tide-log/store 7411": false,
		}
		assert.Equal(t, want, proofs(1))
		b.write("tide-log/stack.toml", strings.Replace(text, "7411", "7410", 1))
		b.run(0, "deploy", "--yes")
		b.run(0, "prove")
		require.NoError(t, b.engine.Stop(t.Context(), "tide-log.store", time.Second))
		want = map[string]bool{
			"store ready":                   false,
			"desk ready":                    true,
			"desk page 8080/":               true,
			port:                            false,
			"desk wire tide-log/store 7410": false,
		}
		assert.Equal(t, want, proofs(1))
		stdout, _ := b.run(1, "prove")
		assert.Regexp(t, `(?m)^  tide-log/store +ready +failed +it `, stdout)

		// A deploy that knows better than the check fails, and hears why.
		held, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", freePort(t)))
		require.NoError(t, err)
		defer held.Close()
		_, taken, _ := net.SplitHostPort(held.Addr().String())
		b.write("tide-log/stack.toml", strings.Replace(text, fmt.Sprint(spare), taken, 1))
		b.run(1, "deploy", "--yes")
		_, stderr = b.run(4, "deploy", "--yes", "--despite", "port-in-use")
		assert.Regexp(t, `(?s)what it said points to:\n.*port-in-use  error.*`+taken, stderr)
	})
}
