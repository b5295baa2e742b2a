package hostconn

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"github.com/pkg/xattr"
	"golang.org/x/sys/unix"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/labdir"
)

// Local are the files of this machine.
var Local Files = local{}

type local struct{}

func (local) Stat(path string) (Info, error) { return infoOf(os.Stat(path)) }

func (local) Lstat(path string) (Info, error) { return infoOf(os.Lstat(path)) }

func infoOf(info fs.FileInfo, err error) (Info, error) {
	if err != nil {
		return Info{}, err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return Info{}, fmt.Errorf("%s: its owner is not known", info.Name())
	}
	return Info{Mode: info.Mode(), Bits: st.Mode & 0o7777, UID: survey.ID(st.Uid), GID: survey.ID(st.Gid)}, nil
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
	var st unix.Statfs_t
	if err := unix.Statfs(path, &st); err != nil {
		return 0, 0, err
	}
	return int64(st.Blocks) * int64(st.Bsize), int64(st.Bavail) * int64(st.Bsize), nil
}

func (local) Proc() (string, func(), error) { return "/proc", func() {}, nil }

func (local) SeesAll() bool { return os.Geteuid() == 0 }
