//go:build linux

package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

const settingsText = `[service.desk]
image = "registry.skerry.example/probe:1"
ports = ["localhost:%d -> 8080"]
ready = { http = "8080/", within = "20s" }
env.PROBE_FILES = "/proc/self/status /etc/hosts /etc/resolv.conf /proc/sys/net/ipv4/ip_default_ttl /proc/self/ns/pid /proc/self/ns/ipc /proc/self/ns/cgroup"
env.PROBE_WRITE = "/"
command = ["serve", "--quiet  twice"]
entrypoint = ["/probe", "desk"]
working-dir = "/data"
hostname = "desk-by-the-window"
extra-groups = ["1410", "1409"]
timezone-variable = "ZONE"
memory = "64MiB"
shared-memory = "32MiB"
cpus = 0.5
devices = ["/dev/null -> /dev/lamp0"]
capabilities = ["NET_ADMIN"]
drop-capabilities = ["MKNOD", "CHOWN"]
read-only = true
init = %t
sysctls = { "net.ipv4.ip_default_ttl" = "41" }
labels = { "example.skerry.room" = "lamp" }
ulimits = { nofile = "256:512", nproc = 1024 }
address-book = { lamp = "192.0.2.14" }
dns = ["192.0.2.53"]
aliases = ["tides"]
stop-signal = "SIGTERM"
stop-within = "3s"
fetch = "never"
restart = "no"
platform = "%s"

[service.guest]
image = "registry.skerry.example/probe:1"
ports = ["localhost:%d -> 8080"]
ready = { http = "8080/", within = "20s" }
env.PROBE_FILES = "/proc/self/ns/pid /proc/self/ns/ipc /proc/self/ns/cgroup /proc/self/status"
pid = "host"
ipc = "host"
cgroup = "host"
privileged = true
accept = { safety-privileged = "it mends the others" }
`

// Each setting is read back from inside the container; then nothing is to be done.
func TestSettings(t *testing.T) {
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if os.Getuid() != 0 {
			t.Skip("the namespaces of the host can only be compared by root")
		}
		if _, err := os.Stat("/dev/mqueue"); err != nil && target.Name == "rootless" {
			t.Skip(`ipc = "host" needs /dev/mqueue there (mount -t mqueue none /dev/mqueue)`)
		}
		b := newBench(t, target)
		desk, guest := freePort(t), freePort(t)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		b.write("tide-log/stack.toml",
			fmt.Sprintf(settingsText,
				desk, !target.IsPodman(), "linux/"+strings.TrimPrefix(architecture(t, b), "linux/"), guest))
		b.run(0, "deploy", "--yes")
		stdout, _ := b.run(0, "deploy", "--dry-run")
		assert.Contains(t, stdout, "up to date")
		// A difference of one setting is shown as that and no other.
		b.write("tide-log/stack.toml",
			strings.Replace(fmt.Sprintf(settingsText,
				desk, !target.IsPodman(), architecture(t, b), guest), `memory = "64MiB"`,
				`memory = "80MiB"`, 1))
		stdout, _ = b.run(0, "deploy", "--dry-run")
		rootless := target.Name == "rootless" // which cannot limit, and shows no devices
		if !rootless {
			assert.Regexp(t, `^tide-log on lamp-room\n  replace  desk\n +memory +64MiB becomes 80MiB\n$`, stdout)
		}
		if !target.Real() {
			return
		}
		d, g := insideOf(t, desk), insideOf(t, guest)
		assert.Equal(t, []string{"/probe", "desk", "serve", "--quiet  twice"}, d.Args)
		assert.Equal(t, "/data", d.Folder)
		assert.Equal(t, "desk-by-the-window", d.Hostname)
		assert.Subset(t, d.Groups, []int{1409, 1410})
		assert.Contains(t, d.Env, "ZONE=Atlantic/Faroe")
		assert.Equal(t, rootless, d.NoFile[1] != 512, "the hard limit; Go programs raise the soft one by themselves")
		assert.Equal(t, uint64(32<<20), d.Shared)
		assert.Contains(t, d.Wrote, "read-only file system")
		assert.Equal(t, "41\n", d.Files["/proc/sys/net/ipv4/ip_default_ttl"])
		assert.Regexp(t, `(?m)^192\.0\.2\.14\s+lamp$`, d.Files["/etc/hosts"])
		// Bits of capabilities(7): CHOWN 0, NET_ADMIN 12, MKNOD 27.
		var effective uint64
		_, err := fmt.Sscanf(
			regexp.MustCompile(`CapEff:\s+([0-9a-f]+)`).FindStringSubmatch(d.Files["/proc/self/status"])[1],
			"%x", &effective)
		require.NoError(t, err)
		assert.Equal(t, uint64(1<<12), effective&(1<<0|1<<12|1<<27))
		may, err := os.ReadFile("/proc/self/status")
		require.NoError(t, err)
		// Up to AUDIT_READ, 37: one of the engines is older than those above.
		if !rootless { // there it is all of its own namespace
			assert.Equal(t, bounding(t, string(may)), bounding(t, g.Files["/proc/self/status"]),
				"privileged: whatever this machine gives at all")
		}
		assert.NotEqual(t, bounding(t, string(may)), bounding(t, d.Files["/proc/self/status"]))
		// What cannot be seen inside without more tools is asked of the engine, past lantern's own reading of
		// it.
		c := b.raw("/containers/tide-log.desk/json")
		signal := c.Config.StopSignal
		assert.Contains(t, []any{"SIGTERM", "15", 15.0}, signal, "one of the engines says it as a number")
		assert.Equal(t, 3, c.Config.StopTimeout)
		assert.Equal(t, "lamp", c.Config.Labels["example.skerry.room"])
		if !rootless {
			assert.Equal(t, int64(64<<20), c.HostConfig.Memory)
			assert.InDelta(t, 5e8, c.HostConfig.NanoCpus, 1e6)
			assert.Equal(t, "/dev/null", c.HostConfig.Devices[0].PathOnHost)
			assert.Equal(t, "/dev/lamp0", c.HostConfig.Devices[0].PathInContainer)
		}
		assert.Equal(t, []string{"192.0.2.53"}, c.HostConfig.DNS)
		assert.Equal(t, "no", c.HostConfig.RestartPolicy.Name)
		assert.True(t, c.HostConfig.ReadonlyRootfs)
		assert.Equal(t, !target.IsPodman(), c.HostConfig.Init)
		for _, ns := range []string{"pid", "ipc", "cgroup"} {
			ours, err := os.Readlink("/proc/self/ns/" + ns)
			require.NoError(t, err)
			assert.Equal(t, ours, g.Files["/proc/self/ns/"+ns], "shared with the host")
			if ns != "cgroup" { // on version 1 of control groups engines share it anyway
				assert.NotEqual(t, ours, d.Files["/proc/self/ns/"+ns], "its own")
			}
		}
	})
}

// bounding reads the first 38 capabilities that a process may have at most (proc_pid_status(5)).
func bounding(t *testing.T, status string) (set uint64) {
	t.Helper()
	_, err := fmt.Sscanf(regexp.MustCompile(`CapBnd:\s+([0-9a-f]+)`).FindStringSubmatch(status)[1], "%x", &set)
	require.NoError(t, err)
	return set & (1<<38 - 1)
}

// answer is what an engine itself says of a container, a network or a volume.
type answer struct {
	Config struct {
		StopSignal  any
		StopTimeout int
		Labels      map[string]string
		User        string
	}
	HostConfig struct {
		Memory               int64
		NanoCpus             float64
		ReadonlyRootfs, Init bool
		DNS                  []string `json:"Dns"`
		RestartPolicy        struct{ Name string }
		Devices              []struct{ PathOnHost, PathInContainer string }
		LogConfig            struct{ Config map[string]string }
	}
	Labels   map[string]string
	Options  map[string]string
	Driver   string
	Internal bool
	IPAM     struct{ Config []struct{ Subnet string } }
}

// raw asks the engine's API, without any of lantern's code in between.
func (b *bench) raw(path string) (a answer) {
	b.t.Helper()
	c := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context,
		_, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "unix", strings.TrimPrefix(b.target.Address, "unix://"))
	}}}
	defer c.CloseIdleConnections()
	r, err := c.Get("http://engine/v1.41" + path)
	require.NoError(b.t, err)
	defer r.Body.Close()
	require.Equal(b.t, http.StatusOK, r.StatusCode, path)
	require.NoError(b.t, json.NewDecoder(r.Body).Decode(&a))
	return a
}

// inside is what a probe says of its inside.
type inside struct {
	about
	Hostname, Folder string
	Args             []string
	Groups           []int
	NoFile           [2]uint64
	Shared           uint64
	Files, Names     map[string]string
}

func insideOf(t *testing.T, port int) inside {
	t.Helper()
	var i inside
	require.Eventually(t, func() bool {
		answer, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", port))
		if err != nil {
			return false
		}
		defer answer.Body.Close()
		return json.NewDecoder(answer.Body).Decode(&i) == nil
	}, 10*time.Second, 100*time.Millisecond)
	return i
}

// architecture returns the platform of the engine.
func architecture(t *testing.T, b *bench) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "s.json")
	if _, err := os.Stat(filepath.Join(b.dir, "tide-log", "stack.toml")); err != nil {
		b.write("tide-log/stack.toml", "service.desk.image = \"registry.skerry.example/probe:1\"\n")
	}
	b.run(0, "survey", "--save", file)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	var s struct{ Platform string }
	require.NoError(t, json.Unmarshal(text, &s))
	return s.Platform
}
