package host

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/pkg/xattr"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

func TestNotMounted(t *testing.T) {
	table := filepath.Join(t.TempDir(), "fstab")
	require.NoError(t, os.WriteFile(table, []byte(`# a comment
/dev/sda1 / ext4 defaults 0 1
UUID=1 /srv/plates ext4 defaults 0 2
UUID=2 /srv/old\040plates ext4 ro,nofail 0 2
UUID=3 /mnt/stick ext4 noauto 0 0
UUID=4 /mnt/later ext4 x-systemd.automount 0 0
UUID=5 none swap sw 0 0
half a line
`), 0o600))
	missing := notMounted(hostconn.Local, table, []mount{{at: "/"}, {at: "/srv/plates"}})
	assert.Equal(t,
		[]survey.FileSystem{{Mount: "/srv/old plates", Kind: "ext4", Options: []string{"ro", "nofail"}}}, missing)
	assert.Empty(t, notMounted(hostconn.Local, table+"-none", nil))
	s := &survey.Survey{Unknown: map[string]string{}}
	readFileSystems(hostconn.Local, s, []string{"/srv/old plates/2026"}, table)
	require.NotEmpty(t, s.FileSystems)
	assert.True(t, s.FileSystems[0].Mounted)
	assert.Equal(t, "/srv/old plates", s.FileSystems[len(s.FileSystems)-1].Mount)
}

func TestInside(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root may give files away")
	}
	dir := t.TempDir()
	for name, uid := range map[string]int{"a.db": 1311, "b.db": 1311, "left.db": 0} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o640))
		require.NoError(t, os.Chown(filepath.Join(dir, name), uid, 1400))
	}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "deep"), 0o700))
	require.NoError(t, os.Symlink("a.db", filepath.Join(dir, "link")))
	assert.Equal(t, []survey.Inside{
		{UID: 1311, GID: 1400, Mode: "0640", Kind: survey.Regular, Count: 2,
			Example: "a.db"}, {UID: 0, GID: 0, Mode: "0700", Kind: survey.Folder, Count: 1, Example: "deep"},
		{UID: 0, GID: 1400, Mode: "0640", Kind: survey.Regular, Count: 1, Example: "left.db"},
	}, inside(hostconn.Local, dir))
	// Version 2; owner rw, user 1312 r, group r, mask r, others none (acl(5), as the kernel keeps it).
	list := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 0x20, 5, 0, 0, 4, 0, 4, 0, 255,
		255, 255, 255, 16, 0, 4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255}
	require.NoError(t, xattr.Set(filepath.Join(dir, "left.db"), "system.posix_acl_access", list))
	assert.Len(t, inside(hostconn.Local, dir), 2, "its mode does not say it all")
	assert.Empty(t, inside(hostconn.Local, dir+"/none"))
}

func TestDevicesAndRoutes(t *testing.T) {
	s := &survey.Survey{Unknown: map[string]string{}}
	readDevices(hostconn.Local, s, []string{"/dev/null", "/dev/no-lamp", "/dev/null"})
	assert.Equal(t,
		[]survey.DeviceFile{{Path: "/dev/no-lamp", Missing: true}, {Path: "/dev/null", Mode: "0666"}}, s.Devices)
	readRoutes(hostconn.Local, s)
	for _, r := range s.Routes {
		assert.NotEqual(t, "0.0.0.0/0", r.Subnet, "the default way overlaps everything")
		assert.NotEmpty(t, r.Device)
	}
}

// A table of mounts is read as the kernel writes it: with optional fields, blanks in names, and lines that are none.
func TestReadMounts(t *testing.T) {
	mounts, err := readMounts("22 1 8:1 / / rw,relatime - ext4 /dev/sda1 rw,errors=remount-ro\n" +
		`36 22 98:0 /mnt1 /srv/the\040mast\134x rw shared:1 master:2 - nfs tower:/data ro` + "\n")
	require.NoError(t, err)
	assert.Equal(t, []mount{
		{at: "/", kind: "ext4", options: []string{"rw", "relatime"}, super: []string{"rw", "errors=remount-ro"}},
		{at: `/srv/the mast\x`, kind: "nfs", options: []string{"rw"}, super: []string{"ro"}},
	}, mounts)
	assert.Equal(t, []string{"rw", "ro"}, options(&mounts[1]))
	for _, wrong := range []string{"22 1 8:1 / / rw ext4 /dev/sda1 rw\n", "\n", "22 1 8:1 / / rw - ext4\n"} {
		_, err := readMounts(wrong)
		assert.Error(t, err, "%q", wrong)
	}
}
