// Package history is the logbook: it keeps, in a file of the lab, what was deployed when, by whom and how it
// ended, with the files as they were then.
package history

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"go.etcd.io/bbolt"
	berrors "go.etcd.io/bbolt/errors"

	"proudlantern.example/lantern/internal/system"
	"proudlantern.example/lantern/labdir"
)

// Kinds of entries.
const (
	Deploy = "deploy"
	Revert = "revert"
	Retire = "retire"
)

// Entry is one deploy, revert or retirement of a stack.
type Entry struct {
	Number   int       `json:"entry"` // its number, counted for each stack
	Kind     string    `json:"kind"`
	RevertOf int       `json:"of,omitempty"` // revert: to which entry
	Host     string    `json:"host"`
	Stack    string    `json:"stack"`
	Began    time.Time `json:"began"`
	Seconds  float64   `json:"seconds"` // that it took
	Who      string    `json:"who"`
	Result   string    `json:"result"`
	Why      string    `json:"why,omitempty"`     // it was put back, or needs a hand
	Despite  []string  `json:"despite,omitempty"` // rules whose errors did not stop it
	Services []Service `json:"services,omitempty"`
	Left     []string  `json:"left,omitempty"`     // volumes of images' own making that nothing used afterwards
	Replaced []string  `json:"replaced,omitempty"` // revert: files that were written over; they are kept, too
}

// Service is what happened to a service.
type Service struct {
	Service string `json:"service"`
	Action  string `json:"action"`
	Image   string `json:"image,omitempty"`  // as declared
	ID      string `json:"id,omitempty"`     // of the image on the host
	Digest  string `json:"digest,omitempty"` // of the image in its registry
	// fingerprint of its declaration: plan.Container.Digest, with the stack's name as the key
	ConfigDigest string `json:"made,omitempty"`
}

// Runs returns what ran after a deploy: of each service its declaration and its image, as fingerprints.
func (e Entry) Runs() map[string]string {
	runs := map[string]string{}
	for _, s := range e.Services {
		if s.ConfigDigest != "" {
			runs[s.Service] = strings.TrimPrefix(s.ConfigDigest, "1:") + " " + s.ID // older entries name no version
		}
	}
	return runs
}

// Before is the folder under which the files stand that a revert has written over.
const Before = "before/"

// File is a file of the lab as it was.
type File struct {
	Path string // relative to the lab, or to Before
	Text string
	Mode fs.FileMode
}

// Book is the logbook of a lab.
type Book struct {
	// Path is that of the file.
	Path string
}

// Of returns the logbook of the lab in a folder. It need not be there yet.
func Of(lab string) Book { return Book{filepath.Join(lab, ".lantern", "logbook.db")} }

// Errors that a caller may branch on.
var (
	// ErrDamaged is returned when the file is no logbook, or broken.
	ErrDamaged = errors.New("the logbook is damaged")
	// ErrBusy is returned when another process does not let go of it in time.
	ErrBusy = errors.New("another process holds the logbook")
	// ErrNoEntry is returned for an entry that is not in it.
	ErrNoEntry = errors.New("there is no such entry")
)

// lockTimeout is how long another process is waited for: each holds the file for moments only.
const lockTimeout = 5 * time.Second

var (
	entries = []byte("entries") // key to JSON of record
	texts   = []byte("texts")   // SHA-256 to text: most files stay as they are from one deploy to the next
)

// places is a bucket of the places from which the same lab is deployed, besides this clone: place to nothing.
var places = []byte("places")

// Meet remembers that another place is the same lab's.
func (b Book) Meet(place string) error {
	return b.change(func(tx *bbolt.Tx) error {
		list, err := tx.CreateBucketIfNotExists(places)
		if err != nil {
			return err
		}
		return list.Put([]byte(place), nil)
	})
}

// Met returns the places of [Book.Meet].
func (b Book) Met() ([]string, error) {
	var met []string
	err := b.look(func(tx *bbolt.Tx) error {
		list := tx.Bucket(places)
		if list == nil {
			return nil
		}
		return list.ForEach(func(place, _ []byte) error {
			met = append(met, string(place))
			return nil
		})
	})
	return met, err
}

// record is an entry as it is kept.
type record struct {
	Entry
	Files []kept
}

type kept struct {
	Path string
	Mode fs.FileMode
	Sum  []byte // key into texts
}

// key orders the entries of a stack by number, then by time: a deploy that was put back leaves its number to
// the next one of another clone.
func key(e Entry) []byte {
	k := append([]byte(e.Stack), 0)
	k = binary.BigEndian.AppendUint32(k, uint32(e.Number))
	return binary.BigEndian.AppendUint64(k, uint64(e.Began.UnixNano()))
}

// change changes the file. The first time makes it, and the folder around it, for the owner's eyes only.
func (b Book) change(f func(*bbolt.Tx) error) error {
	dir := filepath.Dir(b.Path)
	if err := os.Mkdir(dir, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err := b.own(); err != nil {
		return err
	}
	// Environment files hold secrets, and what holds them has no place in a repository.
	if _, err := os.Lstat(filepath.Join(dir, ".gitignore")); errors.Is(err, fs.ErrNotExist) {
		// another process was faster
		if err := labdir.WriteAny(filepath.Join(dir, ".gitignore"), "*\n", 0o600); err != nil &&
			!errors.Is(err, labdir.ErrChanged) {
			return err
		}
	}
	return b.use(false, f)
}

// own makes sure that folder and file are what they should be: no links, which would lead what is written
// somewhere else, and for the owner's eyes only.
func (b Book) own() error {
	dir := filepath.Dir(b.Path)
	info, err := os.Lstat(dir)
	switch {
	case err != nil:
		return err
	case !info.IsDir():
		return fmt.Errorf("%w: %s is no folder", ErrDamaged, dir)
	case info.Mode().Perm() != 0o700:
		if err := os.Chmod(dir, 0o700); err != nil {
			return err
		}
	}
	info, err = os.Lstat(b.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return err
	case !info.Mode().IsRegular():
		return fmt.Errorf("%w: %s is no plain file", ErrDamaged, b.Path)
	case info.Mode().Perm() != 0o600:
		return os.Chmod(b.Path, 0o600)
	}
	return nil
}

// look reads the file; one that is not there holds nothing.
func (b Book) look(f func(*bbolt.Tx) error) error {
	if _, err := os.Lstat(b.Path); errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) {
		return nil
	}
	if err := b.own(); err != nil {
		return err
	}
	return b.use(true, f)
}

// Add writes an entry.
func (b Book) Add(e Entry, files []File) error {
	return b.change(func(tx *bbolt.Tx) error {
		list, err := tx.CreateBucketIfNotExists(entries)
		if err != nil {
			return err
		}
		store, err := tx.CreateBucketIfNotExists(texts)
		if err != nil {
			return err
		}
		r := record{Entry: e}
		for _, f := range files {
			sum := sha256.Sum256([]byte(f.Text))
			if err := store.Put(sum[:], append([]byte(nil), f.Text...)); err != nil {
				return err
			}
			r.Files = append(r.Files, kept{f.Path, f.Mode, sum[:]})
		}
		text, err := json.Marshal(r)
		if err != nil {
			return err
		}
		return list.Put(key(e), text)
	})
}

// List returns the entries of a stack, or of all with "", oldest first. A logbook that is not there has none.
func (b Book) List(stack string) ([]Entry, error) {
	var list []Entry
	err := b.each(stack, func(r record, _ *bbolt.Tx) error {
		list = append(list, r.Entry)
		return nil
	})
	return list, err
}

// Last returns the highest number of an entry of a stack; 0 when there is none.
func (b Book) Last(stack string) (int, error) {
	list, err := b.List(stack)
	if len(list) == 0 {
		return 0, err
	}
	return list[len(list)-1].Number, err
}

// Find returns the latest entry of a stack with that number, and its files. Errors: [ErrNoEntry].
func (b Book) Find(stack string, number int) (e Entry, files []File, err error) {
	found := false
	err = b.each(stack, func(r record, tx *bbolt.Tx) error {
		if r.Entry.Number != number {
			return nil
		}
		e, files, found = r.Entry, nil, true
		for _, k := range r.Files {
			store := tx.Bucket(texts)
			if store == nil {
				return ErrDamaged
			}
			text := store.Get(k.Sum)
			if sum := sha256.Sum256(text); !bytes.Equal(sum[:], k.Sum) {
				return fmt.Errorf("%w: the text of %s is not in it any more", ErrDamaged, k.Path)
			}
			// no file of a lab is a program, or for others to write
			files = append(files, File{k.Path, string(text), k.Mode & 0o666 &^ 0o022})
		}
		return nil
	})
	if err == nil && !found {
		err = ErrNoEntry
	}
	return e, files, err
}

// mostRecord is how large an entry is at most, in bytes; its files are kept apart.
const mostRecord = 4 << 20

// inLab reports whether a path is one of a file of a lab, and of none of those that belong to programs.
func inLab(path string) bool {
	path = strings.TrimPrefix(path, Before)
	if !filepath.IsLocal(filepath.FromSlash(path)) ||
		path != filepath.ToSlash(filepath.Clean(filepath.FromSlash(path))) {
		return false
	}
	return !slices.ContainsFunc(strings.Split(path,
		"/"), func(part string) bool { return strings.HasPrefix(part, ".git") || part == ".lantern" })
}

func (b Book) each(stack string, f func(record, *bbolt.Tx) error) error {
	return b.look(func(tx *bbolt.Tx) error {
		list := tx.Bucket(entries)
		if list == nil {
			return nil
		}
		var prefix []byte
		if stack != "" {
			prefix = append([]byte(stack), 0)
		}
		c := list.Cursor()
		for k, v := c.Seek(prefix); k != nil && bytes.HasPrefix(k, prefix); k, v = c.Next() {
			var r record
			if len(v) > mostRecord {
				return fmt.Errorf("%w: an entry is larger than any that lantern writes", ErrDamaged)
			}
			if err := json.Unmarshal(v, &r); err != nil {
				return fmt.Errorf("%w: %w", ErrDamaged, err)
			}
			for _, k := range r.Files {
				if !inLab(k.Path) {
					return fmt.Errorf("%w: it names a file that is not the lab's: %q", ErrDamaged, k.Path)
				}
			}
			if err := f(r, tx); err != nil {
				return err
			}
		}
		return nil
	})
}

// use opens the file for the moment that f takes.
func (b Book) use(readOnly bool, f func(*bbolt.Tx) error) (err error) {
	// What is broken in the file shows as a panic, or as a fault of the memory that it is mapped to.
	defer debug.SetPanicOnFault(debug.SetPanicOnFault(true))
	var opened *os.File
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%w: %v", ErrDamaged, r)
		}
		// A broken file can leave the lock behind, and the memory that it is mapped to holds on to it.
		if opened != nil {
			system.Unlock(opened)
			opened.Close()
		}
	}()
	db, err := bbolt.Open(b.Path, 0o600, &bbolt.Options{Timeout: lockTimeout, ReadOnly: readOnly,
		OpenFile: func(path string, flag int, mode os.FileMode) (*os.File, error) {
			var err error
			opened, err = os.OpenFile(path, flag|system.NoFollow|system.NonBlock, mode)
			return opened, err
		}})
	switch {
	case errors.Is(err, berrors.ErrTimeout):
		return ErrBusy
	case errors.Is(err, berrors.ErrInvalid), errors.Is(err, berrors.ErrChecksum),
		errors.Is(err, berrors.ErrVersionMismatch):
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	case err != nil:
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	if readOnly {
		return db.View(f)
	}
	return db.Update(f)
}
