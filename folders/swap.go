package folders

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/internal/system"
)

// Swap lets something take the place of what is there, which is kept beside it. Where the place is a mounted file system
// of its own, which cannot be renamed, its content is exchanged.
type Swap struct {
	Place  string `json:"place"`
	Fresh  string `json:"fresh"`            // where what takes the place is made
	Kept   string `json:"kept,omitempty"`   // where what was there has gone; "" before
	Within bool   `json:"within,omitempty"` // the content is exchanged
}

const (
	// FreshSuffix is behind the name of what a restore is making.
	FreshSuffix = ".restoring"
	// KeptSuffix is behind the name of what was there before a restore.
	KeptSuffix = ".before-restore"
)

// Wanted is a place, and how many bytes shall be made beside it.
type Wanted struct {
	Place string `json:"place"`
	Bytes int64  `json:"bytes"`
}

// RoomError is that a disk has no room for what is made beside what is there.
type RoomError struct {
	Wanted
	Free int64 `json:"free"`
}

func (e *RoomError) Error() string {
	return fmt.Sprintf("%s needs %d bytes, and its disk has %d free", e.Place, e.Bytes, e.Free)
}

// Begin makes ready for something to be made beside each place. It may return a *[RoomError].
func (Here) Begin(_ context.Context, places []Wanted) (swaps []*Swap, err error) {
	for _, p := range places {
		s := &Swap{Place: p.Place, Fresh: p.Place + FreshSuffix}
		if err := os.MkdirAll(filepath.Dir(p.Place), 0o755); err != nil {
			return swaps, err
		}
		if s.Within = system.IsMountPoint(p.Place); s.Within {
			s.Fresh = filepath.Join(p.Place, FreshSuffix)
		}
		// What a restore that was killed has left.
		if err := os.RemoveAll(s.Fresh); err != nil {
			return swaps, err
		}
		// Where the room is not known, the writing tells.
		if _, free, err := system.Space(filepath.Dir(s.Fresh)); err == nil && free < p.Bytes {
			return swaps, &RoomError{p, free}
		}
		swaps = append(swaps, s)
	}
	return swaps, nil
}

// Exchange exchanges all of them, or none. What was there is named by Kept afterwards.
func (Here) Exchange(_ context.Context, swaps []*Swap) error {
	for i, s := range swaps {
		if err := s.exchange(); err != nil {
			for _, done := range slices.Backward(swaps[:i]) {
				done.back()
			}
			return err
		}
	}
	return nil
}

// Remove removes what a restore has made or kept, with all that is in it. Paths of others are an error.
func (Here) Remove(_ context.Context, paths []string) error {
	var problems []error
	for _, p := range paths {
		if name := filepath.Base(p); !strings.Contains(name, FreshSuffix) && !strings.Contains(name, KeptSuffix) {
			problems = append(problems, fmt.Errorf("%s is nothing that a restore has made", p))
			continue
		}
		problems = append(problems, os.RemoveAll(p))
	}
	return errors.Join(problems...)
}

// exchange does it; an error leaves what was there in its place.
func (s *Swap) exchange() error {
	if _, err := os.Lstat(s.Fresh); errors.Is(err, fs.ErrNotExist) {
		return nil // nothing of it is in the backup
	}
	if s.Within {
		return s.exchangeWithin()
	}
	if _, err := os.Lstat(s.Place); err == nil {
		s.Kept = freeName(s.Place + KeptSuffix)
		if err := os.Rename(s.Place, s.Kept); err != nil {
			s.Kept = ""
			return err
		}
	}
	if err := os.Rename(s.Fresh, s.Place); err != nil {
		s.back()
		return err
	}
	return nil
}

// freeName returns a path where nothing is.
func freeName(path string) string {
	name := path
	for n := 2; ; n++ {
		if _, err := os.Lstat(name); errors.Is(err, fs.ErrNotExist) {
			return name
		}
		name = path + "-" + strconv.Itoa(n)
	}
}

func (s *Swap) exchangeWithin() error {
	s.Kept = freeName(filepath.Join(s.Place, KeptSuffix))
	if err := os.Mkdir(s.Kept, 0o700); err != nil {
		return err
	}
	if err := moveAll(s.Place, s.Kept); err != nil {
		return errors.Join(err, moveAll(s.Kept, s.Place))
	}
	info, err := os.Lstat(s.Fresh)
	if err == nil {
		err = moveAll(s.Fresh, s.Place)
	}
	if err != nil {
		s.back()
		return err
	}
	st, _ := system.FactsOf(info)
	return errors.Join(os.Chown(s.Place, int(st.UID), int(st.GID)), os.Chmod(s.Place, info.Mode()), os.Remove(s.Fresh))
}

// moveAll moves what is in a folder, but for what a restore has made there.
func moveAll(from, to string) error {
	entries, err := os.ReadDir(from)
	for _, e := range entries {
		if n := e.Name(); err == nil && !strings.HasPrefix(n, FreshSuffix) && !strings.HasPrefix(n, KeptSuffix) {
			err = os.Rename(filepath.Join(from, n), filepath.Join(to, n))
		}
	}
	return err
}

// back undoes an exchange.
func (s *Swap) back() {
	switch {
	case s.Kept == "":
	case s.Within:
		moveAll(s.Place, s.Fresh)
		moveAll(s.Kept, s.Place)
		os.Remove(s.Kept)
	default:
		os.Rename(s.Place, s.Fresh)
		os.Rename(s.Kept, s.Place)
	}
	s.Kept = ""
}
