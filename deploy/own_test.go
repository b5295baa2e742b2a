//go:build linux

package deploy_test

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/observe"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// precious is a volume that somebody else made and that a stack uses. Its name is like those that engines
// give by themselves.
var precious = strings.Repeat("c0ffee00", 8)

// kept is a service that mounts it, beside a declared volume and a path for which its image wants one.
const kept = `
[volume.readings]
[volume.journals]
existing = true
engine-name = "PRECIOUS"
[service.desk]
image = "registry.skerry.example/probe:2"
mounts = ["volume readings -> /readings", "volume journals -> /journals"]
ready = { http = "8080/" }
env.LEVEL = "low"
`

// api is a client of the engine of a world, past the gate.
func (w *world) api() *client.Client {
	w.t.Helper()
	api, err := client.New(client.WithHost(w.engine.Conn.Address))
	require.NoError(w.t, err)
	w.t.Cleanup(func() { api.Close() })
	return api
}

func (w *world) volumes() (names []string) {
	w.t.Helper()
	list, err := w.engine.Volumes(context.Background())
	require.NoError(w.t, err)
	for _, v := range list {
		names = append(names, v.Name)
	}
	return names
}

// Every way in which lantern removes something leaves the volumes that are not its own, on every engine, and
// never asks an engine to take volumes along.
func TestVolumesStay(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		t.Parallel()
		var mu sync.Mutex
		var removals []string
		w := worldOn(t, target.Address)
		w.lab, w.name = "skerry-keep", "keep-log"
		w.gate.watch.Store(func(r *http.Request) {
			if r.Method == http.MethodDelete {
				mu.Lock()
				defer mu.Unlock()
				removals = append(removals, r.URL.String())
			}
		})
		api := w.api()
		_, err := api.VolumeCreate(t.Context(), client.VolumeCreateOptions{Name: precious})
		require.NoError(t, err)
		t.Cleanup(func() { api.VolumeRemove(context.Background(), precious, client.VolumeRemoveOptions{}) })
		text := strings.Replace(kept, "PRECIOUS", precious, 1)
		broken := strings.NewReplacer(`"low"`, `"broken"`, `"8080/"`,
			`"8080/", status = "418", within = "2s"`).Replace(text)
		d := w.deployer(false)
		d.Existing = []string{precious}
		do := func(text string) string {
			out, err := d.Deploy(t.Context(), w.stack(text), deploy.Options{})
			require.NoError(t, err)
			return out.Result
		}
		sweep := func() {
			list, err := d.Sweepable(t.Context(), observe.Remembered{})
			require.NoError(t, err)
			for _, s := range list {
				assert.NotEqual(t, precious, s.Name)
				assert.NoError(t, d.Sweep(t.Context(), s, observe.Remembered{}))
			}
		}
		retire := func(with bool) {
			out, err := d.Retire(t.Context(), w.name, deploy.Options{WithVolumes: with})
			require.NoError(t, err)
			assert.Contains(t, []string{deploy.Done, deploy.NothingToDo}, out.Result, "%v", out.ManualSteps)
		}
		for _, step := range []struct {
			name string
			do   func()
			gone bool // the declared volume
		}{
			{name: "a first deploy that fails", do: func() { assert.Equal(t, deploy.PutBack, do(broken)) }},
			{name: "a first deploy", do: func() { assert.Equal(t, deploy.Done, do(text)) }},
			{name: "one that is put back", do: func() { assert.Equal(t, deploy.PutBack, do(broken)) }},
			{name: "a replacement",
				do: func() { assert.Equal(t, deploy.Done, do(strings.Replace(text, `"low"`, `"high"`, 1))) }},
			{name: "a death, and the next run", do: func() {
				w.gate.Order(6, enginetest.Dies)
				w.deployer(true).Deploy(t.Context(), w.stack(text), deploy.Options{})
				w.gate.Order(0, enginetest.None)
				assert.Equal(t, deploy.Done, do(text))
			}},
			{name: "a service less", do: func() {
				assert.Equal(t, deploy.Done,
					do(text+
						"[service.pier]\nimage = \"registry.skerry.example/probe:2\"\nready = { tcp = 8080 }\n"))
				do(text)
			}},
			{name: "sweep", do: sweep},
			{name: "retire", do: func() { retire(false) }},
			{name: "sweep after it", do: sweep},
			{name: "retire with volumes", do: func() { do(text); retire(true) }, gone: true},
			{name: "sweep at last", do: sweep, gone: true},
		} {
			step.do()
			names := w.volumes()
			assert.Contains(t, names, precious, step.name)
			assert.Equal(t, !step.gone, slices.Contains(names, w.name+".readings"), step.name)
		}
		for _, n := range w.volumes() {
			assert.False(t, strings.HasPrefix(n, w.name), "what was made for images is gone: %s", n)
		}
		require.NotEmpty(t, removals)
		for _, r := range removals {
			assert.NotRegexp(t, `[?&]v=(1|true)`, r)
		}
	})
}

// What the lab calls existing stays even where it bears the lab's labels: it was once declared as its own.
func TestVolumeThatIsExistingNow(t *testing.T) {
	w := newWorld(t)
	d := w.deployer(false)
	out, err := d.Deploy(t.Context(), w.stack(guests), deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	d.Existing = []string{"pier-log.readings"}
	_, err = d.Retire(t.Context(), "pier-log", deploy.Options{WithVolumes: true})
	require.NoError(t, err)
	assert.Contains(t, w.volumes(), "pier-log.readings")
}

// An engine that lists everything, whatever it is asked for, makes no stranger ours.
func TestStrangers(t *testing.T) {
	server, address := enginetest.StartStandIn(t, standin.Options{Speed: 10})
	w := worldBehind(t, address, http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		q.Del("filters")
		r.URL.RawQuery = q.Encode()
		server.Handler().ServeHTTP(rw, r)
	}))
	image := "registry.skerry.example/probe:1"
	labels := func(lab, stack, service string) map[string]string {
		return map[string]string{plan.LabelLab: lab, plan.LabelStack: stack, plan.LabelService: service}
	}
	strangers := map[string]map[string]string{
		"old-desk": {}, "other.desk": labels("other-lab", "other", "desk"),
		"pier-log.store": labels("other-lab", "pier-log", "store"),
		"somebodys-copy": labels("skerry-pier", "pier-log", "desk"), // as docker's commit and run leave it
		"pier-log.desk2": labels("skerry-pier", "pier-log", "desk"), "lighthouse": labels("skerry-pier", "", ""),
	}
	for name, l := range strangers {
		_, err := w.engine.Create(t.Context(), name, plan.Container{Image: image}, l, "")
		require.NoError(t, err)
		require.NoError(t, w.engine.Start(t.Context(), name))
	}
	_, err := w.engine.CreateNetwork(t.Context(), plan.Network{
		Name: "other.net",
	}, map[string]string{plan.LabelLab: "other-lab", plan.LabelStack: "other"})
	require.NoError(t, err)
	d := w.deployer(false)
	st := w.stack("[service.desk]\nimage = \"" + image + "\"\nready = { tcp = 8080 }\n")
	unharmed := func(when string) {
		for name := range strangers {
			c, err := w.engine.Inspect(t.Context(), name)
			if assert.NoError(t, err, "%s: %s", when, name) {
				assert.True(t, c.Running, "%s: %s", when, name)
			}
		}
		networks, err := w.engine.Networks(t.Context(), "other-lab")
		require.NoError(t, err)
		assert.Len(t, networks, 1, when)
	}
	out, err := d.Deploy(t.Context(), st, deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
	unharmed("deploy")
	list, err := d.Sweepable(t.Context(), observe.Remembered{})
	require.NoError(t, err)
	assert.Empty(t, list)
	containers, networks, err := d.Retiring(t.Context(), "pier-log")
	require.NoError(t, err)
	assert.Equal(t, []string{"pier-log.desk"}, containers)
	assert.Equal(t, []string{"pier-log.net"}, networks)
	out, err = d.Retire(t.Context(), "pier-log", deploy.Options{WithVolumes: true})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result)
	unharmed("retire")
	_, err = w.engine.Inspect(t.Context(), "pier-log.desk")
	assert.ErrorIs(t, err, engine.ErrNotFound)
}

// An image that was made from one of our containers bears its labels, and so does what somebody runs from it.
func TestInheritedLabels(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("the stand-in makes no images from containers; the labels alone are tested in core/plan")
		}
		w := worldOn(t, target.Address)
		w.lab, w.name = "skerry-copy", "copy-log"
		d := w.deployer(false)
		text := "[service.desk]\nimage = \"registry.skerry.example/probe:1\"\nready = { tcp = 8080 }\n" +
			"env.LEVEL = \"low\"\n"
		out, err := d.Deploy(t.Context(), w.stack(text), deploy.Options{})
		require.NoError(t, err)
		require.Equal(t, deploy.Done, out.Result)
		api := w.api()
		made, err := api.ContainerCommit(t.Context(), "copy-log.desk", client.ContainerCommitOptions{
			Reference: "registry.skerry.example/copy:1",
			NoPause:   true,
			Config:    &container.Config{},
		})
		require.NoError(t, err)
		t.Cleanup(func() { api.ImageRemove(context.Background(), made.ID, client.ImageRemoveOptions{Force: true}) })
		_, err = d.Retire(t.Context(), "copy-log", deploy.Options{})
		require.NoError(t, err)
		// Under the very name, now that it is free: nothing but its image tells it from ours.
		for _, name := range []string{"copy-log.desk", "copy-log.desk.previous", "my-copy"} {
			// its usual bridge goes with any other engine of the machine
			_, err := api.ContainerCreate(t.Context(), client.ContainerCreateOptions{
				Name:       name,
				Config:     &container.Config{Image: made.ID},
				HostConfig: &container.HostConfig{NetworkMode: "none"},
			})
			require.NoError(t, err)
			t.Cleanup(func() {
				api.ContainerRemove(context.Background(), name, client.ContainerRemoveOptions{Force: true})
			})
			require.NoError(t, w.engine.Start(t.Context(), name))
		}
		assert.Empty(t, w.names())
		out, err = d.Deploy(t.Context(), w.stack(text), deploy.Options{})
		require.NoError(t, err)
		assert.Equal(t, deploy.PutBack, out.Result)
		assert.Contains(t, out.Failure.Message, "a container that is not of this lab has its name")
		_, err = d.Retire(t.Context(), "copy-log", deploy.Options{WithVolumes: true})
		require.NoError(t, err)
		for _, name := range []string{"copy-log.desk", "copy-log.desk.previous", "my-copy"} {
			c, err := w.engine.Inspect(t.Context(), name)
			require.NoError(t, err)
			assert.True(t, c.Running, name)
			require.NoError(t, w.engine.Remove(t.Context(), name))
		}
		// An image of that kind can be deployed all the same: what is said at the creation counts.
		other := strings.Replace(text, "probe:1", "copy:1", 1)
		out, err = d.Deploy(t.Context(), w.stack(other), deploy.Options{})
		require.NoError(t, err)
		require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
		w.settled(w.stack(other))
		w.leaves()
	})
}

// A container of ours that somebody renamed between the look and the change is left alone.
func TestRenamedMeanwhile(t *testing.T) {
	w := newWorld(t)
	w.begin(scenario{before: two})
	d := w.deployer(false)
	id := w.names()["pier-log.desk"].ID
	w.gate.watch.Store(func(r *http.Request) {
		if r.Method == http.MethodPost && strings.Contains(r.URL.Path, "/containers/create") &&
			strings.Contains(r.URL.RawQuery, "desk.next") {
			require.NoError(t, w.engine.Rename(context.Background(), id, "the-keepers-desk"))
		}
	})
	out, err := d.Deploy(t.Context(), w.stack(strings.Replace(two, `"low"`, `"high"`, 1)), deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, deploy.PutBack, out.Result, "%v", out.Failure)
	c, err := w.engine.Inspect(t.Context(), id)
	require.NoError(t, err)
	assert.True(t, c.Running)
	assert.Equal(t, "the-keepers-desk", c.Name)
}

// Sweep takes our name from an image, nothing by force, and looks again after the answer.
func TestSweepLeavesWhatOthersNamed(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("an image of the stand-in has one name")
		}
		w := worldOn(t, target.Address)
		api, d := w.api(), w.deployer(false)
		d.Lab = "skerry-sweep"
		remembered := observe.Remembered{Images: map[string]observe.RememberedImage{}}
		reference := map[string]string{}
		for _, name := range []string{"ours", "named", "renamed", "used"} {
			made, err := api.ContainerCreate(t.Context(), client.ContainerCreateOptions{
				Name:   "sweep-" + name,
				Config: &container.Config{Image: enginetest.Page, Labels: map[string]string{"room": name}},
			})
			require.NoError(t, err)
			reference[name] = fmt.Sprintf("registry.skerry.example/sweep-%s:%d", name, time.Now().UnixNano())
			image, err := api.ContainerCommit(t.Context(), made.ID, client.ContainerCommitOptions{
				Reference: reference[name],
				NoPause:   true,
				Config:    &container.Config{},
			})
			require.NoError(t, err)
			t.Cleanup(func() {
				api.ImageRemove(context.Background(), image.ID, client.ImageRemoveOptions{Force: true})
			})
			_, err = api.ContainerRemove(t.Context(), made.ID, client.ContainerRemoveOptions{})
			require.NoError(t, err)
			known, err := w.engine.Image(t.Context(), reference[name])
			require.NoError(t, err)
			remembered.Images[known.ID] = observe.RememberedImage{Reference: reference[name], About: name}
		}
		tag := func(name string) string {
			_, err := api.ImageTag(t.Context(), client.ImageTagOptions{
				Source: reference[name],
				Target: "registry.skerry.example/keepers:" + name,
			})
			require.NoError(t, err)
			return "registry.skerry.example/keepers:" + name
		}
		other := tag("named")
		_ = tag("renamed")
		_, err := api.ImageRemove(t.Context(), reference["renamed"], client.ImageRemoveOptions{})
		require.NoError(t, err)
		list, err := d.Sweepable(t.Context(), remembered)
		require.NoError(t, err)
		var found []string
		for _, s := range list {
			found = append(found, s.About)
		}
		assert.Equal(t, []string{"named", "ours", "used"}, found, "what has only others' names is not ours")
		// While the person thinks, somebody makes a container.
		_, err = api.ContainerCreate(t.Context(), client.ContainerCreateOptions{
			Name:   "sweep-user",
			Config: &container.Config{Image: reference["used"]},
		})
		require.NoError(t, err)
		t.Cleanup(func() {
			api.ContainerRemove(context.Background(), "sweep-user", client.ContainerRemoveOptions{Force: true})
		})
		for _, s := range list {
			if err := d.Sweep(t.Context(), s, remembered); s.About == "used" {
				assert.ErrorContains(t, err, "used again")
			} else {
				assert.NoError(t, err, s.About)
			}
		}
		has := func(reference string) bool { _, err := w.engine.Image(t.Context(), reference); return err == nil }
		assert.Equal(t, []bool{false, false, true, true, true},
			[]bool{has(reference["ours"]), has(reference["named"]), has(other), has(reference["used"]),
				has("registry.skerry.example/keepers:renamed")})
	})
}

// A run that died while it made folders leaves a container that the next one takes away.
func TestFoldersDie(t *testing.T) {
	w := newWorld(t)
	labels := map[string]string{plan.LabelLab: w.lab, plan.LabelStack: w.name, plan.LabelMade: "x"}
	_, err := w.engine.CreatePlaceholder(t.Context(), w.name+plan.SuffixFolders, enginetest.Page, labels)
	require.NoError(t, err)
	w.begin(scenario{before: two})
	w.settled(w.stack(two))
}

// What a deploy brings between the look of a retirement and its lock is retired, too.
func TestRetireSeesWhatCameMeanwhile(t *testing.T) {
	w := newWorld(t)
	w.begin(scenario{before: two})
	var once sync.Once
	w.gate.watch.Store(func(r *http.Request) {
		if r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "/containers/create") &&
			strings.Contains(r.URL.RawQuery, plan.SuffixLock) {
			once.Do(func() {
				labels := map[string]string{
					plan.LabelLab:     w.lab,
					plan.LabelStack:   w.name,
					plan.LabelService: "late",
				}
				id, err := w.engine.Create(context.Background(), w.name+".late",
					plan.Container{
						Image:    enginetest.Page,
						Networks: []plan.Attachment{{Network: w.name + ".net"}},
					}, labels, "")
				require.NoError(t, err)
				require.NoError(t, w.engine.Start(context.Background(), id))
			})
		}
	})
	out, err := w.deployer(false).Retire(t.Context(), w.name, deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, deploy.Done, out.Result, "%v", out.ManualSteps)
	assert.Empty(t, w.names())
}

// Once everything is proven, a call that is refused is made again: that is no reason to need a hand.
func TestRefusedWhenProven(t *testing.T) {
	for n := 1; n <= 40; n++ {
		t.Run(fmt.Sprint(n), func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			w.withFolder()
			w.begin(scenario{before: four})
			w.gate.Order(n, enginetest.Refuses)
			out, err := w.deployer(false).Deploy(t.Context(), w.stack(changed), deploy.Options{})
			w.gate.Order(0, enginetest.None)
			if err != nil {
				return // before anything was changed
			}
			require.Contains(t, []string{deploy.Done, deploy.PutBack}, out.Result, "%v", out.ManualSteps)
			if out.Result == deploy.Done {
				w.settled(w.stack(changed))
			} else {
				w.settled(w.stack(four))
			}
		})
	}
}
