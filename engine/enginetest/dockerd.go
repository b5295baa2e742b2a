package enginetest

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Dockerd is a real engine that belongs to one test, which may restart it.
type Dockerd struct {
	Address string

	t    testing.TB
	dir  string
	args []string
	cmd  *exec.Cmd
}

// StartDockerd starts one, with its data on a disk of its own of so many bytes; 0 for no limit. Without root, or without the real engines of
// scripts/with-engines, the test is skipped. Containers have no way out, and published ports are loopback's.
func StartDockerd(t testing.TB, disk int64) *Dockerd {
	t.Helper()
	if os.Getenv("LANTERN_TEST_DOCKERD") == "" || os.Getuid() != 0 {
		t.Skip("LANTERN_TEST_DOCKERD is not set, or this is not root: scripts/with-engines installs a real engine")
	}
	dir, err := os.MkdirTemp("/tmp", "lantern-dockerd")
	require.NoError(t, err)
	d := &Dockerd{t: t, dir: dir, Address: "unix://" + dir + "/sock"}
	data := filepath.Join(dir, "data")
	require.NoError(t, os.Mkdir(data, 0o700))
	if disk > 0 {
		require.NoError(t, syscall.Mount("tmpfs", data, "tmpfs", 0, fmt.Sprintf("size=%d", disk)))
	}
	d.args = []string{
		"-H", d.Address, "--data-root", data, "--exec-root", dir + "/exec", "--pidfile", dir + "/pid", "--containerd", "",
		"--bridge", "none", "--iptables=false", "--ip6tables=false", "--default-address-pool", "base=198.18.128.0/18,size=26",
	}
	t.Cleanup(func() {
		d.end()
		mounts, _ := os.ReadFile("/proc/mounts")
		lines := strings.Split(string(mounts), "\n")
		for i := len(lines) - 1; i >= 0; i-- {
			if f := strings.Fields(lines[i]); len(f) > 1 && strings.HasPrefix(f[1], dir+"/") {
				syscall.Unmount(f[1], syscall.MNT_DETACH)
			}
		}
		os.RemoveAll(dir)
	})
	d.start()
	load(t, d.Address)
	return d
}

func (d *Dockerd) start() {
	d.t.Helper()
	log, err := os.OpenFile(filepath.Join(d.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	require.NoError(d.t, err)
	defer log.Close()
	d.cmd = exec.Command("dockerd", d.args...)
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
	}, time.Minute, 100*time.Millisecond, "dockerd does not start; see %s", d.dir)
}

func (d *Dockerd) end() {
	d.cmd.Process.Signal(syscall.SIGTERM)
	d.cmd.Wait()
}

// Restart ends the engine as a reboot does, and starts it again.
func (d *Dockerd) Restart() {
	d.t.Helper()
	d.end()
	d.start()
}
