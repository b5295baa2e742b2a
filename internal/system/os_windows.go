package system

import (
	"errors"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/windows"
)

// Flags for opening files, which mean nothing here.
const (
	NoFollow = 0
	NonBlock = 0
	NoTTY    = 0
)

func factsOf(fs.FileInfo) (Facts, bool) { return Facts{}, false }

// Lock keeps a file from other processes that lock it, until it is closed. A folder cannot be locked.
func Lock(f *os.File, wait bool) error {
	if info, err := f.Stat(); err != nil || info.IsDir() {
		return err
	}
	how := uint32(windows.LOCKFILE_EXCLUSIVE_LOCK)
	if !wait {
		how |= windows.LOCKFILE_FAIL_IMMEDIATELY
	}
	return windows.LockFileEx(windows.Handle(f.Fd()), how, 0, 1, 0, &windows.Overlapped{})
}

// Unlock undoes [Lock].
func Unlock(f *os.File) error {
	return windows.UnlockFileEx(windows.Handle(f.Fd()), 0, 1, 0, &windows.Overlapped{})
}

// SetTimes sets both times of a file.
func SetTimes(*os.File, string, time.Time) error { return errors.ErrUnsupported }

// Space returns how large the file system at a path is, and what of it a process without privileges may take, in bytes.
func Space(string) (size, free int64, err error) { return 0, 0, errors.ErrUnsupported }

// IsMountPoint reports whether a folder is on another file system than the one above it.
func IsMountPoint(string) bool { return false }

// IsGone reports whether there is no process of that number.
func IsGone(pid int) bool {
	_, err := os.FindProcess(pid)
	return err != nil
}

// HideTyping keeps a terminal from showing what is typed until shown is called.
func HideTyping(tty int) (shown func(), err error) {
	var was uint32
	if err := windows.GetConsoleMode(windows.Handle(tty), &was); err != nil {
		return nil, err
	}
	if err := windows.SetConsoleMode(windows.Handle(tty), was&^windows.ENABLE_ECHO_INPUT); err != nil {
		return nil, err
	}
	return func() { windows.SetConsoleMode(windows.Handle(tty), was) }, nil
}

// NotifyResize tells when the terminal gets another size: nobody does here.
func NotifyResize(chan<- os.Signal) {}
