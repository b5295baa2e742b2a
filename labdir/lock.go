package labdir

import (
	"os"

	"golang.org/x/sys/unix"
)

// Lock keeps other processes of this machine from changing the files of a lab at the same time, until unlock is
// called. It waits for them.
func Lock(dir string) (unlock func(), err error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	for {
		if err = unix.Flock(int(f.Fd()), unix.LOCK_EX); err != unix.EINTR {
			break
		}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return func() { f.Close() }, nil
}
