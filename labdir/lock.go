package labdir

import (
	"os"

	"proudlantern.example/lantern/internal/system"
)

// Lock keeps other processes of this machine from changing the files of a lab at the same time, until unlock is
// called. It waits for them.
func Lock(dir string) (unlock func(), err error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	if err := system.Lock(f, true); err != nil {
		f.Close()
		return nil, err
	}
	return func() { f.Close() }, nil
}
