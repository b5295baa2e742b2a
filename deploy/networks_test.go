//go:build linux

package deploy_test

import (
	"encoding/json"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine/enginetest"
)

// A shared network that changes takes its members along: those of the stack are replaced, those of other
// stacks stay up. A deploy that fails puts the network back, too; and nobody else's container is ever taken
// off.
func TestNetworkMadeAnew(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		w := worldOn(t, target.Address)
		d := w.deployer(false)
		lab := func(subnet, image string) map[string]string {
			return map[string]string{
				"lab": "[network.causeway]\nsubnet = \"" + subnet + "\"\n",
				"pier-log": "networks = [\"causeway\"]\n[service.desk]\nimage = \"registry.skerry.example/" +
					image +
					"\"\naliases = [\"tides\"]\nenv.PROBE_NAMES = \"store.pier-base\"\n" +
					"ready = { http = \"8080/\", within = \"3s\" }\n",
				"pier-base": "networks = [\"causeway\"]\n[service.store]\n" +
					"image = \"registry.skerry.example/probe-store:1\"\nready = { log = \"open\" }\n",
			}
		}
		deployed := func(texts map[string]string, name string) deploy.Outcome {
			out, err := d.Deploy(t.Context(), w.stacks(nil, texts).Stack(name), deploy.Options{})
			require.NoError(t, err)
			return out
		}
		inside := func(subnet string) {
			t.Helper()
			names := w.names()
			assert.Len(t, names, 2)
			for _, c := range names {
				assert.True(t, c.Running, c.Name)
				for _, a := range c.Addresses {
					here := netip.MustParsePrefix(subnet).Contains(netip.MustParseAddr(a)) ||
						!strings.HasPrefix(a, "198.19.19")
					assert.True(t, here, "%s has %s", c.Name, a)
				}
			}
		}
		const first, second = "198.19.192.0/24", "198.19.193.0/24"
		require.Equal(t, deploy.Done, deployed(lab(first, "probe:1"), "pier-base").Result)
		require.Equal(t, deploy.Done, deployed(lab(first, "probe:1"), "pier-log").Result)
		before := w.names()
		inside(first)

		out := deployed(lab(second, "probe:never"), "pier-log")
		require.Equal(t, deploy.PutBack, out.Result, "%v %v", out.Failure, out.ManualSteps)
		inside(first)
		assert.Equal(t, before["pier-log.desk"].ID, w.names()["pier-log.desk"].ID)
		assert.Equal(t, before["pier-base.store"].Started, w.names()["pier-base.store"].Started)

		p, err := d.Plan(t.Context(), w.stacks(nil, lab(second, "probe:1")).Stack("pier-log"), nil, nil)
		require.NoError(t, err)
		assert.Contains(t, p.Networks, plan.Resource{
			Name:        "skerry-pier.causeway",
			Action:      plan.Replace,
			Differences: []plan.Difference{{Field: "subnet", Running: first, Declared: second}},
		})
		out = deployed(lab(second, "probe:1"), "pier-log")
		require.Equal(t, deploy.Done, out.Result, "%v %v", out.Failure, out.ManualSteps)
		inside(second)
		assert.Equal(t, before["pier-base.store"].Started, w.names()["pier-base.store"].Started,
			"it was not stopped")
		if target.Real() {
			assert.Contains(t, w.names()["pier-base.store"].Addresses, w.asks("desk", "store.pier-base"),
				"the other stack's service still answers to its name")
		}
		for _, name := range []string{"pier-log", "pier-base"} {
			assert.Equal(t, deploy.NothingToDo, deployed(lab(second, "probe:1"), name).Result, name)
		}

		id, err := w.engine.Create(t.Context(), "pier-stranger",
			plan.Container{
				Image:    enginetest.Store,
				Networks: []plan.Attachment{{Network: "skerry-pier.causeway"}},
			}, nil, "")
		require.NoError(t, err)
		out = deployed(lab(first, "probe:1"), "pier-log")
		assert.Equal(t, deploy.Refused, out.Result)
		assert.Equal(t,
			"the network skerry-pier.causeway has to be made again, and the container pier-stranger is on "+
				"it, which is not of this lab: take it off first", out.Holder)
		require.NoError(t, w.engine.Remove(t.Context(), id))
		for _, name := range []string{"pier-log", "pier-base"} {
			out, err := d.Retire(t.Context(), name, deploy.Options{})
			require.NoError(t, err)
			assert.Equal(t, deploy.Done, out.Result, "%v", out.ManualSteps)
		}
	})
}

// asks returns the address that a name has for a service of the stack pier-log, as its page says.
func (w *world) asks(service, name string) string {
	w.t.Helper()
	for _, a := range w.names()["pier-log."+service].Addresses {
		answer, err := http.Get("http://" + net.JoinHostPort(a, "8080") + "/")
		if err != nil {
			continue
		}
		defer answer.Body.Close()
		var says struct{ Names map[string]string }
		require.NoError(w.t, json.NewDecoder(answer.Body).Decode(&says))
		return says.Names[name]
	}
	return "it does not answer"
}

// What a volume holds cannot be moved by changing its declaration: nothing is begun.
func TestVolumeChanged(t *testing.T) {
	w := newWorld(t)
	d := w.deployer(false)
	text := "[volume.readings]\n[service.vane]\n" + probe +
		"mounts = [\"volume readings -> /readings\"]\nready = { tcp = 8080 }\n"
	st := w.stack(text)
	out, err := d.Deploy(t.Context(), st, deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	other := w.stack(strings.Replace(text, "[service.vane]",
		"options = { type = \"tmpfs\", device = \"tmpfs\", o = \"password=moon\" }\n[service.vane]", 1))
	p, err := d.Plan(t.Context(), other, nil, nil)
	require.NoError(t, err)
	assert.Equal(t,
		[]plan.Resource{{Name: "pier-log.readings", Action: plan.Replace, Differences: []plan.Difference{
			{Field: "options.device", Declared: "tmpfs"},
			{Field: "options.o", Declared: "hidden (13 characters)"}, {Field: "options.type", Declared: "tmpfs"},
		}}}, p.Volumes)
	out, err = d.Deploy(t.Context(), other, deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, deploy.Refused, out.Result)
	assert.Contains(t, out.Holder,
		"the volume pier-log.readings is there with another options.device than declared, and what it "+
			"holds does not move by itself")
	w.settled(st)
	assert.Equal(t,
		survey.Volume{
			Name:   "pier-log.readings",
			Lab:    "skerry-pier",
			Stack:  "pier-log",
			Entry:  "1",
			Driver: "local",
		}, func() survey.Volume {
			list, err := w.engine.Volumes(t.Context())
			require.NoError(t, err)
			require.Len(t, list, 1)
			list[0].Options = nil
			return list[0]
		}())
}
