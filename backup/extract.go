package backup

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/pkg/xattr"

	"proudlantern.example/lantern/internal/system"
)

// Unpacking says how roots are unpacked.
type Unpacking struct {
	// Place gives the path that root number n is made at; "" leaves it out. Nothing may be there yet, and the folder
	// above has to be.
	Place func(n int) string
	// Owners tells that owners are given as they were; only root may.
	Owners bool
	// Special tells that files stay programs that run with the rights of their owner or of more (setuid, setgid,
	// capabilities). Otherwise they are files like others.
	Special bool

	Notes []string // what was not brought back, in words
}

// Unpack makes the roots anew. Everything is made in folders that it has made itself, and nothing outside of them is
// touched. An error leaves what was made so far.
func (r *Reader) Unpack(ctx context.Context, u *Unpacking) error {
	x := &unpacking{Unpacking: u, buffer: make([]byte, 256<<10)}
	defer x.leave(0)
	err := r.visit(ctx, x.entry, func(io.Reader) error { return x.leave(0) })
	return err
}

// unpacking is under way: the folders that lead to where it is stay open.
type unpacking struct {
	*Unpacking
	path    []string // of the folders, from data on
	folders []openFolder
	top     *os.Root // of the root: hard links lie in it
	topAt   int      // how many parts of a path lead to it
	buffer  []byte
}

type openFolder struct {
	root *os.Root
	e    Member
}

func (x *unpacking) note(format string, args ...any) {
	const most = 1000
	if len(x.Notes) < most {
		x.Notes = append(x.Notes, fmt.Sprintf(format, args...))
	}
}

// leave closes folders until only so many parts of the path are left, and gives them their times: what is made in a
// folder changes its own.
func (x *unpacking) leave(parts int) error {
	var problems []error
	for len(x.folders) > 0 && len(x.path) > parts {
		last := x.folders[len(x.folders)-1]
		x.folders, x.path = x.folders[:len(x.folders)-1], x.path[:len(x.path)-1]
		if dir, err := last.root.Open("."); err == nil {
			problems = append(problems, x.finish(dir, last.e))
			dir.Close()
		} else {
			problems = append(problems, err)
		}
		last.root.Close()
		if len(x.folders) == 0 {
			x.path, x.top = nil, nil
		}
	}
	return errors.Join(problems...)
}

// finish gives what was made its owner, its attributes, its mode and its time, in this order: each changes what is
// behind it.
func (x *unpacking) finish(f *os.File, e Member) error {
	if x.Owners {
		if err := f.Chown(e.UID, e.GID); err != nil {
			return err
		}
	}
	for _, acl := range []string{"system.posix_acl_access", "system.posix_acl_default"} {
		if _, has := e.xattrs[acl]; !has {
			xattr.FRemove(f, acl) // what the folder around the root gives to all that is made in it
		}
	}
	for name, value := range e.xattrs {
		if !kept(name) && (name != capabilityXattr || !x.Special) {
			x.note("%s: %s was not brought back", e.Path, short(name))
			continue
		}
		if err := xattr.FSet(f, name, []byte(value)); err != nil {
			x.note("%s: %s could not be brought back: %s", e.Path, short(name), errors.Unwrap(err))
		}
	}
	mode := e.Mode
	if e.Kind == KindFile && !x.Special && mode&(fs.ModeSetuid|fs.ModeSetgid) != 0 {
		mode &^= fs.ModeSetuid | fs.ModeSetgid
		x.note("%s runs with the rights of whoever runs it, and not of its owner any more", e.Path)
	}
	if e.Kind == KindFolder {
		mode &^= fs.ModeSetuid // means nothing there
	}
	if err := f.Chmod(mode); err != nil {
		return err
	}
	// Older kernels take no file without a name (utimensat(2), AT_EMPTY_PATH).
	return system.SetTimes(nil, fmt.Sprintf("/proc/self/fd/%d", f.Fd()), e.modified)
}

func (x *unpacking) entry(e Member, content io.Reader) error {
	parts := strings.Split(e.Path, "/")
	if parts[0] != dataFolder {
		return nil
	}
	if len(parts) == 2 {
		if err := x.leave(0); err != nil {
			return err
		}
		return x.begin(e, parts, content)
	}
	if x.top == nil {
		return nil // of a root that is left out
	}
	if err := x.leave(len(parts) - 1); err != nil {
		return err
	}
	return x.make(x.folders[len(x.folders)-1].root, parts[len(parts)-1], e, content)
}

// begin makes a root itself.
func (x *unpacking) begin(e Member, parts []string, content io.Reader) error {
	n, _ := strconv.Atoi(parts[1]) // it was checked
	place := x.Place(n)
	if place == "" {
		return nil
	}
	above, err := os.OpenRoot(filepath.Dir(place))
	if err != nil {
		return err
	}
	defer above.Close()
	if e.Kind != KindFolder {
		return x.make(above, filepath.Base(place), e, content)
	}
	if err := above.Mkdir(filepath.Base(place), 0o700); err != nil {
		return err
	}
	root, err := above.OpenRoot(filepath.Base(place))
	if err != nil {
		return err
	}
	x.top, x.topAt = root, 2
	x.path, x.folders = []string{parts[0], parts[1]}, []openFolder{{root, e}}
	return nil
}

// make makes what has a name in a folder. What was made by itself before it has its rights is nobody else's.
func (x *unpacking) make(in *os.Root, name string, e Member, content io.Reader) error {
	switch e.Kind {
	case KindFolder:
		if err := in.Mkdir(name, 0o700); err != nil {
			return err
		}
		sub, err := in.OpenRoot(name)
		if err != nil {
			return err
		}
		x.path, x.folders = append(x.path, name), append(x.folders, openFolder{sub, e})
		return nil
	case KindLink:
		if err := in.Symlink(e.Target, name); err != nil {
			return err
		}
		if x.Owners {
			if err := in.Lchown(name, e.UID, e.GID); err != nil {
				return err
			}
		}
		dir, err := in.Open(".")
		if err != nil {
			return err
		}
		defer dir.Close()
		return system.SetTimes(dir, name, e.modified)
	case KindHard:
		target := path.Join(strings.Split(e.Target, "/")[x.topAt:]...)
		info, err := x.top.Lstat(target)
		if err != nil || !info.Mode().IsRegular() {
			return refused("%s is another name of what is no file", short(e.Path))
		}
		return x.top.Link(target, path.Join(strings.Split(e.Path, "/")[x.topAt:]...))
	}
	f, err := in.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := x.fill(f, content, e); err != nil {
		return err
	}
	return x.finish(f, e)
}

// block is how large a stretch of zeros is that becomes a hole, in bytes.
const block = 4096

// fill writes the content of a file. What is zeros becomes holes, as a sparse file had.
func (x *unpacking) fill(f *os.File, content io.Reader, e Member) error {
	var zeros [block]byte
	var at int64
	for {
		n, err := io.ReadFull(content, x.buffer)
		write := func(from, to int) error {
			if from == to {
				return nil
			}
			_, err := f.WriteAt(x.buffer[from:to], at+int64(from))
			return err
		}
		begin := 0 // of what is no hole
		for i := 0; i < n; i += block {
			end := min(i+block, n)
			if !bytes.Equal(x.buffer[i:end], zeros[:end-i]) {
				continue
			}
			if err := write(begin, i); err != nil {
				return err
			}
			begin = end
		}
		if err := write(begin, n); err != nil {
			return err
		}
		at += int64(n)
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			break
		}
		if err != nil {
			return err
		}
	}
	if at != e.Size {
		return damaged("%s is cut off", e.Path)
	}
	return f.Truncate(at)
}
