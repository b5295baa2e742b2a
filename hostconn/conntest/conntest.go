// Package conntest is a way to a host that is a folder: its files are those below it, and whatever listens in
// the test is its engine.
package conntest

import (
	"context"
	"io/fs"
	"net"
	"path/filepath"
	"strings"

	"proudlantern.example/lantern/hostconn"
)

// To returns the way to a host whose files lie below a folder and whose engine listens on a socket. Its ports
// are those of this machine, and Dialed is told which were asked for.
func To(folder, socket string, dialed func(address string)) *hostconn.Conn {
	return &hostconn.Conn{
		Address: "unix://" + socket, Socket: socket, Private: true, Files: files{hostconn.Local, folder},
		Engine: func(ctx context.Context) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket)
		},
		Port: func(ctx context.Context, address string) (net.Conn, error) {
			dialed(address)
			return (&net.Dialer{}).DialContext(ctx, "tcp", address)
		},
	}
}

// files puts a folder before each path.
type files struct {
	hostconn.Files
	folder string
}

func (f files) at(path string) string { return filepath.Join(f.folder, path) }

func (f files) Stat(path string) (hostconn.Info, error)  { return f.Files.Stat(f.at(path)) }
func (f files) Lstat(path string) (hostconn.Info, error) { return f.Files.Lstat(f.at(path)) }
func (f files) ACL(path string, follow bool) ([]byte, error) {
	return f.Files.ACL(f.at(path), follow)
}
func (f files) Link(path string) (string, error) { return f.Files.Link(f.at(path)) }
func (f files) Names(path string, most int) ([]string, error) {
	return f.Files.Names(f.at(path), most)
}
func (f files) Read(path string, most int64) ([]byte, error) { return f.Files.Read(f.at(path), most) }
func (f files) Space(path string) (size, free int64, err error) {
	return f.Files.Space(f.at(path))
}
func (f files) Proc() (string, func(), error) { return f.at("/proc"), func() {}, nil }
func (f files) SeesAll() bool                 { return false }

// Real returns a path without links, as the host has it. One that leads out of the folder does not exist there.
func (f files) Real(path string) (string, error) {
	real, err := f.Files.Real(f.at(path))
	if err != nil {
		return "", err
	}
	root, err := f.Files.Real(f.folder)
	if err != nil {
		return "", err
	}
	inside, ok := strings.CutPrefix(real, root)
	if !ok {
		return "", &fs.PathError{Op: "readlink", Path: path, Err: fs.ErrNotExist}
	}
	return filepath.Join("/", inside), nil
}
