//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"io"
	"log"
	"maps"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/registry"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// sshHome makes a home folder for a person who knows the sshd before the engines as lighthouse. It returns what the
// environment of the program says of it, and the port of the sshd.
func sshHome(t testing.TB) (env []string, port string) {
	t.Helper()
	return sshHomeIn(t, t.TempDir())
}

// elsewhere is where the engines are for the program, where LANTERN_TEST_OVER_SSH is set: all tests then work over SSH on
// what they work on here. It is for a run by hand: what is about this machine itself fails.
func elsewhere(t testing.TB, address string) string {
	t.Helper()
	setHome.Do(func() {
		_, err := program() // with the home folder that the compiler knows
		require.NoError(t, err)
		home, err := os.MkdirTemp("", "lantern-home")
		require.NoError(t, err)
		env, _ := sshHomeIn(t, home)
		for _, v := range env {
			name, value, _ := strings.Cut(v, "=")
			require.NoError(t, os.Setenv(name, value))
		}
	})
	return "ssh://lighthouse" + strings.TrimPrefix(address, "unix://")
}

var setHome sync.Once

// sshHomeIn is as sshHome, in a folder.
func sshHomeIn(t testing.TB, home string) (env []string, port string) {
	t.Helper()
	port = enginetest.SSHHome(t, home, "mail") // an account in the engines' group
	return []string{"HOME=" + home, "SSH_AUTH_SOCK="}, port
}

// Two hosts are deployed to side by side. One that goes in the middle holds up nothing of the other, is named, and the
// next run converges.
func twoHosts(t *testing.T) {
	env, port := sshHome(t)
	var benches []*bench
	var relays []*enginetest.Relay
	for _, name := range []string{"dockerd", "podman"} {
		benches = append(benches, newBench(t, enginetest.Named(t, name)))
		relays = append(relays, enginetest.StartRelay(t, "127.0.0.1:"+port))
	}
	b, far := benches[0], benches[1]
	b.alone()
	far.own, b.env = b.own, append(slices.Clone(env), "LANTERN_ENGINE_PATIENCE=30s") // it is away for that long
	way := func(i int) string {
		return "ssh://127.0.0.1:" + relays[i].Port + strings.TrimPrefix(benches[i].target.Address, "unix://")
	}
	b.write("lab.toml", fmt.Sprintf("lab = \"skerry-light\"\n[host.lamp-room]\nengine = %q\n[host.boathouse]\nengine = %q\n", way(0), way(1)))
	pages := map[string]int{}
	write := func(level string) {
		for _, stack := range []string{"mast-log", "jetty-log", "quay-log"} {
			host, after := "boathouse", "4s"
			if stack == "mast-log" {
				host, after = "lamp-room", "100ms"
			}
			if pages[stack] == 0 {
				pages[stack] = freePort(t)
			}
			b.write(stack+"/stack.toml", fmt.Sprintf(`host = %q
[service.desk]
image = "registry.skerry.example/probe:1"
ports = ["localhost:%d -> 8080"]
env = { LEVEL = %q, PROBE_READY_AFTER = %q }
ready = { http = "8080/", within = "30s" }
page = "8080/"
`, host, pages[stack], level, after))
		}
	}
	write("low")
	b.run(0, "deploy", "--yes")
	require.Len(t, b.containers(), 1)
	was := far.containers()
	require.Len(t, was, 2)

	// The first stack of boathouse is being replaced when its connection goes.
	write("high")
	go func() {
		for range 600 {
			if c, ok := far.containers()["jetty-log.desk"]; ok && c.ID != was["jetty-log.desk"].ID && c.Running {
				break
			}
			time.Sleep(50 * time.Millisecond)
		}
		relays[1].Shut()
	}()
	_, stderr := b.run(5, "deploy", "--yes")
	assert.Contains(t, stderr, "run lantern deploy jetty-log")
	assert.Contains(t, stderr, "not deployed because of this: quay-log")
	assert.Contains(t, b.page(pages["mast-log"]).Env, "LEVEL=high")

	// As long as it is away, the others are looked at, compared and deployed.
	write("higher")
	stdout, stderr := b.run(3, "status")
	assert.Contains(t, stdout, "mast-log/desk")
	assert.Contains(t, stderr, "boathouse")
	stdout, stderr = b.run(3, "deploy", "--yes")
	assert.Contains(t, stdout, "mast-log/desk")
	assert.Contains(t, stderr, "not deployed, because boathouse cannot be reached: jetty-log")
	assert.Contains(t, b.page(pages["mast-log"]).Env, "LEVEL=higher")
	b.run(3, "deploy", "jetty-log", "--yes")
	stdout, _ = b.run(3, "--format", "json", "compare")
	assert.Contains(t, stdout, `"unreached"`)

	relays[1].Open()
	b.run(0, "deploy", "--yes")
	for _, port := range pages {
		assert.Contains(t, b.page(port).Env, "LEVEL=higher")
	}
	assert.Len(t, far.containers(), 2, "no lock and nothing of before is left")
	b.run(0, "status")

	// The connection goes in the middle of a pull: nothing was changed, and the next run gets it.
	cut := &cutsAt{Handler: registry.New(registry.Logger(log.New(io.Discard, "", 0)))}
	from, err := name.NewTag(enginetest.Page)
	require.NoError(t, err)
	pulled, err := name.NewTag(fmt.Sprintf("%s/skerry/far-%d:1", enginetest.ServeRegistry(t, cut), os.Getpid()))
	require.NoError(t, err)
	own, err := random.Image(1<<20, 2)
	require.NoError(t, err)
	layers, err := own.Layers()
	require.NoError(t, err)
	image, err := mutate.AppendLayers(enginetest.Images(t)[from], layers...)
	require.NoError(t, err)
	require.NoError(t, remote.Write(pulled, image))
	layer, err := layers[0].Digest()
	require.NoError(t, err)
	cut.layer = layer.String() // which only the engine asks for
	cut.at.Store(func() { relays[0].Shut() })
	before := b.containers()["mast-log.desk"].ID
	b.write("mast-log/stack.toml", strings.Replace(b.read("mast-log/stack.toml"), enginetest.Page, pulled.String(), 1))
	_, stderr = b.run(3, "deploy", "mast-log", "--yes")
	assert.Contains(t, stderr, "nothing was changed")
	assert.Equal(t, before, b.containers()["mast-log.desk"].ID)
	cut.at.Store(func() {})
	relays[0].Open()
	b.run(0, "deploy", "mast-log", "--yes")
	assert.Equal(t, pulled.String(), b.containers()["mast-log.desk"].Container.Image)
}

// cutsAt is a registry that does something when one layer is asked for, and gives it a while later.
type cutsAt struct {
	http.Handler
	at    atomic.Value
	layer string
}

func (c *cutsAt) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if then, ok := c.at.Load().(func()); ok && r.Method == http.MethodGet && c.layer != "" && strings.HasSuffix(r.URL.Path, c.layer) {
		then()
		time.Sleep(time.Second)
	}
	c.Handler.ServeHTTP(w, r)
}

// Files of the stack's folder go into containers on each engine; the engine without root has the life of a stack, too. What
// works on this machine works over SSH: a real sshd before each real engine; and two hosts at once. Most of it is waiting.
func TestSideBySide(t *testing.T) {
	env, _ := sshHome(t)
	t.Run("life without root", func(t *testing.T) {
		t.Parallel()
		lifeOfAStack(t, enginetest.Named(t, "rootless"))
	})
	for _, name := range []string{"dockerd", "podman", "rootless"} {
		t.Run("files on "+name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t, enginetest.Named(t, name))
			b.alone()
			filesInside(b, b.target.Address, "haze")
		})
	}
	t.Run("two hosts", func(t *testing.T) {
		t.Parallel()
		twoHosts(t)
	})
	for _, name := range []string{"dockerd", "podman"} {
		t.Run(name+" over SSH", func(t *testing.T) {
			t.Parallel()
			b := newBench(t, enginetest.Named(t, name))
			b.alone()
			b.env = env
			overSSH(t, b)
			helped := newBench(t, b.target)
			helped.own, helped.env = b.own, env
			address := "ssh://lighthouse" + strings.TrimPrefix(b.target.Address, "unix://")
			elsewhereHelped(t, helped, address)
			helped.stack = "lens"
			helped.buildImages(address)
		})
	}
}

func overSSH(t *testing.T, b *bench) {
	target := b.target
	address := "ssh://lighthouse" + strings.TrimPrefix(target.Address, "unix://")
	b.write("tide-log/tide-log.env", "TIDES_DB_PASSWORD=the-moon-pulls-the-sea\n")
	front, desk := freePort(t), freePort(t)
	write := func(engine, image, level, within string) {
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, engine))
		b.write("tide-log/stack.toml", fmt.Sprintf(stackText, image, front, level, within, desk))
	}

	// The survey is the local one, but for what this way does not show.
	surveyOf := func(engine string) map[string]any {
		write(engine, enginetest.Page, "low", "20s")
		stdout, _ := b.run(0, "--format", "json", "survey", "lamp-room")
		var s map[string]any
		require.NoError(t, json.Unmarshal([]byte(stdout), &s))
		if inner, ok := s["surveys"].([]any); ok {
			s = inner[0].(map[string]any)
		}
		return s
	}
	local, far := surveyOf(target.Address), surveyOf(address)
	for _, same := range []string{"accounts", "groups", "timezone", "platform", "engine", "filesystems", "routes", "unprivileged-port-start"} {
		if same == "filesystems" {
			assert.Equal(t, len(local[same].([]any)), len(far[same].([]any)), same)
			continue
		}
		assert.Equal(t, lasting(local[same]), lasting(far[same]), same)
	}
	unknown := fmt.Sprint(far["unknown"])
	assert.Contains(t, unknown, "access control lists are not shown over SSH")

	b.run(0, "check")
	begun := time.Now()
	seen := watchProcesses(t)
	b.run(0, "deploy", "--yes")
	said := seen()
	assert.Contains(t, said, "sshd", "it has looked")
	assert.NotContains(t, said, "the-moon-pulls-the-sea", "in no argument and no environment on the host but the service's own")
	b.page(front)
	stdout, _ := b.run(0, "status")
	assert.Contains(t, stdout, "ready")
	b.run(0, "compare")
	stdout, _ = b.run(0, "logs", "tide-log")
	assert.Contains(t, stdout, "the probe starts")
	b.run(0, "prove")
	was := b.containers()
	write(address, enginetest.NeverReady, "high", "2s")
	b.run(4, "deploy", "--yes")
	for name, c := range b.containers() {
		assert.Equal(t, was[name].ID, c.ID, "what ran before runs")
	}
	write(address, enginetest.Page, "high", "20s")
	b.run(0, "deploy", "--yes")
	b.run(0, "stop", "tide-log")
	b.run(0, "start", "tide-log")
	b.run(0, "retire", "tide-log", "--yes")
	assert.Empty(t, b.containers())
	require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "tide-log")))
	filesInside(b, address, "fog")

	// Nothing is left of it: no file, and no process of the account but those of connections that others have.
	for _, dir := range []string{"/tmp", "/var/tmp", "/run", "/var/mail"} {
		filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
			if err != nil {
				return nil //nolint:nilerr // it has gone, or is somebody else's
			}
			info, err := e.Info()
			if err == nil && info.Sys().(*syscall.Stat_t).Uid == accountOf(t) && info.ModTime().After(begun) {
				t.Errorf("%s is left on the host", path)
			}
			return nil
		})
	}
	images, err := b.engine.ImagesNamed(t.Context(), "localhost/lantern-helper")
	require.NoError(t, err)
	assert.Empty(t, images)
	for name := range wherever(t, b) {
		assert.False(t, strings.HasPrefix(name, "tide-log") || strings.HasPrefix(name, "fog"), "%s is left on the engine", name)
	}
}

// lasting leaves out of a list what other tests make and remove meanwhile: the routes of engines' networks.
func lasting(fact any) any {
	list, ok := fact.([]any)
	if !ok {
		return fact
	}
	return slices.DeleteFunc(list, func(one any) bool {
		route, _ := one.(map[string]any)
		device, _ := route["device"].(string)
		return strings.HasPrefix(device, "br-") || strings.HasPrefix(device, "podman") || strings.HasPrefix(device, "veth")
	})
}

// accountOf returns the uid that the host is entered as.
func accountOf(t *testing.T) uint32 {
	u, err := user.Lookup("mail")
	require.NoError(t, err)
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	require.NoError(t, err)
	return uint32(uid)
}

// wherever returns the names of all that an engine has.
func wherever(t *testing.T, b *bench) map[string]bool {
	names := map[string]bool{}
	containers, err := b.engine.Survey(t.Context())
	require.NoError(t, err)
	for _, c := range containers {
		names[c.Name] = true
	}
	networks, err := b.engine.Networks(t.Context(), "")
	require.NoError(t, err)
	for _, n := range networks {
		names[n.Name] = true
	}
	volumes, err := b.engine.Volumes(t.Context())
	require.NoError(t, err)
	for _, v := range volumes {
		names[v.Name] = true
	}
	return names
}

// watchProcesses collects the arguments and environments of all processes of the host that are not inside of a container,
// until it is asked for them.
func watchProcesses(t *testing.T) (said func() string) {
	own, err := os.Readlink("/proc/self/ns/mnt")
	require.NoError(t, err)
	end, ended := make(chan struct{}), make(chan string)
	go func() {
		texts := map[string]bool{}
		for {
			dirs, _ := filepath.Glob("/proc/[0-9]*")
			for _, dir := range dirs {
				if ns, err := os.Readlink(dir + "/ns/mnt"); err != nil || ns != own {
					continue
				}
				for _, file := range []string{"cmdline", "environ"} {
					text, _ := os.ReadFile(dir + "/" + file)
					texts[strings.ReplaceAll(string(text), "\x00", "\n")] = true
				}
			}
			select {
			case <-end:
				ended <- strings.Join(slices.Collect(maps.Keys(texts)), "\n")
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	return func() string {
		close(end)
		return <-ended
	}
}
