//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/app"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// pushDeclared puts an empty image with such a declaration into a registry, for each of the platforms.
func pushDeclared(t *testing.T, reference string, c v1.Config, platforms ...v1.Platform) {
	t.Helper()
	ref, err := name.ParseReference(reference)
	require.NoError(t, err)
	index := v1.ImageIndex(empty.Index)
	for _, p := range platforms {
		image, err := mutate.ConfigFile(empty.Image, &v1.ConfigFile{
			OS: p.OS, Architecture: p.Architecture, Config: c,
			Created: v1.Time{Time: time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)},
		})
		require.NoError(t, err)
		index = mutate.AppendManifests(index, mutate.IndexAddendum{Add: image, Descriptor: v1.Descriptor{Platform: &p}})
	}
	require.NoError(t, remote.WriteIndex(ref, index))
}

// An image is shown before it is declared: from the engine, and with what is near where it is nowhere.
func TestImage(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		b := newBench(t, target)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		here := b.images(0, enginetest.Page)[0]
		assert.Equal(t, "engine", here.Source)
		assert.NotEmpty(t, here.Env)
		assert.NotEmpty(t, here.Platforms)
		if target.Real() {
			fromRegistry(t, b, enginetest.Registry(t))
			return
		}
		store, err := b.engine.Image(t.Context(), enginetest.Store)
		require.NoError(t, err)
		require.NoError(t, b.engine.RemoveImage(t.Context(), store.ID, enginetest.Store))
		notHere := b.images(0, enginetest.Store)[0]
		assert.Equal(t, "registry", notHere.Source)
		assert.Equal(t, []string{"7410/tcp"}, notHere.Ports)
		gone := b.images(1, "registry.skerry.example/prob:1")[0]
		assert.Equal(t, "absent", gone.Source)
		assert.Contains(t, gone.Near, "registry.skerry.example/probe")
	})
}

// It is shown outside of any lab, too, and without an engine.
func TestImageWithoutEngine(t *testing.T) {
	_, address := enginetest.StartStandIn(t, standin.Options{})
	b := newBench(t, enginetest.Target{Name: "stand-in", Address: address})
	t.Setenv("DOCKER_HOST", "unix://"+filepath.Join(t.TempDir(), "nothing.sock"))
	must(program()) // while we are in the module
	t.Chdir(t.TempDir())
	b.dir = ""
	server := httptest.NewServer(registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	defer server.Close()
	at := strings.TrimPrefix(server.URL, "http://")
	fromRegistry(t, b, at)
	stdout, stderr := b.run(0, "image", at+"/skerry/tide-desk:4.2")
	assert.Contains(t, stdout, "\n  ports      80/tcp, 8711/udp\n  data       /desk\n")
	assert.Contains(t, stderr, "no engine answers, so only registries were asked: ")
	_, stderr = b.run(2, "image")
	assert.Contains(t, stderr, "lantern image needs the name of an image")
}

// images are what the program says of images.
func (b *bench) images(code int, references ...string) []app.ImageFacts {
	b.t.Helper()
	stdout, _ := b.run(code, append([]string{"image", "--format", "json"}, references...)...)
	var list struct{ Images []app.ImageFacts }
	require.NoError(b.t, json.Unmarshal([]byte(stdout), &list), stdout)
	return list.Images
}

// fromRegistry looks at images that are in a registry only.
func fromRegistry(t *testing.T, b *bench, at string) {
	declared := v1.Config{
		ExposedPorts: map[string]struct{}{"80/tcp": {}, "8711/udp": {}}, Volumes: map[string]struct{}{"/desk": {}},
		Env: []string{"DESK_LEVEL=info", "MOON=a=b"}, Entrypoint: []string{"/desk"}, Cmd: []string{"--serve"},
		User: "desk" + evil, Labels: map[string]string{
			"org.opencontainers.image.description": "Tide tables" + evil,
			"org.opencontainers.image.source":      "https://tides.example/source",
		},
	}
	desk := at + "/skerry/tide-desk"
	for _, tag := range []string{"4.2.1", "4.2", "4.10.0", "latest"} {
		pushDeclared(t, desk+":"+tag, declared, v1.Platform{OS: "linux", Architecture: "amd64"},
			v1.Platform{OS: "linux", Architecture: "arm64"})
	}
	pushDeclared(t, at+"/skerry/small:1", v1.Config{}, v1.Platform{OS: "linux", Architecture: "riscv64"})

	one := b.images(0, desk+":4.2")[0]
	assert.Equal(t, "registry", one.Source)
	assert.Equal(t, []string{"linux/amd64", "linux/arm64"}, one.Platforms)
	assert.Equal(t, []string{"80/tcp", "8711/udp"}, one.Ports)
	assert.Equal(t, []string{"/desk"}, one.Volumes)
	assert.Equal(t, map[string]string{"DESK_LEVEL": "info", "MOON": "a=b"}, one.Env)
	assert.Equal(t, "https://tides.example/source", one.Links.Source)
	assert.Equal(t, 2026, one.Created.Year())
	assert.Equal(t, []app.ImageTag{{Tag: "4.10.0"}, {Tag: "4.2.1"}, {Tag: "4.2", Moves: true}, {Tag: "latest", Moves: true}},
		one.Tags)
	assert.Equal(t, one, b.images(0, desk+":4.2")[0], "what is kept says the same")

	several := b.images(1, desk+":4.3", at+"/skerry/tide-dsk:1", at+"/skerry/small:1", "127.0.0.1:9/x/y:1", "not A name")
	assert.Equal(t, "absent", several[0].Source)
	assert.Equal(t, "4.2", several[0].Near[0])
	assert.Equal(t, "absent", several[1].Source)
	assert.Equal(t, desk, several[1].Near[0])
	assert.Equal(t, "registry", several[2].Source)
	assert.Empty(t, several[3].Source)
	assert.NotEmpty(t, several[3].Unknown)
	assert.Equal(t, "the name of the image cannot be read", several[4].Unknown)

	c := b.console(120, 60, "image", desk+":4.2", at+"/skerry/small:1")
	c.shows(`^  made for   linux/amd64, linux/arm64 +linux/riscv64`)
	c.shows(`^  tags       4.10.0, 4.2.1, 4.2 \(moves\), latest \(moves\)`)
	c.shows(`^ +tables\\x1b\[2J\\x1b\[31mlamp`)
	c.cmd.Wait()
}
