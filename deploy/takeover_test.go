//go:build linux

package deploy_test

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"

	dockerspec "github.com/moby/docker-image-spec/specs-go/v1"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

const takingOver = `
[service.store]
image = "registry.skerry.example/probe-store:1"
ready = { tcp = 7410 }
takes-over = "old-store"
[service.desk]
image = "registry.skerry.example/probe:1"
after = ["store"]
ready = { http = "8080/" }
takes-over = "old-desk"
[service.front]
image = "registry.skerry.example/probe:1"
ready = { http = "8080/" }
`

// A deploy that takes the place of what somebody made by hand, and goes wrong at any of its calls, leaves either that,
// running as it was, or what is declared.
func TestTakeoverAtEveryCall(t *testing.T) {
	if os.Getenv("LANTERN_TEST_DOCKERD") != "" {
		t.Skip("this is about the stand-in: go test without real engines runs it")
	}
	step := 1
	if testing.Short() { // for the race detector
		step = 9
	}
	for _, s := range []struct {
		name, text string
		want       []string // how the deploy of a living process ends
	}{
		{"taken over", takingOver, []string{deploy.Done, deploy.NothingToDo}},
		{"put back", strings.Replace(takingOver, `"registry.skerry.example/probe:1"
after = ["store"]
ready = { http = "8080/" }`, `"registry.skerry.example/probe:never"
after = ["store"]
ready = { http = "8080/", within = "300ms" }`, 1), []string{deploy.PutBack}},
	} {
		t.Run(s.name, func(t *testing.T) {
			first := newWorld(t)
			first.byHand("old-store", enginetest.Page)
			first.byHand("old-desk", enginetest.Page)
			first.gate.Order(0, enginetest.None)
			out, err := first.deployer(false).Deploy(t.Context(), first.stack(s.text), deploy.Options{})
			require.NoError(t, err)
			require.Contains(t, s.want, out.Result, "%v", out.Failure)
			points := first.gate.Changes()
			require.Greater(t, points, 15)
			for _, f := range []enginetest.Fault{enginetest.Dies, enginetest.Cuts, enginetest.Refuses} {
				for n := 1; n <= points; n += step {
					t.Run(fmt.Sprintf("%s/%d", f, n), func(t *testing.T) {
						t.Parallel()
						w := newWorld(t)
						was := map[string]engine.State{
							"old-store": w.byHand("old-store", enginetest.Page), "old-desk": w.byHand("old-desk", enginetest.Page),
						}
						w.gate.Order(n, f)
						_, err := w.deployer(true).Deploy(t.Context(), w.stack(s.text), deploy.Options{})
						died := w.gate.Changes() >= n
						w.gate.Order(0, enginetest.None)
						out, lost := w.deployer(false).Recover(t.Context(), w.name)
						require.NoError(t, lost)
						require.Equal(t, deploy.Done, out.Result, "%v %v", out.Failure, out.ManualSteps)
						w.oldOrNew(was)
						out, lost = w.deployer(false).Deploy(t.Context(), w.stack(s.text), deploy.Options{})
						require.NoError(t, lost)
						assert.Contains(t, s.want, out.Result, "%v %v %v, after %v", died, out.Failure, out.ManualSteps, err)
						w.oldOrNew(was)
					})
				}
			}
		})
	}
}

// byHand starts a container that is nobody's.
func (w *world) byHand(name, image string) engine.State {
	w.t.Helper()
	made, err := w.api().ContainerCreate(w.t.Context(), client.ContainerCreateOptions{
		Name: name, Config: &container.Config{Image: image,
			Healthcheck: &dockerspec.HealthcheckConfig{Test: []string{"CMD", "/probe", "ask", "8080"}}},
		HostConfig: &container.HostConfig{RestartPolicy: container.RestartPolicy{Name: "on-failure", MaximumRetryCount: 4}},
	})
	require.NoError(w.t, err)
	_, err = w.api().ContainerStart(w.t.Context(), made.ID, client.ContainerStartOptions{})
	require.NoError(w.t, err)
	c, err := w.engine.Inspect(w.t.Context(), made.ID)
	require.NoError(w.t, err)
	return c
}

// oldOrNew makes sure that either all that was made by hand runs as it was made, and nothing of the lab is there; or
// nothing of that is left, and all of the lab runs.
func (w *world) oldOrNew(was map[string]engine.State) {
	w.t.Helper()
	mine := w.names()
	for name, old := range was {
		now, err := w.engine.Inspect(context.Background(), name)
		if len(mine) > 0 {
			assert.ErrorIs(w.t, err, engine.ErrNotFound, "%s is gone", name)
			continue
		}
		require.NoError(w.t, err)
		assert.True(w.t, now.Running, name)
		assert.Equal(w.t, old.ID, now.ID)
		assert.Equal(w.t, old.Container, now.Container)
	}
	for name, c := range mine {
		assert.True(w.t, c.Running, name)
		assert.Equal(w.t, w.name+"."+c.Labels["proudlantern.service"], name)
	}
	if len(mine) > 0 {
		assert.Len(w.t, mine, 3)
	}
}
