//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// A machine with listeners of each kind, accounts made for the test, and folders of theirs: each mistake is
// named with its evidence.
func TestRealMachine(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("adding accounts needs root")
	}
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if target.Name != "dockerd" {
			t.Skip("the machine is the same for all engines: once is enough")
		}
		do := func(name string, args ...string) {
			said, err := exec.Command(name, args...).CombinedOutput()
			require.NoError(t, err, "%s: %s", name, said)
		}
		do("groupadd", "-g", "6401", "lantern-watch")
		t.Cleanup(func() { exec.Command("groupdel", "lantern-watch").Run() })
		do("useradd", "-M", "-u", "6311", "-g", "6401", "lantern-keeper")
		t.Cleanup(func() { exec.Command("userdel", "lantern-keeper").Run() })

		b := newBench(t, target)
		for name, as := range map[string]struct {
			mode     os.FileMode
			uid, gid int
		}{
			"own":          {0o750, 6311, 6401},
			"of-the-group": {0o770, 0, 6401},
			"read":         {0o755, 0, 0},
			"masked":       {0o700, 0, 0},
			"Journals":     {0o750, 6311, 6401},
		} {
			require.NoError(t, os.Mkdir(filepath.Join(b.data, name), 0o700))
			require.NoError(t, os.Chown(filepath.Join(b.data, name), as.uid, as.gid))
			require.NoError(t, os.Chmod(filepath.Join(b.data, name), as.mode))
		}
		do("setfacl", "-m", "u:lantern-keeper:rwx,m::r-x", filepath.Join(b.data, "masked"))

		listen := map[string]int{}
		for _, at := range []string{"tcp4 127.0.0.1", "tcp6 ::1"} {
			network, address, _ := strings.Cut(at, " ")
			l, err := net.Listen(network, net.JoinHostPort(address, "0"))
			require.NoError(t, err)
			defer l.Close()
			listen[network] = l.Addr().(*net.TCPAddr).Port
		}
		for _, at := range []string{"udp4 127.0.0.1", "udp6 ::1"} {
			network, address, _ := strings.Cut(at, " ")
			// Not one that the system picks: such sockets come and go, and count as nobody's.
			for port := 21000; listen[network] == 0; port++ {
				l, err := net.ListenPacket(network, net.JoinHostPort(address, fmt.Sprint(port)))
				if err != nil {
					require.Less(t, port, 21100)
					continue
				}
				defer l.Close()
				listen[network] = port
			}
		}
		b.write("lab.toml",
			fmt.Sprintf(
				"lab = \"skerry-light\"\nowner = \"lantern-keeper\"\n[folder]\ndata = \"%s\"\n"+
					"[host.lamp-room]\nengine = \"%s\"\n", b.data, target.Address))
		b.write("tide-log/stack.toml", fmt.Sprintf(`[service.desk]
image = "registry.skerry.example/probe:1"
run-as = "owner"
restart = "no"
ports = [
  "%d -> 1",
  "[::1]:%d -> 2",
  "%d -> 3/udp",
  "[::1]:%d -> 4/udp",
]
mounts = [
  "${folder.data}/own -> /own",
  "${folder.data}/of-the-group -> /of-the-group",
  "${folder.data}/read -> /read",
  "${folder.data}/read -> /only-read, read-only",
  "${folder.data}/masked -> /masked",
  "${folder.data}/own/new/deep/x -> /deep",
  "${folder.data}/journals -> /journals",
]
[service.vane]
image = "registry.skerry.example/probe:1"
run-as = "lantern-keepr"
`, listen["tcp4"], listen["tcp6"], listen["udp4"], listen["udp6"]))
		stdout, _ := b.run(1, "check", "--format", "json")
		var got struct{ Findings []finding }
		require.NoError(t, json.Unmarshal([]byte(stdout), &got), stdout)
		found := map[int]string{}
		for _, f := range got.Findings {
			if f.At.File != "tide-log/stack.toml" || f.Severity != "error" {
				continue
			}
			said := f.Rule + ": " + f.Message
			for _, because := range f.Because {
				said += " | " + because.Text
			}
			found[f.At.Line] = said
		}
		us := fmt.Sprintf("process cli.test (pid %d)", os.Getpid())
		for line, want := range map[int][]string{
			6: {"port-in-use", us, "127.0.0.1"}, 7: {"port-in-use", us, "::1"}, 8: {"port-in-use", "udp", us},
			9: {"port-in-use", "udp", us, "::1"},
			14: {"mount-denied", "lantern-keeper (uid 6311) may not write there",
				"belongs to root (uid 0) and root (gid 0), mode 0755"},
			16: {"mount-denied", "may not write there",
				"the entry user:6311 grants rwx, but the mask r-x takes write back"},
			17: {"mount-missing", "/own/new/deep/x does not exist",
				"/own is there, and nothing called new is in it"},
			18: {"mount-case", b.data + "/Journals does, with different capital letters"},
			22: {"account-unknown", "lamp-room has no account lantern-keepr"},
		} {
			for _, part := range want {
				assert.Contains(t, found[line], part, "line %d", line)
			}
			delete(found, line)
		}
		assert.Empty(t, found)
	})
}
