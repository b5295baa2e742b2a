package backup

import (
	"archive/tar"
	"bufio"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"github.com/pkg/xattr"
	"golang.org/x/crypto/blake2b"

	"proudlantern.example/lantern/internal/system"
)

// Writer writes a backup. Until it is closed it has another name, and what was there before stays.
type Writer struct {
	Entries int   // that were written
	Bytes   int64 // of files, as they are on the host
	// what was left out, and what changed while it was read, in words
	Notes []string
	// Skip names what is left out right below a root: the beginnings of names.
	Skip []string
	// Progress is told of bytes that were read; nil: nobody is.
	Progress func(bytes int64)

	path     string
	file     *os.File
	sealed   io.WriteCloser // of age; nil without
	sum      hash.Hash
	counted  io.Writer
	packed   *zstd.Encoder
	tar      *tar.Writer
	manifest *os.File // unnamed
	lines    *bufio.Writer
	buffer   []byte
}

// partSuffix is on the name of a backup that is being written.
const partSuffix = ".part"

// Create begins a backup at a path. Nothing is written over: an error that is [fs.ErrExist] says that something is there.
func Create(path string, about About, recipients []age.Recipient) (w *Writer, err error) {
	if _, err := os.Lstat(path); err == nil {
		return nil, &fs.PathError{Op: "create", Path: path, Err: fs.ErrExist}
	}
	w = &Writer{path: path, sum: newDigest(), buffer: make([]byte, 256<<10)}
	// What a backup that was killed has left is begun anew.
	w.file, err = os.OpenFile(path+partSuffix, os.O_RDWR|os.O_CREATE|system.NoFollow, 0o600)
	if err != nil {
		return nil, err
	}
	// Two at once would write into one file.
	if err := system.Lock(w.file, false); err != nil {
		w.file.Close()
		return nil, fmt.Errorf("%s is being written by somebody else: %w", path, err)
	}
	defer func() {
		if err != nil {
			w.Abort()
		}
	}()
	if err := w.file.Truncate(0); err != nil {
		return nil, err
	}
	if w.manifest, err = unnamed(filepath.Dir(path)); err != nil {
		return nil, err
	}
	w.lines = bufio.NewWriter(w.manifest)
	var to io.Writer = w.file
	if len(recipients) > 0 {
		if w.sealed, err = age.Encrypt(to, recipients...); err != nil {
			return nil, err
		}
		to = w.sealed
	}
	w.counted = &digesting{to, w.sum}
	if w.packed, err = zstd.NewWriter(w.counted, zstd.WithEncoderConcurrency(2), zstd.WithWindowSize(4<<20)); err != nil {
		return nil, err
	}
	w.tar = tar.NewWriter(w.packed)
	text, err := json.MarshalIndent(about, "", " ")
	if err != nil {
		return nil, err
	}
	return w, w.plain(aboutName, text, 0o600, about.Taken)
}

// Clear removes what backups that were killed have left in a folder. One that is being written stays.
func Clear(folder string) {
	left, _ := filepath.Glob(filepath.Join(escaped(folder), "*"+partSuffix)) // the pattern is right
	for _, path := range left {
		f, err := os.OpenFile(path, os.O_RDWR|system.NoFollow, 0)
		if err != nil {
			continue
		}
		if system.Lock(f, false) == nil {
			os.Remove(path)
		}
		f.Close()
	}
}

// escaped takes their meaning from the characters of a pattern.
func escaped(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(path)
}

// unnamed makes a file that is gone when it is closed.
func unnamed(dir string) (*os.File, error) {
	f, err := os.CreateTemp(dir, ".lantern-*")
	if err == nil {
		err = os.Remove(f.Name())
	}
	return f, err
}

// plain writes a member that is no file of the host's.
func (w *Writer) plain(name string, text []byte, mode fs.FileMode, modified time.Time) error {
	h := &tar.Header{
		Typeflag: tar.TypeReg, Name: name, Size: int64(len(text)), Mode: int64(mode.Perm()), ModTime: modified, Format: tar.FormatPAX,
	}
	if err := w.tar.WriteHeader(h); err != nil {
		return err
	}
	_, err := w.tar.Write(text)
	sum := blake2b.Sum256(text)
	w.add(Member{Path: name, Kind: KindFile, Size: h.Size, Mode: mode, Digest: hex.EncodeToString(sum[:])})
	return err
}

func (w *Writer) add(e Member) {
	e.Octal = octal(e.Mode)
	w.Entries++
	w.lines.Write(e.line()) // an error comes back when it is flushed
}

// File adds a file of the lab, by its path there. They come in the order of their paths, before all roots.
func (w *Writer) File(path, text string, mode fs.FileMode) error {
	return w.plain(filesFolder+"/"+path, []byte(text), mode, time.Time{})
}

// Root adds all that is at a place of this machine, as root number n. Nothing outside of it is read.
func (w *Writer) Root(ctx context.Context, n int, place string) error {
	info, err := os.Lstat(place)
	if err != nil {
		return err
	}
	if info.Mode()&fs.ModeSymlink != 0 { // the lab's own path: what it leads to is meant
		if place, err = filepath.EvalSymlinks(place); err == nil {
			info, err = os.Lstat(place)
		}
		if err != nil {
			return err
		}
	}
	t := &tree{Writer: w, ctx: ctx, hard: map[[2]uint64]string{}}
	name := RootName(n)
	dir := place
	if !info.IsDir() {
		dir = filepath.Dir(place)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	if !info.IsDir() {
		return t.entry(root, filepath.Base(place), name)
	}
	return t.folder(root, name)
}

// tree is a root that is being read.
type tree struct {
	*Writer
	ctx  context.Context
	hard map[[2]uint64]string // the first name of each file that has several, by device and inode
}

// folder adds a folder and what is below it.
func (t *tree) folder(root *os.Root, name string) error {
	self, err := root.Open(".")
	if err != nil {
		return err
	}
	defer self.Close()
	info, err := self.Stat()
	if err != nil {
		return err
	}
	h := t.header(info, tar.TypeDir, name+"/")
	t.attributes(h, self, name)
	if err := t.tar.WriteHeader(h); err != nil {
		return err
	}
	t.add(t.entryOf(info, name, KindFolder))
	names, err := self.Readdirnames(-1)
	if err != nil {
		return err
	}
	slices.Sort(names)
	for _, n := range names {
		if err := t.ctx.Err(); err != nil {
			return err
		}
		skipped := slices.ContainsFunc(t.Skip, func(s string) bool { return strings.HasPrefix(n, s) })
		if skipped && strings.Count(name, "/") == 1 {
			continue
		}
		if err := t.entry(root, n, name+"/"+n); err != nil {
			return err
		}
	}
	return nil
}

func (t *tree) header(info fs.FileInfo, kind byte, name string) *tar.Header {
	h := &tar.Header{Typeflag: kind, Name: name, ModTime: info.ModTime(), Format: tar.FormatPAX, PAXRecords: map[string]string{}}
	mode, _ := strconv.ParseInt(octal(info.Mode()), 8, 64)
	h.Mode = mode
	if st, ok := system.FactsOf(info); ok {
		h.Uid, h.Gid = int(st.UID), int(st.GID)
	}
	return h
}

func (t *tree) entryOf(info fs.FileInfo, name, kind string) Member {
	e := Member{Path: name, Kind: kind, Mode: info.Mode()}
	if st, ok := system.FactsOf(info); ok {
		e.UID, e.GID = int(st.UID), int(st.GID)
	}
	return e
}

// xattrRecord begins the pax records of extended attributes, as other programs write them, too.
const xattrRecord = "SCHILY.xattr."

// attributes adds extended attributes, access control lists among them.
func (t *tree) attributes(h *tar.Header, f *os.File, name string) {
	names, err := xattr.FList(f)
	if err != nil {
		if !errors.Is(err, syscall.ENOTSUP) {
			t.note("the extended attributes of %s cannot be read", name)
		}
		return
	}
	for _, n := range names {
		if !kept(n) && n != capabilityXattr {
			continue
		}
		if value, err := xattr.FGet(f, n); err == nil {
			h.PAXRecords[xattrRecord+n] = string(value)
		}
	}
}

// capabilityXattr holds what a program may do beyond its account (capabilities(7)).
const capabilityXattr = "security.capability"

// kept reports whether an extended attribute is of the data: others are the system's.
func kept(name string) bool {
	return strings.HasPrefix(name, "user.") || name == "system.posix_acl_access" || name == "system.posix_acl_default"
}

func (t *tree) note(format string, args ...any) {
	const most = 1000
	if len(t.Notes) < most {
		t.Notes = append(t.Notes, fmt.Sprintf(format, args...))
	}
}

// entry adds what has a name in a folder. What vanishes meanwhile is left out.
func (t *tree) entry(root *os.Root, base, name string) error {
	info, err := root.Lstat(base)
	if errors.Is(err, fs.ErrNotExist) {
		t.note("%s went while it was read", name)
		return nil
	}
	if err != nil {
		return err
	}
	switch {
	case info.IsDir():
		sub, err := root.OpenRoot(base)
		if err != nil {
			return err
		}
		defer sub.Close()
		return t.folder(sub, name)
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := root.Readlink(base)
		if err != nil {
			return err
		}
		h := t.header(info, tar.TypeSymlink, name)
		h.Linkname = target
		e := t.entryOf(info, name, KindLink)
		e.Target = target
		t.add(e)
		return t.tar.WriteHeader(h)
	case !info.Mode().IsRegular():
		t.note("%s is left out: it is no file, but a socket, a pipe or a device", name)
		return nil
	}
	return t.file(root, base, name)
}

// file adds a file; its second name is a link to the first one.
func (t *tree) file(root *os.Root, base, name string) error {
	f, err := root.OpenFile(base, os.O_RDONLY|system.NoFollow|system.NonBlock, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		t.note("%s changed while it was read", name)
		return nil
	}
	if st, ok := system.FactsOf(info); ok && st.Links > 1 {
		id := [2]uint64{st.Device, st.Inode}
		if first, seen := t.hard[id]; seen {
			h := t.header(info, tar.TypeLink, name)
			h.Linkname = first
			e := t.entryOf(info, name, KindHard)
			e.Target = first
			t.add(e)
			return t.tar.WriteHeader(h)
		}
		t.hard[id] = name
	}
	h := t.header(info, tar.TypeReg, name)
	h.Size = info.Size()
	t.attributes(h, f, name)
	if err := t.tar.WriteHeader(h); err != nil {
		return err
	}
	e := t.entryOf(info, name, KindFile)
	e.Size = h.Size
	if e.Digest, err = t.content(f, h.Size, name); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	t.add(e)
	return nil
}

// content copies as many bytes as a file had when it was opened. One that became shorter is filled up.
func (t *tree) content(f *os.File, size int64, name string) (string, error) {
	sum := newDigest()
	to := io.MultiWriter(t.tar, sum)
	for left := size; left > 0; {
		if err := t.ctx.Err(); err != nil {
			return "", err
		}
		n, err := f.Read(t.buffer[:min(int64(len(t.buffer)), left)])
		if err == io.EOF || err == nil && n == 0 {
			t.note("%s became shorter while it was read", name)
			clear(t.buffer)
			n = int(min(int64(len(t.buffer)), left))
			err = nil
		}
		if err != nil {
			return "", err
		}
		if _, err := to.Write(t.buffer[:n]); err != nil {
			return "", err
		}
		left -= int64(n)
		t.Bytes += int64(n)
		if t.Progress != nil {
			t.Progress(t.Bytes)
		}
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// Close ends the backup and gives it its name. An error leaves nothing behind.
func (w *Writer) Close() (err error) {
	defer func() {
		if err != nil {
			w.Abort()
		}
	}()
	if err := w.lines.Flush(); err != nil {
		return err
	}
	size, err := w.manifest.Seek(0, io.SeekCurrent)
	if err != nil {
		return err
	}
	if _, err := w.manifest.Seek(0, io.SeekStart); err != nil {
		return err
	}
	h := &tar.Header{Typeflag: tar.TypeReg, Name: manifestName, Size: size, Mode: 0o600, Format: tar.FormatPAX}
	if err := w.tar.WriteHeader(h); err != nil {
		return err
	}
	if _, err := io.Copy(w.tar, w.manifest); err != nil {
		return err
	}
	if err := errors.Join(w.tar.Close(), w.packed.Close()); err != nil {
		return err
	}
	if _, err := w.counted.Write(append([]byte(trailerHead), w.sum.Sum(nil)...)); err != nil {
		return err
	}
	if w.sealed != nil {
		if err := w.sealed.Close(); err != nil {
			return err
		}
	}
	if err := w.file.Sync(); err != nil {
		return err
	}
	// Link does not write over what came meanwhile.
	if err := os.Link(w.path+partSuffix, w.path); err != nil {
		return err
	}
	if err := os.Remove(w.path + partSuffix); err != nil {
		return err
	}
	w.manifest.Close()
	w.file.Close()
	if dir, err := os.Open(filepath.Dir(w.path)); err == nil {
		defer dir.Close()
		return dir.Sync()
	}
	return nil
}

// Abort ends a backup that is not wanted any more. After Close it does nothing.
func (w *Writer) Abort() {
	if w.manifest != nil {
		w.manifest.Close()
	}
	if w.file.Close() == nil {
		os.Remove(w.path + partSuffix)
	}
}
