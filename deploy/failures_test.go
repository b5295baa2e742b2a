//go:build linux

package deploy_test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine/enginetest"
)

// Every kind of failure, on every engine: old version restored, and the message is for a person.
func TestFailures(t *testing.T) {
	desk := func(image, rest string) string {
		return "[service.desk]\nimage = \"registry.skerry.example/" + image +
			"\"\nports = [\"localhost:FIRST -> 8080\"]\nmounts = [\"FOLDER/deep -> /data\"]\n" + rest
	}
	healthy := desk("probe:1", "ready = { http = \"8080/\" }\n")
	exits := func(code int) string {
		return desk("probe:1",
			fmt.Sprintf("env.PROBE_EXITS = \"%d\"\nrestart = \"no\"\nready = { tcp = 81 }\n", code))
	}
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		t.Parallel()
		w := worldOn(t, target.Address)
		w.withFolder()
		for _, name := range []string{"deep", "gone"} {
			require.NoError(t, os.MkdirAll(filepath.Join(w.folder, name), 0o755))
		}
		before := w.stack(healthy)
		out, err := w.deployer(false).Deploy(t.Context(), before, deploy.Options{})
		require.NoError(t, err)
		require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
		id := w.names()["pier-log.desk"].ID
		w.within = "4s" // a try on a busy machine takes a second or two
		var held net.Listener
		for _, c := range []struct {
			name, stack, says string
			real              bool   // the stand-in runs no programs
			early             bool   // seen before anything is stopped
			when              func() // between the check and the start
		}{
			{name: "ends with 1", stack: exits(1), says: "it ended with exit code 1", real: true},
			{name: "ends with 126", stack: exits(126),
				says: "its command may not be executed (exit code 126)", real: true},
			{name: "ends with 127", stack: exits(127),
				says: "its command is not in the image (exit code 127)", real: true},
			{name: "ends with 137", stack: exits(137),
				says: "it was killed, by somebody or for lack of memory (exit code 137)", real: true},
			{name: "no command", stack: desk("probe:1", "entrypoint = [\"/lens\"]\nready = { tcp = 8080 }\n"),
				says: "its command cannot be run: /lens is not in the image", real: true, early: true},
			{name: "restart loop", stack: desk("probe:exits", "restart = \"always\"\n"), says: "ended"},
			{name: "never by http", stack: desk("probe:never", "ready = { http = \"8080/\" }\n"),
				says: "it was not ready within 4s: port 8080 / returned 503; expected 200-399"},
			{name: "never by tcp", stack: desk("probe:1", "ready = { tcp = 8081 }\n"),
				says: "nothing accepts connections on its port 8081"},
			{name: "never by log", stack: desk("probe:1", "ready = { log = \"the keeper is awake\" }\n"),
				says: "no line of its log matches \"the keeper is awake\""},
			{name: "never by command",
				stack: desk("probe:1", "ready = { command = [\"/probe\", \"ask\", \"1\"] }\n"),
				says:  "does not end without an error", real: true},
			{name: "never by its image", stack: desk("probe:1", "ready = { image = true }\n"),
				says: "its image declares no check"},
			{name: "never by its check",
				stack: desk("probe:2", "env.PROBE_NEVER_READY = \"1\"\nready = { image = true }\n"),
				says:  "the check that its image declares does not end without an error: not ready yet",
				real:  true},
			{name: "job that fails",
				stack: "[service.job]\nimage = \"registry.skerry.example/probe:exits\"\nrestart = \"no\"\n" +
					desk("probe:1", "after = [\"job done\"]\nready = { tcp = 8080 }\n"),
				says: "job: it ended with exit code 3", early: true},
			{name: "page never there", stack: desk("probe:never", "page = \"8080/\"\n"),
				says: "its page on port 8080 was not there within 4s: it answers with status 503"},
			{name: "port taken meanwhile", stack: strings.Replace(healthy, "FIRST", "SECOND", 1),
				says: "a host port that it publishes is held by somebody else", when: func() {
					held, err = net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(w.ports[1]))
					require.NoError(t, err)
				}},
			{name: "folder gone meanwhile", stack: strings.Replace(healthy, "/deep", "/gone", 1),
				says: "is not there", real: true, when: func() {
					require.NoError(t, os.Remove(filepath.Join(w.folder, "gone")))
				}},
		} {
			if c.real && !target.Real() {
				continue
			}
			started := w.names()["pier-log.desk"].Started
			d := w.deployer(false)
			report := d.Report
			d.Report = func(e deploy.Event) {
				report(e)
				if c.when != nil && e.Step == deploy.StepCreate && e.State == deploy.EventDone &&
					e.Service == "desk" {
					c.when()
				}
			}
			out, err := d.Deploy(t.Context(), w.stack(c.stack+"env.LEVEL = \"high\"\n"), deploy.Options{})
			require.NoError(t, err, c.name)
			if held != nil {
				held.Close()
				held = nil
			}
			require.Equal(t, deploy.PutBack, out.Result, "%s: %v %v", c.name, out.Failure, out.ManualSteps)
			assert.Contains(t, out.Failure.Error(), c.says, c.name)
			t.Logf("%s: %s", c.name, out.Failure)
			w.settled(before)
			now := w.names()["pier-log.desk"]
			assert.Equal(t, id, now.ID, c.name)
			assert.Equal(t, c.early, now.Started.Equal(started), "%s: it was not stopped", c.name)
		}
		// An image that its registry does not have: nothing is begun.
		if target.Real() {
			_, err = w.deployer(false).Deploy(t.Context(),
				w.stack(strings.Replace(healthy, "registry.skerry.example/probe:1",
					enginetest.Registry(t)+"/skerry/nobody:1", 1)), deploy.Options{})
			assert.ErrorIs(t, err, deploy.ErrImage)
			assert.ErrorContains(t, err, "its registry does not have this image")
			w.settled(before)
		}
		_, err = w.deployer(false).Retire(t.Context(), "pier-log", deploy.Options{WithVolumes: true})
		require.NoError(t, err)
	})
}

// An engine that restarts in the middle of a deploy brings back what ran before; the deploy waits for it
// and puts back, or, if it died, the next one does.
func TestEngineStartsAnew(t *testing.T) {
	own := enginetest.StartDockerd(t, 0)
	w := worldOn(t, own.Address)
	w.withFolder()
	w.begin(scenario{before: four})
	before := w.names()
	for _, dies := range []bool{false, true} {
		d := w.deployer(dies)
		d.ReconnectTimeout = time.Minute
		report := d.Report
		gone := false
		d.Report = func(e deploy.Event) {
			report(e)
			if e.Service == "desk" && e.Step == deploy.StepStop && e.State == deploy.EventDone && !gone {
				gone = true
				if dies {
					w.gate.Order(1, enginetest.Dies)
				}
				own.Restart()
			}
		}
		if dies {
			d.ReconnectTimeout = 0
		}
		out, err := d.Deploy(t.Context(), w.stack(changed), deploy.Options{})
		require.NoError(t, err)
		t.Logf("%s: %v %v", out.Result, out.Failure, out.ManualSteps)
		if dies {
			w.gate.Order(0, enginetest.None)
			w.cameBack(before, scenario{before: four, after: changed}, nil)
			require.Equal(t, deploy.NeedsManual, out.Result)
			recovered, err := w.deployer(false).Recover(t.Context(), w.name)
			require.NoError(t, err)
			require.Equal(t, deploy.Done, recovered.Result)
		} else {
			require.Equal(t, deploy.PutBack, out.Result, "%v", out.ManualSteps)
		}
		w.settled(w.stack(four))
		for name, c := range w.names() {
			assert.Equal(t, before[name].ID, c.ID)
		}
	}
	out, err := w.deployer(false).Deploy(t.Context(), w.stack(changed), deploy.Options{})
	require.NoError(t, err)
	require.Equal(t, deploy.Done, out.Result, "%v", out.Failure)
	_, err = w.deployer(false).Retire(t.Context(), w.name, deploy.Options{WithVolumes: true})
	require.NoError(t, err)
}

// A disk that is full ends a pull plainly, before anything was changed.
func TestDiskFull(t *testing.T) {
	own := enginetest.StartDockerd(t, 64<<20)
	w := worldOn(t, own.Address)
	image, err := random.Image(40<<20, 2)
	require.NoError(t, err)
	tag, err := name.NewTag(enginetest.Registry(t) + "/skerry/plates:1")
	require.NoError(t, err)
	require.NoError(t, remote.Write(tag, image))
	_, err = w.deployer(false).Deploy(t.Context(), w.stack("[service.desk]\nimage = \""+tag.String()+"\"\n"),
		deploy.Options{})
	assert.ErrorIs(t, err, deploy.ErrImage)
	assert.ErrorContains(t, err, "the disk of the engine on lamp-room is full; lantern sweep says what could go")
	assert.Empty(t, w.names())
}
