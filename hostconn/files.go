package hostconn

import (
	"io/fs"

	"proudlantern.example/lantern/core/survey"
)

// Files are those of a host, as far as the reader may see them. Errors wrap those of io/fs.
type Files interface {
	// Stat and Lstat tell what stands at a path; Lstat of a link tells of the link itself.
	Stat(path string) (Info, error)
	Lstat(path string) (Info, error)
	// ACL returns the extended attribute system.posix_acl_access of a file; follow goes through a link.
	ACL(path string, follow bool) ([]byte, error)
	// Real returns a path without links.
	Real(path string) (string, error)
	// Link returns where a link leads.
	Link(path string) (string, error)
	// Names returns the names in a folder, sorted, at most so many; 0 for all.
	Names(path string, most int) ([]string, error)
	// Read returns a plain file, or an error when it is larger than so many bytes.
	Read(path string, most int64) ([]byte, error)
	// Space returns how large the file system at a path is, and what of it a process without privileges may
	// take, in bytes.
	Space(path string) (size, free int64, err error)
	// Proc returns a folder of this machine that shows the host's processes and sockets (proc(5)), as far as this way
	// leads to them; done is called when it is not needed any more.
	Proc() (folder string, done func(), err error)
	// SeesAll reports whether nothing of the host is hidden from the reader.
	SeesAll() bool
}

// Info is what stands at a path.
type Info struct {
	Mode fs.FileMode // its kind
	// permissions, with those for setting ids: the last four octal digits of st_mode (inode(7))
	Bits     uint32
	UID, GID survey.ID
}
