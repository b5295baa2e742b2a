//go:build linux

package helper

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/core/prepare"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/host"
	"proudlantern.example/lantern/hostconn"
)

// start starts a helper on this machine.
func start(t *testing.T) *Helper {
	near, far := net.Pipe()
	ended := make(chan error, 1)
	go func() { ended <- Serve(far, far, "test") }()
	h := over(near, "test")
	t.Cleanup(func() {
		assert.NoError(t, h.Close())
		far.Close()
		assert.NoError(t, <-ended)
	})
	return h
}

// What a helper sees is what its machine has; one of another release is not believed.
func TestLook(t *testing.T) {
	h, dir := start(t), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a"), []byte("text"), 0o640))
	require.NoError(t, os.Symlink("a", filepath.Join(dir, "b")))
	paths := []string{filepath.Join(dir, "a"), filepath.Join(dir, "b"), filepath.Join(dir, "missing"), filepath.Join(dir, "a/below"), dir}
	seen, err := h.Look(t.Context(), paths)
	require.NoError(t, err)
	assert.Empty(t, seen, "nothing of it is among what it was started for")
	h.tops = tops(paths)
	seen, err = h.Look(t.Context(), paths)
	require.NoError(t, err)
	want := slices.DeleteFunc(host.LookAt(hostconn.Local, paths), func(p survey.Path) bool { return p.Path == "/" })
	assert.Equal(t, want, seen)
	require.NoError(t, os.Symlink("/elsewhere/x", filepath.Join(dir, "c")))
	seen, err = h.Look(t.Context(), []string{filepath.Join(dir, "c")})
	require.NoError(t, err)
	assert.Contains(t, seen, survey.Path{Path: filepath.Join(dir, "c"), Kind: survey.Hidden})
	assert.Equal(t, []string{"/srv", "/var"}, tops([]string{"/srv/a", "/var/lib/x", "/srv/b", "/proc/1", "", "/"}))
	assert.Equal(t, []string{"/srv/a", "/srv/ab"}, outermost([]string{"/srv/a/b", "/srv/ab", "/srv/a"}))
	h.version = "older"
	_, err = h.Look(t.Context(), paths)
	require.ErrorContains(t, err, `the helper is of lantern "test", and this is "older"`)
}

// Nothing is done that could not be written down before.
func TestCarry(t *testing.T) {
	h, dir := start(t), t.TempDir()
	at := filepath.Join(dir, "made")
	s := prepare.Step{
		Was:  survey.Path{Path: at, Kind: survey.Missing},
		Will: survey.Path{Path: at, Kind: survey.Folder, UID: survey.ID(os.Getuid()), GID: survey.ID(os.Getgid()), Mode: "0751"},
	}
	err := h.Carry(t.Context(), s, func(folders.Note) error { return fs.ErrPermission })
	require.ErrorIs(t, err, fs.ErrPermission)
	var notes []folders.Note
	require.NoError(t, h.Carry(t.Context(), s, func(n folders.Note) error { // or it would be there
		notes = append(notes, n)
		return nil
	}))
	info, err := os.Stat(at)
	require.NoError(t, err)
	assert.Equal(t, fs.ModeDir|0o751, info.Mode())
	require.ErrorIs(t, h.Carry(t.Context(), s, func(folders.Note) error { return nil }), folders.ErrMeanwhile)
	require.NoError(t, os.WriteFile(filepath.Join(at, "in it"), nil, 0o600))
	require.ErrorIs(t, h.Undo(t.Context(), notes[len(notes)-1]), folders.ErrFilled)
	require.NoError(t, os.Remove(filepath.Join(at, "in it")))
	require.NoError(t, h.Undo(t.Context(), notes[len(notes)-1]))
	assert.NoDirExists(t, at)
}

// What is packed on the way here and unpacked on the way there is the same; a stream that breaks off has failed, on
// either way; what is no stream of ours is refused.
func TestStreams(t *testing.T) {
	h, dir := start(t), t.TempDir()
	from := filepath.Join(dir, "from")
	require.NoError(t, os.MkdirAll(filepath.Join(from, "deep/er"), 0o751))
	require.NoError(t, os.WriteFile(filepath.Join(from, "deep/file"), bytes.Repeat([]byte("tide "), 100_000), 0o604))
	require.NoError(t, os.Link(filepath.Join(from, "deep/file"), filepath.Join(from, "again")))
	require.NoError(t, os.Symlink("/nowhere", filepath.Join(from, "link")))
	about := backup.About{Backup: backup.Version, Stack: "mast", Images: []backup.Image{}, Roots: []backup.Root{{Path: "/a"}, {Path: "/b"}}}
	file := filepath.Join(dir, "mast.tar.zst")
	to, err := backup.Create(file, about, nil)
	require.NoError(t, err)
	require.NoError(t, h.Pack(t.Context(), to, 0, from))
	require.NoError(t, h.Pack(t.Context(), to, 1, filepath.Join(from, "deep/file")))
	require.NoError(t, to.Close())
	local, err := backup.Create(file+".local", about, nil)
	require.NoError(t, err)
	require.NoError(t, local.Root(t.Context(), 0, from))
	require.NoError(t, local.Root(t.Context(), 1, filepath.Join(from, "deep/file")))
	require.NoError(t, local.Close())
	far, err := os.ReadFile(file)
	require.NoError(t, err)
	near, err := os.ReadFile(file + ".local")
	require.NoError(t, err)
	assert.Equal(t, near, far, "the same bytes as one that was taken there")

	r, err := backup.Open(file, nil)
	require.NoError(t, err)
	defer r.Close()
	swaps, err := h.Begin(t.Context(), []folders.Wanted{{Place: filepath.Join(dir, "a"), Bytes: 1}, {Place: filepath.Join(dir, "b"), Bytes: 1}})
	require.NoError(t, err)
	require.NoError(t, h.Unpack(t.Context(), r, &backup.Unpacking{}, map[int]string{0: swaps[0].Fresh, 1: swaps[1].Fresh}))
	require.NoError(t, h.Exchange(t.Context(), swaps))
	text, err := os.ReadFile(filepath.Join(dir, "a/again"))
	require.NoError(t, err)
	assert.Len(t, text, 500_000)
	assert.FileExists(t, filepath.Join(dir, "b"))
	require.Error(t, h.Remove(t.Context(), []string{from}), "it is nothing of a restore")
	assert.DirExists(t, from)
	_, err = h.Begin(t.Context(), []folders.Wanted{{Place: filepath.Join(dir, "c"), Bytes: 1 << 60}})
	var room *folders.RoomError
	require.ErrorAs(t, err, &room)

	require.NoError(t, os.Truncate(file, int64(len(far)/2)))
	broken, err := backup.Open(file, nil)
	require.NoError(t, err)
	defer broken.Close()
	require.ErrorIs(t, h.Unpack(t.Context(), broken, &backup.Unpacking{}, map[int]string{0: filepath.Join(dir, "d")}), backup.ErrDamaged)

	again, err := backup.Create(filepath.Join(dir, "again.tar.zst"), about, nil)
	require.NoError(t, err)
	defer again.Abort()
	require.ErrorIs(t, h.Pack(t.Context(), again, 0, filepath.Join(dir, "missing")), fs.ErrNotExist)
	var stream bytes.Buffer
	require.NoError(t, backup.PackTo(t.Context(), &stream, from, nil))
	require.ErrorIs(t, again.Packed(t.Context(), 0, io.LimitReader(&stream, int64(stream.Len()/2))), backup.ErrDamaged)
	require.ErrorIs(t, again.Packed(t.Context(), 0, bytes.NewReader(make([]byte, 1024))), backup.ErrDamaged)
}

// A connection through a helper is one from where it is.
func TestDial(t *testing.T) {
	h := start(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go http.Serve(listener, http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTeapot) }))
	c := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, at string) (net.Conn, error) { return h.Dial(ctx, at) }}}
	for range 3 {
		answer, err := c.Get("http://" + listener.Addr().String())
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, http.StatusTeapot, answer.StatusCode)
		c.CloseIdleConnections()
	}
	require.NoError(t, listener.Close())
	_, err = h.Dial(t.Context(), listener.Addr().String())
	require.ErrorIs(t, err, syscall.ECONNREFUSED)
}

// A helper that ends in the middle is an error, and holds up nobody.
func TestHelperEnds(t *testing.T) {
	near, far := net.Pipe()
	h := over(near, "test")
	go func() {
		far.Read(make([]byte, 100))
		far.Close()
	}()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	_, err := h.There(ctx, []string{"/"})
	require.ErrorContains(t, err, "the helper does not answer")
	_, err = h.There(ctx, []string{"/"})
	require.ErrorContains(t, err, "the helper has ended")
	require.NoError(t, ctx.Err())
	h.Close()
}

// There is a program for this machine, unless it needs libraries; and none for another unless it lies beside it.
func TestProgram(t *testing.T) {
	_, err := program("linux/mips")
	var none *NoProgramError
	require.ErrorAs(t, err, &none)
	assert.Contains(t, none.Do, "put lantern-linux-mips of the same release into ")
}
