//go:build linux || darwin

package system

import (
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Flags for opening files.
const (
	NoFollow = syscall.O_NOFOLLOW // a link is an error
	NonBlock = syscall.O_NONBLOCK // a pipe is not waited for
	NoTTY    = syscall.O_NOCTTY   // a terminal does not become that of the process
)

func factsOf(info fs.FileInfo) (Facts, bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return Facts{}, false
	}
	// The widths of these differ between systems.
	return Facts{
		UID: st.Uid, GID: st.Gid, Bits: uint32(st.Mode) & 0o7777, Device: uint64(st.Dev), Inode: st.Ino, Links: uint64(st.Nlink),
	}, true
}

// Lock keeps a file from other processes that lock it, until it is closed; without waiting for them, the error wraps
// [syscall.EWOULDBLOCK].
func Lock(f *os.File, wait bool) error {
	how := unix.LOCK_EX
	if !wait {
		how |= unix.LOCK_NB
	}
	for {
		if err := unix.Flock(int(f.Fd()), how); err != unix.EINTR {
			return err
		}
	}
}

// Unlock undoes [Lock].
func Unlock(f *os.File) error { return unix.Flock(int(f.Fd()), unix.LOCK_UN) }

// SetTimes sets both times of a file in a folder, of a link itself where it is one; without a folder name is a path, and
// links are followed.
func SetTimes(dir *os.File, name string, t time.Time) error {
	spec, err := unix.TimeToTimespec(t)
	if err != nil {
		spec = unix.Timespec{}
	}
	if dir == nil {
		return unix.UtimesNanoAt(unix.AT_FDCWD, name, []unix.Timespec{spec, spec}, 0)
	}
	return unix.UtimesNanoAt(int(dir.Fd()), name, []unix.Timespec{spec, spec}, unix.AT_SYMLINK_NOFOLLOW)
}

// Space returns how large the file system at a path is, and what of it a process without privileges may take, in bytes.
func Space(path string) (size, free int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(path, &st); err != nil {
		return 0, 0, err
	}
	return int64(st.Blocks) * int64(st.Bsize), int64(st.Bavail) * int64(st.Bsize), nil
}

// IsMountPoint reports whether a folder is on another file system than the one above it.
func IsMountPoint(place string) bool {
	here, err := os.Lstat(place)
	if err != nil {
		return false
	}
	above, err := os.Lstat(filepath.Dir(place))
	if err != nil {
		return false
	}
	a, _ := factsOf(here)
	b, _ := factsOf(above)
	return a.Device != b.Device
}

// IsGone reports whether there is no process of that number.
func IsGone(pid int) bool { return syscall.Kill(pid, 0) == syscall.ESRCH }

// HideTyping keeps a terminal from showing what is typed until shown is called.
func HideTyping(tty int) (shown func(), err error) {
	state, err := unix.IoctlGetTermios(tty, getTerminal)
	if err != nil {
		return nil, err
	}
	was := *state
	state.Lflag &^= unix.ECHO
	if err := unix.IoctlSetTermios(tty, setTerminal, state); err != nil {
		return nil, err
	}
	return func() { unix.IoctlSetTermios(tty, setTerminal, &was) }, nil
}

// NotifyResize tells when the terminal gets another size.
func NotifyResize(c chan<- os.Signal) { signal.Notify(c, syscall.SIGWINCH) }
