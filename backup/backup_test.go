//go:build linux

package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"github.com/pkg/xattr"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/blake2b"
	"golang.org/x/sys/unix"
)

// place makes a folder with all that folders of services have.
func place(t testing.TB) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "tides")
	must := func(err error) { t.Helper(); require.NoError(t, err) }
	write := func(name, text string, mode fs.FileMode) string {
		path := filepath.Join(dir, name)
		must(os.MkdirAll(filepath.Dir(path), 0o755))
		must(os.WriteFile(path, []byte(text), 0o600))
		must(os.Chmod(path, mode))
		return path
	}
	write("tides.db", strings.Repeat("high at four\n", 100_000), 0o640)
	write("empty", "", 0o400)
	write("nobody", "", 0)
	write("odd/new\nline \xff\xfe –\t«»", "odd", 0o644)
	write("odd/-rf", "odd", 0o644)
	write("odd/"+strings.Repeat("x", 255), "long", 0o644)
	write("odd-", "sorts before what is below odd", 0o644)
	write(strings.Repeat("deep/", 100)+"file", "deep", 0o644)
	program := write("bin/reader", "#!/bin/sh", 0o755)
	must(os.Chmod(program, 0o755|fs.ModeSetuid))
	must(os.Mkdir(filepath.Join(dir, "shared"), 0o755))
	must(os.Chmod(filepath.Join(dir, "shared"), 0o770|fs.ModeSetgid|fs.ModeSticky))
	must(os.Mkdir(filepath.Join(dir, "closed"), 0o700))
	must(os.Chmod(filepath.Join(dir, "closed"), 0))
	must(os.Symlink("../../outside", filepath.Join(dir, "away")))
	must(os.Symlink("tides.db", filepath.Join(dir, "link")))
	must(os.Link(filepath.Join(dir, "tides.db"), filepath.Join(dir, "odd/second name")))
	must(os.Link(filepath.Join(dir, "tides.db"), filepath.Join(dir, "zz")))
	sparse, err := os.Create(filepath.Join(dir, "sparse"))
	must(err)
	must(sparse.Truncate(64 << 20))
	_, err = sparse.WriteAt([]byte("in the middle"), 32<<20)
	must(err)
	must(sparse.Close())
	must(syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	if err := xattr.Set(filepath.Join(dir, "tides.db"), "user.room", []byte("lamp\x00room")); err == nil && os.Getuid() == 0 {
		for _, acl := range [][]string{{"-m", "u:1311:rw,g:1400:r,m::rw", "tides.db"}, {"-d", "-m", "u:1311:rwx", "shared"}} {
			acl[len(acl)-1] = filepath.Join(dir, acl[len(acl)-1])
			if out, err := exec.Command("setfacl", acl...).CombinedOutput(); err != nil {
				t.Logf("no access control lists here: %s%s", out, err)
			}
		}
	}
	if os.Getuid() == 0 {
		must(os.Lchown(filepath.Join(dir, "link"), 1312, 1401))
		must(os.Chown(filepath.Join(dir, "odd"), 1311, 1400))
		must(os.Chown(filepath.Join(dir, "odd/-rf"), 2_000_000_000, 1400))
	}
	moment := unix.NsecToTimespec(time.Date(1911, 4, 1, 4, 5, 6, 123456789, time.UTC).UnixNano())
	must(filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		moment.Sec++
		return unix.UtimesNanoAt(unix.AT_FDCWD, path, []unix.Timespec{moment, moment}, unix.AT_SYMLINK_NOFOLLOW)
	}))
	return dir
}

// seen is all that counts of a tree, a line for each name. Which names are of one file is told by the first of them.
func seen(t testing.TB, dir string) []string {
	t.Helper()
	var all []string
	first := map[uint64]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := d.Info()
		require.NoError(t, err)
		name, _ := filepath.Rel(dir, path)
		if info.Mode()&fs.ModeNamedPipe != 0 {
			return nil
		}
		st := info.Sys().(*syscall.Stat_t)
		what := ""
		switch {
		case info.Mode().IsRegular():
			if first[st.Ino] == "" {
				first[st.Ino] = name
			}
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			what = fmt.Sprintf("%d %x %s", len(text), blake2b.Sum256(text), first[st.Ino])
		case info.Mode()&fs.ModeSymlink != 0:
			what, _ = os.Readlink(path)
		}
		names, _ := xattr.LList(path)
		slices.Sort(names)
		for _, n := range names {
			value, _ := xattr.LGet(path, n)
			what += fmt.Sprintf(" %s=%q", n, value)
		}
		all = append(all, fmt.Sprintf("%q %s %d:%d %s %s", name, info.Mode(), st.Uid, st.Gid, info.ModTime().UTC().Format(time.RFC3339Nano), what))
		return nil
	}))
	return all
}

func about() About {
	return About{
		Backup: Version, Lab: "skerry-light", Stack: "tides", Host: "lamp-room", Taken: time.Date(2026, 11, 28, 4, 5, 6, 7, time.UTC),
		Images: []Image{{Service: "desk", Image: "registry.skerry.example/tide-desk:2.3"}},
		Roots:  []Root{{Path: "/srv/skerry/tides", At: []string{"desk /data"}}, {Volume: "readings", At: []string{"desk /kept"}}},
	}
}

func take(t testing.TB, path, dir string, recipients ...age.Recipient) *Writer {
	t.Helper()
	w, err := Create(path, about(), recipients)
	require.NoError(t, err)
	require.NoError(t, w.File("tides/stack.toml", "[service.desk]\n", 0o644))
	require.NoError(t, w.Root(context.Background(), 0, dir))
	require.NoError(t, w.Root(context.Background(), 1, filepath.Join(dir, "tides.db")))
	require.NoError(t, w.Close())
	return w
}

// Everything comes back as it was; without being asked, no program that runs with its owner's rights.
func TestThereAndBack(t *testing.T) {
	dir := place(t)
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	for _, sealed := range []bool{false, true} {
		path := filepath.Join(t.TempDir(), "tides.tar.zst")
		var recipients []age.Recipient
		if sealed {
			recipients = append(recipients, key.Recipient())
		}
		w := take(t, path, dir, recipients...)
		assert.Len(t, w.Notes, 1, "the pipe: %v", w.Notes)
		_, err := Create(path, about(), nil)
		assert.ErrorIs(t, err, fs.ErrExist)
		if sealed {
			_, err := Open(path, nil)
			assert.ErrorIs(t, err, ErrSealed)
			_, err = Open(path, []age.Identity{other})
			assert.ErrorContains(t, err, "not for this key")
		}
		r, err := Open(path, []age.Identity{key})
		require.NoError(t, err)
		defer r.Close()
		assert.Equal(t, about(), r.About)
		var paths []string
		report := r.Verify(t.Context(), func(e Member) { paths = append(paths, e.Path) })
		require.True(t, report.Whole(), "%v", report)
		assert.Equal(t, w.Entries, len(paths))
		assert.Equal(t, w.Entries, r.Entries)
		files, err := r.Files(t.Context())
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"tides/stack.toml": "[service.desk]\n"}, files)
		for _, special := range []bool{true, false} {
			to := t.TempDir()
			u := &Unpacking{
				Owners: os.Getuid() == 0, Special: special, Place: func(n int) string { return filepath.Join(to, strconv.Itoa(n)) },
			}
			require.NoError(t, r.Unpack(t.Context(), u))
			want, got := seen(t, dir), seen(t, filepath.Join(to, "0"))
			if !special {
				for i := range want {
					want[i] = strings.Replace(want[i], "urwxr-xr-x", "-rwxr-xr-x", 1)
				}
				assert.Len(t, u.Notes, 1)
			}
			assert.Equal(t, want, got)
			text, err := os.ReadFile(filepath.Join(to, "1"))
			require.NoError(t, err)
			assert.Len(t, text, 1_300_000)
			var st syscall.Stat_t
			require.NoError(t, syscall.Stat(filepath.Join(to, "0/sparse"), &st))
			assert.Less(t, st.Blocks*512, int64(1<<20), "it has holes")
			assert.ErrorIs(t, r.Unpack(t.Context(), u), fs.ErrExist, "nothing is written over")
		}
	}
	if zstdProgram, err := exec.LookPath("zstd"); err == nil { // and without lantern
		path := filepath.Join(t.TempDir(), "tides.tar.zst")
		take(t, path, dir)
		out, err := exec.Command("sh", "-c", zstdProgram+" -dc "+path+" | tar -t").CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, string(out), "data/0000/tides.db")
	}
}

// A byte that is not what was written, wherever it is, is noticed; and so is an end that is missing.
func TestDamage(t *testing.T) {
	dir := t.TempDir()
	r := rand.New(rand.NewSource(1911))
	for i := range 20 {
		noise := make([]byte, r.Intn(20_000))
		r.Read(noise)
		require.NoError(t, os.WriteFile(filepath.Join(dir, strconv.Itoa(i)), noise, 0o600))
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.db"), nil, 0o600))
	key, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	for _, recipients := range [][]age.Recipient{nil, {key.Recipient()}} {
		path := filepath.Join(t.TempDir(), "a.tar.zst")
		take(t, path, dir, recipients...)
		whole, err := os.ReadFile(path)
		require.NoError(t, err)
		noticed := func(text []byte) bool {
			require.NoError(t, os.WriteFile(path, text, 0o600))
			b, err := Open(path, []age.Identity{key})
			if err != nil {
				return true
			}
			defer b.Close()
			return !b.Verify(t.Context(), nil).Whole()
		}
		require.False(t, noticed(whole))
		places := []int{0, 4, 5, 6, len(whole) - 1, len(whole) - 33, len(whole) - 47}
		for range 200 {
			places = append(places, r.Intn(len(whole)))
		}
		for _, at := range places {
			text := slices.Clone(whole)
			text[at] ^= byte(1 + r.Intn(255))
			assert.True(t, noticed(text), "byte %d", at)
		}
		for _, n := range []int{0, 1, 48, len(whole) - 1, len(whole) - 48, len(whole) / 2} {
			assert.True(t, noticed(whole[:n]), "the first %d bytes", n)
		}
		assert.True(t, noticed(append(slices.Clone(whole), 0)))
	}
}

// member is one of a made-up backup.
type member struct {
	tar.Header
	text string
}

// packed writes members as a backup whose digest is right, as somebody would who means harm.
func packed(t testing.TB, path string, members ...member) {
	t.Helper()
	var text bytes.Buffer
	sum := newDigest()
	z, err := zstd.NewWriter(io.MultiWriter(&text, sum))
	require.NoError(t, err)
	w := tar.NewWriter(z)
	var manifest bytes.Buffer
	for _, m := range members {
		if m.Size == 0 {
			m.Size = int64(len(m.text))
		}
		h := m.Header
		require.NoError(t, w.WriteHeader(&h))
		_, err := w.Write([]byte(m.text))
		require.NoError(t, err)
		digest := blake2b.Sum256([]byte(m.text))
		e := Member{Path: strings.TrimSuffix(m.Name, "/"), Kind: KindFile, Size: m.Size, Octal: fmt.Sprintf("%04o", m.Mode), Digest: fmt.Sprintf("%x", digest)}
		if m.Typeflag == tar.TypeDir {
			e.Kind, e.Digest = KindFolder, ""
		}
		manifest.Write(e.line())
	}
	if last := members[len(members)-1].Name; last != manifestName && last != "none" {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: manifestName, Typeflag: tar.TypeReg, Size: int64(manifest.Len())}))
		_, err = w.Write(manifest.Bytes())
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	text.WriteString(trailerHead)
	text.Write(sum.Sum(nil))
	require.NoError(t, os.WriteFile(path, text.Bytes(), 0o600))
}

// hostile are backups that nobody has written who means well.
func hostile() map[string][]member {
	text, _ := json.MarshalIndent(about(), "", " ")
	nobody := int64(1) << 33
	first := member{tar.Header{Name: aboutName, Typeflag: tar.TypeReg, Mode: 0o600}, string(text)}
	of := func(name string, kind byte, target string) member {
		return member{tar.Header{Name: name, Typeflag: kind, Linkname: target, Mode: 0o644, Format: tar.FormatPAX}, ""}
	}
	file := func(name string) member { return of(name, tar.TypeReg, "") }
	root := of("data/0000/", tar.TypeDir, "")
	all := map[string][]member{
		"no about":              {root},
		"another version":       {{first.Header, `{"backup": 2}`}},
		"no JSON":               {{first.Header, "x"}},
		"no manifest":           {first, root, file("none")},
		"up":                    {first, root, file("data/0000/../../x")},
		"absolute":              {first, root, file("/data/0000/x")},
		"up at first":           {first, root, file("../x")},
		"a dot":                 {first, root, file("data/0000/./x")},
		"two slashes":           {first, root, file("data/0000//x")},
		"a root that is a link": {first, of("data/0000", tar.TypeSymlink, "/etc")},
		"a root that is hard":   {first, of("data/0000", tar.TypeLink, "/etc/passwd")},
		"no root":               {first, file("data/0007/x")},
		"a root of letters":     {first, of("data/x/", tar.TypeDir, "")},
		"a root with zeros":     {first, of("data/00/", tar.TypeDir, "")},
		"below nothing":         {first, root, file("data/0000/a/b")},
		"below a file":          {first, root, file("data/0000/a"), file("data/0000/a/b")},
		"below a link":          {first, root, of("data/0000/a", tar.TypeSymlink, "/tmp"), file("data/0000/a/b")},
		"below a hard link":     {first, root, file("data/0000/a"), of("data/0000/b", tar.TypeLink, "data/0000/a"), file("data/0000/b/c")},
		"twice":                 {first, root, file("data/0000/a"), file("data/0000/a")},
		"a link, then a file":   {first, root, of("data/0000/a", tar.TypeSymlink, "/etc/passwd"), file("data/0000/a")},
		"backward":              {first, root, file("data/0000/b"), file("data/0000/a")},
		"another place":         {first, file("etc/passwd")},
		"a device":              {first, root, of("data/0000/a", tar.TypeBlock, "")},
		"a terminal":            {first, root, of("data/0000/a", tar.TypeChar, "")},
		"a pipe":                {first, root, of("data/0000/a", tar.TypeFifo, "")},
		"hard to outside":       {first, root, of("data/0000/a", tar.TypeLink, "/etc/passwd")},
		"hard to up":            {first, root, of("data/0000/a", tar.TypeLink, "data/0000/../../../etc/passwd")},
		"hard to another root":  {first, root, file("data/0000/a"), of("data/0001/", tar.TypeDir, ""), of("data/0001/b", tar.TypeLink, "data/0000/a")},
		"hard to a link":        {first, root, of("data/0000/a", tar.TypeSymlink, "/etc/passwd"), of("data/0000/b", tar.TypeLink, "data/0000/a")},
		"hard to a folder":      {first, root, of("data/0000/a/", tar.TypeDir, ""), of("data/0000/b", tar.TypeLink, "data/0000/a")},
		"hard to nothing":       {first, root, of("data/0000/b", tar.TypeLink, "data/0000/a")},
		"a link in the lab":     {first, of("config/tides/stack.toml", tar.TypeSymlink, "/etc/passwd")},
		"deep":                  {first, root, file("data/0000/" + strings.Repeat("a/", 600) + "b")},
		"a long name":           {first, root, file("data/0000/" + strings.Repeat("a", 300))},
		"nobody's":              {first, root, {tar.Header{Name: "data/0000/a", Typeflag: tar.TypeReg, Uid: int(nobody), Format: tar.FormatPAX}, ""}},
		"behind the manifest":   {first, root, file(manifestName), file("data/0000/a")},
		"another manifest":      {first, root, {tar.Header{Name: manifestName, Typeflag: tar.TypeReg}, "{}\n"}},
		"an endless line":       {first, root, {tar.Header{Name: manifestName, Typeflag: tar.TypeReg}, strings.Repeat("x", mostLine+2)}},
	}
	return all
}

// What does harm is refused before anything is made, and again while it is unpacked; nothing leaves the folder.
func TestHostile(t *testing.T) {
	require.GreaterOrEqual(t, len(hostile()), 30)
	for name, members := range hostile() {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			path := filepath.Join(dir, "a.tar.zst")
			packed(t, path, members...)
			r, err := Open(path, nil)
			if err == nil {
				defer r.Close()
				report := r.Verify(t.Context(), nil)
				assert.False(t, report.Whole())
				to := filepath.Join(dir, "to")
				require.NoError(t, os.Mkdir(to, 0o700))
				err = r.Unpack(t.Context(), &Unpacking{Place: func(n int) string { return filepath.Join(to, strconv.Itoa(n)) }})
				if name != "another manifest" && name != "an endless line" { // only a look at all of it tells
					assert.Error(t, err)
				}
				names, lost := os.ReadDir(dir)
				require.NoError(t, lost)
				assert.Len(t, names, 2, "nothing is made outside")
				require.NoError(t, filepath.WalkDir(to, func(path string, d fs.DirEntry, err error) error {
					assert.True(t, d.Type().IsRegular() || d.IsDir() || d.Type() == fs.ModeSymlink, path)
					return err
				}))
			}
		})
	}
}

// What becomes large when it is unpacked takes no memory; what says that it needs much is refused.
func TestBombs(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.tar.zst")
	dir := t.TempDir()
	sparse, err := os.Create(filepath.Join(dir, "sparse"))
	require.NoError(t, err)
	require.NoError(t, sparse.Truncate(1<<30))
	require.NoError(t, sparse.Close())
	w, err := Create(path, about(), nil)
	require.NoError(t, err)
	require.NoError(t, w.Root(t.Context(), 0, dir))
	require.NoError(t, w.Close())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Less(t, info.Size(), int64(200_000))
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	r, err := Open(path, nil)
	require.NoError(t, err)
	defer r.Close()
	require.True(t, r.Verify(t.Context(), nil).Whole())
	to := t.TempDir()
	require.NoError(t, r.Unpack(t.Context(), &Unpacking{Place: func(n int) string { return filepath.Join(to, strconv.Itoa(n)) }}))
	runtime.ReadMemStats(&after)
	assert.Less(t, int64(after.Sys)-int64(before.Sys), int64(100<<20))

	// A frame that wants a window of 1 GB (RFC 8878, 3.1.1.1.2: exponent 20, mantissa 0).
	require.NoError(t, os.WriteFile(path, append([]byte(zstdHead), append([]byte{0, 20 << 3, 1, 0, 0}, make([]byte, 200)...)...), 0o600))
	_, err = Open(path, nil)
	assert.ErrorIs(t, err, ErrRefused)
	assert.ErrorContains(t, err, "more memory")
	require.NoError(t, os.WriteFile(path, []byte("age-encryption.org/v1\n"), 0o600))
	_, err = Open(path, nil)
	assert.ErrorIs(t, err, ErrSealed)
	require.NoError(t, os.WriteFile(path, []byte("root:x:0:0"), 0o600))
	_, err = Open(path, nil)
	assert.ErrorContains(t, err, "does not begin as one")
}

// Whatever is in a file, reading it ends, and makes nothing outside of its folder.
func FuzzRead(f *testing.F) {
	dir := f.TempDir()
	for _, members := range hostile() {
		path := filepath.Join(dir, "a")
		packed(f, path, members...)
		text, err := os.ReadFile(path)
		require.NoError(f, err)
		z, err := zstd.NewReader(bytes.NewReader(text))
		require.NoError(f, err)
		plain, _ := io.ReadAll(io.LimitReader(z, 64<<10))
		z.Close()
		f.Add(plain)
	}
	f.Fuzz(func(t *testing.T, plain []byte) {
		// What is compressed and summed up rightly gets farther.
		dir := t.TempDir()
		var text bytes.Buffer
		sum := newDigest()
		z, _ := zstd.NewWriter(io.MultiWriter(&text, sum), zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
		z.Write(plain)
		z.Close()
		text.WriteString(trailerHead)
		text.Write(sum.Sum(nil))
		path := filepath.Join(dir, "a")
		require.NoError(t, os.WriteFile(path, text.Bytes(), 0o600))
		r, err := Open(path, nil)
		if err != nil {
			return
		}
		defer r.Close()
		whole := r.Verify(t.Context(), nil).Whole()
		require.NoError(t, os.Mkdir(filepath.Join(dir, "to"), 0o700))
		err = r.Unpack(t.Context(), &Unpacking{Place: func(n int) string { return filepath.Join(dir, "to", strconv.Itoa(n)) }})
		if err != nil {
			assert.False(t, whole, "%v", err)
		}
		names, err := os.ReadDir(dir)
		require.NoError(t, err)
		assert.Len(t, names, 2)
	})
}
