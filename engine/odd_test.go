//go:build linux

package engine_test

import (
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// An engine may leave anything out of an answer, or say null in its place, or something of another kind:
// whatever is asked ends with an answer or an error, and never in the middle.
func TestOddAnswers(t *testing.T) {
	server, address := enginetest.StartStandIn(t, standin.Options{})
	e, err := engine.Dial(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(func() { e.Close() })
	labels := map[string]string{plan.LabelLab: "skerry-odd", plan.LabelStack: "odd", plan.LabelService: "desk"}
	_, err = e.CreateVolume(t.Context(), plan.Volume{Name: "odd.readings"}, labels)
	require.NoError(t, err)
	_, err = e.CreateNetwork(t.Context(), plan.Network{Name: "odd.net"}, labels)
	require.NoError(t, err)
	c := plan.Container{
		Image:    enginetest.Page,
		Ports:    []plan.Port{{Host: enginetest.FreePort(t), Container: 8080, Protocol: "tcp"}},
		Networks: []plan.Attachment{{Network: "odd.net", Aliases: []string{"desk"}}},
		Mounts: []plan.Mount{
			{Kind: declare.MountVolume, Source: "odd.readings", Target: "/readings"},
			{Kind: declare.MountMemory, Target: "/tmp"},
		}, Restart: declare.Restart{Policy: "always"},
	}
	c.Settings.Ulimits, c.Settings.Devices = []declare.Ulimit{{Name: "nofile", Soft: 1,
		Hard: 2}}, []declare.Device{{Host: "/dev/null", Container: "/dev/null"}}
	id, err := e.Create(t.Context(), "odd.desk", c, labels, "")
	require.NoError(t, err)
	require.NoError(t, e.Start(t.Context(), id))

	calls := map[string]func(e *engine.Engine) error{
		"inspect": func(e *engine.Engine) error { _, err := e.Inspect(t.Context(), "odd.desk"); return err },
		"containers": func(e *engine.Engine) error {
			_, err := e.Containers(t.Context(), "skerry-odd", "")
			return err
		},
		"survey":   func(e *engine.Engine) error { _, err := e.Survey(t.Context()); return err },
		"networks": func(e *engine.Engine) error { _, err := e.Networks(t.Context(), ""); return err },
		"volumes":  func(e *engine.Engine) error { _, err := e.Volumes(t.Context()); return err },
		"image":    func(e *engine.Engine) error { _, err := e.Image(t.Context(), enginetest.Page); return err },
		"root": func(e *engine.Engine) error {
			_, err := e.VolumeRoot(t.Context(), "odd.readings")
			return err
		},
		"facts": func(e *engine.Engine) error {
			return e.Facts(t.Context(), &survey.Survey{Unknown: map[string]string{}})
		},
		"runnable": func(e *engine.Engine) error { _, err := e.Runnable(t.Context(), id); return err },
	}
	until := time.Now().Add(2 * time.Minute) // of an idle machine's three seconds
	for name, call := range calls {
		tried := 0
		for _, instead := range []any{nil, map[string]any{}, []any{nil}, []any{}, "", -1.0} {
			for at := 0; ; at++ {
				hit := false
				odd, err := engine.Dial(t.Context(),
					enginetest.Hostile(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
						answer := httptest.NewRecorder()
						server.Handler().ServeHTTP(answer, r)
						body := answer.Body.Bytes()
						var value any
						if !strings.HasSuffix(r.URL.Path, "/_ping") && !hit && json.Unmarshal(body, &value) == nil {
							n := at
							value = replaced(value, &n, instead)
							hit = n < 0
							body, _ = json.Marshal(value)
						}
						for k, v := range answer.Header() {
							if k != "Content-Length" {
								w.Header()[k] = v
							}
						}
						w.WriteHeader(answer.Code)
						w.Write(body)
					}), "", func(*http.Request) bool { return false }))
				if err == nil {
					assert.NotPanics(t, func() { err = call(odd) }, "%s: value %d as %v", name, at, instead)
					odd.Close()
				}
				if tried++; !hit || time.Now().After(until) {
					break
				}
			}
		}
		assert.Greater(t, tried, 6, name)
	}
}

// replaced returns a value in which the one of number n, counted from the outside in, is another one; n is
// below 0 then.
func replaced(value any, n *int, instead any) any {
	if *n == 0 {
		*n = -1
		return instead
	}
	*n--
	switch v := value.(type) {
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(v)) {
			if *n < 0 {
				break
			}
			v[k] = replaced(v[k], n, instead)
		}
	case []any:
		for i, one := range v {
			if *n < 0 {
				break
			}
			v[i] = replaced(one, n, instead)
		}
	}
	return value
}

// A question that meets a process at its end is asked again.
func TestPassingTrouble(t *testing.T) {
	server, _ := enginetest.StartStandIn(t, standin.Options{})
	for _, failures := range []int{3, 100} {
		left := failures
		between := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if strings.HasSuffix(r.URL.Path, "/containers/json") && left > 0 {
				left--
				w.WriteHeader(http.StatusInternalServerError)
				w.Write([]byte(`{"message":"read /proc/20819/cgroup: no such process"}`))
				return
			}
			server.Handler().ServeHTTP(w, r)
		}))
		defer between.Close()
		e, err := engine.Dial(t.Context(), strings.Replace(between.URL, "http://", "tcp://", 1))
		require.NoError(t, err)
		defer e.Close()
		_, err = e.Containers(t.Context(), "skerry-odd", "")
		if failures < 5 {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, "no such process")
		}
	}
}
