//go:build linux

package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	dockerspec "github.com/moby/docker-image-spec/specs-go/v1"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

// api is a client of the engine.
func (b *bench) api() *client.Client {
	b.t.Helper()
	api, err := client.New(client.WithHost(b.target.Address))
	require.NoError(b.t, err)
	b.t.Cleanup(func() { api.Close() })
	return api
}

// byHand makes and starts a container as somebody else would, and sees to it that it goes.
func (b *bench) byHand(name string, config *container.Config, host *container.HostConfig, on *network.NetworkingConfig) string {
	b.t.Helper()
	api := b.api()
	if host == nil {
		host = &container.HostConfig{}
	}
	if config.Image == enginetest.Page {
		asks := []string{"CMD", "/probe", "ask", "8080"}
		for _, v := range config.Env {
			if port, ok := strings.CutPrefix(v, "PROBE_PAGE="); ok {
				asks[3] = port
			}
		}
		config.Healthcheck = &dockerspec.HealthcheckConfig{Test: asks, Interval: time.Second}
	}
	config.ExposedPorts = network.PortSet{}
	for port := range host.PortBindings {
		config.ExposedPorts[port] = struct{}{}
	}
	made, err := api.ContainerCreate(b.t.Context(), client.ContainerCreateOptions{Name: name, Config: config, HostConfig: host, NetworkingConfig: on})
	require.NoError(b.t, err)
	b.t.Cleanup(func() { assert.NoError(b.t, b.engine.Remove(context.Background(), made.ID)) })
	_, err = api.ContainerStart(b.t.Context(), made.ID, client.ContainerStartOptions{})
	require.NoError(b.t, err)
	return made.ID
}

// published is a port of the machine for one of a container.
func published(host, inside int) network.PortMap {
	port, _ := network.PortFrom(uint16(inside), network.TCP)
	return network.PortMap{port: {{HostIP: netip.MustParseAddr("127.0.0.1"), HostPort: strconv.Itoa(host)}}}
}

// inspected is a container as its engine tells it, without what is of the moment.
func (b *bench) inspected(name string) string {
	b.t.Helper()
	r, err := b.api().ContainerInspect(b.t.Context(), name, client.ContainerInspectOptions{})
	require.NoError(b.t, err)
	c := r.Container
	slices.SortFunc(c.Mounts, func(x, y container.MountPoint) int { return strings.Compare(x.Destination, y.Destination) })
	slices.Sort(c.HostConfig.Binds)
	c.Config.Env = slices.DeleteFunc(c.Config.Env, func(v string) bool { return v == "HOME=/" }) // Podman adds it at a start
	text, err := json.MarshalIndent([]any{c.ID, c.Created, c.Name, c.Path, c.Args, c.Image, c.Config, c.HostConfig, c.Mounts}, "", " ")
	require.NoError(b.t, err)
	return string(text)
}

// adoptedText stands in the stacks that TestAdopt deploys.
const adoptedText = `takes-over = "`

// Containers that somebody else made become stacks. The deploy takes their place with data, ports and names kept; what
// does not become ready leaves them as they were, to the byte.
func TestAdopt(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		t.Parallel()
		b := newBench(t, target)
		b.alone()
		b.write("lab.toml", fmt.Sprintf("lab = %q\n[folder]\ndata = %q\n[host.lamp-room]\nengine = %q\n", b.lab(), b.data, target.Address))
		tag := "hand" + strings.ToLower(filepath.Base(b.dir)) + strconv.Itoa(os.Getpid()%1000)
		ports := make([]int, 6)
		for i := range ports {
			ports[i] = freePort(t)
		}
		_, err := b.api().NetworkCreate(t.Context(), tag, client.NetworkCreateOptions{})
		require.NoError(t, err)
		t.Cleanup(func() {
			_, err := b.api().NetworkRemove(context.Background(), tag, client.NetworkRemoveOptions{})
			assert.NoError(t, err)
			_, err = b.api().VolumeRemove(context.Background(), tag+".readings", client.VolumeRemoveOptions{})
			assert.NoError(t, err)
		})
		on := func(aliases ...string) *network.NetworkingConfig {
			return &network.NetworkingConfig{EndpointsConfig: map[string]*network.EndpointSettings{tag: {Aliases: aliases}}}
		}
		front := filepath.Join(b.data, "front")
		require.NoError(t, os.Chmod(front, 0o777))
		// of eight kinds
		b.byHand(tag+"-bridge", &container.Config{Image: enginetest.Page, Env: []string{"LEVEL=info", "DESK_PASSWORD=moon over the skerry", "TZ=Atlantic/Faroe"}},
			&container.HostConfig{PortBindings: published(ports[0], 8080), RestartPolicy: container.RestartPolicy{Name: "always"}}, nil)
		store := b.byHand(tag+"_store", &container.Config{Image: enginetest.Store, Labels: map[string]string{"example.tool.project": tag, "example.tool.service": "store"}},
			&container.HostConfig{NetworkMode: container.NetworkMode(tag)}, on("readings"))
		b.byHand(tag+"-desk", &container.Config{Image: enginetest.Page, Env: []string{"PROBE_NAMES=readings " + tag + "_store"}},
			&container.HostConfig{NetworkMode: container.NetworkMode(tag), PortBindings: published(ports[1], 8080)}, on())
		b.byHand(tag+"-host", &container.Config{Image: enginetest.Page, Env: []string{fmt.Sprintf("PROBE_PAGE=%d", ports[2])}},
			&container.HostConfig{NetworkMode: "host"}, nil)
		b.byHand(tag+"-volumes", &container.Config{Image: enginetest.PageNew, Env: []string{"PROBE_WRITE=/kept /named", "PROBE_FILES=/kept/probe /named/probe"}},
			&container.HostConfig{Binds: []string{tag + ".readings:/named"}, PortBindings: published(ports[3], 8080),
				LogConfig: container.LogConfig{Type: "json-file", Config: map[string]string{"max-size": "2000000", "max-file": "3"}}}, nil)
		b.byHand(tag+"-binds", &container.Config{Image: enginetest.Page, User: "1311", Env: []string{"PUID=1311", "PGID=1400", "PROBE_WRITE=/data", "PROBE_FILES=/data/probe"}},
			&container.HostConfig{Binds: []string{front + ":/data"}, PortBindings: published(ports[4], 8080),
				Resources: container.Resources{Memory: 64 << 20}}, nil)
		b.byHand(tag+"-job", &container.Config{Image: enginetest.Job, Cmd: []string{"--password", "gulls over the pier"}}, nil, nil)
		b.byHand(tag+"-guest", &container.Config{Image: enginetest.Page, Env: []string{"PROBE_PAGE=8090"}},
			&container.HostConfig{NetworkMode: container.NetworkMode("container:" + store)}, nil)
		names := []string{"bridge", "host", "volumes", "binds", "job"}
		for i, n := range names {
			names[i] = tag + "-" + n
		}
		if target.Real() {
			b.page(ports[3])
			b.page(ports[4])
		}
		was := map[string]string{}
		for _, n := range names {
			was[n] = b.inspected(n)
		}

		_, stderr := b.run(2, "adopt", "--stack", "kept", tag+"-brigde")
		assert.Contains(t, stderr, tag+"-bridge is one")
		_, stderr = b.run(1, "adopt", "--stack", "kept", tag+"-guest")
		assert.Contains(t, stderr, "adopt that one, too")
		_, stderr = b.run(0, append([]string{"adopt", "--stack", "kept"}, names...)...)
		assert.NotContains(t, stderr, "moon over")
		stdout, _ := b.run(0, "adopt", "--stack", "shared", tag+"_store", tag+"-desk", tag+"-guest")
		assert.Contains(t, stdout, "existing = true")
		for _, n := range names {
			assert.Equal(t, was[n], b.inspected(n), "adopting changes nothing")
		}
		text, err := os.ReadFile(filepath.Join(b.dir, "kept/stack.toml"))
		require.NoError(t, err)
		t.Log(string(text))
		for _, want := range []string{`"${folder.data}/front -> /data"`, `owner = "1311:1400"`, `owner-variables = ["PUID", "PGID"]`,
			`timezone = "Atlantic/Faroe"`, `network = "host"`, `run-as = "inside 1311"`, "existing = true", adoptedText + tag + `-job"`} {
			assert.Contains(t, string(text), want)
		}
		assert.NotContains(t, string(text)+stderr, "moon over")
		assert.NotContains(t, string(text)+stderr, "gulls over")

		stdout, _ = b.run(0, "check", "kept", "shared")
		t.Log(stdout)
		stdout, _ = b.run(0, "--format", "json", "compare", "kept", "shared")
		var differences struct {
			Stacks []struct {
				Services []struct {
					Service, Action string
					Differences     []struct{ Field, Running, Declared string }
				}
			}
		}
		require.NoError(t, json.Unmarshal([]byte(stdout), &differences))
		seen := 0
		for _, st := range differences.Stacks {
			for _, s := range st.Services {
				seen++
				assert.Equal(t, "replace", s.Action)
				for _, d := range s.Differences {
					assert.Equal(t, "takes-over", d.Field, "%s: %v", s.Service, d)
				}
			}
		}
		assert.Equal(t, 8, seen)

		// one that does not become ready
		before, volumes, _ := strings.Cut(string(text), "[service."+tag+"-volumes]")
		broken := before + "[service." + tag + "-volumes]" + strings.NewReplacer(enginetest.PageNew, enginetest.NeverReady,
			`{ command = ["/probe", "ask", "8080"] }`, `{ http = "8080/", within = "3s" }`).Replace(volumes)
		require.NotEqual(t, string(text), broken)
		b.write("kept/stack.toml", broken)
		_, stderr = b.run(4, "deploy", "kept", "--yes", "--despite", "image-absent")
		assert.Contains(t, stderr, "old version restored")
		assert.Empty(t, b.containers())
		for _, n := range names {
			assert.Equal(t, was[n], b.inspected(n), "what was there is there again")
		}
		for i, n := range []string{"bridge", "volumes", "binds"} {
			b.page(ports[[]int{0, 3, 4}[i]])
			state, err := b.engine.Inspect(t.Context(), tag+"-"+n)
			require.NoError(t, err)
			assert.True(t, state.Running)
		}

		b.write("kept/stack.toml", string(text))
		b.run(0, "deploy", "kept", "shared", "--yes")
		for _, n := range append(names, tag+"_store", tag+"-desk", tag+"-guest") {
			_, err := b.engine.Inspect(t.Context(), n)
			assert.ErrorIs(t, err, engine.ErrNotFound, n)
		}
		assert.Len(t, b.containers(), 8)
		if about := b.page(ports[1]); target.Real() {
			assert.NotContains(t, fmt.Sprint(about.Names), "no such host")
			assert.Len(t, about.Names, 2)
			assert.Contains(t, b.page(ports[0]).Env, "DESK_PASSWORD=moon over the skerry")
			assert.Contains(t, b.page(ports[3]).Files["/kept/probe"], "here")
			assert.Contains(t, b.page(ports[4]).Files["/data/probe"], "here")
			b.page(ports[2])
		}
		b.run(0, "compare", "kept", "shared")
		b.run(0, "check", "kept", "shared")
		b.run(0, "retire", "kept", "--yes", "--with-volumes")
		b.run(0, "retire", "shared", "--yes")
		kept, err := b.engine.Volumes(t.Context())
		require.NoError(t, err)
		assert.True(t, slices.ContainsFunc(kept, func(v survey.Volume) bool { return v.Name == tag+".readings" }), "it is somebody else's")
	})
}
