//go:build linux

package enginetest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Node is a real engine in a network namespace of its own, with a name and an address of its own, as if it were a machine.
type Node struct {
	*Private
	Name string
	IP   string // by which the others, and this machine, reach it

	space, hub string
}

// nodesMade tells the networks of several tests apart.
var nodesMade atomic.Int32

// StartNodes starts so many engines, joined by a bridge of the test. They have images and nothing in common. Published ports are
// at their addresses.
func StartNodes(t testing.TB, names ...string) []*Node {
	t.Helper()
	private(t) // skips where there is no engine
	round := int(nodesMade.Add(1))
	tag := fmt.Sprintf("ln%d%c", os.Getpid()%100000, 'a'+round-1)
	run := func(command string, args ...string) {
		t.Helper()
		out, err := exec.Command(command, args...).CombinedOutput()
		require.NoError(t, err, "%s %s: %s", command, strings.Join(args, " "), out)
	}
	quiet := func(command string, args ...string) { exec.Command(command, args...).Run() }
	subnet := fmt.Sprintf("198.18.%d", 200+round)
	// The bridge has a network of its own, too: what other engines let through on this machine is not for it.
	hub := tag + "h"
	t.Cleanup(func() { quiet("ip", "netns", "del", hub) })
	run("ip", "netns", "add", hub)
	run("ip", "-n", hub, "link", "add", "island", "type", "bridge")
	// A bridge that takes its address from its members changes it when these come and go, and nobody hears of that.
	run("ip", "-n", hub, "link", "set", "dev", "island", "address", fmt.Sprintf("02:00:5e:12:%02x:fe", 200+round))
	run("ip", "-n", hub, "link", "set", "island", "up")
	run("ip", "link", "add", tag, "type", "veth", "peer", "name", "shore", "netns", hub)
	t.Cleanup(func() { quiet("ip", "link", "del", tag) })
	run("ip", "-n", hub, "link", "set", "shore", "master", "island", "up")
	run("ip", "addr", "add", subnet+".254/24", "dev", tag)
	run("ip", "link", "set", tag, "up")
	var nodes []*Node
	for i, name := range names {
		n := &Node{Private: private(t), Name: name, IP: fmt.Sprintf("%s.%d", subnet, i+1), space: fmt.Sprint(tag, i)}
		t.Cleanup(func() { quiet("ip", "netns", "del", n.space) })
		run("ip", "netns", "add", n.space)
		run("ip", "-n", hub, "link", "add", n.space, "type", "veth", "peer", "name", "eth0", "netns", n.space)
		run("ip", "-n", hub, "link", "set", n.space, "master", "island", "up")
		n.hub = hub
		in := func(args ...string) { run("ip", append([]string{"-n", n.space}, args...)...) }
		in("link", "set", "lo", "up")
		in("addr", "add", n.IP+"/24", "dev", "eth0")
		in("link", "set", "eth0", "up")
		in("route", "add", "default", "via", subnet+".254")
		data := filepath.Join(n.dir, "data")
		require.NoError(t, os.Mkdir(data, 0o700))
		// The name of the machine is its own; control groups stay as they are.
		n.command = []string{
			"nsenter", "--net=/run/netns/" + n.space, "unshare", "-m", "-u", "sh", "-c", `hostname "$0" && exec "$@"`, name,
			"dockerd", "-H", n.Address, "--data-root", data, "--exec-root", n.dir + "/exec", "--pidfile", n.dir + "/pid", "--containerd", "",
			"--bip", fmt.Sprintf("198.18.%d.1/26", 210+8*(round%4)+i), "--default-address-pool", fmt.Sprintf("base=198.18.%d.0/24,size=27", 220+i),
			"--swarm-default-advertise-addr", n.IP,
		}
		nodes = append(nodes, n)
	}
	for _, n := range nodes {
		n.begin(n.forget)
	}
	return nodes
}

// Kill ends the engine and all that runs on it at once, as when a machine loses its power, and takes its cable out.
func (n *Node) Kill() {
	n.t.Helper()
	exec.Command("ip", "-n", n.hub, "link", "set", n.space, "down").Run()
	for range 3 {
		for _, pid := range n.processes() {
			syscall.Kill(pid, syscall.SIGKILL)
		}
		time.Sleep(100 * time.Millisecond)
	}
	n.cmd.Wait()
}

// processes returns the engine's processes, which are in its network, and all that descends from them: containers have
// networks of their own.
func (n *Node) processes() (all []int) {
	space, err := os.Stat("/run/netns/" + n.space)
	if err != nil {
		return nil
	}
	own := fmt.Sprintf("net:[%d]", space.Sys().(*syscall.Stat_t).Ino)
	parents := map[int]int{}
	list, _ := os.ReadDir("/proc")
	for _, e := range list {
		var pid, parent int
		if _, err := fmt.Sscan(e.Name(), &pid); err != nil {
			continue
		}
		text, _ := os.ReadFile("/proc/" + e.Name() + "/stat") // proc_pid_stat(5)
		if _, rest, ok := strings.Cut(string(text), ") "); ok {
			var state string
			fmt.Sscan(rest, &state, &parent)
			parents[pid] = parent
		}
		if in, err := os.Readlink("/proc/" + e.Name() + "/ns/net"); err == nil && in == own {
			all = append(all, pid)
		}
	}
	for found := true; found; {
		found = false
		for pid, parent := range parents {
			if slices.Contains(all, parent) && !slices.Contains(all, pid) {
				all, found = append(all, pid), true
			}
		}
	}
	return all
}

// Output runs a program in the network of the node, and returns what it says.
func (n *Node) Output(args ...string) string {
	n.t.Helper()
	out, _ := exec.Command("nsenter", append([]string{"--net=/run/netns/" + n.space}, args...)...).CombinedOutput()
	return string(out)
}
