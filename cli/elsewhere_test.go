//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/engine/enginetest"
)

// On a machine elsewhere a helper sees what the account may not, and does what only root may: rights by lists of access
// control are known, folders are prepared and brought back. Afterwards nothing of it is left.
func elsewhereHelped(t *testing.T, b *bench, address string) {
	if _, err := exec.LookPath("setfacl"); err != nil || os.Getuid() != 0 {
		t.Skip("giving folders away needs root, and the test setfacl")
	}
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, address))
	s := situation{script: "mkdir a b; chmod 700 a b; touch b/x; setfacl -m u:1311:rwx a",
		services: []string{"1311:1400 a -> /a; b -> /b; new/deep -> /n, create"}}
	data := s.lab(t, b)
	before := rightsOf(t, data)
	stdout, _ := b.run(1, "check", "mast", "-v")
	assert.Contains(t, stdout, data+"/b on lamp-room: uid 1311 may not enter, read or write there")
	assert.NotContains(t, stdout, data+"/a on lamp-room", "its list lets it in")
	assert.NotContains(t, stdout, "access control lists are not shown")
	_, stderr := b.run(0, "prepare", "mast", "--yes")
	assert.Contains(t, stderr, "prepared: ")
	for path, letters := range map[string]string{"a": "rwx", "b": "rwx", "b/x": "rw", "new/deep": "rwx"} {
		assert.Contains(t, may(t, data, 1311, 1400)[path], letters, path)
	}
	b.run(0, "check", "mast")
	b.run(0, "prepare", "--undo", "--yes")
	assert.Equal(t, before, rightsOf(t, data))
	require.NoError(t, os.RemoveAll(filepath.Join(b.dir, "mast")))

	// A stack is backed up to this machine, tried there, and brought back with its owners, lists and volumes.
	port, desk, to := freePort(t), filepath.Join(b.data, "desk"), t.TempDir()
	out, err := exec.Command("/bin/sh", "-ec", fmt.Sprintf(
		"mkdir -m 0700 %[1]s; echo since 1911 > %[1]s/old; ln %[1]s/old %[1]s/again; ln -s old %[1]s/link; chown -R 1311:1400 %[1]s; setfacl -m u:1312:r-x %[1]s", desk)).CombinedOutput()
	require.NoError(t, err, string(out))
	was := rightsOf(t, desk)
	b.write("buoy/stack.toml", fmt.Sprintf(backupText, enginetest.Page, port, b.data, b.data, "/kept"))
	b.write("buoy/log.env", "LOG_TOKEN=the-moon-pulls-the-sea\n")
	b.run(0, "deploy", "buoy", "--yes")
	b.page(port) // writes
	b.write("buoy/stack.toml", fmt.Sprintf(backupText, enginetest.Page, port, b.data, b.data, ""))
	b.run(0, "deploy", "buoy", "--yes")
	b.run(0, "backup", "buoy", "--to", to)
	made, err := filepath.Glob(filepath.Join(to, "buoy-*"))
	require.NoError(t, err)
	require.Len(t, made, 1)
	b.run(0, "restore", made[0], "--verify")
	_, stderr = b.run(0, "restore", made[0], "--try")
	assert.Contains(t, stderr, "the backup works: desk ran and was proven; nothing of the trial is left")
	b.run(0, "retire", "buoy", "--yes", "--with-volumes")
	require.NoError(t, os.WriteFile(filepath.Join(desk, "old"), []byte("spoilt"), 0o640))
	_, stderr = b.run(0, "restore", made[0], "--yes")
	assert.Contains(t, stderr, desk+".before-restore")
	b.run(0, "deploy", "buoy", "--yes")
	assert.Equal(t, map[string]string{"/desk/probe": "open /desk/probe: no such file or directory", "/desk/old": "since 1911\n", "/kept/probe": "here"}, b.page(port).Files)
	now := rightsOf(t, desk)
	assert.Equal(t, was["old"], now["old"])
	assert.Equal(t, was[""], now[""])
	linked, err := os.Readlink(filepath.Join(desk, "link"))
	require.NoError(t, err)
	assert.Equal(t, "old", linked)
	stdout, _ = b.run(0, "sweep", "--yes")
	assert.Contains(t, stdout, "before-restore")
	assert.NoDirExists(t, desk+".before-restore")
	b.run(0, "retire", "buoy", "--yes", "--with-volumes")
	left, err := filepath.Glob(filepath.Join(b.data, ".*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	images, err := b.engine.ImagesNamed(t.Context(), "localhost/lantern-helper")
	require.NoError(t, err)
	assert.Empty(t, images)
	for name := range wherever(t, b) {
		assert.NotContains(t, name, "helper")
	}
}
