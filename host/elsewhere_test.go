package host

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
	"proudlantern.example/lantern/hostconn/conntest"
)

// A host is read through the way to it alone: one that is a folder shows what is in the folder, and nothing
// of this machine.
func TestHostInAFolder(t *testing.T) {
	root := t.TempDir()
	for path, text := range map[string]string{
		"/etc/passwd":   "root:x:0:0::/root:/bin/sh\nkeeper:x:1311:1400::/home/keeper:/bin/sh\n",
		"/etc/group":    "root:x:0:\nwatch:x:1400:keeper\n",
		"/etc/timezone": "Atlantic/Faroe\n",
		"/etc/fstab":    "UUID=1 / ext4 defaults 0 1\nUUID=2 /srv/skerry ext4 defaults 0 2\n",
		"/proc/sys/net/ipv4/ip_unprivileged_port_start": "80\n",
		"/proc/net/tcp": "  sl  local_address rem_address   st tx_queue rx_queue tr " +
			"tm->when retrnsmt   uid  timeout inode\n   0: 050200C0:2224 00000000:0000 0A " +
			"00000000:00000000 00:00000000 00000000  1311        0 4711 1 0000000000000000 100 0 0 10 0\n",
		"/proc/self/mountinfo":         "22 1 8:1 / / rw,relatime - ext4 /dev/sda1 rw\n",
		"/srv/skerry/Journals/1911.md": "calm",
		"/dev/lamp0":                   "",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(root+path), 0o755))
		require.NoError(t, os.WriteFile(root+path, []byte(text), 0o640))
	}
	require.NoError(t, os.Symlink("Journals", root+"/srv/skerry/diary"))
	from := conntest.To(root, "/none.sock", nil).Files
	s := &survey.Survey{Unknown: map[string]string{}}
	wanted := readFiles(from, s, func(s *survey.Survey) survey.Ask {
		assert.Equal(t, "Atlantic/Faroe", s.Timezone)
		return survey.Ask{
			Paths:   []string{"/srv/skerry/journals", "/srv/skerry/diary", "/etc/hostname"},
			Devices: []string{"/dev/lamp0", "/dev/null"},
		}
	})
	assert.Len(t, wanted.Paths, 3)
	assert.Equal(t,
		[]survey.Account{{Name: "root"}, {Name: "keeper", UID: 1311, GID: 1400, Groups: []survey.ID{1400}}},
		s.Accounts)
	assert.Equal(t, 80, s.UnprivilegedPortStart)
	assert.Equal(t, []survey.Listener{{Protocol: "tcp", Address: "192.0.2.5", Port: 8740}}, s.Listeners)
	assert.Equal(t, "only root may see which processes of others listen", s.Unknown["processes"])
	found := map[string]survey.Path{}
	for _, p := range s.Paths {
		found[p.Path] = p
	}
	assert.Equal(t, "/srv/skerry/Journals", found["/srv/skerry/diary"].Real)
	assert.Equal(t, []string{"Journals"}, found["/srv/skerry/journals"].Near)
	assert.Equal(t, survey.Missing, found["/etc/hostname"].Kind, "this machine has one")
	assert.Len(t, s.Devices, 2)
	assert.True(t, s.Devices[1].Missing, "this machine has one")
	assert.Equal(t, "/srv/skerry", s.FileSystems[1].Mount)
	assert.False(t, s.FileSystems[1].Mounted)
}

var _ hostconn.Files = conntest.To("", "", nil).Files
