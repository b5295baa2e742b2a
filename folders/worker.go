package folders

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/core/prepare"
)

// Worker changes folders of one machine: [Here], or a helper elsewhere. Errors wrap those of io/fs and of this package.
type Worker interface {
	// Carry carries out one step of a preparation. Before each change write is told of it, and an error of its keeps
	// the change from being made.
	Carry(ctx context.Context, s prepare.Step, write func(Note) error) error
	// Undo brings back what was before a change that was written down.
	Undo(ctx context.Context, n Note) error
	// There reports for each path whether something is there.
	There(ctx context.Context, paths []string) ([]bool, error)
	// Make makes folders, and those above them that are missing.
	Make(ctx context.Context, folders []Folder) error
	// Pack adds all that is at a place to a backup, as root number n.
	Pack(ctx context.Context, to *backup.Writer, n int, place string) error
	// Unpack makes roots of a backup anew at places, by their numbers.
	Unpack(ctx context.Context, from *backup.Reader, u *backup.Unpacking, places map[int]string) error
	// Begin, Exchange and Remove let what was unpacked take the place of what is there: see [Swap].
	Begin(ctx context.Context, places []Wanted) ([]*Swap, error)
	Exchange(ctx context.Context, swaps []*Swap) error
	Remove(ctx context.Context, paths []string) error
	// Close ends what it takes to work there.
	Close() error
}

var _ Worker = Here{}

// There reports for each path whether something is there; what cannot be seen counts as there.
func (Here) There(_ context.Context, paths []string) ([]bool, error) {
	there := make([]bool, len(paths))
	for i, p := range paths {
		_, err := os.Lstat(p)
		there[i] = !errors.Is(err, fs.ErrNotExist)
	}
	return there, nil
}

// Folder is one to make.
type Folder struct {
	Path string `json:"path"`
	Mode uint32 `json:"mode"` // as chmod has it
}

// Make makes folders. One that is there stays as it is.
func (Here) Make(_ context.Context, folders []Folder) error {
	for _, f := range folders {
		if err := os.MkdirAll(filepath.Dir(f.Path), 0o700); err != nil {
			return err
		}
		if err := os.Mkdir(f.Path, 0o700); errors.Is(err, fs.ErrExist) {
			continue
		} else if err != nil {
			return err
		}
		if err := os.Chmod(f.Path, fs.FileMode(f.Mode)&fs.ModePerm); err != nil {
			return err
		}
	}
	return nil
}

// Pack adds all that is at a place to a backup.
func (Here) Pack(ctx context.Context, to *backup.Writer, n int, place string) error {
	return to.Root(ctx, n, place)
}

// Unpack makes roots of a backup anew. Owners are given back where root works.
func (Here) Unpack(ctx context.Context, from *backup.Reader, u *backup.Unpacking, places map[int]string) error {
	u.Owners, u.Place = os.Geteuid() == 0, func(n int) string { return places[n] }
	return from.Unpack(ctx, u)
}

// Close does nothing.
func (Here) Close() error { return nil }
