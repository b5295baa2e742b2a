package hostconn

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/pkg/sftp"
	"golang.org/x/sync/errgroup"

	"proudlantern.example/lantern/core/survey"
)

// ErrNoACL tells that this way to a host does not show access control lists: what is allowed beyond the mode is not known.
var ErrNoACL = errors.New("access control lists are not shown over SSH")

// overSFTP are the files of a machine that is reached over SSH.
type overSFTP struct {
	host *sshHost

	mu     sync.Mutex
	client *sftp.Client
	of     any // the connection that it is of
}

// files returns the way to the machine's files, made anew where the connection was.
func (o *overSFTP) files() (*sftp.Client, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*connects)
	defer cancel()
	over, err := o.host.connected(ctx)
	if err != nil {
		return nil, err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.client == nil || o.of != over {
		client, err := sftp.NewClient(over)
		if err != nil {
			return nil, err
		}
		o.client, o.of = client, over
	}
	return o.client, nil
}

func (o *overSFTP) Stat(path string) (Info, error) {
	c, err := o.files()
	if err != nil {
		return Info{}, err
	}
	return sftpInfo(c.Stat(path))
}

func (o *overSFTP) Lstat(path string) (Info, error) {
	c, err := o.files()
	if err != nil {
		return Info{}, err
	}
	return sftpInfo(c.Lstat(path))
}

func sftpInfo(info fs.FileInfo, err error) (Info, error) {
	if err != nil {
		return Info{}, err
	}
	st, ok := info.Sys().(*sftp.FileStat)
	if !ok {
		return Info{}, errors.New(info.Name() + ": its owner is not known")
	}
	return Info{Mode: info.Mode(), Bits: st.Mode & 0o7777, UID: survey.ID(st.UID), GID: survey.ID(st.GID)}, nil
}

func (o *overSFTP) ACL(string, bool) ([]byte, error) { return nil, ErrNoACL }

// Real is what the server says of it: OpenSSH's follows links.
func (o *overSFTP) Real(path string) (string, error) {
	c, err := o.files()
	if err != nil {
		return "", err
	}
	return c.RealPath(path)
}

func (o *overSFTP) Link(path string) (string, error) {
	c, err := o.files()
	if err != nil {
		return "", err
	}
	return c.ReadLink(path)
}

func (o *overSFTP) Names(path string, most int) ([]string, error) {
	c, err := o.files()
	if err != nil {
		return nil, err
	}
	entries, err := c.ReadDir(path)
	if err != nil {
		return nil, err
	}
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	slices.Sort(names)
	if most > 0 && len(names) > most {
		names = names[:most]
	}
	return names, nil
}

func (o *overSFTP) Read(path string, most int64) ([]byte, error) {
	c, err := o.files()
	if err != nil {
		return nil, err
	}
	// A pipe would hold the server up. What only root puts somewhere is none.
	if !strings.HasPrefix(path, "/proc/") && !strings.HasPrefix(path, "/etc/") {
		info, err := c.Stat(path)
		if err != nil {
			return nil, err
		}
		if !info.Mode().IsRegular() {
			return nil, &fs.PathError{Op: "read", Path: path, Err: errors.New("it is no plain file")}
		}
	}
	f, err := c.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { go f.Close() }() // nobody needs the answer
	text, err := readChunks(f, path, most+1)
	if err == nil && int64(len(text)) > most {
		err = &fs.PathError{Op: "read", Path: path, Err: errors.New("it is too large")}
	}
	return text, err
}

// chunkOf returns how many bytes of a file are asked for at once, and how many of these parts are on their way at the same
// time. A table of the kernel gives about a page at a time (seq_file in the kernel), but whole lines only: half of one is
// always there.
func chunkOf(path string) (size, many int) {
	switch {
	case strings.HasPrefix(path, "/proc/sys/"):
		return 2048, 1 // single values
	case strings.HasPrefix(path, "/proc/"):
		return 2048, 32
	}
	return 32 << 10, 4 // what every server gives (draft-ietf-secsh-filexfer-02, 6.4)
}

// readChunks reads a file whose size is not known, up to so many bytes: many parts are on their way at the same time.
func readChunks(f io.ReaderAt, path string, most int64) (text []byte, err error) {
	size, many := chunkOf(path)
	for at := int64(0); ; {
		parts, errs := make([][]byte, many), make([]error, many)
		var work errgroup.Group
		for i := range parts {
			work.Go(func() error {
				part := make([]byte, size)
				n, err := f.ReadAt(part, at+int64(i*size))
				parts[i], errs[i] = part[:n], err
				return nil
			})
		}
		work.Wait()
		for i, part := range parts {
			text = append(text, part...)
			switch {
			case errors.Is(errs[i], io.EOF) || errs[i] == nil && len(part) < size:
				return text, nil
			case errs[i] != nil:
				return text, errs[i]
			case int64(len(text)) >= most:
				return text[:most], nil
			}
		}
		at += int64(many * size)
	}
}

func (o *overSFTP) Space(path string) (size, free int64, err error) {
	c, err := o.files()
	if err != nil {
		return 0, 0, err
	}
	st, err := c.StatVFS(path)
	if err != nil {
		return 0, 0, err
	}
	return int64(st.Blocks * st.Frsize), int64(st.Bavail * st.Frsize), nil
}

// mostProc is how much of a table of the kernel is read, in bytes.
const mostProc = 8 << 20

// Proc copies what the kernel of the machine tells of its network. Which process has which socket is not in it.
func (o *overSFTP) Proc() (folder string, done func(), err error) {
	dir, err := os.MkdirTemp("", "lantern-proc-")
	if err != nil {
		return "", nil, err
	}
	done = func() { os.RemoveAll(dir) }
	if err := os.Mkdir(filepath.Join(dir, "net"), 0o700); err != nil {
		done()
		return "", nil, err
	}
	var found atomic.Bool
	var work errgroup.Group
	for _, name := range []string{"net/tcp", "net/tcp6", "net/udp", "net/udp6", "net/route"} {
		work.Go(func() error {
			text, err := o.Read("/proc/"+name, mostProc)
			if err != nil {
				return nil //nolint:nilerr // a kernel without IPv6 has no such file
			}
			found.Store(true)
			return os.WriteFile(filepath.Join(dir, name), text, 0o600)
		})
	}
	err = work.Wait()
	if err == nil && !found.Load() {
		err = fs.ErrNotExist
	}
	if err != nil {
		done()
		return "", nil, err
	}
	return dir, done, nil
}

func (o *overSFTP) SeesAll() bool { return false }
