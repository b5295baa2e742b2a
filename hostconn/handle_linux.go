package hostconn

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"github.com/pkg/xattr"
	"golang.org/x/sys/unix"

	"proudlantern.example/lantern/core/survey"
)

// Handle is a file or folder of this machine that stays the same one, whatever its path comes to mean.
type Handle struct {
	fd     int
	Folder bool
	Plain  bool // a file that has one name only
	Inode  uint64
	Device uint64
}

// OpenHandle opens what stands at a path. A link on the way is an error.
func OpenHandle(path string) (*Handle, error) {
	return openHandle(unix.AT_FDCWD, path, unix.RESOLVE_NO_SYMLINKS)
}

func openHandle(dir int, path string, resolve uint64) (*Handle, error) {
	fd, err := unix.Openat2(dir, path, &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC | unix.O_NOFOLLOW, Resolve: resolve})
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		unix.Close(fd)
		return nil, &fs.PathError{Op: "stat", Path: path, Err: err}
	}
	kind := st.Mode & unix.S_IFMT
	return &Handle{
		fd: fd, Folder: kind == unix.S_IFDIR, Plain: kind == unix.S_IFREG && st.Nlink == 1, Inode: st.Ino, Device: st.Dev,
	}, nil
}

// Close lets go of it.
func (h *Handle) Close() { unix.Close(h.fd) }

// path leads to the file itself (proc(5), /proc/pid/fd).
func (h *Handle) path() string { return fmt.Sprintf("/proc/self/fd/%d", h.fd) }

// Rights reads who may do what.
func (h *Handle) Rights() (Rights, error) {
	var st unix.Stat_t
	if err := unix.Fstat(h.fd, &st); err != nil {
		return Rights{}, err
	}
	r := Rights{UID: survey.ID(st.Uid), GID: survey.ID(st.Gid), Bits: st.Mode & 0o7777}
	var err error
	if r.ACL, err = attribute(h.path(), aclAccess); err == nil && h.Folder {
		r.Default, err = attribute(h.path(), aclDefault)
	}
	return r, err
}

// attribute reads an extended attribute; nil where there is none, also where the file system knows of none.
func attribute(path, name string) ([]byte, error) {
	b, err := xattr.Get(path, name)
	if errors.Is(err, syscall.ENODATA) || errors.Is(err, syscall.ENOTSUP) {
		return nil, nil
	}
	return b, err
}

// SetRights changes who may do what, and reads it back: a file system that makes rights up does not keep them.
func (h *Handle) SetRights(r Rights) error {
	now, err := h.Rights()
	if err != nil {
		return err
	}
	if now.UID != r.UID || now.GID != r.GID {
		if err := unix.Fchownat(h.fd, "", int(r.UID), int(r.GID), unix.AT_EMPTY_PATH); err != nil {
			return &fs.PathError{Op: "chown", Err: err}
		}
	}
	if err := setAttribute(h.path(), aclAccess, now.ACL, r.ACL); err != nil {
		return err
	}
	// The bits for setting ids stand in no list, and a change of the owner may have taken them away.
	if err := unix.Fchmodat(unix.AT_FDCWD, h.path(), r.Bits, 0); err != nil {
		return &fs.PathError{Op: "chmod", Err: err}
	}
	if r.ACL != nil { // chmod changes entries
		if err := xattr.Set(h.path(), aclAccess, r.ACL); err != nil {
			return err
		}
	}
	if h.Folder {
		if err := setAttribute(h.path(), aclDefault, now.Default, r.Default); err != nil {
			return err
		}
	}
	if now, err = h.Rights(); err == nil && !now.Same(r) {
		err = errors.New("the file system does not keep these rights")
	}
	return err
}

func setAttribute(path, name string, was, will []byte) error {
	switch {
	case string(was) == string(will):
		return nil
	case will == nil:
		return xattr.Remove(path, name)
	}
	return xattr.Set(path, name, will)
}

// newName is the name of a folder until it has its rights.
func newName(path string) string { return "." + filepath.Base(path) + ".lantern-new" }

// MakeFolder makes a folder with the rights that set gives it: nobody ever sees it without. One that is there is an
// error. What an earlier one that was killed has left is taken away.
func MakeFolder(path string, set func(*Handle) error) (*Handle, error) {
	above, err := OpenHandle(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	defer above.Close()
	own := newName(path)
	unix.Unlinkat(above.fd, own, unix.AT_REMOVEDIR)
	if err := unix.Mkdirat(above.fd, own, 0o700); err != nil {
		return nil, &fs.PathError{Op: "mkdir", Path: path, Err: err}
	}
	h, err := openHandle(above.fd, own, unix.RESOLVE_NO_SYMLINKS)
	if err != nil {
		return nil, err
	}
	if err = set(h); err == nil {
		err = unix.Renameat2(above.fd, own, above.fd, filepath.Base(path), unix.RENAME_NOREPLACE)
		if errors.Is(err, syscall.EINVAL) { // a file system that cannot; an empty folder is all that it could replace
			err = unix.Renameat(above.fd, own, above.fd, filepath.Base(path))
		}
		if err != nil {
			err = &fs.PathError{Op: "rename", Path: path, Err: err}
		}
	}
	if err != nil {
		h.Close()
		unix.Unlinkat(above.fd, own, unix.AT_REMOVEDIR)
		return nil, err
	}
	return h, nil
}

// RemoveFolder removes an empty folder, and what making it may have left.
func RemoveFolder(path string) error {
	above, err := OpenHandle(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer above.Close()
	unix.Unlinkat(above.fd, newName(path), unix.AT_REMOVEDIR)
	if err := unix.Unlinkat(above.fd, filepath.Base(path), unix.AT_REMOVEDIR); err != nil {
		return &fs.PathError{Op: "rmdir", Path: path, Err: err}
	}
	return nil
}

// Walk calls each for all that lies in a folder, folders before what is in them, with the path below it. Links, other
// file systems and special files are left out.
func (h *Handle) Walk(each func(below string, h *Handle) error) error { return h.walk("", each) }

func (h *Handle) walk(below string, each func(string, *Handle) error) error {
	entries, err := os.ReadDir(h.path())
	if err != nil {
		return err
	}
	for _, e := range entries {
		err := func() error {
			in, err := openHandle(h.fd, e.Name(), unix.RESOLVE_NO_SYMLINKS|unix.RESOLVE_NO_XDEV)
			if err != nil {
				if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.EXDEV) || errors.Is(err, syscall.ELOOP) {
					return nil
				}
				return err
			}
			defer in.Close()
			at := filepath.Join(below, e.Name())
			if !in.Folder && !in.Plain {
				return nil
			}
			if err := each(at, in); err != nil || !in.Folder {
				return err
			}
			return in.walk(at, each)
		}()
		if err != nil {
			return err
		}
	}
	return nil
}
