//go:build linux

package enginetest

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/moby/moby/client"
	"github.com/stretchr/testify/require"
)

// Private is a real engine that belongs to one test, which may restart it.
type Private struct {
	Address string

	t       testing.TB
	dir     string
	command []string
	env     []string
	cmd     *exec.Cmd
}

func private(t testing.TB) *Private {
	t.Helper()
	if os.Getenv("LANTERN_TEST_DOCKERD") == "" || os.Getuid() != 0 {
		t.Skip("LANTERN_TEST_DOCKERD is not set, or this is not root: scripts/with-engines installs real engines")
	}
	dir, err := os.MkdirTemp("/tmp", "lantern-engine")
	require.NoError(t, err)
	return &Private{t: t, dir: dir, Address: "unix://" + dir + "/sock", env: os.Environ()}
}

// StartDockerd starts one, with its data on a disk of its own of so many bytes; 0 for no limit. Without root,
// or without the real engines of scripts/with-engines, the test is skipped. Containers have no way out, and
// published ports are loopback's.
func StartDockerd(t testing.TB, disk int64) *Private {
	t.Helper()
	d := private(t)
	data := filepath.Join(d.dir, "data")
	require.NoError(t, os.Mkdir(data, 0o700))
	if disk > 0 {
		require.NoError(t, syscall.Mount("tmpfs", data, "tmpfs", 0, fmt.Sprintf("size=%d", disk)))
	}
	d.command = []string{
		"dockerd", "-H", d.Address, "--data-root", data, "--exec-root", d.dir + "/exec", "--pidfile",
		d.dir + "/pid", "--containerd", "",
		"--bridge", "none", "--iptables=false", "--ip6tables=false", "--default-address-pool",
		"base=198.18.128.0/18,size=26",
	}
	d.begin(d.forget)
	return d
}

// forget removes what a test has left, before the engine ends: its networks would stay on the machine.
func (d *Private) forget() {
	ctx := context.Background()
	api, err := client.New(client.WithHost(d.Address))
	if err != nil {
		return
	}
	defer api.Close()
	if list, err := api.ContainerList(ctx, client.ContainerListOptions{All: true}); err == nil {
		for _, c := range list.Items {
			api.ContainerRemove(ctx, c.ID, client.ContainerRemoveOptions{Force: true})
		}
	}
	api.NetworkPrune(ctx, client.NetworkPruneOptions{})
}

// podmanConf is what Podman's service needs to run beside another one (containers.conf(5)).
const podmanConf = `[engine]
runtime = "runc"
static_dir = "DIR/static"
volume_path = "DIR/volumes"
[network]
network_backend = "netavark"
network_config_dir = "DIR/networks"
default_subnet = "198.18.254.0/24"
default_subnet_pools = [{"base" = "198.18.192.0/19", "size" = 26}]
[containers]
default_ulimits = ["nofile=1024:1024","nproc=1024:1024"]
`

// StartPodman starts a service of Podman. Its containers outlive the service, and are ended with the test.
// Two such services know nothing of each other's bridges and give them the same names: nothing else may use
// one at the same time.
func StartPodman(t testing.TB) *Private {
	t.Helper()
	p := private(t)
	conf := filepath.Join(p.dir, "containers.conf")
	require.NoError(t, os.WriteFile(conf, []byte(strings.ReplaceAll(podmanConf, "DIR", p.dir)), 0o600))
	p.env = append(p.env, "CONTAINERS_CONF="+conf)
	own := []string{"podman", "--root", p.dir + "/data", "--runroot", p.dir + "/run"}
	p.command = slices.Concat(own, []string{"system", "service", "-t", "0", p.Address})
	p.begin(func() {
		rm := exec.Command(own[0], slices.Concat(own[1:], []string{"rm", "-fa", "-t", "0"})...)
		rm.Env = p.env
		rm.Run()
	})
	return p
}

// begin starts the engine, and ends it with the test; before that it clears up.
func (d *Private) begin(clear func()) {
	d.t.Helper()
	d.t.Cleanup(func() {
		if clear != nil {
			clear()
		}
		d.end()
		mounts, _ := os.ReadFile("/proc/mounts")
		lines := strings.Split(string(mounts), "\n")
		for i := len(lines) - 1; i >= 0; i-- {
			if f := strings.Fields(lines[i]); len(f) > 1 && strings.HasPrefix(f[1], d.dir+"/") {
				syscall.Unmount(f[1], syscall.MNT_DETACH)
			}
		}
		os.RemoveAll(d.dir)
	})
	d.start()
	load(d.t, d.Address)
}

func (d *Private) start() {
	d.t.Helper()
	log, err := os.OpenFile(filepath.Join(d.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(d.t, err)
	defer log.Close()
	d.cmd = exec.Command(d.command[0], d.command[1:]...)
	d.cmd.Env = d.env
	d.cmd.Stdout, d.cmd.Stderr = log, log
	require.NoError(d.t, d.cmd.Start())
	socket := strings.TrimPrefix(d.Address, "unix://")
	require.Eventually(d.t, func() bool {
		c, err := net.Dial("unix", socket)
		if err != nil {
			return false
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(5 * time.Second))
		fmt.Fprint(c, "GET /_ping HTTP/1.0\r\n\r\n")
		answer := make([]byte, 64)
		n, _ := c.Read(answer)
		return strings.Contains(string(answer[:n]), " 200 ")
	}, time.Minute, 100*time.Millisecond, "%s does not start; see %s", d.command[0], d.dir)
}

func (d *Private) end() {
	d.cmd.Process.Signal(syscall.SIGTERM)
	d.cmd.Wait()
}

// Restart ends the engine and starts it again. Dockerd ends its containers with it, Podman's service leaves
// them as they are.
func (d *Private) Restart() {
	d.t.Helper()
	d.end()
	d.start()
}
