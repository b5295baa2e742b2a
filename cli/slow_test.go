//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// What commands take on a lab of 60 services in twelve stacks, whose host is 50 ms away (there and back), beside the same
// without that delay, and beside a program that only connects: ssh itself.
func BenchmarkFarAway(b *testing.B) {
	address := os.Getenv("LANTERN_TEST_DOCKERD")
	if address == "" {
		b.Skip("LANTERN_TEST_DOCKERD is not set: scripts/with-engines starts a real engine")
	}
	env, port := sshHome(b)
	dir, program := b.TempDir(), must(program())
	relays := map[string]*enginetest.Relay{"near": enginetest.StartRelay(b, "127.0.0.1:"+port), "far": enginetest.StartRelay(b, "127.0.0.1:"+port)}
	relays["far"].Delay = 25 * time.Millisecond
	write := func(name, text string) {
		require.NoError(b, os.MkdirAll(filepath.Dir(dir+"/"+name), 0o755))
		require.NoError(b, os.WriteFile(dir+"/"+name, []byte(text), 0o644))
	}
	for at := dir; at != "/tmp" && at != "/"; at = filepath.Dir(at) { // what an account may see; a helper sees the rest
		require.NoError(b, os.Chmod(at, 0o755))
	}
	lab := func(way string) {
		write("lab.toml", fmt.Sprintf("lab = \"skerry-far-%d\"\n[host.tower]\nengine = %q\n[default]\nstop-within = \"1s\"\n", os.Getpid()%1000, way))
	}
	for i := range 12 {
		text := fmt.Sprintf("[service.s0]\nimage = %q\nmounts = [\"%s/mast-%d -> /data, create\"]\nready = { tcp = 8080 }\n",
			enginetest.Page, dir, i)
		for j := 1; j < 5; j++ {
			text += fmt.Sprintf("[service.s%d]\nimage = %q\nready = { tcp = 8080 }\n", j, enginetest.Page)
		}
		write(fmt.Sprintf("reef-%d/stack.toml", i), text)
	}
	run := func(args ...string) {
		cmd := exec.Command(program, append([]string{"--lab", dir}, args...)...)
		cmd.Env = append(os.Environ(), env...)
		out, err := cmd.CombinedOutput()
		require.NoError(b, err, "%s", out)
	}
	enginetest.Named(b, "dockerd") // with its images
	lab(address)
	run("deploy", "--yes")
	b.Cleanup(func() {
		lab(address)
		for i := range 12 {
			run("retire", fmt.Sprintf("reef-%d", i), "--yes")
		}
	})
	for _, way := range []string{"near", "far"} {
		lab("ssh://127.0.0.1:" + relays[way].Port + strings.TrimPrefix(address, "unix://"))
		for _, args := range [][]string{{"check"}, {"status"}, {"deploy", "--yes"}} {
			b.Run(args[0]+"/"+way, func(b *testing.B) {
				for b.Loop() {
					run(args...)
				}
			})
		}
		// What is closed to the account a helper looks at.
		require.NoError(b, os.Chmod(dir, 0o700))
		b.Run("check by a helper/"+way, func(b *testing.B) {
			for b.Loop() {
				run("check")
			}
		})
		require.NoError(b, os.Chmod(dir, 0o755))
		b.Run("floor, ssh true/"+way, func(b *testing.B) {
			sshd := os.Getenv("LANTERN_TEST_SSHD")
			for b.Loop() {
				// As root: the other account has no shell.
				out, err := exec.CommandContext(b.Context(), "ssh", "-F", "none", "-p", relays[way].Port, "-i", sshd+"/client_key",
					"-o", "UserKnownHostsFile="+strings.TrimPrefix(env[0], "HOME=")+"/.ssh/known_hosts",
					"-o", "HostKeyAlias=lighthouse", "root@127.0.0.1", "true").CombinedOutput()
				require.NoError(b, err, "%s", out)
			}
		})
	}
}
