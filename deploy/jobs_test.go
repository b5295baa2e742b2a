//go:build linux

package deploy_test

import (
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine/enginetest"
)

// stacks resolves several stacks of one lab; its machine is the real one. The text of "lab" is the network
// causeway.
func (w *world) stacks(facts *survey.Survey, texts map[string]string) *lab.Lab {
	w.t.Helper()
	causeway := texts["lab"]
	if causeway == "" {
		causeway = "[network.causeway]\n"
	}
	files := map[string]string{
		"lab.toml": "lab = \"skerry-pier\"\n[host.lamp-room]\n" + causeway + "[default]\nready-within = \"" +
			w.within + "\"\nstop-within = \"1s\"\nrestart = \"no\"\n",
	}
	var names []string
	for name, text := range texts {
		if name == "lab" {
			continue
		}
		files[name+"/stack.toml"] = text
		names = append(names, name)
	}
	l := lab.Resolve(declare.Read(names, func(path string) (string, error) {
		if text, ok := files[path]; ok {
			return text, nil
		}
		return "", fs.ErrNotExist
	}), lab.Input{Folder: w.t.TempDir(), Surveys: map[string]*survey.Survey{"lamp-room": facts}})
	require.Empty(w.t, l.Problems)
	return l
}

const (
	probe = "image = \"registry.skerry.example/probe:1\"\n"
	job   = "[service.job]\nimage = \"registry.skerry.example/probe:job\"\n"
)

// A job runs once, and what waits for it starts when it has ended without an error.
func TestJobs(t *testing.T) {
	w := newWorld(t)
	d := w.deployer(false)
	st := w.stacks(nil, map[string]string{
		"pier-log": job + "[service.desk]\n" + probe + "after = [\"job done\"]\nready = { tcp = 8080 }\n",
	}).Stack("pier-log")
	out, err := d.Deploy(t.Context(), st, deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
	ran := w.names()
	assert.True(t, ran["pier-log.desk"].Started.After(ran["pier-log.job"].Finished))
	assert.False(t, ran["pier-log.job"].Running)
	out, err = d.Deploy(t.Context(), st, deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, deploy.NothingToDo, out.Result, "it is not run again")
	list, err := d.Status(t.Context(), "pier-log", st, func() *lab.Stack { return nil })
	require.NoError(t, err)
	for _, s := range list {
		assert.True(t, s.Well(), "%s: %s", s.Service, s.Detail)
	}

	broken := w.stacks(nil, map[string]string{
		"pier-log": strings.Replace(job, "probe:job", "probe:exits",
			1) + "[service.desk]\n" + probe +
			"after = [\"job done\"]\nready = { tcp = 8080 }\nenv.LEVEL = \"low\"\n",
	})
	out, err = d.Deploy(t.Context(), broken.Stack("pier-log"), deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.PutBack, out.Result)
	assert.Contains(t, out.Failure.Error(), "job: it ended with exit code 3")
	assert.Equal(t, ran["pier-log.desk"].ID, w.names()["pier-log.desk"].ID)
	assert.Equal(t, ran["pier-log.job"].Started, w.names()["pier-log.job"].Started,
		"what was done before is not done again")
}

// Ready by a command inside, and by the check that the image declares.
func TestReadyInside(t *testing.T) {
	w := newWorld(t)
	w.within = "1500ms"
	d := w.deployer(false)
	for _, c := range []struct{ service, says string }{
		{probe + "ready = { command = [\"/probe\", \"ask\"] }\n", ""},
		{"image = \"registry.skerry.example/probe:2\"\nready = { image = true }\n", ""},
		{probe + "ready = { image = true }\n", "its image declares no check"},
		{probe + "ready = { command = [\"/bin/nobody\"] }\n",
			`the command ["/bin/nobody"] does not end without an error: OCI runtime exec failed`},
		{probe + "ready = { within = \"20s\" }\n", ""},
	} {
		out, err := d.Deploy(t.Context(),
			w.stacks(nil, map[string]string{"pier-log": "[service.a]\n" + c.service}).Stack("pier-log"),
			deploy.Options{})
		require.NoError(t, err)
		if c.says == "" {
			require.Equal(t, deploy.Done, out.Result, "%s: %v", c.service, out.Failure)
		} else {
			require.Equal(t, deploy.PutBack, out.Result, c.service)
			assert.Contains(t, out.Failure.Message, c.says)
		}
		_, err = d.Retire(t.Context(), "pier-log", deploy.Options{})
		require.NoError(t, err)
	}
}

// With overlap, the old container works on until the new one is proven; one that never is leaves it untouched.
func TestOverlap(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		w := worldOn(t, target.Address)
		d := w.deployer(false)
		started := func() time.Time { return w.names()["pier-log.desk"].Started }
		_, err := d.Deploy(t.Context(), w.stack(overlapping), deploy.Options{})
		require.NoError(t, err)
		first := w.names()["pier-log.desk"]

		out, err := d.Deploy(t.Context(),
			w.stack(strings.NewReplacer("probe:1", "probe:never", "FIRST", "SECOND", "8080/",
				"8080/\", within = \"1s").Replace(overlapping)), deploy.Options{})
		require.NoError(t, err)
		require.Equal(t, deploy.PutBack, out.Result, "%v", out.Failure)
		assert.Equal(t, []any{first.ID, first.Started}, []any{w.names()["pier-log.desk"].ID, started()},
			"it was never stopped")

		w.events = nil
		next := w.stack(overlappingMoved)
		out, err = d.Deploy(t.Context(), next, deploy.Options{})
		require.NoError(t, err)
		require.Equal(t, deploy.Done, out.Result, "%v %v", out.Failure, out.ManualSteps)
		var steps []string
		for _, e := range w.events {
			if e.State == deploy.EventDone && e.Service == "desk" {
				steps = append(steps, e.Step)
			}
		}
		assert.Equal(t, []string{"create", "start", "prove", "prove", "stop", "remove"}, steps)
		w.settled(next)
		assert.NotEqual(t, first.ID, w.names()["pier-log.desk"].ID)
		answer, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", w.ports[1]))
		require.NoError(t, err, "its port moved with it")
		answer.Body.Close()
		out, err = d.Deploy(t.Context(), next, deploy.Options{})
		require.NoError(t, err)
		assert.Equal(t, deploy.NothingToDo, out.Result, "it has its names")

		// Whoever holds the same port, or writes to the same place, takes turns.
		w.events = nil
		_, err = d.Deploy(t.Context(), w.stack(strings.Replace(overlappingMoved, "high", "higher", 1)),
			deploy.Options{})
		require.NoError(t, err)
		stop := slices.IndexFunc(w.events, func(e deploy.Event) bool { return e.Step == deploy.StepStop })
		start := slices.IndexFunc(w.events, func(e deploy.Event) bool { return e.Step == deploy.StepStart })
		assert.Less(t, stop, start)
		out, err = d.Retire(t.Context(), "pier-log", deploy.Options{})
		require.NoError(t, err)
		assert.Equal(t, deploy.Done, out.Result)
	})
}

// An image that has moved in its registry is fetched when it is to be, and only then.
func TestFetch(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("the registry of the stand-in never changes")
		}
		w := worldOn(t, target.Address)
		d := w.deployer(false)
		reference := fmt.Sprintf("%s/skerry/moving:%d", enginetest.Registry(t), os.Getpid())
		push := func(like string) {
			tag, err := name.NewTag(reference)
			require.NoError(t, err)
			from, err := name.NewTag(like)
			require.NoError(t, err)
			require.NoError(t, remote.Write(tag, enginetest.Images(t)[from]))
		}
		deployed := func(fetch string) (string, string) {
			out, err := d.Deploy(t.Context(),
				w.stack("[service.desk]\nimage = \""+reference+"\"\nfetch = \""+fetch+
					"\"\nready = { tcp = 8080 }\n"), deploy.Options{})
			require.NoError(t, err)
			return out.Result, w.names()["pier-log.desk"].ImageID
		}
		push(enginetest.Page)
		_, err := d.Deploy(t.Context(),
			w.stack("[service.desk]\nimage = \""+reference+"\"\nfetch = \"never\"\n"), deploy.Options{})
		require.ErrorContains(t, err, reference+` is not on lamp-room, and fetch = "never"`)
		assert.Empty(t, w.names())
		result, first := deployed("if-absent")
		assert.Equal(t, deploy.Done, result)
		push(enginetest.PageNew)
		for _, fetch := range []string{"if-absent", "never"} {
			result, image := deployed(fetch)
			assert.Equal(t, []string{deploy.NothingToDo, first}, []string{result, image}, fetch)
		}
		result, second := deployed("each-deploy")
		assert.Equal(t, deploy.Done, result)
		assert.NotEqual(t, first, second)
		result, image := deployed("each-deploy")
		assert.Equal(t, []string{deploy.NothingToDo, second}, []string{result, image})
		_, err = d.Retire(t.Context(), "pier-log", deploy.Options{})
		require.NoError(t, err)
	})
}

// A registry that wants a login gets the one of the auth file that engines use; without it, nothing is changed.
func TestFetchWithALogin(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("the stand-in asks no registry")
		}
		w := worldOn(t, target.Address)
		d := w.deployer(false)
		reference := fmt.Sprintf("%s/skerry/locked:%d",
			enginetest.LockedRegistry(t, "keeper", "of the light"), os.Getpid())
		tag, err := name.NewTag(reference)
		require.NoError(t, err)
		like, err := name.NewTag(enginetest.Page)
		require.NoError(t, err)
		require.NoError(t,
			remote.Write(tag, enginetest.Images(t)[like],
				remote.WithAuth(&authn.Basic{Username: "keeper", Password: "of the light"})))
		st := w.stack("[service.desk]\nimage = \"" + reference + "\"\nready = { tcp = 8080 }\n")
		t.Setenv("DOCKER_CONFIG", t.TempDir())
		_, err = d.Deploy(t.Context(), st, deploy.Options{})
		require.ErrorIs(t, err, deploy.ErrImage)
		assert.Empty(t, w.names())
		auth := fmt.Sprintf(`{"auths": {%q: {"username": "keeper", "password": "of the light"}}}`,
			tag.RegistryStr())
		require.NoError(t,
			os.WriteFile(filepath.Join(os.Getenv("DOCKER_CONFIG"), "config.json"), []byte(auth), 0o600))
		out, err := d.Deploy(t.Context(), st, deploy.Options{})
		require.NoError(t, err)
		assert.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
		_, err = d.Retire(t.Context(), "pier-log", deploy.Options{})
		require.NoError(t, err)
	})
}

// A service waits for one of another stack; where that is not there, it says so at once and everything is as
// before.
func TestOtherStacks(t *testing.T) {
	w := newWorld(t)
	d := w.deployer(false)
	l := w.stacks(nil, map[string]string{
		"pier-log": "networks = [\"causeway\"]\n[service.desk]\n" + probe +
			"after = [\"pier-base/store\", \"pier-base/job done\"]\nready = { tcp = 8080 }\n",
		"pier-base": job +
			"[service.store]\nimage = \"registry.skerry.example/probe-store:1\"\n" +
			"networks = [\"causeway\"]\nready = { tcp = 7410 }\n",
	})
	began := time.Now()
	out, err := d.Deploy(t.Context(), l.Stack("pier-log"), deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.PutBack, out.Result)
	assert.Equal(t, "it waits for pier-base/store, and it is not there: deploy pier-base first",
		out.Failure.Message)
	assert.Less(t, time.Since(began), 10*time.Second, "nobody will put it there meanwhile")
	assert.Empty(t, w.names())
	for _, st := range plan.Order(l.Stacks) {
		out, err := d.Deploy(t.Context(), st, deploy.Options{})
		require.NoError(t, err)
		require.Equal(t, deploy.Done, out.Result, "%s: %v", st.Name, out.Failure)
	}
	networks := func() (names []string) {
		list, err := w.engine.Networks(t.Context(), "")
		require.NoError(t, err)
		for _, n := range list {
			if n.Lab == "skerry-pier" {
				names = append(names, n.Name)
			}
		}
		return names
	}
	assert.Equal(t, []string{"pier-base.net", "pier-log.net", "skerry-pier.causeway"}, networks())
	// A stack that leaves the shared network does not take it away from the other.
	alone := w.stacks(nil, map[string]string{"pier-log": "[service.desk]\n" + probe + "ready = { tcp = 8080 }\n"})
	out, err = d.Deploy(t.Context(), alone.Stack("pier-log"), deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
	assert.Equal(t, []string{"pier-base.net", "pier-log.net", "skerry-pier.causeway"}, networks())
	_, err = d.Retire(t.Context(), "pier-base", deploy.Options{})
	require.NoError(t, err)
	assert.Equal(t, []string{"pier-log.net"}, networks())

	// Somebody else's container on a network that nobody needs any more holds nothing up.
	id, err := w.engine.Create(t.Context(), "somebody-elses",
		plan.Container{Image: enginetest.Page, Networks: []plan.Attachment{{Network: "pier-log.net"}}}, nil, "")
	require.NoError(t, err)
	require.NoError(t, w.engine.Start(t.Context(), id))
	open := w.stacks(nil, map[string]string{
		"pier-log": "[service.desk]\n" + probe + "network = \"none\"\nready = { log = \"open\" }\n",
	})
	for _, result := range []string{deploy.Done, deploy.NothingToDo} {
		out, err = d.Deploy(t.Context(), open.Stack("pier-log"), deploy.Options{})
		require.NoError(t, err)
		require.Equal(t, result, out.Result, "%v", out.ManualSteps)
	}
	assert.Equal(t, []string{"pier-log.net"}, networks())
}

// A folder that a mount may make is made for the service, with all that is missing above it; it stays when
// the stack goes.
func TestFoldersAreMade(t *testing.T) {
	w := newWorld(t)
	d := w.deployer(false)
	dir := t.TempDir()
	facts := &survey.Survey{Host: "lamp-room", Accounts: []survey.Account{}, Paths: []survey.Path{
		{Path: dir, Kind: survey.Folder}, {Path: dir + "/deep", Kind: survey.Missing},
		{Path: dir + "/deep/down", Kind: survey.Missing},
	}}
	text := "[service.%]\n" + probe + "run-as = \"UID\"\nready = { tcp = 8080 }\nmounts = [\"" + dir +
		"/deep/down -> /data, create 0700\"]\n"
	text = strings.ReplaceAll(text, "UID", uidGID())
	out, err := d.Deploy(t.Context(),
		w.stacks(facts, map[string]string{
			"pier-log": strings.Replace(text, "%", "a", 1) + strings.Replace(text, "%", "b", 1),
		}).Stack("pier-log"), deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
	for _, folder := range []string{"deep", "deep/down"} {
		info, err := filepath.Glob(filepath.Join(dir, folder))
		require.NoError(t, err)
		assert.Len(t, info, 1)
	}
	made := 0
	for _, e := range w.events {
		if strings.HasPrefix(e.Detail, "the folder "+dir+"/deep/down for ") {
			made++
		}
	}
	assert.Equal(t, 1, made, "two services share it")
	_, err = d.Retire(t.Context(), "pier-log", deploy.Options{})
	require.NoError(t, err)
	assert.DirExists(t, dir+"/deep/down")
}

// An identity that nobody could look up is nobody's: nothing starts as root by mistake.
func TestUnknownIdentity(t *testing.T) {
	w := newWorld(t)
	st := w.stacks(nil, map[string]string{
		"pier-log": "[service.a]\n" + probe + "run-as = \"keeper\"\n",
	}).Stack("pier-log")
	_, err := w.deployer(false).Deploy(t.Context(), st, deploy.Options{})
	assert.ErrorContains(t, err,
		"pier-log/a runs as keeper, and the accounts of lamp-room could not be looked up: declare UID:GID")
	assert.Empty(t, w.names())
}

// uidGID is whoever runs the tests: only root may give folders to others.
func uidGID() string { return strconv.Itoa(os.Getuid()) + ":" + strconv.Itoa(os.Getgid()) }
