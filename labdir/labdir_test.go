//go:build linux

package labdir_test

import (
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"

	"github.com/pkg/xattr"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/labdir"
)

// folder is a lab beside a file that is not its own.
func folder(t *testing.T) (root *os.Root, dir, outside string) {
	t.Helper()
	above := t.TempDir()
	dir, outside = filepath.Join(above, "lab"), filepath.Join(above, "outside.toml")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "tide-log"), 0o755))
	require.NoError(t, os.WriteFile(outside, []byte("not ours"), 0o644))
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return root, dir, outside
}

func TestOddFiles(t *testing.T) {
	root, dir, outside := folder(t)
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	l, err := net.Listen("unix", at("socket"))
	require.NoError(t, err)
	defer l.Close()
	require.NoError(t, os.Symlink("../outside.toml", at("link-out")))
	require.NoError(t, os.Symlink(outside, at("link-out-absolute")))
	require.NoError(t, os.Symlink("link-loop", at("link-loop")))
	require.NoError(t, os.Symlink("/dev/zero", at("zero")))
	require.NoError(t, os.Symlink("pipe", at("link-pipe")))
	require.NoError(t, os.WriteFile(at("large"), make([]byte, labdir.MaxFile+1), 0o600))
	for _, name := range []string{"pipe", "socket", "link-out", "link-out-absolute", "link-loop", "zero",
		"link-pipe", "large", "tide-log", "../outside.toml"} {
		_, err := labdir.Read(root, name)
		assert.Error(t, err, name)
		assert.Error(t, labdir.Write(root, name, "", "ours", 0o600), name)
		if name == "large" || name == "pipe" || name == "zero" || name == "tide-log" {
			_, err = labdir.ReadAny(at(name), labdir.MaxFile)
			assert.Error(t, err, name)
		}
	}
	text, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "not ours", string(text))
}

func TestWrite(t *testing.T) {
	root, dir, _ := folder(t)
	path := filepath.Join(dir, "tide-log", "stack.toml")
	require.NoError(t, labdir.Write(root, "tide-log/stack.toml", "", "one", 0o640))
	assert.ErrorIs(t, labdir.Write(root, "tide-log/stack.toml", "", "two", 0o640), labdir.ErrChanged,
		"it is there now")
	assert.ErrorIs(t, labdir.Write(root, "tide-log/stack.toml", "other", "two", 0o640), labdir.ErrChanged)
	assert.ErrorIs(t, labdir.Write(root, "tide-log/gone.toml", "one", "two", 0o640), labdir.ErrChanged)
	require.NoError(t, os.Symlink("tide-log/stack.toml", filepath.Join(dir, "link")))
	require.NoError(t, os.Chmod(path, 0o604))
	// user::rw-, user:1311:rw-, group::r--, mask::rw-, other::r-- as linux/posix_acl_xattr.h lays it out.
	acl := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 6, 0, 0x1f, 5, 0, 0, 4, 0, 4, 0, 255, 255,
		255, 255, 0x10, 0, 6, 0, 255, 255, 255, 255, 0x20, 0, 4, 0, 255, 255, 255, 255}
	hasACL := xattr.Set(path, "system.posix_acl_access", acl) == nil
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chown(path, 1311, 1400))
	}
	before, err := os.Stat(path)
	require.NoError(t, err)
	require.NoError(t, labdir.Write(root, "link", "one", "two", 0o600))
	after, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, before.Mode(), after.Mode())
	assert.Equal(t, before.Sys().(*syscall.Stat_t).Uid, after.Sys().(*syscall.Stat_t).Uid)
	if hasACL {
		got, err := xattr.Get(path, "system.posix_acl_access")
		require.NoError(t, err)
		assert.Equal(t, acl, got)
	}
	link, err := os.Lstat(filepath.Join(dir, "link"))
	require.NoError(t, err)
	assert.NotZero(t, link.Mode()&fs.ModeSymlink, "a link stays a link")
	text, err := labdir.Read(root, "tide-log/stack.toml")
	require.NoError(t, err)
	assert.Equal(t, "two", text)
}

// Of many that write at once one wins, whole, and the others are told; nothing is left beside the file. A
// disk that is full leaves the old one.
func TestWriteAtOnce(t *testing.T) {
	root, dir, _ := folder(t)
	require.NoError(t, labdir.Write(root, "lab.toml", "", "old", 0o600))
	var wait sync.WaitGroup
	errs := make([]error, 20)
	for i := range errs {
		wait.Go(func() { errs[i] = labdir.Write(root, "lab.toml", "old", fmt.Sprintf("new %02d", i), 0o600) })
	}
	wait.Wait()
	text, err := labdir.Read(root, "lab.toml")
	require.NoError(t, err)
	assert.Regexp(t, `^new \d\d$`, text)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 2, "%v", entries)

	var limit syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_FSIZE, &limit))
	small := limit
	small.Cur = 4096 // a write beyond it fails, as on a full disk
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &small))
	err = labdir.Write(root, "lab.toml", text, string(make([]byte, 10_000)), 0o600)
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_FSIZE, &limit))
	assert.Error(t, err)
	still, err := labdir.Read(root, "lab.toml")
	require.NoError(t, err)
	assert.Equal(t, text, still)
}
