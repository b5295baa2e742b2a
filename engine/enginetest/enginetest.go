//go:build linux

// Package enginetest gives tests the engines that are there: the stand-in always, real ones where
// scripts/with-engines has started them, all with the same images.
package enginetest

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/moby/moby/client"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/standin"
)

// Target is an engine to test against.
type Target struct {
	Name    string // stand-in, dockerd, podman or rootless
	Address string
}

// Real reports whether containers really run there.
func (t Target) Real() bool { return t.Name != "stand-in" }

// IsPodman reports whether it is Podman's service, with or without root.
func (t Target) IsPodman() bool { return t.Name == "podman" || t.Name == rootless.name }

// TempDir is as [testing.TB.TempDir], and engines without root may enter it.
func TempDir(t testing.TB) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.Chmod(filepath.Dir(dir), 0o755))
	return dir
}

// The images that every target has. Their pages are on port 8080; Store listens on 7410; all say "open for
// readings" when they are ready.
const (
	Page       = "registry.skerry.example/probe:1"
	PageNew    = "registry.skerry.example/probe:2"
	Store      = "registry.skerry.example/probe-store:1"
	NeverReady = "registry.skerry.example/probe:never"
	Exits      = "registry.skerry.example/probe:exits" // with 3, after a moment
	Job        = "registry.skerry.example/probe:job"   // ends without an error, after a moment
	Tools      = "registry.skerry.example/tools:1"     // as Page, with the shell and the tools of BusyBox
)

// behaviour of each image, as the environment of the probe.
var behaviour = map[string]map[string]string{
	Page:       {"PROBE_PAGE": "8080", "PROBE_READY_AFTER": "200ms"},
	PageNew:    {"PROBE_PAGE": "8080", "PROBE_READY_AFTER": "200ms", "PROBE_VERSION": "2"},
	Store:      {"PROBE_TCP": "7410", "PROBE_READY_AFTER": "200ms"},
	NeverReady: {"PROBE_PAGE": "8080", "PROBE_NEVER_READY": "1"},
	Exits:      {"PROBE_EXITS": "3", "PROBE_EXITS_AFTER": "100ms"},
	Job:        {"PROBE_EXITS": "0", "PROBE_EXITS_AFTER": "700ms"},
	Tools:      {"PROBE_PAGE": "8080"},
	// as the demo's stack tide-log has them
	"registry.skerry.example/tide-desk:2.3": {"PROBE_PAGE": "80"},
	"registry.skerry.example/store:4.2":     {"PROBE_TCP": "7410"},
}

// Catalogue is the same for the stand-in.
const Catalogue = `
[image."` + Page + `"]
present = true
ports = ["8080/tcp"]
page.8080 = "probe"
page-port = "PROBE_PAGE"
echo = true
programs = ["/probe"]
ready-after = "200ms"
log = ["the probe starts", "open for readings"]
env = { PROBE_PAGE = "8080", PROBE_READY_AFTER = "200ms" }

[image."` + Tools + `"]
present = true
ports = ["8080/tcp"]
page.8080 = "probe"
log = ["the probe starts", "open for readings"]
programs = ["/probe", "/bin/sh"]
files = { "/state/gauge.conf" = "a=b\naccess=MADE\n" }

[image."` + PageNew + `"]
present = true
ports = ["8080/tcp"]
programs = ["/probe"]
check = ["/probe", "ask", "8080"]
volumes = ["/kept"]
page.8080 = "probe"
page-port = "PROBE_PAGE"
echo = true
ready-after = "200ms"
log = ["the probe starts", "open for readings"]
env = { PROBE_VERSION = "2" }

[image."` + Store + `"]
present = true
ports = ["7410/tcp"]
ready-after = "200ms"
log = ["the probe starts", "open for readings"]

[image."` + NeverReady + `"]
present = true
ports = ["8080/tcp"]
page.8080 = "probe"
page-port = "PROBE_PAGE"
never-ready = true
log = ["the probe starts", "waiting for a tide that does not come"]

[image."` + Exits + `"]
present = true
exits = 3
exits-after = "100ms"
never-ready = true
log = ["the probe starts", "the lens is cracked"]

[image."` + Job + `"]
present = true
exits = 0
exits-after = "700ms"
never-ready = true
log = ["the probe starts", "the lens is clean"]

[image."registry.skerry.example/probe:pulled"]
layers = [4000, 2000]
ready-after = "10ms"
log = ["open for readings"]
`

// StandIn starts a stand-in for a test and returns its address.
func StandIn(t testing.TB, o standin.Options) string {
	t.Helper()
	_, address := StartStandIn(t, o)
	return address
}

// StartStandIn is as StandIn, and gives the engine itself, too.
func StartStandIn(t testing.TB, o standin.Options) (*standin.Server, string) {
	t.Helper()
	if o.Catalogue.Image == nil {
		c, err := standin.ParseCatalogue([]byte(Catalogue))
		require.NoError(t, err)
		o.Catalogue = c
	}
	// the path of a socket has at most 107 bytes, those of t.TempDir are long
	dir, err := os.MkdirTemp("", "lantern")
	require.NoError(t, err)
	s, err := standin.Start(filepath.Join(dir, "engine.sock"), o)
	require.NoError(t, err)
	t.Cleanup(func() {
		s.Close()
		os.RemoveAll(dir)
	})
	return s, "unix://" + filepath.Join(dir, "engine.sock")
}

// reals are the real engines, and where the environment says that they are.
var reals = []struct{ name, variable string }{
	{"dockerd", "LANTERN_TEST_DOCKERD"},
	{"podman", "LANTERN_TEST_PODMAN"},
}

// rootless is an engine without root. It is the same program as another one, so that not all tests have to run there:
// [Every] does, and [Each] where LANTERN_TEST_EVERYWHERE is set.
var rootless = struct{ name, variable string }{"rootless", "LANTERN_TEST_ROOTLESS"}

func init() {
	if os.Getenv("LANTERN_TEST_EVERYWHERE") != "" {
		reals = append(reals, rootless)
	}
}

// real returns a real engine with the images of the tests. One that is not there is skipped with the reason.
func real(t testing.TB, name, variable string) Target {
	address := os.Getenv(variable)
	if address == "" {
		t.Skipf("%s is not set: scripts/with-engines starts a real engine", variable)
	}
	load(t, address)
	return Target{name, address}
}

// StandInElsewhere tells that another run of the same tests, without real engines, tries the stand-in. A package whose tests
// take long sets it.
var StandInElsewhere bool

// SkipTwice skips what needs no real engine, where that was said.
func SkipTwice(t testing.TB) {
	if StandInElsewhere {
		t.Skip("LANTERN_TEST_ELSEWHERE is set: another run tries the stand-in")
	}
}

// Each runs a test once for every target.
func Each(t *testing.T, test func(t *testing.T, target Target)) {
	t.Run("stand-in", func(t *testing.T) {
		SkipTwice(t)
		test(t, Target{"stand-in", StandIn(t, standin.Options{})})
	})
	for _, r := range reals {
		t.Run(r.name, func(t *testing.T) { test(t, real(t, r.name, r.variable)) })
	}
}

// Every is as Each, with the engine without root, too.
func Every(t *testing.T, test func(t *testing.T, target Target)) {
	Each(t, test)
	if !slices.Contains(reals, rootless) {
		t.Run(rootless.name, func(t *testing.T) { test(t, real(t, rootless.name, rootless.variable)) })
	}
}

// EachAtOnce is as Each, with all real engines at the same time: they know nothing of each other, and most of such a test
// is waiting. It must change nothing of its process, such as its environment.
func EachAtOnce(t *testing.T, test func(t *testing.T, target Target)) { atOnce(t, reals, test) }

// EveryAtOnce is as EachAtOnce, with the engine without root, too.
func EveryAtOnce(t *testing.T, test func(t *testing.T, target Target)) {
	all := slices.Clone(reals)
	if !slices.Contains(all, rootless) {
		all = append(all, rootless)
	}
	atOnce(t, all, test)
}

func atOnce(t *testing.T, reals []struct{ name, variable string }, test func(t *testing.T, target Target)) {
	t.Run("stand-in", func(t *testing.T) {
		SkipTwice(t)
		test(t, Target{"stand-in", StandIn(t, standin.Options{})})
	})
	t.Run("at-once", func(t *testing.T) {
		for _, r := range reals {
			t.Run(r.name, func(t *testing.T) {
				target := real(t, r.name, r.variable)
				t.Parallel()
				test(t, target)
			})
		}
	})
}

// EachBench is as Each, for benchmarks, and leaves the stand-in out: it does nothing that takes time.
func EachBench(b *testing.B, bench func(b *testing.B, target Target)) {
	for _, r := range reals {
		b.Run(r.name, func(b *testing.B) { bench(b, real(b, r.name, r.variable)) })
	}
}

var (
	loaded   sync.Map // address to *sync.Once
	archives = sync.OnceValues(buildImages)
)

// load puts the images into a real engine.
func load(t testing.TB, address string) {
	t.Helper()
	once, _ := loaded.LoadOrStore(address, new(sync.Once))
	once.(*sync.Once).Do(func() { // whoever comes meanwhile waits for it
		images, err := archives()
		require.NoError(t, err)
		api, err := client.New(client.WithHost(address))
		require.NoError(t, err)
		defer api.Close()
		var archive bytes.Buffer
		require.NoError(t, tarball.MultiWrite(images, &archive))
		r, err := api.ImageLoad(context.Background(), &archive)
		require.NoError(t, err)
		_, err = io.Copy(io.Discard, r)
		require.NoError(t, err)
		require.NoError(t, r.Close())
	})
}

// Images returns the images of the tests, for a registry.
func Images(t testing.TB) map[name.Tag]v1.Image {
	t.Helper()
	images, err := archives()
	require.NoError(t, err)
	return images
}

// buildImages compiles the probe and makes an image of it for each behaviour.
func buildImages() (map[name.Tag]v1.Image, error) {
	dir, err := os.MkdirTemp("", "lantern-probe")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	program := filepath.Join(dir, "probe")
	build := exec.Command("go", "build", "-ldflags", "-s -w", "-o", program,
		"proudlantern.example/lantern/engine/enginetest/probe")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	build.Stderr = os.Stderr
	if err := build.Run(); err != nil {
		return nil, err
	}
	text, err := os.ReadFile(program)
	if err != nil {
		return nil, err
	}
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return archive(text) })
	if err != nil {
		return nil, err
	}
	tools, err := toolsLayer()
	if err != nil {
		return nil, err
	}
	images := map[name.Tag]v1.Image{}
	for reference, env := range behaviour {
		layers := []v1.Layer{layer}
		if reference == Tools {
			layers = append(layers, tools)
		}
		tag, err := name.NewTag(reference)
		if err != nil {
			return nil, err
		}
		image, err := mutate.AppendLayers(empty.Image, layers...)
		if err != nil {
			return nil, err
		}
		config, err := image.ConfigFile()
		if err != nil {
			return nil, err
		}
		config.OS, config.Architecture = "linux", runtime.GOARCH
		config.Config.Entrypoint = []string{"/probe"}
		if reference == PageNew {
			config.Config.Healthcheck = &v1.HealthConfig{Test: []string{"CMD", "/probe", "ask", "8080"}}
			config.Config.Volumes = map[string]struct{}{"/kept": {}}
		}
		for _, k := range slices.Sorted(maps.Keys(env)) {
			config.Config.Env = append(config.Config.Env, k+"="+env[k])
		}
		if images[tag], err = mutate.ConfigFile(image, config); err != nil {
			return nil, err
		}
	}
	return images, nil
}

// toolsLayer is a layer with BusyBox, a static program of Debian's, in place of the link bin of the other layer.
func toolsLayer() (v1.Layer, error) {
	place, err := exec.LookPath("busybox")
	if err != nil {
		return nil, fmt.Errorf("scripts/with-engines installs it: %w", err)
	}
	program, err := os.ReadFile(place)
	if err != nil {
		return nil, err
	}
	return tarball.LayerFromOpener(func() (io.ReadCloser, error) {
		headers := []*tar.Header{
			{Name: "bin/", Mode: 0o755, Typeflag: tar.TypeDir},
			{Name: "bin/busybox", Mode: 0o755, Size: int64(len(program))},
		}
		for _, tool := range []string{"sh", "ash", "cat", "ls", "stty", "sleep", "id", "pwd", "kill", "ps", "head"} {
			headers = append(headers, &tar.Header{Name: "bin/" + tool, Linkname: "busybox", Typeflag: tar.TypeSymlink})
		}
		return archiveOf(headers, program)
	})
}

// archive is a layer with the one program that the images have, what is none, links, and a folder to mount on.
func archive(program []byte) (io.ReadCloser, error) {
	link := func(name, to string) *tar.Header {
		return &tar.Header{Name: name, Linkname: to, Typeflag: tar.TypeSymlink}
	}
	return archiveOf([]*tar.Header{
		{Name: "probe", Mode: 0o755, Size: int64(len(program))}, {Name: "notes", Mode: 0o644},
		{Name: "data/", Mode: 0o777, Typeflag: tar.TypeDir},
		link("bin", "/"), link("link", "probe"), link("tool", "/tools/lens"),
	}, program)
}

// archiveOf is an archive in which what has a size holds the program.
func archiveOf(headers []*tar.Header, program []byte) (io.ReadCloser, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range headers {
		if err := w.WriteHeader(h); err != nil {
			return nil, err
		}
		if h.Size > 0 {
			if _, err := w.Write(program); err != nil {
				return nil, err
			}
		}
	}
	return io.NopCloser(&b), w.Close()
}

// Named returns the real engine of that name with the images of the tests. One that is not there is
// skipped with the reason.
func Named(t testing.TB, name string) Target {
	for _, r := range append(slices.Clone(reals), rootless) {
		if r.name == name {
			return real(t, r.name, r.variable)
		}
	}
	require.Fail(t, "there is no engine "+name)
	return Target{}
}
