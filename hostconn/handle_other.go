//go:build !linux

package hostconn

import "errors"

// Handle is a file or folder of this machine that stays the same one, whatever its path comes to mean: on Linux only.
type Handle struct {
	Folder bool
	Plain  bool // a file that has one name only
	Inode  uint64
	Device uint64
}

// OpenHandle opens what stands at a path.
func OpenHandle(string) (*Handle, error) { return nil, errors.ErrUnsupported }

// MakeFolder makes a folder with the rights that set gives it.
func MakeFolder(string, func(*Handle) error) (*Handle, error) { return nil, errors.ErrUnsupported }

// RemoveFolder removes an empty folder.
func RemoveFolder(string) error { return errors.ErrUnsupported }

// Close lets go of it.
func (h *Handle) Close() {}

// Rights reads who may do what.
func (h *Handle) Rights() (Rights, error) { return Rights{}, errors.ErrUnsupported }

// SetRights changes who may do what.
func (h *Handle) SetRights(Rights) error { return errors.ErrUnsupported }

// Walk calls each for all that lies in a folder.
func (h *Handle) Walk(func(below string, h *Handle) error) error { return errors.ErrUnsupported }
