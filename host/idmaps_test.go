package host

import (
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/hostconn"
)

// The ids inside containers of an engine without root are those that its user was given.
func TestIDMaps(t *testing.T) {
	dir, err := os.MkdirTemp("", "ids") // the path of a socket is short
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	socket := filepath.Join(dir, "engine.sock")
	listener, err := net.Listen("unix", socket)
	require.NoError(t, err)
	defer listener.Close()
	uid, gid := survey.ID(os.Getuid()), survey.ID(os.Getgid())
	subuid, subgid := filepath.Join(dir, "subuid"), filepath.Join(dir, "subgid")
	require.NoError(t,
		os.WriteFile(subuid,
			[]byte("ranger:200000:65536\nkeeper:100000:1000\nbroken:x:1\nkeeper:300000:64536\n"), 0o644))
	require.NoError(t, os.WriteFile(subgid, []byte("keeper:100000:65536\n"), 0o644))
	s := &survey.Survey{
		Engine:   &survey.Engine{Rootless: true},
		Unknown:  map[string]string{},
		Accounts: []survey.Account{{Name: "keeper", UID: uid, GID: gid + 5}},
	}
	readIDMaps(hostconn.Local, s, socket, subuid, subgid)
	assert.Equal(t,
		[]survey.IDMap{
			{Inside: 0, Host: uid, Count: 1},
			{Inside: 1, Host: 100000, Count: 1000},
			{Inside: 1001, Host: 300000, Count: 64536},
		}, s.Engine.UIDMap)
	assert.Equal(t,
		[]survey.IDMap{{Inside: 0, Host: gid + 5, Count: 1}, {Inside: 1, Host: 100000, Count: 65536}},
		s.Engine.GIDMap)
	for inside, want := range map[survey.ID]survey.ID{
		0:     uid,
		1:     100000,
		1000:  100999,
		1001:  300000,
		65536: 364535,
	} {
		got, ok := survey.HostID(s.Engine.UIDMap, inside)
		assert.True(t, ok && survey.HasHostID(s.Engine.UIDMap, got))
		assert.Equal(t, want, got)
	}
	_, ok := survey.HostID(s.Engine.UIDMap, 65537)
	assert.False(t, ok)
	assert.False(t, survey.HasHostID(s.Engine.UIDMap, 200000))

	nobody := &survey.Survey{Engine: &survey.Engine{Rootless: true}, Unknown: map[string]string{}}
	readIDMaps(hostconn.Local, nobody, "", subuid, subgid)
	assert.Nil(t, nobody.Engine.UIDMap)
	assert.Contains(t, nobody.Unknown["uid-map"], "does not show as whom")
}
