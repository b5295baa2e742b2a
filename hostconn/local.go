package hostconn

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"github.com/pkg/xattr"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/internal/system"
	"proudlantern.example/lantern/labdir"
)

// Local are the files of this machine.
var Local Files = local{}

type local struct{}

// LocalFiles are those that count as an engine's of this machine: elsewhere than on Linux it runs in a machine of its
// own, whose files are others.
func LocalFiles() Files {
	if runtime.GOOS != "linux" {
		return nil
	}
	return Local
}

func (local) Stat(path string) (Info, error) { return infoOf(os.Stat(path)) }

func (local) Lstat(path string) (Info, error) { return infoOf(os.Lstat(path)) }

func infoOf(info fs.FileInfo, err error) (Info, error) {
	if err != nil {
		return Info{}, err
	}
	st, ok := system.FactsOf(info)
	if !ok {
		return Info{}, fmt.Errorf("%s: its owner is not known", info.Name())
	}
	return Info{Mode: info.Mode(), Bits: st.Bits, UID: survey.ID(st.UID), GID: survey.ID(st.GID)}, nil
}

func (local) ACL(path string, follow bool) ([]byte, error) {
	const name = "system.posix_acl_access" // acl(5)
	if follow {
		return xattr.Get(path, name)
	}
	return xattr.LGet(path, name)
}

func (local) Real(path string) (string, error) { return filepath.EvalSymlinks(path) }

func (local) Link(path string) (string, error) { return os.Readlink(path) }

func (local) Names(path string, most int) ([]string, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	names, err := f.Readdirnames(max(most, 0))
	if len(names) > 0 {
		err = nil // as far as it goes
	}
	slices.Sort(names)
	return names, err
}

func (local) Read(path string, most int64) ([]byte, error) {
	text, err := labdir.ReadAny(path, most)
	return []byte(text), err
}

func (local) Space(path string) (size, free int64, err error) {
	return system.Space(path)
}

func (local) Proc() (string, func(), error) { return "/proc", func() {}, nil }

func (local) SeesAll() bool { return os.Geteuid() == 0 }
