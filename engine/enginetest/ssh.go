//go:build linux

package enginetest

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// SSHHome makes a folder the home of a person who knows the sshd before the engines as lighthouse, and enters it as an
// account of that name; any other port of this machine is taken for the same one. It returns the sshd's port. Where there
// is no sshd the test is skipped with the reason.
func SSHHome(t testing.TB, home, account string) (port string) {
	t.Helper()
	sshd := os.Getenv("LANTERN_TEST_SSHD")
	if sshd == "" {
		t.Skip("LANTERN_TEST_SSHD is not set: scripts/with-engines starts an sshd")
	}
	text, err := os.ReadFile(filepath.Join(sshd, "port"))
	require.NoError(t, err)
	known, err := os.ReadFile(filepath.Join(sshd, "known_hosts"))
	require.NoError(t, err)
	_, key, _ := strings.Cut(string(known), " ")
	require.NoError(t, os.Mkdir(filepath.Join(home, ".ssh"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh/known_hosts"), []byte("lighthouse "+key), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(home, ".ssh/config"), fmt.Appendf(nil,
		"Host lighthouse\n  HostName 127.0.0.1\n  Port %s\nHost *\n  HostKeyAlias lighthouse\n  User %s\n  IdentityFile %s/client_key\n",
		text, account, sshd), 0o600))
	return string(text)
}
