package host

import (
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

func TestListeners(t *testing.T) {
	want := map[string]bool{}
	for _, at := range []string{"127.0.0.1:0", "[::1]:0", "0.0.0.0:0"} {
		l, err := net.Listen("tcp", at)
		require.NoError(t, err)
		defer l.Close()
		want["tcp "+l.Addr().String()] = true
	}
	l, err := net.Listen("tcp", ":0")
	require.NoError(t, err)
	defer l.Close()
	want["tcp "+l.Addr().String()] = true
	// A UDP port outside of the range that the kernel hands out is waited on; one from the range, or
	// connected, is a client's.
	low, _ := ephemeral(hostconn.Local)
	waits, err := net.ListenPacket("udp", net.JoinHostPort("127.0.0.1", strconv.Itoa(low-1-os.Getpid()%500)))
	require.NoError(t, err)
	defer waits.Close()
	want["udp "+waits.LocalAddr().String()] = true
	client, err := net.Dial("udp", waits.LocalAddr().String())
	require.NoError(t, err)
	defer client.Close()

	s := &survey.Survey{Unknown: map[string]string{}}
	readListeners(hostconn.Local, s)
	for _, got := range s.Listeners {
		key := got.Protocol + " " + net.JoinHostPort(got.Address, strconv.Itoa(got.Port))
		if want[key] {
			assert.Equal(t, os.Getpid(), got.PID, key)
			assert.Equal(t, "host.test", got.Process, key)
			delete(want, key)
		}
		assert.NotEqual(t, "udp "+client.LocalAddr().String(), key)
	}
	assert.Empty(t, want, "not seen")
}

func TestAccounts(t *testing.T) {
	dir := t.TempDir()
	passwd, group := filepath.Join(dir, "passwd"), filepath.Join(dir, "group")
	require.NoError(t,
		os.WriteFile(passwd,
			[]byte(
				"root:x:0:0:root:/root:/bin/sh\n# a comment\nkeeper:x:1311:1400::/home/keeper:/bin/sh\n"+
					"far:x:4294967294:2147483650::/:/bin/sh\nbroken:x:y:z:::\n"), 0o600))
	require.NoError(t, os.WriteFile(group, []byte("watch:x:1400:\nengine:x:1410:keeper,ranger\n"), 0o600))
	s := &survey.Survey{Unknown: map[string]string{}}
	readAccounts(hostconn.Local, s, passwd, group)
	assert.Equal(t,
		[]survey.Account{
			{Name: "root"},
			{Name: "keeper", UID: 1311, GID: 1400, Groups: []survey.ID{1410}},
			{Name: "far", UID: 4294967294, GID: 2147483650},
		}, s.Accounts, "ids have 32 bits, also on machines whose int has no more")
	assert.Equal(t, []survey.Group{{Name: "watch", GID: 1400}, {Name: "engine", GID: 1410}}, s.Groups)
	// A group may have more members than a line of 64 KiB holds; no machine has a file of any size.
	members := "keeper" + strings.Repeat(",ranger", 20_000)
	require.NoError(t,
		os.WriteFile(group, []byte("watch:x:1400:\ncrowd:x:1411:"+members+"\nengine:x:1410:keeper\n"), 0o600))
	s = &survey.Survey{Unknown: map[string]string{}}
	readAccounts(hostconn.Local, s, passwd, group)
	assert.Equal(t, []survey.ID{1411, 1410}, s.Accounts[1].Groups)
	require.NoError(t, os.Truncate(group, mostAccounts+1))
	readAccounts(hostconn.Local, s, passwd, group)
	assert.Nil(t, s.Groups)
	assert.Contains(t, s.Unknown["groups"], "too large")
	readAccounts(hostconn.Local, s, filepath.Join(dir, "nobody"), group)
	assert.Nil(t, s.Accounts)
	assert.Contains(t, s.Unknown["accounts"], "no such file", "what cannot be read is said")
}

func TestZone(t *testing.T) {
	dir := t.TempDir()
	database := filepath.Join(dir, "zoneinfo", "Atlantic")
	require.NoError(t, os.MkdirAll(database, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(database, "Faroe"), nil, 0o600))
	localtime, timezone := filepath.Join(dir, "localtime"), filepath.Join(dir, "timezone")
	assert.Equal(t, "UTC", zone(hostconn.Local, localtime, timezone), "as the C library does without either")
	require.NoError(t, os.WriteFile(timezone, []byte("Europe/Oslo\n"), 0o600))
	assert.Equal(t, "Europe/Oslo", zone(hostconn.Local, localtime, timezone))
	require.NoError(t, os.Symlink(filepath.Join(database, "Faroe"), localtime))
	assert.Equal(t, "Atlantic/Faroe", zone(hostconn.Local, localtime, timezone))
}

func TestPaths(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "Tide-Log", "desk"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "journal.txt"), nil, 0o640))
	require.NoError(t, os.Symlink("Tide-Log", filepath.Join(dir, "link")))
	socket, err := net.Listen("unix", filepath.Join(dir, "s"))
	require.NoError(t, err)
	defer socket.Close()

	s := &survey.Survey{Unknown: map[string]string{}}
	readPaths(hostconn.Local, s,
		[]string{dir + "/link", dir + "/tide-log/desk", dir + "/journals.txt", dir + "/journal.txt",
			dir + "/s", dir + "/journal.txt/x", dir + "/gone"})
	get := func(name string) survey.Path {
		p, ok := s.Path(dir + name)
		require.True(t, ok, name)
		return p
	}
	assert.Equal(t,
		survey.Path{
			Path: dir + "/link",
			Kind: survey.Folder,
			Real: dir + "/Tide-Log",
			UID:  survey.ID(os.Getuid()),
			GID:  survey.ID(os.Getgid()),
			Mode: "0750",
			Inside: []survey.Inside{{UID: survey.ID(os.Getuid()), GID: survey.ID(os.Getgid()), Mode: "0750",
				Kind: survey.Folder, Count: 1, Example: "desk"}},
		}, get("/link"))
	assert.Equal(t,
		survey.Path{
			Path: dir + "/tide-log/desk",
			Kind: survey.Missing,
			Near: []string{dir + "/Tide-Log/desk"},
		}, get("/tide-log/desk"))
	assert.Equal(t, []string{"journal.txt"}, get("/journals.txt").Near)
	assert.Equal(t, survey.Regular, get("/journal.txt").Kind)
	assert.Equal(t, survey.Socket, get("/s").Kind)
	assert.Equal(t, survey.Missing, get("/journal.txt/x").Kind)
	assert.Empty(t, get("/gone").Near)
	root, ok := s.Path("/")
	assert.True(t, ok && root.Kind == survey.Folder, "the parents up to / are there, too")
	require.Len(t, s.FileSystems, 1)
	assert.Positive(t, s.FileSystems[0].Free)
}
