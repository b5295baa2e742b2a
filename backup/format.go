// Package backup writes what a stack holds into one file, and reads such files, which may come from anywhere.
//
// A backup is a tar file (POSIX.1-2001, pax) in a zstd frame (RFC 8878), so that it can be unpacked without lantern:
//
//	about.json      what it is of, see [About]
//	config/PATH     files of the lab
//	data/NNNN       folder, file or volume number NNNN of about.json, and what is below it, each folder before its content and
//	                names in the order of their bytes
//	manifest.jsonl  a line for each member before it, see [Member]
//
// Behind the frame stands a skippable one with the BLAKE2b-256 digest (RFC 7693) of all before it. Encrypted, all of that is one file of
// age (age-encryption.org/v1).
package backup

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/blake2b"
)

// Version is that of the format.
const Version = 1

// Names of members.
const (
	aboutName    = "about.json"
	manifestName = "manifest.jsonl"
	filesFolder  = "config"
	dataFolder   = "data"
)

// About is the first member.
type About struct {
	Backup int       `json:"backup"` // [Version]
	Lab    string    `json:"lab"`
	Stack  string    `json:"stack"`
	Host   string    `json:"host"`
	Taken  time.Time `json:"taken"`
	Live   bool      `json:"live"` // services ran while it was taken
	Images []Image   `json:"images"`
	Roots  []Root    `json:"roots"`
}

// Image is what a service ran when the backup was taken.
type Image struct {
	Service string   `json:"service"`
	Image   string   `json:"image"`
	ID      string   `json:"id,omitempty"`
	Digests []string `json:"digests,omitempty"` // REPOSITORY@DIGEST
}

// Root is a folder or file of the host, or a volume of the engine.
type Root struct {
	Path   string `json:"path,omitempty"`   // of the host; "" for a volume
	Volume string `json:"volume,omitempty"` // its name in stack.toml
	// where it was mounted: SERVICE PATH-INSIDE of each
	At []string `json:"at"`
}

func (r Root) String() string {
	if r.Volume != "" {
		return "volume " + r.Volume
	}
	return r.Path
}

// Kinds of entries.
const (
	KindFolder = "folder"
	KindFile   = "file"
	KindLink   = "link"      // a symbolic one
	KindHard   = "hard-link" // to a file before it in the same root
)

// Member is one member as the manifest tells it.
type Member struct {
	Path   string      `json:"path"`
	Kind   string      `json:"kind"`
	Size   int64       `json:"size"` // bytes of a file; else 0
	Mode   fs.FileMode `json:"-"`
	Octal  string      `json:"mode"` // chmod(1)
	UID    int         `json:"uid"`
	GID    int         `json:"gid"`
	Target string      `json:"target,omitempty"`  // of links
	Digest string      `json:"blake2b,omitempty"` // BLAKE2b-256 (RFC 7693) of a file's content, as b2sum -l 256 has it

	xattrs   map[string]string
	modified time.Time
}

// octal returns a mode as chmod(1) has it.
func octal(m fs.FileMode) string {
	n := uint32(m.Perm())
	for bit, flag := range map[uint32]fs.FileMode{0o4000: fs.ModeSetuid, 0o2000: fs.ModeSetgid, 0o1000: fs.ModeSticky} {
		if m&flag != 0 {
			n |= bit
		}
	}
	return fmt.Sprintf("%04o", n)
}

func (e Member) line() []byte {
	text, err := json.Marshal(e)
	if err != nil {
		panic("backup: an entry without JSON: " + err.Error()) // it holds texts and numbers
	}
	return append(text, '\n')
}

// ErrDamaged is in the error of a file that is not what was written.
var ErrDamaged = errors.New("the backup is damaged")

func damaged(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrDamaged, fmt.Sprintf(format, args...))
}

// ErrRefused is in the error of a file that nobody's backup would be: restoring it would do harm.
var ErrRefused = errors.New("this is no backup that lantern has written")

func refused(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrRefused, fmt.Sprintf(format, args...))
}

// Limits of what is read: what is above them nobody's backup has.
const (
	mostDepth    = 512
	mostName     = 255     // bytes, NAME_MAX of Linux
	mostAbout    = 8 << 20 // bytes of about.json
	mostLabFile  = 8 << 20 // bytes of a file of the lab
	mostLine     = 2 << 20 // bytes of a line of the manifest
	mostWindow   = 64 << 20
	mostTrailing = 1 << 20 // bytes behind the end of the tar file
)

// split checks the path of a member and takes it apart. What leads out of its root, or is written in another way than
// ours, is refused.
func split(name string) ([]string, error) {
	parts := strings.Split(name, "/")
	if name == "" || path.Clean(name) != name || strings.HasPrefix(name, "/") || parts[0] == ".." || strings.ContainsRune(name, 0) {
		return nil, refused("the path %q", short(name))
	}
	if len(parts) > mostDepth {
		return nil, refused("a path of %d folders", len(parts))
	}
	for _, p := range parts {
		if len(p) > mostName {
			return nil, refused("a name of %d bytes", len(p))
		}
	}
	return parts, nil
}

// RootName returns the path of root number n.
func RootName(n int) string { return fmt.Sprintf("%s/%04d", dataFolder, n) }

// short returns as much of a text as a message holds.
func short(s string) string {
	const most = 120
	if len(s) > most {
		return s[:most] + "…"
	}
	return s
}

// inOrder reports whether a path comes behind another one: so nothing is there twice, and nothing is changed later.
func inOrder(before, next []string) bool {
	for i := range min(len(before), len(next)) {
		if before[i] != next[i] {
			return before[i] < next[i]
		}
	}
	return len(before) < len(next)
}

// trailer is the end of a backup: a skippable frame (RFC 8878, 3.1.2) with a word and a digest.
const (
	trailerHead = "\x5e\x2a\x4d\x18\x28\x00\x00\x00lanterns" // magic number, length 40, the word
	trailerSize = len(trailerHead) + blake2b.Size256
)

// newDigest begins a digest: cryptographic, and several times as fast as SHA-256 on processors without instructions for it.
func newDigest() hash.Hash {
	h, err := blake2b.New256(nil)
	if err != nil {
		panic("backup: no digest: " + err.Error()) // without a key there is no error
	}
	return h
}

// digesting writes on, and knows the digest of all that went through.
type digesting struct {
	to  io.Writer
	sum hash.Hash
}

func (d *digesting) Write(p []byte) (int, error) {
	d.sum.Write(p)
	return d.to.Write(p)
}

// tailed reads all but the trailer, and holds it against the digest of what was read.
type tailed struct {
	from io.Reader
	sum  interface {
		io.Writer
		Sum([]byte) []byte
	}
	held  []byte // read, and not given on yet
	ended bool
	err   error
}

func newTailed(from io.Reader) *tailed { return &tailed{from: from, sum: newDigest()} }

func (t *tailed) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for len(t.held) <= trailerSize && !t.ended {
		chunk := make([]byte, 64<<10)
		n, err := t.from.Read(chunk)
		t.held = append(t.held, chunk[:n]...)
		if err == io.EOF {
			t.ended = true
		} else if err != nil {
			return 0, err
		}
	}
	if n := len(t.held) - trailerSize; n > 0 {
		n = copy(p, t.held[:n])
		t.sum.Write(t.held[:n])
		t.held = t.held[n:]
		return n, nil
	}
	if t.err == nil {
		t.err = io.EOF
		if len(t.held) < trailerSize || string(t.held[:len(trailerHead)]) != trailerHead {
			t.err = damaged("its end is missing")
		} else if hex.EncodeToString(t.held[len(trailerHead):]) != hex.EncodeToString(t.sum.Sum(nil)) {
			t.err = damaged("it is not what was written")
		}
	}
	return 0, t.err
}
