//go:build linux

package standin_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// api calls a stand-in without the client library: what it says has to be right to the letter.
type api struct {
	t *testing.T
	http.Client
}

func start(t *testing.T, o standin.Options) *api {
	socket := strings.TrimPrefix(enginetest.StandIn(t, o), "unix://")
	a := &api{t: t}
	a.Transport = &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", socket)
	}}
	t.Cleanup(a.CloseIdleConnections)
	return a
}

// call returns the status and the body.
func (a *api) call(method, path, body string) (int, string) {
	a.t.Helper()
	r, err := http.NewRequestWithContext(a.t.Context(), method, "http://engine/v1.41"+path, strings.NewReader(body))
	require.NoError(a.t, err)
	answer, err := a.Do(r)
	require.NoError(a.t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(a.t, err)
	return answer.StatusCode, string(text)
}

func (a *api) create(name, image string, host string) string {
	a.t.Helper()
	status, body := a.call("POST", "/containers/create?name="+name,
		`{"Image": "`+image+`", "HostConfig": `+host+`}`)
	require.Equal(a.t, 201, status, body)
	var made struct{ ID string }
	require.NoError(a.t, json.Unmarshal([]byte(body), &made))
	return made.ID
}

func (a *api) inspect(id string) (state struct {
	State struct {
		Status     string
		Running    bool
		Restarting bool
		ExitCode   int
		Error      string
	}
	RestartCount int
	Name         string
}) {
	a.t.Helper()
	status, body := a.call("GET", "/containers/"+id+"/json", "")
	require.Equal(a.t, 200, status)
	require.NoError(a.t, json.Unmarshal([]byte(body), &state))
	return state
}

// Status codes and words as the engine has them whose manners the stand-in copies.
func TestAnswers(t *testing.T) {
	a := start(t, standin.Options{})
	id := a.create("a", enginetest.Page, "{}")
	a.create("b", enginetest.Page, "{}")
	for _, c := range []struct {
		method, path, body string
		status             int
		says               string
	}{
		{"POST", "/containers/create?name=a", `{"Image": "` + enginetest.Page + `"}`, 409,
			`Conflict. The container name \"/a\" is already in use by container`},
		{"POST", "/containers/create?name=c", `{"Image": "nobody"}`, 404, "No such image: nobody"},
		{"POST", "/containers/create?name=c", `{`, 400, ""},
		{"POST", "/containers/create?name=c",
			`{"Image": "` + enginetest.Page +
				`", "HostConfig": {"Mounts": [{"Type": "bind", "Source": "/nobody/made/it"}]}}`, 400,
			"bind source path does not exist: /nobody/made/it"},
		{"POST", "/containers/b/rename?name=a", "", 409, "Conflict"},
		{"GET", "/containers/c/json", "", 404, "No such container: c"},
		{"GET", "/containers/c/logs?stdout=1", "", 404, "No such container: c"},
		{"POST", "/containers/a/stop", "", 304, ""},
		{"POST", "/containers/a/start", "", 204, ""},
		{"POST", "/containers/" + id[:12] + "/start", "", 304, ""},
		{"DELETE", "/containers/a", "", 409, "You cannot remove a running container"},
		{"DELETE", "/containers/a?force=1", "", 204, ""},
		{"POST", "/networks/create", `{"Name": "n"}`, 201, ""},
		{"POST", "/networks/create", `{"Name": "n"}`, 409, "already exists"},
		{"DELETE", "/networks/n", "", 204, ""},
		{"DELETE", "/networks/n", "", 404, "not found"},
		{"POST", "/images/create?fromImage=nobody&tag=1", "", 500, "manifest unknown"},
		{"GET", "/distribution/nobody:1/json", "", 404, "manifest unknown"},
		{"GET", "/distribution/registry.skerry.example/probe:pulled/json", "", 200, "sha256:"},
		{"GET", "/images/nobody/json", "", 404, "No such image"},
		{"GET", "/images/nobody", "", 404, "page not found"},
		{"GET", "/stand-in/machine", "", 404, ""},
		{"GET", "/nowhere", "", 404, ""},
	} {
		status, body := a.call(c.method, c.path, c.body)
		assert.Equal(t, c.status, status, "%s %s: %s", c.method, c.path, body)
		assert.Contains(t, body, c.says, c.path)
	}
}

// Restarts run on a clock: always and unless-stopped go on, on-failure counts, no does not.
func TestRestarts(t *testing.T) {
	a := start(t, standin.Options{})
	ids := map[string]string{}
	for _, policy := range []string{"no", "always", "unless-stopped", "on-failure"} {
		ids[policy] = a.create(policy, enginetest.Exits,
			`{"RestartPolicy": {"Name": "`+policy+`", "MaximumRetryCount": 1}}`)
		status, _ := a.call("POST", "/containers/"+policy+"/start", "")
		require.Equal(t, 204, status)
	}
	require.Eventually(t, func() bool {
		return a.inspect("always").RestartCount > 1 && a.inspect("unless-stopped").RestartCount > 1 &&
			a.inspect("on-failure").State.Status == "exited"
	}, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, 1, a.inspect("on-failure").RestartCount)
	no := a.inspect("no")
	assert.Equal(t, "exited", no.State.Status)
	assert.Equal(t, 3, no.State.ExitCode)
	assert.Zero(t, no.RestartCount)
	// A stop ends it for good.
	status, _ := a.call("POST", "/containers/always/stop", "")
	assert.Equal(t, 204, status)
	before, other := a.inspect("always").RestartCount, a.inspect("unless-stopped").RestartCount
	// One that is not stopped tells the time: it is started again and again meanwhile.
	require.Eventually(t, func() bool { return a.inspect("unless-stopped").RestartCount > other+2 },
		20*time.Second, 20*time.Millisecond)
	assert.Equal(t, before, a.inspect("always").RestartCount)
	assert.False(t, a.inspect("always").State.Running)
}

func TestLists(t *testing.T) {
	a := start(t, standin.Options{})
	a.call("POST", "/containers/create?name=a",
		`{"Image": "`+enginetest.Page+`", "Labels": {"lab": "one", "stack": "mast"}}`)
	a.call("POST", "/containers/create?name=b", `{"Image": "`+enginetest.Page+`", "Labels": {"lab": "two"}}`)
	a.call("POST", "/containers/b/start", "")
	for query, want := range map[string]int{
		"":       1, // those that run
		"?all=1": 2,
		`?all=1&filters={"label":{"lab=one":true}}`:                   1,
		`?all=1&filters={"label":{"lab":true}}`:                       2,
		`?all=1&filters={"label":{"lab=one":true,"stack=tide":true}}`: 0,
	} {
		status, body := a.call("GET", "/containers/json"+strings.ReplaceAll(query, `"`, "%22"), "")
		require.Equal(t, 200, status, body)
		var list []any
		require.NoError(t, json.Unmarshal([]byte(body), &list))
		assert.Len(t, list, want, query)
	}
	status, _ := a.call("GET", "/containers/json?filters={", "")
	assert.Equal(t, 400, status)
}

// A pull has layers and takes its time; afterwards the image is there.
func TestPull(t *testing.T) {
	a := start(t, standin.Options{PullSpeed: 60_000})
	status, _ := a.call("GET", "/images/registry.skerry.example/probe:pulled/json", "")
	require.Equal(t, 404, status)
	began := time.Now()
	status, body := a.call("POST", "/images/create?fromImage=registry.skerry.example/probe&tag=pulled", "")
	require.Equal(t, 200, status)
	assert.Greater(t, time.Since(began), 50*time.Millisecond, "6000 bytes at 60000 a second")
	layers, last := map[string]int64{}, ""
	for decoder := json.NewDecoder(bytes.NewReader([]byte(body))); decoder.More(); {
		var m struct {
			ID, Status     string
			ProgressDetail struct{ Current, Total int64 }
		}
		require.NoError(t, decoder.Decode(&m))
		if m.Status == "Downloading" {
			assert.GreaterOrEqual(t, m.ProgressDetail.Current, layers[m.ID], "progress only grows")
			layers[m.ID] = m.ProgressDetail.Current
		}
		last = m.Status
	}
	assert.Len(t, layers, 2)
	assert.Contains(t, last, "Downloaded newer image")
	status, body = a.call("GET", "/images/registry.skerry.example/probe:pulled/json", "")
	assert.Equal(t, 200, status)
	assert.Contains(t, body, `"Size":6000`)
}

// With a machine of its own, the stand-in knows its folders and no others.
func TestMachine(t *testing.T) {
	a := start(t, standin.Options{
		Machine: &survey.Survey{
			Survey: 1,
			Host:   "lamp-room",
			Memory: 1 << 30,
			CPUs:   3,
			Paths: []survey.Path{
				{Path: "/srv/skerry", Kind: survey.Folder},
				{Path: "/srv/gone", Kind: survey.Missing},
			},
		},
	})
	mount := func(path string) int {
		status, _ := a.call("POST", "/containers/create?name=x"+filepath.Base(path),
			`{"Image": "`+enginetest.Page+`", "HostConfig": {"Mounts": [{"Type": "bind", "Source": "`+path+
				`", "Target": "/data"}]}}`)
		return status
	}
	assert.Equal(t, []int{201, 400, 400}, []int{mount("/srv/skerry"), mount("/srv/gone"), mount("/etc")})
	_, body := a.call("GET", "/info", "")
	assert.Contains(t, body, `"NCPU":3`)
	_, body = a.call("GET", "/stand-in/machine", "")
	s, err := survey.Parse([]byte(body))
	require.NoError(t, err)
	assert.Equal(t, "lamp-room", s.Host)
}

func TestCatalogue(t *testing.T) {
	for text, says := range map[string]string{
		"image = 3": "image catalogue",
		`[image."a"]` + "\nready-after = \"soon\"": "image catalogue",
		`[image."a"]` + "\nready-after = \"1s\"":   "",
	} {
		_, err := standin.ParseCatalogue([]byte(text))
		if says == "" {
			assert.NoError(t, err)
		} else {
			assert.ErrorContains(t, err, says)
		}
	}
	_, err := standin.Start(filepath.Join(t.TempDir(), "no", "such", "folder", "s"), standin.Options{})
	assert.Error(t, err)
}

func FuzzCatalogue(f *testing.F) {
	f.Add([]byte(enginetest.Catalogue))
	f.Fuzz(func(t *testing.T, text []byte) { standin.ParseCatalogue(text) })
}
