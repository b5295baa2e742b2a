//go:build linux

package deploy_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// The connection to a host breaks at every call that changes something, and comes back, or the person's machine is gone
// for good: what is said is true, and the next run converges. The stand-in is behind a real sshd.
func TestDeathOverSSH(t *testing.T) {
	home := t.TempDir()
	port := enginetest.SSHHome(t, home, "root")
	// Most of it is waiting: these run beside each other, which [testing.T.Setenv] does not allow.
	for name, value := range map[string]string{"HOME": home, "SSH_AUTH_SOCK": ""} {
		was := os.Getenv(name)
		require.NoError(t, os.Setenv(name, value))
		t.Cleanup(func() { os.Setenv(name, was) })
	}
	elsewhere := func(t *testing.T) *world {
		w := newWorld(t)
		w.withFolder()
		relay := enginetest.StartRelay(t, "127.0.0.1:"+port)
		w.way = "ssh://root@127.0.0.1:" + relay.Port + strings.TrimPrefix(w.gate.address, "unix://")
		w.gate.OnCut = func() { relay.Cut() }
		return w
	}
	for _, s := range []scenario{
		{name: "first deploy", after: two},
		{name: "replacing", before: two, after: strings.Replace(two, `"low"`, `"high"`, 1)},
		{name: "put back", before: four, after: unstable},
	} {
		t.Run(s.name, func(t *testing.T) {
			w := elsewhere(t)
			w.begin(s)
			w.attempt(s, 0, enginetest.None)
			points := w.gate.Changes()
			require.Greater(t, points, 4)
			t.Logf("%d calls", points)
			for _, f := range []enginetest.Fault{enginetest.Cuts, enginetest.Dies} {
				for n := 1; n <= points; n++ {
					t.Run(fmt.Sprintf("%s/%d", f, n), func(t *testing.T) {
						t.Parallel()
						w := elsewhere(t)
						w.begin(s)
						w.attempt(s, n, f)
						assert.GreaterOrEqual(t, w.gate.Changes(), n)
						w.gate.Order(0, enginetest.None)
						w.recovers(s, n)
					})
				}
			}
		})
	}
}
