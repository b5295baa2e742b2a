package folders

import (
	"context"
	"errors"
	"io/fs"
	"syscall"

	"proudlantern.example/lantern/hostconn"
)

// What keeps a change from being undone for good.
var (
	ErrFilled = errors.New("something lies in it, so it stays")
	ErrOther  = errors.New("another one is there now")
)

// Undo brings one path back to what it was.
func (Here) Undo(_ context.Context, n Note) error {
	h, err := hostconn.OpenHandle(n.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && n.Made:
		if err := hostconn.RemoveFolder(n.Path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	case errors.Is(err, fs.ErrNotExist):
		return ErrOther
	case err != nil:
		return err
	}
	defer h.Close()
	switch {
	case h.Inode != n.Inode: // or it was never made by us
		return ErrOther
	case !n.Made:
		return h.SetRights(*n.Was)
	}
	if err := hostconn.RemoveFolder(n.Path); errors.Is(err, syscall.ENOTEMPTY) {
		return ErrFilled
	} else if err != nil {
		return err
	}
	return nil
}
