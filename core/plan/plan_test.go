package plan

import (
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/secret"
)

func service(st *lab.Stack, name string, ports ...string) *lab.Service {
	s := &lab.Service{
		Stack:   st,
		Name:    name,
		Image:   lab.Value{Text: "registry.skerry.example/" + name + ":1"},
		Restart: declare.Restart{Policy: "no"},
	}
	for _, p := range ports {
		port, err := declare.ParsePort(p)
		if err != nil {
			panic(err)
		}
		s.Ports = append(s.Ports, lab.Port{Port: port})
	}
	st.Services = append(st.Services, s)
	return s
}

func running(s *lab.Service, up bool) Running {
	c := Declare(s)
	return Running{
		ID:        s.Name,
		Name:      s.ContainerName(),
		Service:   s.Name,
		Salt:      "salt",
		Digest:    c.Digest("salt"),
		ImageID:   "sha256:" + s.Name,
		Up:        up,
		Container: c,
	}
}

func here(reference string) string {
	return "sha256:" + reference[len("registry.skerry.example/"):len(reference)-2]
}

func actions(p Stack) map[string]Action {
	m := map[string]Action{}
	for _, s := range p.Services {
		m[s.Name] = s.Action
	}
	return m
}

func TestActions(t *testing.T) {
	st := &lab.Stack{Name: "tide-log"}
	keep, start, image, env := service(st, "keep"), service(st, "start"), service(st, "image"), service(st, "env")
	old := &lab.Stack{Name: "tide-log"}
	gone := service(old, "gone")
	before := []Running{running(keep, true), running(start, false), running(image, true), running(env, true),
		running(gone, true)}
	before[2].ImageID = "sha256:older"
	service(st, "new")
	env.Env = []lab.Variable{
		{Name: "LEVEL", Value: secret.Plain("3")},
		{Name: "DB_PASSWORD", Value: secret.Of("moon", true)},
	}
	p := Make(st, Found{Running: before}, here)
	assert.Equal(t,
		map[string]Action{
			"keep":  Keep,
			"start": Start,
			"image": Replace,
			"env":   Replace,
			"gone":  Remove,
			"new":   Create,
		}, actions(p))
	assert.True(t, p.Changes())
	for _, s := range p.Services {
		switch s.Name {
		case "env":
			assert.Equal(t,
				[]Difference{{"env.DB_PASSWORD", "", "hidden (4 characters)"}, {"env.LEVEL", "", "3"}},
				s.Differences)
		case "image":
			assert.Equal(t,
				[]Difference{{"image", "registry.skerry.example/image:1 older",
					"registry.skerry.example/image:1 image"}}, s.Differences)
		}
	}
	assert.False(t,
		Make(&lab.Stack{Name: "tide-log", Services: []*lab.Service{keep}}, Found{Running: before[:1]},
			here).Changes())
}

func TestOrder(t *testing.T) {
	st := &lab.Stack{Name: "tide-log"}
	desk, store, queue, front := service(st,
		"desk"), service(st, "store"), service(st, "queue"), service(st, "front")
	desk.After = []lab.After{{Service: store}, {Service: queue}}
	front.After = []lab.After{{Service: desk}}
	queue.After = []lab.After{{Service: store}}
	got := map[string]int{}
	for _, s := range Make(st, Found{}, here).Services {
		got[s.Name] = s.Level
	}
	assert.Equal(t, map[string]int{"store": 0, "queue": 1, "desk": 2, "front": 3}, got)
	store.After = []lab.After{{Service: front}}
	assert.NotPanics(t, func() { Make(st, Found{}, here) }, "a circle ends, too")
}

// Who gives a port to another service stops before anything starts.
func TestPortsMove(t *testing.T) {
	before := &lab.Stack{Name: "tide-log"}
	was := []Running{running(service(before, "a", "8710 -> 80"), true),
		running(service(before, "b", "8711 -> 80"), true), running(service(before, "c", "8712 -> 80"), true)}
	st := &lab.Stack{Name: "tide-log"}
	service(st, "a", "8711 -> 80")
	service(st, "b", "8710 -> 80")
	service(st, "c", "8712 -> 80", "8713 -> 80/udp")
	for _, s := range Make(st, Found{Running: was}, here).Services {
		require.Equal(t, Replace, s.Action)
		assert.Equal(t, s.Name != "c", s.StopFirst, s.Name)
	}
}

// A plan of one service leaves the others as they are, or says why that cannot be.
func TestOnly(t *testing.T) {
	before := &lab.Stack{Name: "tide-log"}
	a, b := service(before, "a", "8710 -> 80"), service(before, "b", "8711 -> 80")
	was := []Running{running(a, true), running(b, true)}
	st := &lab.Stack{Name: "tide-log"}
	service(st, "a", "8712 -> 80")
	service(st, "b", "8710 -> 80")
	service(st, "c", "8711 -> 80")
	p := Make(st, Found{Running: was}, here)
	one, err := p.Only([]string{"a"})
	require.NoError(t, err)
	assert.Equal(t, map[string]Action{"a": Replace, "b": Keep}, actions(one))
	assert.True(t, one.Services[1].LeftOut)
	_, err = p.Only([]string{"b"})
	assert.EqualError(t, err, "b takes a host port that a holds until it is replaced, too: name both")
	_, err = p.Only([]string{"c"})
	assert.EqualError(t, err, "c takes a host port that b holds until it is replaced, too: name both")
	whole, err := p.Only([]string{"a", "b", "c"})
	require.NoError(t, err)
	assert.Equal(t, actions(p), actions(whole))
	p.Networks = []Resource{{Name: "tide-log.net", Action: Replace}}
	_, err = p.Only([]string{"a"})
	assert.EqualError(t, err,
		"the network tide-log.net changes, and with it all services on it: deploy all of tide-log")
}

// Beside each other run only those that share nothing that one alone can have.
func TestOverlap(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(was, is *Container)
		beside bool
	}{
		{"nothing in common",
			func(was, is *Container) { is.Ports = []Port{{Host: 8711, Container: 80, Protocol: "tcp"}} }, true},
		{"a port", func(was, is *Container) {}, false},
		{"a port of the other protocol", func(was, is *Container) { is.Ports[0].Protocol = "udp" }, true},
		{"a port that the engine picks",
			func(was, is *Container) { was.Ports[0].Host, is.Ports[0].Host = 0, 0 }, true},
		{"a volume", func(was, is *Container) {
			was.Ports = nil
			was.Mounts = []Mount{{Kind: declare.MountVolume, Source: "tide-log.readings", Target: "/readings"}}
			is.Mounts = was.Mounts
		}, false},
		{"a folder that one only reads", func(was, is *Container) {
			was.Ports = nil
			was.Mounts = []Mount{{Kind: declare.MountPath, Source: "/srv/tides", Target: "/tides"}}
			is.Mounts = []Mount{{Kind: declare.MountPath, Source: "/srv/tides", Target: "/tides", ReadOnly: true}}
		}, true},
		{"the host's network", func(was, is *Container) { was.Ports, is.Ports, is.Mode = nil, nil, "host" }, false},
	} {
		was := Container{Ports: []Port{{Host: 8710, Container: 80, Protocol: "tcp"}}}
		is := Container{Ports: []Port{{Host: 8710, Container: 80, Protocol: "tcp"}}}
		c.change(&was, &is)
		assert.Equal(t, c.beside, besides(was, is), c.name)
	}
}

func TestDigest(t *testing.T) {
	c := Container{
		Env:    []Variable{{Name: "A", Value: secret.Plain("1")}, {Name: "DB_PASSWORD", Value: secret.Of("moon", true)}},
		Mounts: []Mount{{Source: "/a", Target: "/b"}, {Source: "/c", Target: "/a", ReadOnly: true}},
	}
	same := Container{Env: []Variable{c.Env[1], c.Env[0]}, Mounts: []Mount{c.Mounts[1], c.Mounts[0]}}
	assert.Equal(t, c.Digest("salt"), same.Digest("salt"), "order is no difference")
	assert.NotEqual(t, c.Digest("salt"), c.Digest("pepper"), "a secret goes in with the salt")
	other := Container{Env: []Variable{c.Env[0], {Name: "DB_PASSWORD", Value: secret.Of("tide", true)}}, Mounts: c.Mounts}
	assert.NotEqual(t, c.Digest("salt"), other.Digest("salt"))
	assert.Equal(t, "moon", c.Env[len(c.Env)-1].Value.Reveal(), "the container itself is not changed")
}

func TestProofSurvivesItsLabel(t *testing.T) {
	p := Proof{HTTP: "/health", Port: 80, StatusFirst: 200, StatusLast: 399, Within: 45e9, Page: "/", PagePort: 80}
	assert.Equal(t, p, ReadProof(p.Label()))
	assert.False(t, ReadProof("no JSON").Declared())
}

// The fingerprint of a declaration that uses every field. When this test fails, a new lantern would replace
// every container of everybody: a new field has to leave its default out of JSON, and what cannot be done
// that way needs a new version of the fingerprint.
func TestDigestStays(t *testing.T) {
	full := Container{
		Image: "registry.skerry.example/desk:1", User: "1311:1400",
		Env:      []Variable{{Name: "LEVEL", Value: secret.Plain("low")}, {Name: "STATION_KEY", Value: secret.Of("moon-over-skerry", true)}},
		Ports:    []Port{{"127.0.0.1", 8710, 80, "tcp"}, {"", 0, 8711, "udp"}},
		Networks: []Attachment{{Network: "tide-log.net", Aliases: []string{"desk", "tides"}}}, Mode: "host",
		NetworkOf: "store", Hostname: "desk",
		Mounts: []Mount{{declare.MountVolume, "tide-log.readings", "/readings", true, true, true, 1 << 20}},
		Settings: lab.Settings{
			Command: secret.Plains([]string{"a", "b"}), Entrypoint: secret.Plains([]string{"/desk"}),
			WorkingDir: "/data", Platform: "linux/arm64", Groups: []string{"1410"}, Memory: 1 << 26,
			SharedMemory: 1 << 25, CPUs: 0.5,
			Devices:      []declare.Device{{Host: "/dev/lamp0", Container: "/dev/lamp0"}},
			Capabilities: []string{"NET_ADMIN"}, Dropped: []string{"CHOWN"}, Privileged: true, ReadOnly: true,
			Init:    true,
			HostPID: true, HostIPC: true, HostCgroup: true,
			Sysctls:     []lab.Pair{{Name: "net.core.somaxconn", Value: "64"}},
			Labels:      []lab.Pair{{Name: "example.skerry.room", Value: "lamp"}},
			Ulimits:     []declare.Ulimit{{Name: "nofile", Soft: 1, Hard: 2}},
			AddressBook: []lab.Pair{{Name: "lamp", Value: "192.0.2.14"}}, DNS: []string{"192.0.2.53"},
			StopSignal: "SIGINT",
		},
		Restart:  declare.Restart{Policy: "on-failure", Retries: 2},
		LogLimit: declare.LogLimit{Files: 3, Size: 5_000_000}, StopWithin: 10 * time.Second,
		Files: []File{{Target: "/etc/desk", Folder: true, Mode: 0o755}, {Target: "/etc/desk/desk.conf", Mode: 0o640, UID: 1311, GID: 1400}},
	}
	for _, v := range []reflect.Value{reflect.ValueOf(full), reflect.ValueOf(full.Settings)} {
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.Tag.Get("json") != "-" {
				assert.False(t, v.Field(i).IsZero(), "%s has no value here", f.Name)
			}
		}
	}
	assert.Equal(t, "1:b4ce6f42874a14d7b1d642a56e26772d0ed9176b5011de13af715f71310a5d7b", full.Digest("salt"))
	filled := full
	filled.Files = slices.Clone(full.Files)
	filled.Files[1].Content = secret.Of("moon-over-skerry", true)
	assert.Equal(t, full.Digest("salt"), filled.Digest("salt"), "contents are compared in the container")
	full.Files = nil // as it was before there were any
	assert.Equal(t, "1:369c71479c43e4d17824c098db469e44ad653a82bf541b5f0fc05c4fc2e8a13a", full.Digest("salt"))
	same, known := full.SameDigest(strings.TrimPrefix(full.Digest("salt"), "1:"), "salt")
	assert.True(t, same && known, "labels of the time before there were versions")
	_, known = full.SameDigest("2:00", "salt")
	assert.False(t, known)
}

// A file that differs is named, with where it begins to; what stands in it never shows. Whether the container has to be
// replaced for it, the service says.
func TestFiles(t *testing.T) {
	has := []File{{Target: "/srv", Folder: true, Mode: 0o700}, {Target: "/srv/a", Mode: 0o600, Content: secret.Plain("1\nmoon\n")},
		{Target: "/srv/b", Mode: 0o644, Content: secret.Plain("b")}}
	change := func(f func(files []File) []File) Container {
		return Container{Files: f(slices.Clone(has))}
	}
	for _, c := range []struct {
		name     string
		declared Container
		want     []Difference
		reloads  bool
	}{
		{"nothing", change(func(f []File) []File { f[0].Mode = 0o755; return f }), nil, false},
		{"content", change(func(f []File) []File { f[1].Content = secret.Of("1\nsun\n", true); return f }),
			[]Difference{{"files./srv/a", "what is there", "other content from line 2 on, 6B"}}, true},
		{"mode", change(func(f []File) []File { f[2].Mode = 0o600; return f }),
			[]Difference{{"files./srv/b", "mode 0644", "mode 0600"}}, false},
		{"kind", change(func(f []File) []File { f[2] = File{Target: "/srv/b", Folder: true}; return f }),
			[]Difference{{"files./srv/b", "a file", "a folder"}}, false},
		{"a new one", change(func(f []File) []File { return append(f, File{Target: "/srv/c", Content: secret.Plain("c")}) }),
			[]Difference{{"files./srv/c", "", "1B"}}, false},
	} {
		running := Container{Files: has}
		d := Differences(running, c.declared)
		assert.Equal(t, c.want, d, c.name)
		assert.Equal(t, c.reloads, onlyContents(running, c.declared, d), c.name)
	}
	v := Service{Container: change(func(f []File) []File { f[1].Content = secret.Plain("new"); return f }), Running: &Running{Container: Container{Files: has}}}
	now, before := v.Changed()
	assert.Equal(t, "new", now[0].Content.Reveal())
	assert.Equal(t, "1\nmoon\n", before[0].Content.Reveal())
	assert.Empty(t, Differences(Container{NotReported: []string{"files"}}, v.Container))
}
