//go:build linux

package cli_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/engine/enginetest"
)

// pushLike puts an image of the tests into a registry, as another one by a label.
func pushLike(t *testing.T, like, label, reference string, options ...remote.Option) {
	t.Helper()
	for tag, image := range enginetest.Images(t) {
		if tag.String() != like {
			continue
		}
		config, err := image.ConfigFile()
		require.NoError(t, err)
		config = config.DeepCopy()
		config.Config.Labels = map[string]string{"example.skerry.version": label}
		image, err := mutate.ConfigFile(image, config)
		require.NoError(t, err)
		ref, err := name.ParseReference(reference)
		require.NoError(t, err)
		require.NoError(t, remote.Write(ref, image, options...))
		return
	}
	t.Fatalf("no image %s", like)
}

// update says what has moved and what is newer, writes what it is told to, and deploys with a way back.
func TestUpdate(t *testing.T) {
	enginetest.EachAtOnce(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("the stand-in pulls from no registry")
		}
		b := newBench(t, target)
		b.alone()
		b.run(0, "version") // built with the compiler's own cache
		open, locked := enginetest.Registry(t), enginetest.LockedRegistry(t, "keeper", "of-the-light")
		var trouble atomic.Pointer[string]
		inner := registry.New(registry.Logger(log.New(io.Discard, "", 0)))
		limited := enginetest.ServeRegistry(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch mode := trouble.Load(); {
			case mode == nil:
				inner.ServeHTTP(w, r)
			case *mode == "slow":
				<-r.Context().Done()
			case *mode == "limits":
				w.WriteHeader(http.StatusTooManyRequests)
			default:
				w.WriteHeader(http.StatusServiceUnavailable)
			}
		}))
		config := t.TempDir()
		b.env = append(b.env, "DOCKER_CONFIG="+config)
		require.NoError(t, os.WriteFile(filepath.Join(config, "config.json"), []byte(fmt.Sprintf(
			`{"auths": {%q: {"auth": %q}}}`, locked,
			base64.StdEncoding.EncodeToString([]byte("keeper:of-the-light")))), 0o600))
		auth := remote.WithAuth(&authn.Basic{Username: "keeper", Password: "of-the-light"})

		repository := func(at, what string) string { return fmt.Sprintf("%s/skerry/%s-%d", at, what, os.Getpid()) }
		desk, dated := repository(open, "desk"), repository(open, "dated")
		private, busy := repository(locked, "private"), repository(limited, "busy")
		for _, tag := range []string{"1.2.3-small", "1.2.4-small", "1.3.0-small", "2.0.0-small", "2.0.0",
			"latest"} {
			pushLike(t, enginetest.Page, tag, desk+":"+tag)
		}
		for _, tag := range []string{"2026-11-01", "2026-11-20", "3.0"} {
			pushLike(t, enginetest.Page, tag, dated+":"+tag)
		}
		pushLike(t, enginetest.Page, "a", private+":v1.2.3-small", auth)
		pushLike(t, enginetest.Page, "b", private+":v1.4.0-small", auth)
		pushLike(t, enginetest.Page, "c", busy+":4.2")
		pushLike(t, enginetest.Page, "d", busy+":4.3")

		service := "[service.%s]  # %s\nimage = %q  # stays\nready = { http = \"8080/\", within = \"4s\" }\n"
		text := fmt.Sprintf(service, "desk", "one", desk+":1.2.3-small") + fmt.Sprintf(service, "dated", "two",
			dated+":2026-11-01") + fmt.Sprintf(service, "private", "three", private+":v1.2.3-small") +
			fmt.Sprintf(service, "busy", "four", busy+":4.2")
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		b.write("tide-log/stack.toml", text)
		b.run(0, "deploy", "--yes", "-q")

		updates := func() map[string]string {
			stdout, _ := b.run(0, "update", "--format", "json")
			var list struct{ Services []app.Update }
			require.NoError(t, json.Unmarshal([]byte(stdout), &list), stdout)
			says := map[string]string{}
			for _, u := range list.Services {
				line := fmt.Sprintf("moved=%t", u.Moved)
				for _, n := range u.Newer {
					line += " " + n.Tag + "=" + n.Change
				}
				says[u.Service] = strings.TrimSpace(line + " " + strings.TrimPrefix(u.Skipped, limited+" "))
				assert.True(t, u.Skipped != "" || u.Running != "" && u.Registry != "", "%+v", u)
			}
			return says
		}
		want := map[string]string{
			"desk":    "moved=false 1.2.4-small=patch 1.3.0-small=minor 2.0.0-small=major",
			"dated":   "moved=false 2026-11-20=minor",
			"private": "moved=false v1.4.0-small=minor",
			"busy":    "moved=false 4.3=minor",
		}
		assert.Equal(t, want, updates())
		modes := [][2]string{
			{"slow", "has not answered within 10s"},
			{"refuses", "it answers with status 503"},
			{"limits", "it has been asked too often for now (status 429)"},
		}
		if target.IsPodman() {
			modes = modes[1:] // it is lantern that waits, whatever the engine
		}
		for _, mode := range modes {
			trouble.Store(&mode[0])
			want["busy"] = "moved=false " + mode[1]
			assert.Equal(t, want, updates(), "the others are told all the same")
		}
		stdout, _ := b.run(0, "update", "tide-log/busy", "tide-log/desk")
		assert.Contains(t, stdout, "skipped: "+limited+" ")
		assert.Contains(t, stdout, "2 services checked: 0 moved, 1 with newer tags, 1 skipped")
		trouble.Store(nil)

		// Tags are written with all that stands around them.
		_, stderr := b.run(2, "update", "--write", "minor")
		assert.Contains(t, stderr, "stdin is not a terminal; pass --yes")
		b.run(0, "update", "tide-log/desk", "tide-log/private", "--write", "patch", "--yes")
		written, err := os.ReadFile(filepath.Join(b.dir, "tide-log", "stack.toml"))
		require.NoError(t, err)
		assert.Equal(t, strings.Replace(text, "1.2.3-small\"", "1.2.4-small\"", 1), string(written),
			"a patch of one, none of the other")
		b.run(0, "update", "tide-log/dated", "--pin", "--yes")
		written, err = os.ReadFile(filepath.Join(b.dir, "tide-log", "stack.toml"))
		require.NoError(t, err)
		assert.Regexp(t, `dated-\d+:2026-11-01@sha256:[0-9a-f]{64}"  # stays`, string(written))
		b.write("tide-log/stack.toml", strings.Replace(text, "1.2.3-small\"", "1.2.4-small\"", 1))
		assert.Contains(t, updates()["desk"], "moved=false", "it is another tag that runs")
		b.write("tide-log/stack.toml", text)

		// A tag that has moved is deployed, and put back when it is never ready.
		first := b.containers()
		pushLike(t, enginetest.Page, "moved", desk+":1.2.3-small")
		assert.Contains(t, updates()["desk"], "moved=true")
		b.run(0, "update", "tide-log/desk", "--deploy", "--yes")
		second := b.containers()
		assert.NotEqual(t, first["tide-log.desk"].ImageID, second["tide-log.desk"].ImageID)
		assert.Equal(t, first["tide-log.dated"].ID, second["tide-log.dated"].ID)
		assert.Contains(t, updates()["desk"], "moved=false")
		_, stderr = b.run(0, "update", "tide-log/desk", "--deploy", "--yes")
		assert.Contains(t, stderr, "nothing to deploy")
		pushLike(t, enginetest.NeverReady, "broken", desk+":1.2.3-small")
		_, stderr = b.run(4, "update", "tide-log/desk", "--deploy", "--yes")
		assert.Contains(t, stderr, "old version restored")
		assert.Equal(t, second["tide-log.desk"].ID, b.containers()["tide-log.desk"].ID)
		b.run(0, "prove")
	})
}
