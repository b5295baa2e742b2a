//go:build linux

package engine_test

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/secret"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/engine/enginetest"
)

// The contract: what lantern relies on of every engine. It runs unchanged against the stand-in and every real
// engine there is.
func TestContract(t *testing.T) {
	enginetest.Every(t, func(t *testing.T, target enginetest.Target) {
		e, err := engine.Dial(t.Context(), target.Address)
		require.NoError(t, err)
		t.Cleanup(func() { e.Close() })
		for name, test := range map[string]func(t *testing.T, w *world){
			"life of a container":          lifeOfAContainer,
			"what is made is read back":    readBack,
			"a name is handed out once":    nameOnce,
			"a port in use":                portInUse,
			"an end by itself":             endByItself,
			"what is not there":            notThere,
			"networks":                     networks,
			"networks and volumes in full": wherever,
			"what is mounted":              mounted,
			"a command inside":             commands,
			"what cannot be run":           runnable,
			"folders are made":             folders,
			"files inside":                 filesInside,
			"the log follows":              logFollows,
			"a folder that does not exist": missingFolder,
			"the restart policy changes":   restartChanges,
			"facts":                        facts,
			"what is used":                 usage,
			"events":                       eventsOf,
			"a pull":                       pull,
		} {
			t.Run(name, func(t *testing.T) { test(t, newWorld(t, e, target)) })
		}
	})
}

// world is an engine with names of this test alone, which are cleaned away afterwards.
type world struct {
	*engine.Engine
	target enginetest.Target
	prefix string
	labels map[string]string
	ctx    context.Context
}

func newWorld(t *testing.T, e *engine.Engine, target enginetest.Target) *world {
	w := &world{
		Engine: e,
		target: target,
		prefix: fmt.Sprintf("contract-%d-%d", os.Getpid(), time.Now().UnixNano()%1e6),
		ctx:    t.Context(),
	}
	w.labels = map[string]string{plan.LabelLab: w.prefix, plan.LabelStack: w.prefix}
	_, err := e.CreateNetwork(w.ctx, plan.Network{Name: w.prefix}, w.labels)
	require.NoError(t, err)
	t.Cleanup(func() {
		ctx := context.Background()
		list, err := e.Survey(ctx)
		assert.NoError(t, err)
		for _, c := range slices.Backward(list) { // guests have the later names
			if strings.HasPrefix(c.Name, w.prefix) {
				assert.NoError(t, e.Remove(ctx, c.ID))
			}
		}
		networks, err := e.Networks(ctx, "")
		assert.NoError(t, err)
		for _, n := range networks {
			assert.NoError(t, e.RemoveNetwork(ctx, n.Name, w.prefix))
		}
		volumes, err := e.Volumes(ctx)
		assert.NoError(t, err)
		for _, v := range volumes {
			assert.NoError(t, e.RemoveVolume(ctx, v.Name, w.prefix, v.ForImage != ""))
		}
	})
	return w
}

func (w *world) container(image string) plan.Container {
	return plan.Container{
		Image:      image,
		Networks:   []plan.Attachment{{Network: w.prefix, Aliases: []string{"sensor"}}},
		Hostname:   "mast-sensor",
		Restart:    declare.Restart{Policy: "no"},
		StopWithin: 2 * time.Second,
	}
}

func (w *world) create(t *testing.T, name string, c plan.Container) string {
	t.Helper()
	labels := maps.Clone(w.labels)
	labels[plan.LabelService] = name
	id, err := w.Create(w.ctx, w.prefix+"."+name, c, labels, "")
	require.NoError(t, err)
	return id
}

func (w *world) inspect(t *testing.T, id string) engine.State {
	t.Helper()
	s, err := w.Inspect(w.ctx, id)
	require.NoError(t, err)
	return s
}

func lifeOfAContainer(t *testing.T, w *world) {
	id := w.create(t, "a", w.container(enginetest.Page))
	assert.Equal(t, "created", w.inspect(t, id).Status)
	require.NoError(t, w.Start(w.ctx, id))
	require.NoError(t, w.Start(w.ctx, id), "starting what runs is no error")
	s := w.inspect(t, id)
	assert.True(t, s.Running)
	assert.NotEmpty(t, s.Addresses)
	assert.WithinDuration(t, time.Now(), s.Started, time.Minute)
	require.NoError(t, w.Rename(w.ctx, id, w.prefix+".b"))
	assert.Equal(t, w.prefix+".b", w.inspect(t, w.prefix+".b").Name)
	require.NoError(t, w.Stop(w.ctx, id, time.Second))
	require.NoError(t, w.Stop(w.ctx, id, time.Second), "stopping what is stopped is no error")
	s = w.inspect(t, id)
	assert.False(t, s.Running)
	assert.Equal(t, 143, s.ExitCode)
	require.NoError(t, w.Start(w.ctx, id), "what was stopped starts again")
	require.NoError(t, w.Remove(w.ctx, id), "running or not")
	require.NoError(t, w.Remove(w.ctx, id), "removing what is gone is no error")
	_, err := w.Inspect(w.ctx, id)
	assert.ErrorIs(t, err, engine.ErrNotFound)
}

func readBack(t *testing.T, w *world) {
	dir := enginetest.TempDir(t)
	c := w.container(enginetest.Page)
	c.User = "1311:1400"
	c.Env = []plan.Variable{
		{Name: "SENSOR_LEVEL", Value: secret.Plain("a=b c")},
		{Name: "TZ", Value: secret.Plain("Atlantic/Faroe")},
	}
	c.Ports = []plan.Port{
		{Host: enginetest.FreePort(t), Container: 8080, Protocol: "tcp"},
		{Address: "127.0.0.1", Host: enginetest.FreePort(t), Container: 8081, Protocol: "udp"},
	}
	c.Mounts = []plan.Mount{{Source: dir, Target: "/data", ReadOnly: true}}
	c.Restart = declare.Restart{Policy: "on-failure", Retries: 3}
	c.LogLimit = declare.LogLimit{Files: 3, Size: 5_000_000}
	// Not started: what these do inside is shown by the tests of the program.
	c.Settings = lab.Settings{
		Command: secret.Plains([]string{"a", "b c"}), Entrypoint: secret.Plains([]string{"/probe"}),
		WorkingDir: "/data", Groups: []string{"1409", "1410"}, Memory: 64 << 20, SharedMemory: 32 << 20,
		CPUs: 0.5, Devices: []declare.Device{{Host: "/dev/null", Container: "/dev/lamp0"}},
		Capabilities: []string{"NET_ADMIN"}, Dropped: []string{"CHOWN", "MKNOD"},
		ReadOnly: true, HostPID: true, HostCgroup: true,
		Sysctls:     []lab.Pair{{Name: "net.ipv4.ip_default_ttl", Value: "41"}},
		Labels:      []lab.Pair{{Name: "example.skerry.room", Value: "lamp"}},
		Ulimits:     []declare.Ulimit{{Name: "nofile", Soft: 256, Hard: 512}},
		AddressBook: []lab.Pair{{Name: "lamp", Value: "192.0.2.14"}}, DNS: []string{"192.0.2.53"},
		StopSignal: "SIGINT",
	}
	c.Networks[0].Aliases = []string{"sensor", "tides"}
	s := w.inspect(t, w.create(t, "a", c))
	image, err := w.Image(w.ctx, enginetest.Page)
	require.NoError(t, err)
	assert.Equal(t, image.ID, s.ImageID)
	assert.Equal(t, w.prefix, s.Labels[plan.LabelStack])
	assert.Empty(t, plan.Differences(engine.WithoutImage(s.Container, image, c), c),
		"nothing that was not declared may show as a difference")

	plainly, mighty := w.container(enginetest.Page), w.container(enginetest.Page)
	mighty.Settings.Privileged = true
	for name, other := range map[string]plan.Container{"plain": plainly, "mighty": mighty} {
		id := w.create(t, name, other)
		require.NoError(t, w.Start(w.ctx, id), name)
		s := w.inspect(t, id)
		assert.Empty(t, plan.Differences(engine.WithoutImage(s.Container, image, other), other),
			"what the engine adds by itself is no difference")
	}

	c.Env[0].Value, c.User = secret.Plain("other"), "1312:1401"
	d := plan.Differences(engine.WithoutImage(s.Container, image, c), c)
	assert.Equal(t,
		[]plan.Difference{
			{Field: "run-as", Running: "1311:1400", Declared: "1312:1401"},
			{Field: "env.SENSOR_LEVEL", Running: "a=b c", Declared: "other"},
		}, d)
}

func nameOnce(t *testing.T, w *world) {
	w.create(t, "a", w.container(enginetest.Page))
	errs := make(chan error, 4)
	for range cap(errs) {
		go func() {
			_, err := w.CreatePlaceholder(w.ctx, w.prefix+".lock", enginetest.Page, w.labels)
			errs <- err
		}()
	}
	won := 0
	for range cap(errs) {
		if err := <-errs; err == nil {
			won++
		} else {
			assert.ErrorIs(t, err, engine.ErrNameTaken)
		}
	}
	assert.Equal(t, 1, won, "of several creates at once exactly one gets the name")
	assert.ErrorIs(t, w.Rename(w.ctx, w.prefix+".lock", w.prefix+".a"), engine.ErrNameTaken)
}

func portInUse(t *testing.T, w *world) {
	held := enginetest.FreePort(t)
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(held))
	require.NoError(t, err)
	defer l.Close()
	c := w.container(enginetest.Page)
	c.Ports = []plan.Port{{Host: held, Container: 8080, Protocol: "tcp"}}
	id := w.create(t, "a", c)
	require.ErrorIs(t, w.Start(w.ctx, id), engine.ErrPortInUse, "held by a process")
	assert.False(t, w.inspect(t, id).Running)

	c.Ports[0].Host = enginetest.FreePort(t)
	require.NoError(t, w.Start(w.ctx, w.create(t, "b", c)))
	assert.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", "127.0.0.1:"+strconv.Itoa(c.Ports[0].Host))
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, 10*time.Second, 100*time.Millisecond, "a published port is really listened on")
	// After this start one engine (Podman's service) forwards the port to nowhere until its holder is
	// restarted: the check has to find a held port beforehand.
	require.ErrorIs(t, w.Start(w.ctx, w.create(t, "c", c)), engine.ErrPortInUse, "held by a container")
}

func endByItself(t *testing.T, w *world) {
	id := w.create(t, "a", w.container(enginetest.Exits))
	require.NoError(t, w.Start(w.ctx, id))
	require.Eventually(t, func() bool { return !w.inspect(t, id).Running }, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, 3, w.inspect(t, id).ExitCode)
	var lines []string
	require.NoError(t, w.Log(w.ctx, id, time.Time{}, false, 1, func(l string) { lines = append(lines, l) }))
	assert.Equal(t, []string{"the lens is cracked"}, lines)
}

func notThere(t *testing.T, w *world) {
	_, err := w.Create(w.ctx, w.prefix+".a", w.container("registry.skerry.example/nobody:1"), w.labels, "")
	assert.ErrorIs(t, err, engine.ErrNotFound)
	_, err = w.Image(w.ctx, "registry.skerry.example/nobody:1")
	assert.ErrorIs(t, err, engine.ErrNotFound)
	_, err = w.Inspect(w.ctx, w.prefix+".nobody")
	assert.ErrorIs(t, err, engine.ErrNotFound)
	assert.ErrorIs(t, w.Start(w.ctx, w.prefix+".nobody"), engine.ErrNotFound)
}

func networks(t *testing.T, w *world) {
	made, err := w.CreateNetwork(w.ctx, plan.Network{Name: w.prefix}, w.labels)
	require.NoError(t, err)
	assert.False(t, made, "it is there already")
	_, err = w.CreateNetwork(w.ctx, plan.Network{Name: w.prefix}, map[string]string{plan.LabelLab: "another"})
	assert.ErrorIs(t, err, engine.ErrNameTaken)
	list, err := w.Networks(w.ctx, "")
	require.NoError(t, err)
	assert.True(t,
		slices.ContainsFunc(list, func(n survey.Network) bool { return n.Name == w.prefix && n.Lab == w.prefix }))
	own, err := w.Networks(w.ctx, w.prefix)
	require.NoError(t, err)
	require.Len(t, own, 1, "those of a lab are no others")
	assert.Equal(t, w.prefix, own[0].Name)
	require.NoError(t, w.Start(w.ctx, w.create(t, "a", w.container(enginetest.Page))))
	require.NoError(t, w.RemoveNetwork(w.ctx, w.prefix, "another"))
	assert.Error(t, w.RemoveNetwork(w.ctx, w.prefix, w.prefix), "it has a running member")
}

// A container is on several networks, in the host's, in none, or in another one's; all of it is read back.
func wherever(t *testing.T, w *world) {
	image, err := w.Image(w.ctx, enginetest.Page)
	require.NoError(t, err)
	second := plan.Network{
		Name:     w.prefix + "-2",
		Internal: true,
		Subnet:   fmt.Sprintf("198.19.%d.0/28", 200+os.Getpid()%50),
	}
	made, err := w.CreateNetwork(w.ctx, second, w.labels)
	require.NoError(t, err)
	assert.True(t, made)
	again, err := w.CreateNetwork(w.ctx, second, w.labels)
	require.NoError(t, err)
	assert.False(t, again)
	second.Internal = false
	_, err = w.CreateNetwork(w.ctx, second, w.labels)
	assert.ErrorIs(t, err, engine.ErrDiffers)
	_, err = w.CreateNetwork(w.ctx, plan.Network{Name: w.prefix + "-3", Existing: true}, w.labels)
	assert.ErrorIs(t, err, engine.ErrNotFound)

	both := w.container(enginetest.Page)
	both.Networks = append(both.Networks, plan.Attachment{
		Network: second.Name,
		Aliases: []string{"sensor.mast", "tides"},
	})
	host, none, guest := w.container(enginetest.Page), w.container(enginetest.Page), w.container(enginetest.Page)
	host.Networks, host.Mode = nil, "host"
	host.Env = []plan.Variable{{Name: "PROBE_PAGE", Value: secret.Plain(fmt.Sprint(enginetest.FreePort(t)))}}
	none.Networks, none.Mode = nil, "none"
	guest.Networks, guest.NetworkOf, guest.Hostname = nil, "both", ""
	var ids []string
	for name, c := range map[string]plan.Container{"both": both, "host": host, "none": none} {
		id := w.create(t, name, c)
		require.NoError(t, w.Start(w.ctx, id), name)
		ids = append(ids, id)
		s := w.inspect(t, id)
		assert.Empty(t, plan.Differences(engine.WithoutImage(s.Container, image, c), c), name)
		if name == "both" {
			assert.Len(t, s.Addresses, 2)
			partner, err := w.Create(w.ctx, w.prefix+".guest", guest, w.labels, id)
			require.NoError(t, err)
			require.NoError(t, w.Start(w.ctx, partner))
			g := w.inspect(t, partner)
			assert.Equal(t, "container:"+id, g.Container.NetworkOf)
			g.Container.NetworkOf = "both"
			assert.Empty(t, plan.Differences(engine.WithoutImage(g.Container, image, guest), guest), "guest")
			ids = append(ids, partner)
		}
	}
	for _, id := range ids {
		require.NoError(t, w.Stop(w.ctx, id, time.Second))
	}
	for _, id := range ids {
		assert.NotContains(t, w.inspect(t, id).Container.Networks, plan.Attachment{Network: "bridge"})
	}
}

func mounted(t *testing.T, w *world) {
	image, err := w.Image(w.ctx, enginetest.PageNew)
	require.NoError(t, err)
	volume := plan.Volume{Name: w.prefix + ".readings", Labels: map[string]string{"example.skerry.room": "lamp"}}
	made, err := w.CreateVolume(w.ctx, volume, w.labels)
	require.NoError(t, err)
	assert.True(t, made)
	again, err := w.CreateVolume(w.ctx, volume, w.labels)
	require.NoError(t, err)
	assert.False(t, again)
	_, err = w.CreateVolume(w.ctx, volume, map[string]string{plan.LabelLab: "another"})
	assert.ErrorIs(t, err, engine.ErrNameTaken)
	_, err = w.CreateVolume(w.ctx,
		plan.Volume{
			Name:    volume.Name,
			Options: map[string]secret.Text{"type": secret.Plain("tmpfs"), "device": secret.Plain("tmpfs")},
		}, w.labels)
	assert.ErrorIs(t, err, engine.ErrDiffers)
	_, err = w.CreateVolume(w.ctx, plan.Volume{Name: w.prefix + ".nobody", Existing: true}, w.labels)
	assert.ErrorIs(t, err, engine.ErrNotFound)

	c := w.container(enginetest.PageNew)
	c.Mounts = []plan.Mount{
		{Kind: declare.MountVolume, Source: volume.Name, Target: "/readings"},
		{Kind: declare.MountVolume, Source: volume.Name, Target: "/seen", ReadOnly: true, StartEmpty: true},
		{Kind: declare.MountMemory, Target: "/tmp", Size: 64 << 20},
		{Kind: declare.MountMemory, Target: "/scratch"},
		{Kind: declare.MountEngine, Target: "/run/engine.sock", ReadOnly: true},
	}
	if os.Getuid() == 0 {
		// What is mounted below a shared one is seen on both sides; engines demand that it is shared on the
		// host, too.
		dir := enginetest.TempDir(t)
		require.NoError(t, unix.Mount(dir, dir, "", unix.MS_BIND, ""))
		t.Cleanup(func() { unix.Unmount(dir, unix.MNT_DETACH) })
		require.NoError(t, unix.Mount("", dir, "", unix.MS_SHARED, ""))
		c.Mounts = append(c.Mounts, plan.Mount{Source: dir, Target: "/shared", Shared: true})
	}
	id := w.create(t, "a", c)
	require.NoError(t, w.Start(w.ctx, id))
	s := w.inspect(t, id)
	assert.Empty(t, plan.Differences(engine.WithoutImage(s.Container, image, c), c))
	root, err := w.VolumeRoot(w.ctx, volume.Name)
	require.NoError(t, err)
	if assert.NotNil(t, root) {
		assert.Equal(t, survey.VolumeRoot{Mode: "0755", Empty: true}, *root, "the image has nothing there")
	}
	nobody, err := w.VolumeRoot(w.ctx, w.prefix+".nobody")
	require.NoError(t, err)
	assert.Nil(t, nobody)
	assert.Error(t, w.RemoveVolume(w.ctx, volume.Name, w.prefix, false), "it is in use")
	require.NoError(t, w.Remove(w.ctx, id))
	require.NoError(t, w.RemoveVolume(w.ctx, volume.Name, "another", false))
	list, err := w.Volumes(w.ctx)
	require.NoError(t, err)
	assert.True(t,
		slices.ContainsFunc(list, func(v survey.Volume) bool {
			return v.Name == volume.Name && v.Lab == w.prefix && v.Stack == w.prefix
		}))
	require.NoError(t, w.RemoveVolume(w.ctx, volume.Name, w.prefix, false))
	require.NoError(t, w.RemoveVolume(w.ctx, volume.Name, w.prefix, false), "gone already")
}

func commands(t *testing.T, w *world) {
	id := w.create(t, "a", w.container(enginetest.PageNew))
	assert.Equal(t, []string{"/probe", "ask", "8080"}, w.inspect(t, id).Check)
	require.NoError(t, w.Start(w.ctx, id))
	require.Eventually(t, func() bool {
		code, said, err := w.Run(w.ctx, id, []string{"/probe", "ask", "8080"})
		return err == nil && code == 0 && said == "ready"
	}, 20*time.Second, 100*time.Millisecond)
	code, _, err := w.Run(w.ctx, id, []string{"/bin/nobody"})
	if err == nil {
		assert.GreaterOrEqual(t, code, 126)
	}
	require.NoError(t, w.Stop(w.ctx, id, time.Second))
	_, _, err = w.Run(w.ctx, id, []string{"/probe", "ask", "8080"})
	assert.Error(t, err, "it does not run")
}

// A wrong command is known from the container that was made with it, before anything is stopped for it.
func runnable(t *testing.T, w *world) {
	for i, c := range []struct {
		entrypoint []string
		dir, why   string
		real       bool // the stand-in knows no files but programs
	}{
		{entrypoint: nil},
		{entrypoint: []string{"/probe", "wait"}},
		{entrypoint: []string{"./probe"}, dir: "/", real: true},
		{entrypoint: []string{"/link"}, real: true},
		{entrypoint: []string{"/bin/link"}, real: true},
		{entrypoint: []string{"probe"}, real: true},
		{entrypoint: []string{"/lens"}, why: "/lens is not in the image"},
		{entrypoint: []string{"lens"}, why: "lens is not in the image"},
		{entrypoint: []string{"./probe"}, dir: "/data", why: "./probe is not in the image"},
		{entrypoint: []string{"/data"}, why: "/data is a folder in the image", real: true},
		{entrypoint: []string{"/notes"}, why: "/notes may not be executed: its mode in the image is 0644",
			real: true},
	} {
		if c.real && !w.target.Real() {
			continue
		}
		made := w.container(enginetest.Page)
		made.Settings.Entrypoint, made.Settings.WorkingDir = secret.Plains(c.entrypoint), c.dir
		why, err := w.Runnable(w.ctx, w.create(t, strconv.Itoa(i), made))
		require.NoError(t, err)
		assert.Equal(t, c.why, why, "%v", c.entrypoint)
	}
	// A program that is mounted is there, also behind a link.
	tools := enginetest.TempDir(t)
	require.NoError(t, os.WriteFile(filepath.Join(tools, "lens"), []byte("#!"), 0o755))
	for name, entrypoint := range map[string]string{"mounted": "/tools/lens", "linked": "/tool"} {
		if name == "linked" && !w.target.Real() {
			continue
		}
		made := w.container(enginetest.Page)
		made.Settings.Entrypoint = secret.Plains([]string{entrypoint})
		made.Mounts = []plan.Mount{{Kind: declare.MountPath, Source: tools, Target: "/tools"}}
		why, err := w.Runnable(w.ctx, w.create(t, name, made))
		require.NoError(t, err)
		assert.Empty(t, why, entrypoint)
	}
}

func folders(t *testing.T, w *world) {
	if os.Getuid() != 0 {
		t.Skip("only root may give folders away")
	}
	dir := enginetest.TempDir(t)
	require.NoError(t, os.Mkdir(dir+"/old", 0o700))
	uid, gid := survey.ID(1311), survey.ID(1400)
	if w.Rootless(w.ctx) { // ids of the host that mean something inside
		require.NoError(t, os.Chmod(dir, 0o777))
		assert.Error(t, w.MakeFolders(w.ctx, w.prefix+plan.SuffixFolders, enginetest.Page, w.labels, dir,
			[]engine.Folder{{Path: dir + "/a", UID: uid, GID: gid, Mode: 0o750}}), "it cannot give anything to them")
		var s survey.Survey
		require.NoError(t, w.Facts(w.ctx, &s))
		uid, _ = survey.HostID(s.Engine.UIDMap, uid)
		gid, _ = survey.HostID(s.Engine.GIDMap, gid)
		require.Greater(t, uid, survey.ID(65536))
	}
	made := []engine.Folder{
		{Path: dir + "/a", UID: uid, GID: gid, Mode: 0o750},
		{Path: dir + "/a/b c", UID: uid, GID: gid, Mode: 0o2770},
	}
	require.NoError(t, w.MakeFolders(w.ctx, w.prefix+plan.SuffixFolders, enginetest.Page, w.labels, dir, made))
	for _, f := range made {
		info, err := os.Stat(f.Path)
		require.NoError(t, err)
		st := info.Sys().(*syscall.Stat_t)
		assert.Equal(t, []uint32{uint32(uid), uint32(gid), f.Mode}, []uint32{st.Uid, st.Gid, st.Mode & 0o7777}, f.Path)
	}
	list, err := w.Containers(w.ctx, w.prefix, "")
	require.NoError(t, err)
	assert.Empty(t, list)
}

// filesOf returns a folder with so many files in ten folders.
func filesOf(n int, text string) []plan.File {
	files := []plan.File{{Target: "/srv/site", Folder: true, Mode: 0o750, UID: 1311, GID: 1400}}
	for i := range n {
		folder := fmt.Sprintf("/srv/site/%d", i%10)
		if i < 10 {
			files = append(files, plan.File{Target: folder, Folder: true, Mode: 0o755, UID: 1311, GID: 1400})
		}
		files = append(files, plan.File{
			Target: fmt.Sprintf("%s/page-%d.html", folder, i), Mode: 0o640, UID: 1311, GID: 1400,
			Content: secret.Plain(fmt.Sprintf("%s %d\n", text, i)),
		})
	}
	slices.SortFunc(files, func(a, b plan.File) int { return strings.Compare(a.Target, b.Target) })
	return files
}

func filesInside(t *testing.T, w *world) {
	id := w.create(t, "files", w.container(enginetest.Page))
	files := append(filesOf(30, "fog"), plan.File{
		Target: "/kept-by/the-keeper", Mode: 0o600, Content: secret.Of("a secret\x00\xff\n", true),
	})
	slices.SortFunc(files, func(a, b plan.File) int { return strings.Compare(a.Target, b.Target) })
	require.NoError(t, w.PutFiles(w.ctx, id, files))
	require.NoError(t, w.Start(w.ctx, id))
	// What is there already is written over, running or not; what was not asked for is not told.
	changed := filesOf(20, "more fog")
	require.NoError(t, w.PutFiles(w.ctx, id, changed))
	want := slices.Clone(files)
	for i, f := range want {
		if j := slices.IndexFunc(changed, func(c plan.File) bool { return c.Target == f.Target }); j >= 0 {
			want[i] = changed[j]
		}
	}
	for _, up := range []bool{true, false} {
		if !up {
			require.NoError(t, w.Stop(w.ctx, id, time.Second))
		}
		found, err := w.ReadFiles(w.ctx, id, append(slices.Clone(want), plan.File{Target: "/nowhere/at/all"}))
		require.NoError(t, err)
		slices.SortFunc(found, func(a, b plan.File) int { return strings.Compare(a.Target, b.Target) })
		for i, f := range found { // not every engine tells owners
			if f.UID == 0 && f.GID == 0 {
				found[i].UID, found[i].GID = want[i].UID, want[i].GID
			}
		}
		assert.Equal(t, want, found, "running: %v", up)
	}
	_, err := w.ReadFiles(w.ctx, w.prefix+"-nobody", want)
	assert.NoError(t, err, "what is gone has no files")
}

// What 5,000 files cost that go into a container and are read back, beside writing them to a folder.
func BenchmarkFilesInside(b *testing.B) {
	files := filesOf(5000, strings.Repeat("fog over the skerry ", 50))
	b.Run("floor", func(b *testing.B) {
		for b.Loop() {
			dir := b.TempDir()
			for _, f := range files {
				if f.Folder {
					os.MkdirAll(dir+f.Target, 0o755)
				} else if err := os.WriteFile(dir+f.Target, []byte(f.Content.Reveal()), 0o640); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	for _, name := range []string{"DOCKERD", "PODMAN"} {
		address := os.Getenv("LANTERN_TEST_" + name)
		if address == "" {
			continue
		}
		e, err := engine.Dial(b.Context(), address)
		require.NoError(b, err)
		id, err := e.Create(b.Context(), "bench-files", plan.Container{Image: enginetest.Page, Mode: "none"}, map[string]string{}, "")
		require.NoError(b, err)
		b.Run("put/"+name, func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, e.PutFiles(b.Context(), id, files))
			}
		})
		b.Run("read/"+name, func(b *testing.B) {
			for b.Loop() {
				found, err := e.ReadFiles(b.Context(), id, files)
				require.NoError(b, err)
				require.Len(b, found, len(files))
			}
		})
		require.NoError(b, e.Remove(context.Background(), id))
	}
}

func logFollows(t *testing.T, w *world) {
	id := w.create(t, "a", w.container(enginetest.Page))
	began := time.Now()
	require.NoError(t, w.Start(w.ctx, id))
	ctx, cancel := context.WithTimeout(w.ctx, 20*time.Second)
	defer cancel()
	var lines []string
	w.Log(ctx, id, began.Add(-time.Second), true, 0, func(l string) {
		lines = append(lines, l)
		if l == "open for readings" {
			cancel()
		}
	})
	assert.Equal(t, []string{"the probe starts", "open for readings"}, lines)
}

func missingFolder(t *testing.T, w *world) {
	dir := enginetest.TempDir(t)
	require.NoError(t, os.Chmod(dir, 0o777)) // for an engine without root
	missing := dir + "/nobody-made-it"
	c := w.container(enginetest.Page)
	c.Mounts = []plan.Mount{{Source: missing, Target: "/data"}}
	_, err := w.Create(w.ctx, w.prefix+".a", c, w.labels, "")
	if w.target.IsPodman() {
		require.NoError(t, err, "this engine makes the folder, which is why the check has to come first")
		assert.DirExists(t, missing)
		return
	}
	require.Error(t, err)
	assert.NoDirExists(t, missing)
}

func restartChanges(t *testing.T, w *world) {
	id := w.create(t, "a", w.container(enginetest.Page))
	err := w.SetRestart(w.ctx, id, declare.Restart{Policy: "always"})
	if !w.CanUpdate() {
		require.ErrorIs(t, err, engine.ErrUnsupported)
		return
	}
	require.NoError(t, err)
	assert.Equal(t, "always", w.inspect(t, id).Container.Restart.Policy)
}

// pull fetches an image from a registry on loopback; the stand-in has one of its own.
func pull(t *testing.T, w *world) {
	reference, absent := "registry.skerry.example/probe:pulled", "registry.skerry.example/probe:absent"
	if w.target.Real() {
		at := enginetest.Registry(t)
		// A content of its own, so that nothing of it is on the host already.
		image, err := random.Image(200_000, 3)
		require.NoError(t, err)
		reference, absent = at+"/skerry/pulled:"+w.prefix, at+"/skerry/pulled:absent"
		ref, err := name.ParseReference(reference)
		require.NoError(t, err)
		require.NoError(t, remote.Write(ref, image))
	}
	_, err := w.Image(w.ctx, reference)
	require.ErrorIs(t, err, engine.ErrNotFound)
	require.NoError(t,
		w.Pull(w.ctx, reference, nil, func(p engine.PullProgress) { assert.LessOrEqual(t, p.Current, p.Total) }))
	image, err := w.Image(w.ctx, reference)
	require.NoError(t, err)
	assert.NotEmpty(t, image.ID)
	assert.ErrorIs(t, w.Pull(w.ctx, absent, nil, func(engine.PullProgress) {}), engine.ErrNotFound,
		"its registry says that it has not")
	switch err := w.InRegistry(w.ctx, absent); w.target.IsPodman() {
	case true:
		assert.ErrorIs(t, err, engine.ErrUnsupported)
	default:
		assert.ErrorIs(t, err, engine.ErrNotFound)
		assert.NoError(t, w.InRegistry(w.ctx, reference))
	}
}

func facts(t *testing.T, w *world) {
	var s survey.Survey
	require.NoError(t, w.Facts(w.ctx, &s))
	assert.Regexp(t, `^linux/[a-z0-9]+$`, s.Platform)
	assert.Positive(t, s.CPUs)
	assert.Positive(t, s.Memory)
	c := w.container(enginetest.Page)
	c.Ports = []plan.Port{{Host: enginetest.FreePort(t), Container: 8080, Protocol: "tcp"}}
	require.NoError(t, w.Start(w.ctx, w.create(t, "a", c)))
	list, err := w.Survey(w.ctx)
	require.NoError(t, err)
	i := slices.IndexFunc(list, func(c survey.Container) bool { return c.Name == w.prefix+".a" })
	require.GreaterOrEqual(t, i, 0)
	assert.Contains(t, list[i].Ports, fmt.Sprintf("0.0.0.0:%d -> 8080/tcp", c.Ports[0].Host))
	assert.Equal(t, []string{w.prefix}, list[i].Networks)
	assert.Equal(t, "running", list[i].State)
}

func usage(t *testing.T, w *world) {
	id := w.create(t, "a", w.container(enginetest.Page))
	require.NoError(t, w.Start(w.ctx, id))
	first, err := w.Usage(w.ctx, id)
	require.NoError(t, err)
	assert.WithinDuration(t, time.Now(), first.Time, time.Minute)
	assert.Positive(t, first.Memory)
	assert.Positive(t, first.MemoryLimit)
	assert.True(t, first.Networked)
	s := w.inspect(t, id)
	if w.Rootless(w.ctx) { // nothing of the host reaches its own address
		second, err := w.Usage(w.ctx, id)
		require.NoError(t, err)
		assert.False(t, second.Time.Before(first.Time))
		return
	}
	require.Eventually(t, func() bool {
		// The page of the real image costs something; that of the stand-in is asked where it listens.
		if c, err := net.Dial("tcp", net.JoinHostPort(s.Addresses[0], "8080")); err == nil {
			fmt.Fprint(c, "GET / HTTP/1.0\r\nContent-Length: 500000\r\n\r\n"+strings.Repeat("x", 500_000))
			io.Copy(io.Discard, c)
			c.Close()
		}
		second, err := w.Usage(w.ctx, id)
		return err == nil && second.CPU > first.CPU && second.Time.After(first.Time) &&
			second.NetIn-first.NetIn > 4*(second.NetOut-first.NetOut)
	}, time.Minute, 50*time.Millisecond)
	_, err = w.Usage(w.ctx, w.prefix+".nobody")
	assert.ErrorIs(t, err, engine.ErrNotFound)
}

func eventsOf(t *testing.T, w *world) {
	ctx, stop := context.WithCancel(w.ctx)
	defer stop()
	began, told, over := make(chan bool), make(chan string, 64), make(chan error, 1)
	go func() {
		over <- w.Events(ctx, w.prefix, func() { close(began) }, func(stack, service string) {
			assert.Equal(t, w.prefix, stack)
			told <- service
		})
	}()
	<-began
	awaited := func(service, what string) {
		t.Helper()
		select {
		case got := <-told:
			assert.Equal(t, service, got, what)
		case <-time.After(time.Minute):
			require.Fail(t, "no event", what)
		}
		for {
			select {
			case <-told: // engines differ in how many they make of one change
			case <-time.After(700 * time.Millisecond):
				return
			}
		}
	}
	stranger := w.container(enginetest.Page)
	other := maps.Clone(w.labels)
	other[plan.LabelLab], other[plan.LabelService] = "another", "stranger"
	_, err := w.Create(w.ctx, w.prefix+".stranger", stranger, other, "")
	require.NoError(t, err)
	id := w.create(t, "a", w.container(enginetest.Page))
	awaited("a", "it is made")
	require.NoError(t, w.Start(w.ctx, id))
	awaited("a", "it starts")
	_, _, err = w.Run(w.ctx, id, []string{"/probe", "ask", "8080"})
	require.NoError(t, err)
	select {
	case got := <-told:
		assert.Fail(t, "a look inside is no change", got)
	case <-time.After(time.Second):
	}
	require.NoError(t, w.Stop(w.ctx, id, time.Second))
	awaited("a", "it ends")
	require.NoError(t, w.Remove(w.ctx, id))
	awaited("a", "it is removed")
	stop()
	assert.ErrorIs(t, <-over, context.Canceled)
}
