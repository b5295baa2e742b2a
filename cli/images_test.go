//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

// pushImage puts an image of nothing but a declaration into a registry.
func pushImage(t *testing.T, reference, architecture string, declares v1.Config) {
	t.Helper()
	image, err := random.Image(100, 1)
	require.NoError(t, err)
	config, err := image.ConfigFile()
	require.NoError(t, err)
	config = config.DeepCopy()
	config.OS, config.Architecture, config.Config = "linux", architecture, declares
	image, err = mutate.ConfigFile(image, config)
	require.NoError(t, err)
	ref, err := name.ParseReference(reference)
	require.NoError(t, err)
	require.NoError(t, remote.Write(ref, image))
}

// What images declare is judged before anything is pulled.
func TestImagesOfARegistry(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("the stand-in has no registry that others could ask")
		}
		if os.Getuid() != 0 {
			t.Skip("giving folders away needs root")
		}
		b := newBench(t, target)
		b.run(0, "version")                     // built with the compiler's own cache,
		t.Setenv("XDG_CACHE_HOME", t.TempDir()) // which would be elsewhere from here on
		at := enginetest.Registry(t)
		other := map[string]string{"amd64": "arm64"}[runtime.GOARCH]
		if other == "" {
			other = "amd64"
		}
		sensor := fmt.Sprintf("%s/skerry/sensor-%d", at, os.Getpid())
		declares := v1.Config{
			ExposedPorts: map[string]struct{}{"8080/tcp": {}},
			Volumes:      map[string]struct{}{"/readings": {}},
			Env:          []string{"LEVEL=info"},
		}
		pushImage(t, sensor+":1.4", runtime.GOARCH, declares)
		pushImage(t, sensor+":14.0", other, v1.Config{})
		declares.User = "1312:1401"
		pushImage(t, sensor+":2", runtime.GOARCH, declares)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		b.write("tide-log/stack.toml",
			strings.NewReplacer("SENSOR", sensor, "PORT", fmt.Sprint(freePort(t))).Replace(`[service.absent]
image = "SENSOR:14"
[service.foreign]
image = "SENSOR:14.0"
[service.plain]
image = "SENSOR:1.4"
ports = ["localhost:PORT -> 8081"]
mounts = ["${folder.data}/front -> /front"]
[service.named]
image = "SENSOR:2"
timezone = "none"
mounts = ["${folder.data}/store -> /Readings"]
`))
		var got struct{ Findings []finding }
		for range 2 { // the second time from the cache
			stdout, _ := b.run(1, "check", "--format", "json")
			require.NoError(t, json.Unmarshal([]byte(stdout), &got), stdout)
			found := map[string]string{}
			for _, f := range got.Findings {
				said := f.Message
				for _, because := range f.Because {
					said += " | " + because.Text
				}
				found[fmt.Sprintf("%s:%d", f.Rule, f.At.Line)] = said
			}
			assert.Contains(t, found["image-absent:2"],
				"its registry does not have it | tags that it has: 1.4, 14.0, 2")
			assert.Contains(t, found["image-platform:4"], "is made for linux/"+other)
			assert.Contains(t, found["port-unlisted:7"], "8080")
			assert.Contains(t, found["mount-unkept:5"], "the image keeps data at /readings")
			assert.Contains(t, found["account-root:6"], "runs as root")
			assert.Contains(t, found["mount-unlisted:12"], "/readings")
			assert.Contains(t, found["mount-denied:12"], "uid 1312")
		}
		for _, tag := range []string{"1.4", "14.0", "2"} {
			_, err := b.engine.Image(t.Context(), sensor+":"+tag)
			assert.ErrorIs(t, err, engine.ErrNotFound, "nothing was pulled")
		}
		kept, err := filepath.Glob(filepath.Join(os.Getenv("XDG_CACHE_HOME"), "lantern", "images", "*.json"))
		require.NoError(t, err)
		assert.Len(t, kept, 3)
	})
}
