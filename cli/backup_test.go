//go:build linux

package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"proudlantern.example/lantern/demo"
	"proudlantern.example/lantern/engine/enginetest"
	"proudlantern.example/lantern/engine/standin"
)

// backupText is a stack with a folder, a volume, and a folder that it only reads.
const backupText = `[volume.readings]
[service.desk]
image = %q
ports = ["localhost:%d -> 8080"]
mounts = ["%s/desk -> /desk", "volume readings -> /kept", "%s/store -> /books, read-only"]
run-as = "0:0"
env.PROBE_WRITE = "%s"
env.PROBE_FILES = "/desk/probe /desk/old /kept/probe"
env-files = ["log.env"]
ready = { http = "8080/", within = "60s" }
page = "8080/"
restart = "no"
`

// A backup brings a stack back after all of it was lost; a copy of it is proven beside the original; what is damaged, or
// encrypted to somebody else, is told.
func TestBackup(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("what services write only root may read")
	}
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		t.Parallel()
		b := newBench(t, target)
		b.alone()
		b.stack = "log" + strconv.Itoa(os.Getpid()%1000)
		stack, port := b.stack, freePort(t)
		b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
		write := func(env string) {
			b.write(stack+"/stack.toml", fmt.Sprintf(backupText, enginetest.Page, port, b.data, b.data, env))
		}
		write("/desk /kept")
		b.write(stack+"/log.env", "LOG_TOKEN=the-moon-pulls-the-sea\n")
		desk := filepath.Join(b.data, "desk")
		require.NoError(t, os.Mkdir(desk, 0o751))
		uid, gid := b.onHost(1311, 1400)
		require.NoError(t, os.Chown(desk, uid, gid))
		require.NoError(t, os.WriteFile(filepath.Join(desk, "old"), []byte("since 1911"), 0o640))
		require.NoError(t, os.Chown(filepath.Join(desk, "old"), uid, gid))
		b.run(0, "deploy", stack, "--yes")
		b.page(port) // writes
		write("")
		b.run(0, "deploy", stack, "--yes")

		to := t.TempDir()
		stdout, stderr := b.run(0, "--format", "json", "backup", stack, "--to", to)
		var made struct {
			File, Stack string
			Entries     int
			Bytes       int64
			Stopped     float64
			Notes       []string
		}
		require.NoError(t, json.Unmarshal([]byte(stdout), &made), stdout)
		assert.Equal(t, stack, made.Stack)
		assert.Contains(t, stderr, "/store is left out: it is only read here")
		if target.Real() {
			assert.Positive(t, made.Stopped)
		}
		assert.True(t, b.containers()[stack+".desk"].Running, "it runs again")
		info, err := os.Stat(made.File)
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), info.Mode())
		stdout, _ = b.run(0, "restore", made.File, "--list")
		assert.Contains(t, stdout, desk+"/old")
		assert.NotContains(t, stdout, "the-moon")
		b.run(0, "restore", made.File, "--verify")

		beside := filepath.Join(t.TempDir(), "beside")
		b.run(0, "restore", made.File, "--beside", beside)
		text, err := os.ReadFile(filepath.Join(beside, "0000-desk/old"))
		require.NoError(t, err)
		assert.Equal(t, "since 1911", string(text))

		_, stderr = b.run(0, "restore", made.File, "--try")
		assert.Contains(t, stderr, "the backup works: desk ran and was proven; nothing of the trial is left")
		assert.Len(t, b.containers(), 1, "the original")
		left, err := filepath.Glob(filepath.Join(b.dir, ".lantern/trial-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
		volumes, err := b.engine.Volumes(t.Context())
		require.NoError(t, err)
		for _, v := range volumes {
			assert.NotContains(t, v.Name, "trial")
		}

		// All is lost.
		b.run(0, "retire", stack, "--yes", "--with-volumes")
		require.NoError(t, os.RemoveAll(desk))
		require.NoError(t, os.RemoveAll(filepath.Join(b.dir, stack)))
		_, stderr = b.run(0, "restore", made.File, "--yes")
		assert.Contains(t, stderr, "next: lantern deploy "+stack)
		b.run(0, "deploy", stack, "--yes")
		about := b.page(port)
		if target.Real() {
			assert.Equal(t, map[string]string{"/desk/probe": "here", "/desk/old": "since 1911", "/kept/probe": "here"}, about.Files)
		}
		var st syscall.Stat_t
		require.NoError(t, syscall.Stat(desk, &st))
		assert.Equal(t, []uint32{0o751, uint32(uid), uint32(gid)}, []uint32{st.Mode & 0o7777, st.Uid, st.Gid})

		// What is there is kept beside; a sweep takes it away.
		require.NoError(t, os.WriteFile(filepath.Join(desk, "old"), []byte("spoilt"), 0o640))
		_, stderr = b.run(0, "restore", made.File, "--yes")
		assert.Contains(t, stderr, desk+".before-restore")
		if target.Real() {
			assert.Equal(t, "since 1911", b.page(port).Files["/desk/old"])
		}
		text, err = os.ReadFile(filepath.Join(desk+".before-restore", "old"))
		require.NoError(t, err)
		assert.Equal(t, "spoilt", string(text))
		stdout, _ = b.run(0, "sweep", "--yes")
		assert.Contains(t, stdout, "before-restore")
		assert.NoFileExists(t, desk+".before-restore")
		assert.FileExists(t, filepath.Join(desk, "old"))

		// Encrypted; a few are kept.
		key, err := age.GenerateX25519Identity()
		require.NoError(t, err)
		other, err := age.GenerateX25519Identity()
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(to, "key"), []byte(key.String()+"\n"), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(to, "other"), []byte(other.String()+"\n"), 0o600))
		stdout, _ = b.run(0, "--format", "json", "backup", stack, "--to", to, "--encrypt-to", key.Recipient().String(), "--prune", "1", "--live")
		was := made.File
		require.NoError(t, json.Unmarshal([]byte(stdout), &made))
		assert.NoFileExists(t, was)
		assert.True(t, strings.HasSuffix(made.File, ".tar.zst.age"))
		assert.Zero(t, made.Stopped)
		_, stderr = b.run(1, "restore", made.File, "--verify")
		assert.Contains(t, stderr, "the backup is encrypted: name the file of the key")
		_, stderr = b.run(1, "restore", made.File, "--verify", "--identity", filepath.Join(to, "other"))
		assert.Contains(t, stderr, "encrypted, and not for this key")
		b.run(0, "restore", made.File, "--verify", "--identity", filepath.Join(to, "key"))

		sealed, err := os.ReadFile(made.File)
		require.NoError(t, err)
		sealed[len(sealed)/2] ^= 1
		require.NoError(t, os.WriteFile(made.File, sealed, 0o600))
		_, stderr = b.run(1, "restore", made.File, "--yes", "--identity", filepath.Join(to, "key"))
		assert.Contains(t, stderr, "the backup is damaged")
		if target.Real() {
			assert.Equal(t, "since 1911", b.page(port).Files["/desk/old"], "nothing was touched")
		}
		_, stderr = b.run(2, "backup", "nothing")
		assert.Contains(t, stderr, "no stack nothing")
		_, stderr = b.run(2, "backup", stack, "--only", "/nowhere")
		assert.Contains(t, stderr, "mounts no /nowhere")
	})
}

// Killed at any moment, a backup leaves no half file under its name, and all whole ones as they were; what it stopped
// runs again after the next one. A restore that is killed can be run again.
func TestBackupIsKilled(t *testing.T) {
	enginetest.SkipTwice(t)
	if os.Getuid() != 0 {
		t.Skip("what services write only root may read")
	}
	t.Parallel()
	target := enginetest.Target{Name: "stand-in", Address: enginetest.StandIn(t, standin.Options{})}
	b := newBench(t, target)
	port := freePort(t)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, target.Address))
	b.write("log/stack.toml", fmt.Sprintf(strings.ReplaceAll(backupText, `"volume readings -> /kept", `, ""), enginetest.Page, port, b.data, b.data, ""))
	b.write("log/log.env", "LOG_TOKEN=the-moon-pulls-the-sea\n")
	desk := filepath.Join(b.data, "desk")
	require.NoError(t, os.Mkdir(desk, 0o755))
	noise := make([]byte, 8<<20)
	r := rand.New(rand.NewSource(1911))
	r.Read(noise)
	require.NoError(t, os.WriteFile(filepath.Join(desk, "old"), noise, 0o640))
	b.run(0, "deploy", "log", "--yes")
	to := t.TempDir()
	path, err := program()
	require.NoError(t, err)
	killed := func(after time.Duration, args ...string) {
		cmd := exec.Command(path, append([]string{"--lab", b.dir}, args...)...)
		require.NoError(t, cmd.Start())
		time.Sleep(after)
		cmd.Process.Kill()
		cmd.Wait()
	}
	began := time.Now()
	b.run(0, "backup", "log", "--to", to)
	usual := time.Since(began)
	names := func(suffix string) []string {
		all, err := filepath.Glob(filepath.Join(to, "*"+suffix))
		require.NoError(t, err)
		return all
	}
	const tries = 12
	for i := range tries {
		time.Sleep(time.Until(began.Add(time.Duration(i+1) * 1100 * time.Millisecond))) // a name for each second
		killed(usual*time.Duration(i+1)/tries, "backup", "log", "--to", to)
		for _, file := range names(".tar.zst") {
			b.run(0, "restore", file, "--verify")
		}
	}
	time.Sleep(1100 * time.Millisecond)
	b.run(0, "backup", "log", "--to", to)
	assert.Empty(t, names(".part"), "what was left is cleared away")
	assert.Len(t, b.containers(), 1)
	assert.True(t, b.containers()["log.desk"].Running, "it runs again")

	file := names(".tar.zst")[0]
	began = time.Now()
	b.run(0, "restore", file, "--yes")
	usual = time.Since(began)
	for i := range tries {
		killed(usual*time.Duration(i+1)/tries, "restore", file, "--yes")
	}
	b.run(0, "restore", file, "--yes")
	text, err := os.ReadFile(filepath.Join(desk, "old"))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(noise, text))
	assert.NoFileExists(t, desk+".restoring")
	assert.True(t, b.containers()["log.desk"].Running)
	assert.Len(t, b.containers(), 1)
}

// The demo's stack, on a real engine: a backup of it runs beside it, is proven, and leaves nothing.
func TestTrialOfDemo(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("what services write only root may read")
	}
	enginetest.Each(t, func(t *testing.T, target enginetest.Target) {
		if !target.Real() {
			t.Skip("the demo itself runs on the stand-in")
		}
		t.Parallel()
		b := newBench(t, target)
		b.alone()
		dir := filepath.Join(t.TempDir(), "skerry")
		require.NoError(t, demo.Write(dir))
		b.dir = dir
		for _, other := range []string{"bird-count", "lamp-journal", "notice-board"} {
			require.NoError(t, os.RemoveAll(filepath.Join(dir, other)))
		}
		text := b.read("lab.toml")
		lab, _, _ := strings.Cut(text, "[host.boathouse]")
		lab = strings.NewReplacer("unix://"+dir+"/.lantern/lamp-room.sock", target.Address, "/srv/skerry", b.data, "/srv/plates", b.data,
			`"keeper"`, fmt.Sprintf(`"%d:%d"`, b.uid, b.gid)).Replace(lab)
		b.write("lab.toml", lab)
		b.write("tide-log/stack.toml", regexp.MustCompile(`"[0-9]+ -> `).ReplaceAllStringFunc(b.read("tide-log/stack.toml"), func(string) string {
			return fmt.Sprintf(`"%d -> `, freePort(t)) // the other engine's is deployed at the same time
		}))
		for _, folder := range []string{"tide-log/store", "tide-log/desk", "charts"} {
			require.NoError(t, os.MkdirAll(filepath.Join(b.data, folder), 0o755))
		}
		b.run(0, "prepare", "--yes")
		b.run(0, "check", "--fix")
		b.run(0, "deploy", "--yes")
		require.NoError(t, os.WriteFile(filepath.Join(b.data, "tide-log/store/tides.db"), []byte("since 1911"), 0o600))
		was := b.containers()
		to := t.TempDir()
		b.run(0, "backup", "tide-log", "--to", to)
		made, err := filepath.Glob(to + "/*")
		require.NoError(t, err)
		stdout, stderr := b.run(0, "restore", made[0], "--try")
		t.Log(stdout, stderr)
		assert.Contains(t, stderr, "the backup works: ")
		assert.Equal(t, len(was), len(b.containers()))
		for name, c := range b.containers() {
			assert.Equal(t, was[name].ID, c.ID, "the original was not touched")
		}
		networks, err := b.engine.Networks(t.Context(), b.lab())
		require.NoError(t, err)
		for _, n := range networks {
			assert.NotContains(t, n.Name, "trial")
		}
	})
}

// What a service writes to can be a file system of its own, which cannot be renamed: its content is exchanged. A deploy
// takes a backup first where that is wanted.
func TestRestoreOnMount(t *testing.T) {
	enginetest.SkipTwice(t)
	b := newBench(t, enginetest.Target{Name: "stand-in", Address: enginetest.StandIn(t, standin.Options{})})
	desk := filepath.Join(b.data, "desk")
	require.NoError(t, os.Mkdir(desk, 0o755))
	if err := unix.Mount("none", desk, "tmpfs", 0, "size=1m"); err != nil {
		t.Skipf("nothing can be mounted here: %s", err)
	}
	t.Cleanup(func() { assert.NoError(t, unix.Unmount(desk, unix.MNT_DETACH)) })
	require.NoError(t, os.WriteFile(filepath.Join(desk, "old"), []byte("since 1911"), 0o640))
	require.NoError(t, os.Chmod(desk, 0o750))
	port := freePort(t)
	b.write("lab.toml", fmt.Sprintf(labText, b.uid, b.gid, b.data, b.target.Address))
	text := fmt.Sprintf(strings.ReplaceAll(backupText, `"volume readings -> /kept", `, ""), enginetest.Page, port, b.data, b.data, "")
	b.write("log/stack.toml", text)
	b.write("log/log.env", "LOG_TOKEN=the-moon-pulls-the-sea\n")
	_, stderr := b.run(0, "deploy", "--yes", "--backup")
	assert.NotContains(t, stderr, "backups", "of what was not there is none")
	b.write("log/stack.toml", text+"env.LEVEL = \"high\"\n")
	_, stderr = b.run(0, "deploy", "--yes", "--backup")
	assert.Contains(t, stderr, ".lantern/backups/log-")
	made, err := filepath.Glob(filepath.Join(b.dir, ".lantern/backups/*.tar.zst"))
	require.NoError(t, err)
	require.Len(t, made, 1)

	require.NoError(t, os.WriteFile(filepath.Join(desk, "old"), []byte("spoilt"), 0o640))
	require.NoError(t, os.WriteFile(filepath.Join(desk, "new"), nil, 0o640))
	require.NoError(t, os.Chmod(desk, 0o777))
	b.run(0, "restore", made[0], "--yes")
	now, err := os.ReadFile(filepath.Join(desk, "old"))
	require.NoError(t, err)
	assert.Equal(t, "since 1911", string(now))
	assert.NoFileExists(t, filepath.Join(desk, "new"))
	assert.FileExists(t, filepath.Join(desk, ".before-restore/new"))
	info, err := os.Stat(desk)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o750), info.Mode().Perm())

	// More than there is room for is refused before anything is made.
	require.NoError(t, os.WriteFile(filepath.Join(desk, "large"), make([]byte, 700<<10), 0o640))
	b.run(0, "backup", "log", "--live", "--to", t.TempDir())
	to := t.TempDir()
	b.run(0, "backup", "log", "--live", "--to", to)
	made, err = filepath.Glob(to + "/*")
	require.NoError(t, err)
	list, _ := b.run(0, "restore", made[0], "--list")
	assert.NotContains(t, list, "before-restore")
	_, stderr = b.run(1, "restore", made[0], "--yes")
	assert.Contains(t, stderr, "bytes, and its disk has")
	assert.FileExists(t, filepath.Join(desk, "large"))
	b.run(0, "sweep", "--yes")
	assert.NoFileExists(t, filepath.Join(desk, ".before-restore"))
}
