package backup

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"strconv"
	"strings"
	"syscall"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/crypto/blake2b"
)

// Reader reads a backup, which may come from anywhere: what it needs of memory does not depend on what is in it.
type Reader struct {
	About   About
	Entries int   // of what was read last
	Bytes   int64 // of the files in it

	file       *os.File
	identities []age.Identity
}

// ErrSealed is in the error of an encrypted backup without the right key.
var ErrSealed = errors.New("the backup is encrypted")

// ageHead is how files of age begin (age-encryption.org/v1).
const ageHead = "age-encryption.org/v1"

// zstdHead is how frames of zstd begin (RFC 8878, 3.1.1).
const zstdHead = "\x28\xb5\x2f\xfd"

// Open opens a backup, and reads what it is of. Errors: [ErrDamaged], [ErrRefused], [ErrSealed], and those of the file.
func Open(path string, identities []age.Identity) (*Reader, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	r := &Reader{file: f, identities: identities}
	if info, err := f.Stat(); err == nil && !info.Mode().IsRegular() {
		f.Close()
		return nil, refused("it is no file")
	}
	members, err := r.members()
	if err == nil {
		defer members.close()
		r.About, err = members.about()
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return r, nil
}

// Close closes the file.
func (r *Reader) Close() error { return r.file.Close() }

// members reads a backup from its beginning.
type members struct {
	*tar.Reader
	packed  *zstd.Decoder
	tail    *tailed
	roots   int
	last    []string // path of the member before
	folders int      // how many parts of it are folders of the same root
	bytes   int64
	entries int
}

func (r *Reader) members() (*members, error) {
	if _, err := r.file.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	from := bufio.NewReaderSize(r.file, 256<<10)
	var plain io.Reader = from
	head, _ := from.Peek(len(ageHead))
	if !bytes.HasPrefix(head, []byte(zstdHead)) && string(head) != ageHead {
		return nil, refused("it does not begin as one")
	}
	if string(head) == ageHead {
		if len(r.identities) == 0 {
			return nil, fmt.Errorf("%w: name the file of the key", ErrSealed)
		}
		opened, err := age.Decrypt(from, r.identities...)
		var none *age.NoIdentityMatchError
		if errors.As(err, &none) {
			return nil, fmt.Errorf("%w, and not for this key", ErrSealed)
		}
		if err != nil {
			return nil, damaged("%s", err)
		}
		plain = opened
	}
	m := &members{tail: newTailed(plain)}
	var err error
	if m.packed, err = zstd.NewReader(m.tail, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxWindow(mostWindow),
		zstd.WithDecoderLowmem(true)); err != nil {
		return nil, damaged("%s", err)
	}
	m.Reader = tar.NewReader(m.packed)
	return m, nil
}

func (m *members) close() { m.packed.Close() }

// wrong tells damage from what is refused.
func wrong(err error) error {
	var number syscall.Errno // of the machine's own, such as a full disk
	if errors.Is(err, ErrDamaged) || errors.Is(err, ErrRefused) || errors.Is(err, context.Canceled) || errors.As(err, &number) {
		return err
	}
	if errors.Is(err, zstd.ErrWindowSizeExceeded) || errors.Is(err, zstd.ErrDecoderSizeExceeded) {
		return refused("it needs more memory than backups do")
	}
	return damaged("%s", err)
}

func (m *members) about() (About, error) {
	var a About
	h, err := m.Next()
	if err != nil {
		return a, wrong(err)
	}
	if h.Name != aboutName || h.Typeflag != tar.TypeReg || h.Size > mostAbout {
		return a, refused("it does not begin with %s", aboutName)
	}
	text, err := io.ReadAll(io.LimitReader(m, mostAbout))
	if err != nil {
		return a, wrong(err)
	}
	if err := json.Unmarshal(text, &a); err != nil {
		return a, refused("%s cannot be read", aboutName)
	}
	if a.Backup != Version {
		return a, refused("its format is version %d, and this program knows version %d", a.Backup, Version)
	}
	m.roots, m.last = len(a.Roots), []string{aboutName}
	m.entries++
	return a, nil
}

// next returns the next member; [io.EOF] behind the last but the manifest, whose content can then be read. What no backup
// has is refused.
func (m *members) next() (Member, error) {
	h, err := m.Next()
	if errors.Is(err, io.EOF) {
		return Member{}, damaged("its manifest is missing")
	}
	if err != nil {
		return Member{}, wrong(err)
	}
	if h.Name == manifestName && h.Typeflag == tar.TypeReg {
		return Member{}, io.EOF
	}
	name := h.Name
	if h.Typeflag == tar.TypeDir {
		name = strings.TrimSuffix(name, "/")
	}
	parts, err := split(name)
	if err != nil {
		return Member{}, err
	}
	e := Member{Path: name, Mode: fs.FileMode(h.Mode & 0o777), UID: h.Uid, GID: h.Gid, modified: h.ModTime}
	for bit, flag := range map[int64]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if h.Mode&bit != 0 {
			e.Mode |= flag
		}
	}
	e.Octal = octal(e.Mode)
	for n, value := range h.PAXRecords {
		if n, ok := strings.CutPrefix(n, xattrRecord); ok {
			if e.xattrs == nil {
				e.xattrs = map[string]string{}
			}
			e.xattrs[n] = value
		}
	}
	switch h.Typeflag {
	case tar.TypeDir:
		e.Kind = KindFolder
	case tar.TypeReg:
		e.Kind, e.Size = KindFile, h.Size
	case tar.TypeSymlink:
		e.Kind, e.Target = KindLink, h.Linkname
	case tar.TypeLink:
		e.Kind, e.Target = KindHard, h.Linkname
	default:
		return e, refused("%s is neither file, folder nor link", short(name))
	}
	return e, m.admit(e, parts)
}

// admit refuses a member that could not be where it is.
func (m *members) admit(e Member, parts []string) error {
	const mostID = math.MaxUint32 - 1 // (uid_t) -1 stands for none
	switch {
	case e.Size < 0 || m.bytes > math.MaxInt64-e.Size:
		return refused("%s has no size", short(e.Path))
	case e.UID < 0 || e.GID < 0 || int64(e.UID) > mostID || int64(e.GID) > mostID:
		return refused("%s belongs to nobody", short(e.Path))
	case !inOrder(m.last, parts):
		return refused("%s is not where it belongs", short(e.Path))
	case len(e.Target) > 4096 || strings.ContainsRune(e.Target, 0):
		return refused("where %s leads to", short(e.Path))
	}
	switch parts[0] {
	case filesFolder:
		if e.Kind != KindFile || len(parts) < 2 || e.Size > mostLabFile {
			return refused("%s is no file of a lab", short(e.Path))
		}
	case dataFolder:
		if len(parts) < 2 {
			return refused("%s", short(e.Path))
		}
		n, err := strconv.Atoi(parts[1])
		if err != nil || n < 0 || n >= m.roots || dataFolder+"/"+parts[1] != RootName(n) {
			return refused("%s belongs to no folder", short(e.Path))
		}
		if err := m.placed(e, parts); err != nil {
			return err
		}
	default:
		return refused("%s", short(e.Path))
	}
	m.last = parts
	m.bytes += e.Size
	m.entries++
	return nil
}

// placed refuses what does not lie in a folder that came before it: a link must not be on the way.
func (m *members) placed(e Member, parts []string) error {
	if len(parts) == 2 {
		if e.Kind == KindLink || e.Kind == KindHard {
			return refused("%s is a link", short(e.Path))
		}
	} else {
		above := parts[:len(parts)-1]
		same := 0
		for same < min(len(above), len(m.last)) && above[same] == m.last[same] {
			same++
		}
		if same < len(above) || len(above) > m.folders {
			return refused("the folder of %s is missing", short(e.Path))
		}
	}
	if e.Kind == KindHard {
		target, err := split(e.Target)
		if err != nil || len(target) < 2 || target[0] != dataFolder || target[1] != parts[1] || !inOrder(target, parts) {
			return refused("where %s leads to", short(e.Path))
		}
	}
	m.folders = len(parts) - 1
	if e.Kind == KindFolder {
		m.folders = len(parts)
	}
	return nil
}

// Report is what the reading of a whole backup has shown.
type Report struct {
	Damaged []string // paths of members that are not what was written
	Err     error    // why it could not be read to its end; nil: it was
}

// Whole reports whether the backup is what was written.
func (r Report) Whole() bool { return r.Err == nil && len(r.Damaged) == 0 }

// Verify reads all of it, and holds every byte against what was written. Each entry is told; nil: nobody wants to know.
func (r *Reader) Verify(ctx context.Context, each func(Member)) Report {
	spool, err := unnamed(os.TempDir())
	if err != nil {
		return Report{Err: err}
	}
	defer spool.Close()
	lines := bufio.NewWriter(spool)
	v := &verification{lines: lines, spool: spool}
	err = r.visit(ctx, func(e Member, content io.Reader) error {
		sum := newDigest()
		if e.Kind == KindFile {
			n, err := io.Copy(sum, content)
			if err != nil {
				return err
			}
			if n != e.Size {
				return damaged("%s is cut off", e.Path)
			}
			e.Digest = hex.EncodeToString(sum.Sum(nil))
		}
		if each != nil {
			each(e)
		}
		_, err := lines.Write(e.line())
		return err
	}, v.compare)
	return Report{Damaged: v.damaged, Err: err}
}

type verification struct {
	lines   *bufio.Writer
	spool   *os.File
	damaged []string
}

// mostDamaged is how many damaged members are named.
const mostDamaged = 1000

// compare holds the manifest against what was read.
func (v *verification) compare(manifest io.Reader) error {
	if err := v.lines.Flush(); err != nil {
		return err
	}
	if _, err := v.spool.Seek(0, io.SeekStart); err != nil {
		return err
	}
	read, said := bufio.NewReader(v.spool), bufio.NewReaderSize(manifest, 64<<10)
	for {
		is, err := line(read)
		if err != nil && err != io.EOF {
			return err
		}
		should, wrongly := line(said)
		if wrongly != nil && wrongly != io.EOF {
			return wrongly
		}
		switch {
		case err == io.EOF && wrongly == io.EOF:
			return nil
		case err == io.EOF || wrongly == io.EOF:
			return damaged("its manifest names other members")
		case !bytes.Equal(is, should) && len(v.damaged) < mostDamaged:
			var e Member
			json.Unmarshal(is, &e) // ours
			v.damaged = append(v.damaged, e.Path)
		}
	}
}

// line reads a line of at most mostLine bytes.
func line(from *bufio.Reader) ([]byte, error) {
	var all []byte
	for {
		part, err := from.ReadSlice('\n')
		all = append(all, part...)
		if len(all) > mostLine {
			return nil, refused("a line of the manifest is longer than any")
		}
		if err == bufio.ErrBufferFull {
			continue
		}
		if err == io.EOF && len(all) > 0 {
			return nil, damaged("its manifest is cut off")
		}
		return all, err
	}
}

// visit reads all members in their order, and then the manifest, to the very end of the file.
func (r *Reader) visit(ctx context.Context, each func(e Member, content io.Reader) error, manifest func(io.Reader) error) error {
	m, err := r.members()
	if err != nil {
		return err
	}
	defer m.close()
	if _, err := m.about(); err != nil {
		return err
	}
	text, err := json.MarshalIndent(r.About, "", " ")
	if err != nil {
		return err
	}
	sum := blake2b.Sum256(text)
	first := Member{Path: aboutName, Kind: KindFile, Size: int64(len(text)), Mode: 0o600, Octal: "0600", Digest: hex.EncodeToString(sum[:])}
	if err := each(first, bytes.NewReader(text)); err != nil {
		return wrong(err)
	}
	for {
		if err := ctx.Err(); err != nil {
			return err
		}
		e, err := m.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
		if err := each(e, m); err != nil {
			return wrong(err)
		}
	}
	r.Bytes, r.Entries = m.bytes, m.entries
	if err := manifest(m); err != nil {
		return wrong(err)
	}
	if _, err := m.Next(); err != io.EOF {
		return refused("something stands behind the manifest")
	}
	// What stands behind the tar file are zeros; reading on to the end is what compares the digest.
	n, err := io.Copy(io.Discard, io.LimitReader(m.packed, mostTrailing+1))
	if err == nil && n > mostTrailing {
		return refused("something stands behind the tar file")
	}
	if err != nil {
		return wrong(err)
	}
	if m.tail.err != io.EOF {
		return wrong(errors.Join(m.tail.err, damaged("its end was not reached")))
	}
	return nil
}

// Files returns the files of the lab that it holds, by their paths there.
func (r *Reader) Files(ctx context.Context) (map[string]string, error) {
	files := map[string]string{}
	all := 0
	err := r.visit(ctx, func(e Member, content io.Reader) error {
		name, ok := strings.CutPrefix(e.Path, filesFolder+"/")
		if !ok {
			return nil
		}
		text, err := io.ReadAll(io.LimitReader(content, mostLabFile))
		if all += len(text); all > mostLabFile {
			return refused("its files of the lab are larger than any")
		}
		files[name] = string(text)
		return err
	}, func(m io.Reader) error { return nil })
	return files, err
}
