// Package labdir reads and writes the files of a lab, and others that people name: each is opened once, is a
// plain file of bounded size, and is written whole or not at all.
package labdir

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/pkg/xattr"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/internal/system"
)

// MaxFile is the largest file of a lab that is read, in bytes.
const MaxFile = 1 << 20

// Errors that a caller may branch on.
var (
	// ErrChanged is returned by Write when the file says something else than the caller has read.
	ErrChanged = errors.New("it was changed meanwhile, and was left as it is")
	// ErrNotPlain is returned for what is no plain file: a folder, a pipe, a device.
	ErrNotPlain = errors.New("it is no plain file")
	// ErrTooLarge is returned for a file that is larger than anybody needs.
	ErrTooLarge = errors.New("it is too large")
)

// Read reads a file below a folder; links may not lead out of it. What it says of a file that is no plain one
// or too large is a *[declare.Unreadable].
func Read(root *os.Root, path string) (string, error) {
	f, err := root.OpenFile(path, os.O_RDONLY|system.NonBlock|system.NoTTY, 0)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrPermission):
		return "", err
	case errors.Is(err, syscall.ENXIO): // a socket cannot be opened at all
		return "", &declare.Unreadable{Message: path + " is no plain file"}
	case err != nil:
		return "", &declare.Unreadable{
			Message: fmt.Sprintf("%s cannot be read, or it is a link that leads out of the lab", path),
		}
	}
	defer f.Close()
	text, err := read(f, MaxFile)
	switch {
	case errors.Is(err, ErrNotPlain):
		err = &declare.Unreadable{Message: path + " is no plain file"}
	case errors.Is(err, ErrTooLarge):
		err = &declare.Unreadable{Message: path + " is larger than 1 MiB"}
	}
	return text, err
}

// ReadAny reads a file that somebody has named, wherever it is, up to so many bytes. Errors: [ErrNotPlain],
// [ErrTooLarge].
func ReadAny(path string, most int64) (string, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|system.NonBlock|system.NoTTY, 0)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return read(f, most)
}

func read(f *os.File, most int64) (string, error) {
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() {
		return "", ErrNotPlain
	}
	if info.Size() > most {
		return "", ErrTooLarge
	}
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if int64(len(text)) > most {
		return "", ErrTooLarge
	}
	return string(text), err
}

// Write puts a whole new file in the place of one below a folder, so that no moment, also not one in which
// the power goes, leaves half a file. Mode, owner and access control list stay those of the old one; without
// one the mode is that given. was is what the caller has read there; with another text there now nothing is
// written. A link stays, and what it leads to, which has to be below the folder, is written. Errors:
// [ErrChanged], [ErrNotPlain].
func Write(root *os.Root, path, was, text string, mode fs.FileMode) error {
	path, err := real(root, path)
	if err != nil {
		return err
	}
	now, err := Read(root, path)
	missing := errors.Is(err, fs.ErrNotExist)
	switch {
	case missing && was != "":
		return ErrChanged
	case missing:
		if err := root.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
	case err != nil:
		return ErrNotPlain
	case now != was:
		return ErrChanged
	}
	temporary := filepath.Join(filepath.Dir(path), fmt.Sprintf(".lantern-%016x", rand.Uint64()))
	if !missing {
		mode = 0o600 // until it has what the old one has
	}
	f, err := root.OpenFile(temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode.Perm())
	if err != nil {
		return err
	}
	defer root.Remove(temporary)
	if _, err = f.WriteString(text); err == nil && !missing {
		err = keep(root, path, f)
	}
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	// Between this look and the new name there is nothing but that.
	if again, err := Read(root, path); err == nil && again != now || err != nil && !missing ||
		err == nil && missing {
		return ErrChanged
	}
	if err := root.Rename(temporary, path); err != nil {
		return err
	}
	dir, err := root.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}

// real follows links below a folder to the file that is meant.
func real(root *os.Root, path string) (string, error) {
	path = filepath.Clean(path)
	for range 40 { // as kernels do (path_resolution(7))
		info, err := root.Lstat(path)
		if err != nil || info.Mode()&fs.ModeSymlink == 0 {
			return path, nil // what is wrong shows when it is opened
		}
		to, err := root.Readlink(path)
		if err != nil {
			return "", err
		}
		if filepath.IsAbs(to) {
			if to, err = filepath.Rel(root.Name(), to); err != nil {
				return "", err
			}
		} else {
			to = filepath.Join(filepath.Dir(path), to)
		}
		if !filepath.IsLocal(to) {
			return "", fmt.Errorf("%s is a link that leads out of the lab", path)
		}
		path = to
	}
	return "", fmt.Errorf("%s is a link to itself", path)
}

// keep gives a new file owner, mode and access control list of the old one. Who may not give files away keeps
// them as their own, as any editor would.
func keep(root *os.Root, path string, f *os.File) error {
	old, err := root.Open(path)
	if err != nil {
		return err
	}
	defer old.Close()
	info, err := old.Stat()
	if err != nil {
		return err
	}
	if st, ok := system.FactsOf(info); ok && os.Geteuid() == 0 {
		if err := f.Chown(int(st.UID), int(st.GID)); err != nil {
			return err
		}
	}
	if err := f.Chmod(info.Mode().Perm()); err != nil {
		return err
	}
	names, _ := xattr.FList(old) // a file system without them has none
	for _, name := range names {
		if !strings.HasPrefix(name, "system.posix_acl_") && !strings.HasPrefix(name, "user.") {
			continue
		}
		value, err := xattr.FGet(old, name)
		if err == nil {
			err = xattr.FSet(f, name, value)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// WriteAny writes a whole file that somebody has named, wherever it is, in place of what is there.
func WriteAny(path, text string, mode fs.FileMode) error {
	root, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer root.Close()
	was, err := Read(root, filepath.Base(path))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return Write(root, filepath.Base(path), was, text, mode)
}
