//go:build linux

package host

import (
	"errors"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
	logins "proudlantern.example/lantern/registry"
)

// sensorFor is an image for a processor that says what it needs.
func sensorFor(t *testing.T, architecture string) v1.Image {
	t.Helper()
	image, err := random.Image(100, 1)
	require.NoError(t, err)
	config, err := image.ConfigFile()
	require.NoError(t, err)
	config = config.DeepCopy()
	config.OS, config.Architecture = "linux", architecture
	config.Config = v1.Config{
		User: "1311", Env: []string{"LEVEL=info"}, Entrypoint: []string{"/sensor"},
		ExposedPorts: map[string]struct{}{"8080/tcp": {}, "5683/udp": {}},
		Volumes:      map[string]struct{}{"/readings": {}},
	}
	image, err = mutate.ConfigFile(image, config)
	require.NoError(t, err)
	return image
}

// What an image declares is read from its registry without its layers, once for each digest.
func TestImagesInRegistries(t *testing.T) {
	var requests atomic.Int64
	var asked sync.Map
	inner := registry.New(registry.Logger(log.New(io.Discard, "", 0)))
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		requests.Add(1)
		asked.Store(r.URL.Path, true)
		inner.ServeHTTP(w, r)
	}))
	defer served.Close()
	locked := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, _ := r.BasicAuth(); user != "keeper" || password != "of the light" {
			w.Header().Set("WWW-Authenticate", `Basic realm="skerry"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		inner.ServeHTTP(w, r)
	}))
	defer locked.Close()
	at, behind := strings.TrimPrefix(served.URL, "http://"), strings.TrimPrefix(locked.URL, "http://")
	one, other := sensorFor(t, "amd64"), sensorFor(t, "arm64")
	index := mutate.AppendManifests(empty.Index,
		mutate.IndexAddendum{
			Add:        other,
			Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "linux", Architecture: "arm64"}},
		},
		mutate.IndexAddendum{
			Add:        one,
			Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "linux", Architecture: "amd64"}},
		},
		mutate.IndexAddendum{
			Add:        one,
			Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "unknown", Architecture: "unknown"}},
		})
	push := func(reference string, write func(name.Reference) error) {
		ref, err := name.ParseReference(at + "/" + reference)
		require.NoError(t, err)
		require.NoError(t, write(ref))
	}
	for _, tag := range []string{"1.4", "14.0", "1.40", "2", "14-beta", "latest", "spring"} {
		push("skerry/sensor:"+tag, func(r name.Reference) error { return remote.Write(r, one) })
	}
	push("skerry/both:1", func(r name.Reference) error { return remote.WriteIndex(r, index) })
	layer, err := one.Layers()
	require.NoError(t, err)
	digest, err := layer[0].Digest()
	require.NoError(t, err)
	size, err := layer[0].Size()
	require.NoError(t, err)

	r := &registries{
		logins: &logins.Logins{},
		cache:  filepath.Join(t.TempDir(), "images"),
		dead:   map[string]error{},
	}
	want := survey.Image{
		Source: survey.FromRegistry, User: "1311", Env: map[string]string{"LEVEL": "info"},
		Entrypoint: []string{"/sensor"}, Ports: []string{"5683/udp", "8080/tcp"}, Volumes: []string{"/readings"},
		Layers: map[string]int64{digest.Hex[:12]: size},
	}
	for reference, platforms := range map[string][]string{
		"skerry/sensor:1.4": {"linux/amd64"},
		"skerry/both:1":     {"linux/arm64", "linux/amd64"},
	} {
		want.Reference, want.Platforms = at+"/"+reference, platforms
		for _, most := range []int{6, 2} {
			asked.Range(func(path, _ any) bool { asked.Delete(path); return true })
			requests.Store(0)
			got, err := r.image(t.Context(), want.Reference, "linux/amd64")
			require.NoError(t, err)
			assert.Regexp(t, "^sha256:", got.Digest)
			want.Digest = got.Digest
			assert.Equal(t, want, got)
			assert.LessOrEqual(t, requests.Load(), int64(most),
				"the second time only its digest is asked for, and the version of the protocol")
			_, pulled := asked.Load("/v2/" + strings.Split(reference, ":")[0] + "/blobs/" + digest.String())
			assert.False(t, pulled, "no layer is asked for")
		}
	}
	_, err = r.image(t.Context(), at+"/skerry/sensor@"+digest.String(), "linux/amd64")
	assert.ErrorIs(t, err, engine.ErrNotFound, "the digest of a layer is that of no image")

	got, err := r.image(t.Context(), at+"/skerry/sensor:14", "linux/amd64")
	assert.ErrorIs(t, err, engine.ErrNotFound)
	assert.Equal(t,
		survey.Image{
			Reference: at + "/skerry/sensor:14",
			Source:    survey.Absent,
			Near:      []string{"1.4", "14.0", "1.40", "2", "14-beta"},
		}, got)
	_, err = r.image(t.Context(), at+"/skerry/sensors:1.4", "linux/amd64")
	assert.ErrorIs(t, err, engine.ErrNotFound, "no such repository")

	_, err = r.image(t.Context(), behind+"/skerry/sensor:1.4", "linux/amd64")
	assert.EqualError(t, err, "it needs a login (status 401)")
	t.Setenv("DOCKER_CONFIG", t.TempDir())
	require.NoError(t,
		os.WriteFile(filepath.Join(os.Getenv("DOCKER_CONFIG"), "config.json"),
			[]byte(`{"auths": {"`+behind+`": {"username": "keeper", "password": "of the light"}}}`), 0o600))
	_, err = r.image(t.Context(), behind+"/skerry/sensor:1.4", "linux/amd64")
	assert.NoError(t, err, "the login of the engine's auth file")
}

// Only a registry that says so makes an image absent.
func TestRegistriesThatRefuse(t *testing.T) {
	if os.Getenv("LANTERN_TEST_ELSEWHERE") != "" {
		t.Skip("LANTERN_TEST_ELSEWHERE is set: another run tries what needs no real engine")
	}
	for status, says := range map[int]string{
		http.StatusUnauthorized: "needs a login", http.StatusForbidden: "needs a login",
		http.StatusTooManyRequests: "asked too often", http.StatusNotFound: "status 404",
		http.StatusBadGateway: "status 502",
	} {
		refuses := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/v2/" {
				w.WriteHeader(status)
			}
		}))
		r := &registries{logins: &logins.Logins{}, dead: map[string]error{}}
		_, err := r.image(t.Context(), strings.TrimPrefix(refuses.URL, "http://")+"/skerry/sensor:1.4",
			"linux/amd64")
		refuses.Close()
		require.ErrorContains(t, err, says)
		assert.False(t, errors.Is(err, engine.ErrNotFound), "status %d says nothing about the image: %v",
			status, err)
	}
	gone := httptest.NewServer(http.NotFoundHandler())
	at := strings.TrimPrefix(gone.URL, "http://")
	gone.Close()
	r := &registries{logins: &logins.Logins{}, dead: map[string]error{}}
	for range 2 {
		_, err := r.image(t.Context(), at+"/skerry/sensor:1.4", "linux/amd64")
		assert.EqualError(t, err, at+" cannot be reached")
	}
	assert.Len(t, r.dead, 1, "nobody waits for it twice")
}

// A registry that answers in a hostile way keeps nobody waiting for long, and fills no memory.
func TestHostileRegistry(t *testing.T) {
	if os.Getenv("LANTERN_TEST_ELSEWHERE") != "" {
		t.Skip("LANTERN_TEST_ELSEWHERE is set: another run tries what needs no real engine")
	}
	for _, way := range enginetest.HostileWays {
		for _, part := range []string{"/v2/", "/manifests/", "/tags/", "/blobs/"} {
			t.Run(way+" "+part, func(t *testing.T) {
				t.Parallel()
				inner := registry.New(registry.Logger(log.New(io.Discard, "", 0)))
				s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
					switch {
					case part == "/v2/" || strings.Contains(r.URL.Path, part):
						enginetest.HostileAnswer(w, r, way)
					case part == "/tags/" && strings.Contains(r.URL.Path, "/manifests/"):
						w.Header().Set("Content-Type", "application/json")
						w.WriteHeader(404)
						io.WriteString(w, `{"errors":[{"code":"MANIFEST_UNKNOWN"}]}`)
					default:
						inner.ServeHTTP(w, r)
					}
				}))
				defer s.CloseClientConnections()
				r := &registries{logins: &logins.Logins{}, dead: map[string]error{}}
				began := time.Now()
				_, err := r.image(t.Context(), strings.TrimPrefix(s.URL, "http://")+"/skerry/desk:1", "linux/amd64")
				assert.Error(t, err)
				assert.Less(t, time.Since(began), 10*askWithin)
				assert.Less(t, len(err.Error()), 4096)
			})
		}
	}
}
