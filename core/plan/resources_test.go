package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/core/wiring"
)

func mounts(t *testing.T, s *lab.Service, texts ...string) {
	t.Helper()
	for _, text := range texts {
		m, err := declare.ParseMount(text)
		require.NoError(t, err)
		s.Mounts = append(s.Mounts, lab.Mount{Mount: m})
	}
}

func TestFolders(t *testing.T) {
	facts := &survey.Survey{Paths: []survey.Path{
		{Path: "/", Kind: survey.Folder}, {Path: "/srv", Kind: survey.Folder},
		{Path: "/srv/there", Kind: survey.Folder},
		{Path: "/srv/new", Kind: survey.Missing}, {Path: "/srv/new/deep", Kind: survey.Missing},
		{Path: "/srv/plain", Kind: survey.Missing},
	}}
	s := service(&lab.Stack{Name: "mast", Host: &lab.Host{Name: "lamp-room", Survey: facts}}, "vane")
	mounts(t, s, "/srv/new/deep -> /a, create", "/srv/there -> /b, create", "/srv/plain -> /c",
		"/srv/new -> /d, create 2770")
	_, err := FoldersOf(s)
	assert.ErrorContains(t, err, "/srv/new/deep is to be made for mast/vane, and whose it should be is not known")
	s.RunAs = &lab.Identity{UID: 1311, GID: 1400, Known: true}
	got, err := FoldersOf(s)
	require.NoError(t, err)
	assert.Equal(t, []Folders{
		{Path: "/srv/new/deep", Below: "/srv", Paths: []string{"/srv/new", "/srv/new/deep"}, UID: 1311,
			GID: 1400, Mode: 0o750},
		{Path: "/srv/new", Below: "/srv", Paths: []string{"/srv/new"}, UID: 1311, GID: 1400, Mode: 0o2770},
	}, got)
	s.Stack.Host.Survey = nil
	got, err = FoldersOf(s)
	assert.NoError(t, err)
	assert.Empty(t, got, "nobody has looked")
}

func TestNetworksAndVolumes(t *testing.T) {
	st := &lab.Stack{Name: "mast", Own: true}
	causeway, pier := &lab.Network{
		Name:       "causeway",
		EngineName: "skerry-light.causeway",
		Subnet:     "198.51.100.0/26",
		Internal:   true,
	}, &lab.Network{Name: "pier", EngineName: "old", Existing: true}
	open, guest, vane, cups := service(st, "open"), service(st, "guest"), service(st, "vane"), service(st, "cups")
	open.NetworkMode, guest.NetworkOf = "host", vane
	vane.Networks, cups.Networks = []*lab.Network{causeway}, []*lab.Network{causeway, pier}
	vane.Aliases = []lab.Alias{{Name: "wind"}}
	assert.Equal(t,
		[]Network{
			{Name: "mast.net"},
			{Name: "skerry-light.causeway", Subnet: "198.51.100.0/26", Internal: true, Shared: true},
			{Name: "old", Shared: true, Existing: true},
		}, wiring.NetworksOf(st))
	assert.Equal(t,
		[]Attachment{
			{Network: "mast.net", Aliases: []string{"vane", "wind"}},
			{Network: "skerry-light.causeway", Aliases: []string{"vane.mast", "wind"}},
		}, Declare(vane).Networks)
	assert.Equal(t, "vane", Declare(guest).NetworkOf)
	assert.Empty(t, Declare(open).Networks)
	assert.Equal(t, "host", Declare(open).Mode)

	kept, spare := &lab.Volume{
		Name:       "v",
		EngineName: "mast.v",
		Options:    []lab.Option{{Name: "type", Value: secret.Plain("tmpfs")}},
	}, &lab.Volume{Name: "w", EngineName: "mast.w"}
	st.Volumes = []*lab.Volume{kept, spare}
	mounts(t, vane, "volume v -> /data")
	vane.Mounts[0].Volume = kept
	assert.Equal(t,
		[]Volume{{Name: "mast.v", Options: map[string]secret.Text{"type": secret.Plain("tmpfs")}}},
		VolumesOf(st), "one that nobody mounts is not made")
	assert.Equal(t, "volume mast.v -> /data", Declare(vane).Mounts[0].String())

	alone := &lab.Stack{Name: "mast", Own: true}
	service(alone, "open").NetworkMode = "none"
	assert.Empty(t, wiring.NetworksOf(alone), "nobody is on it")
}

func TestOrderOfStacks(t *testing.T) {
	a, b, c := &lab.Stack{Name: "a"}, &lab.Stack{Name: "b"}, &lab.Stack{Name: "c"}
	x, y, z := service(a, "x"), service(b, "y"), service(c, "z")
	x.After, y.After = []lab.After{{Service: z}}, []lab.After{{Service: x}}
	names := func(list []*lab.Stack) (out string) {
		for _, st := range list {
			out += st.Name
		}
		return out
	}
	assert.Equal(t, "cab", names(Order([]*lab.Stack{a, b, c})))
	assert.Equal(t, "ab", names(Order([]*lab.Stack{b, a})), "what is not deployed now has no place")
	z.After = []lab.After{{Service: y}}
	assert.Len(t, Order([]*lab.Stack{a, b, c}), 3, "a circle ends, too")
	assert.Equal(t, 0, Levels(a)[x], "another stack's service is no level of one's own")
}

// A service that lives in another one's network is replaced with it and stops before it.
func TestGuestsGoWithTheirHost(t *testing.T) {
	st := &lab.Stack{Name: "tide-log"}
	vane, guest, other := service(st, "vane"), service(st, "guest"), service(st, "other")
	guest.NetworkOf = vane
	was := []Running{running(vane, true), running(guest, true), running(other, true)}
	assert.False(t, Make(st, Found{Running: was}, here).Changes())
	vane.Env = []lab.Variable{{Name: "LEVEL", Value: secret.Plain("high")}}
	p := Make(st, Found{Running: was}, here)
	assert.Equal(t, map[string]Action{"vane": Replace, "guest": Replace, "other": Keep}, actions(p))
	for _, s := range p.Services {
		assert.Equal(t, s.Name == "guest", s.StopFirst, s.Name)
		if s.Name == "guest" {
			assert.Equal(t, 1, s.Level)
			assert.Equal(t, []Difference{{"shares-network-with", "vane", "vane, which is new"}}, s.Differences)
		}
	}
	vane.Env = nil
	was[0].Up = false
	assert.Equal(t, map[string]Action{"vane": Start, "guest": Replace, "other": Keep},
		actions(Make(st, Found{Running: was}, here)), "its network is gone with the container")
}

func TestJobsAndChangesByHand(t *testing.T) {
	st := &lab.Stack{Name: "tide-log"}
	job, desk, image := service(st, "job"), service(st, "desk"), service(st, "image")
	was := []Running{running(job, false), running(desk, true), running(image, true)}
	was[0].Done = true
	assert.False(t, Make(st, Found{Running: was}, here).Changes(), "a job that is done is not run again")
	was[0].Done = false
	assert.Equal(t, Start, actions(Make(st, Found{Running: was}, here))["job"])
	was[0].Done = true
	// The fingerprint is that of the declaration; somebody has changed the container itself.
	was[1].Container.Settings.Memory = 64 << 20
	was[2].Container.Settings.Memory, was[2].ImageUnknown = 64<<20, true
	p := Make(st, Found{Running: was}, here)
	assert.Equal(t, map[string]Action{"job": Keep, "desk": Replace, "image": Keep}, actions(p),
		"where the image is gone nobody can tell")
	assert.Equal(t, []Difference{{Field: "memory", Running: "64MiB"}}, p.Services[1].Differences)
}
