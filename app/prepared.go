package app

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/internal/system"
	"proudlantern.example/lantern/labdir"
)

// journal is what a preparation writes down, so that it can be undone, also after it was killed.
type journal struct{ file *os.File }

const (
	journalFolder = ".lantern/prepared"
	journalSuffix = ".jsonl"
)

// journals returns the files of preparations that were not undone, oldest first.
func journals(dir string) ([]string, error) {
	all, err := filepath.Glob(filepath.Join(dir, journalFolder, "*"+journalSuffix))
	slices.Sort(all)
	return all, err
}

// openJournal goes on with the last one where that has no end.
func openJournal(dir string) (*journal, error) {
	folder := filepath.Join(dir, journalFolder)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, usage("what is done cannot be written down: %s", labdir.InWords(err))
	}
	all, err := journals(dir)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(folder, fmt.Sprintf("%06d%s", nextJournal(folder), journalSuffix))
	if wasKilled(dir) {
		path = all[len(all)-1]
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND|system.NoFollow, 0o600)
	if err != nil {
		return nil, usage("what is done cannot be written down: %s", labdir.InWords(err))
	}
	return &journal{file}, nil
}

// nextJournal returns a number that no journal has had.
func nextJournal(folder string) int {
	last := 0
	entries, _ := os.ReadDir(folder)
	for _, e := range entries {
		n := 0
		if fmt.Sscanf(e.Name(), "%06d", &n); n > last {
			last = n
		}
	}
	return last + 1
}

func (j *journal) note(n folders.Note) error {
	line, err := json.Marshal(n)
	if err != nil {
		return err
	}
	if _, err := j.file.Write(append(line, '\n')); err != nil {
		return err
	}
	return j.file.Sync()
}

func (j *journal) end() error { return j.note(folders.Note{End: true}) }

func (j *journal) close() { j.file.Close() }

// mostJournal is how large a journal may be, in bytes: a line for each of 100,000 files.
const mostJournal = 64 << 20

// readJournal reads what was written down. A line that was not written to its end was not acted on.
func readJournal(path string) ([]folders.Note, error) {
	text, err := labdir.ReadAny(path, mostJournal)
	if err != nil {
		return nil, err
	}
	var notes []folders.Note
	for line := range strings.Lines(text) {
		var n folders.Note
		if json.Unmarshal([]byte(line), &n) == nil && strings.HasSuffix(line, "\n") {
			notes = append(notes, n)
		}
	}
	return notes, nil
}

// Undone is what the undoing of a preparation says of a path.
type Undone struct{ Path, Why string } // Why: why it stays as it is; "" where it is as before

// UndoPrepared brings back what the last preparation that was not undone has changed, the last change first. Nothing
// is done without yes, which is told the paths.
func (w *Workspace) UndoPrepared(ctx context.Context, yes func(paths []string) error) ([]Undone, error) {
	unlock, err := labdir.Lock(w.Dir)
	if err != nil {
		return nil, usage("the lab cannot be written: %s", labdir.InWords(err))
	}
	defer unlock()
	all, err := journals(w.Dir)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, usage("nothing was prepared that could be undone")
	}
	file := all[len(all)-1]
	notes, err := readJournal(file)
	if err != nil {
		return nil, usage("what was done cannot be read: %s", labdir.InWords(err))
	}
	notes = slices.DeleteFunc(notes, func(n folders.Note) bool { return n.Path == "" })
	// A folder that was made has two lines: one from before, one with which folder it is.
	notes = slices.DeleteFunc(notes, func(n folders.Note) bool {
		return n.Made && n.Inode == 0 &&
			slices.ContainsFunc(notes, func(o folders.Note) bool { return o.Made && o.Inode != 0 && o.Path == n.Path })
	})
	var paths []string
	for _, n := range notes {
		if !slices.Contains(paths, n.Path) {
			paths = append(paths, n.Path)
		}
	}
	if err := yes(paths); err != nil {
		return nil, err
	}
	team := w.team("prepare --undo")
	defer team.close()
	if err := team.recall(ctx, notes); err != nil {
		return nil, err
	}
	var done []Undone
	for _, n := range slices.Backward(notes) {
		u := Undone{Path: n.Path}
		if err := team.of[n.Host].Undo(ctx, n); err != nil {
			u.Why = labdir.InWords(err)
		}
		done = append(done, u)
	}
	if slices.ContainsFunc(done, func(u Undone) bool {
		return u.Why != "" && u.Why != folders.ErrFilled.Error() && u.Why != folders.ErrOther.Error()
	}) {
		return done, nil // it can be tried again
	}
	return done, os.Rename(file, strings.TrimSuffix(file, journalSuffix)+".undone")
}

// recall adds the workers that the undoing of changes needs. Without a host it is this machine.
func (t *team) recall(ctx context.Context, notes []folders.Note) error {
	t.of[""] = folders.Here{}
	paths := map[string][]string{}
	for _, n := range notes {
		at := n.Path
		if n.Made {
			at = filepath.Dir(at)
		}
		if n.Host != "" {
			paths[n.Host] = append(paths[n.Host], at)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(paths)) {
		if err := t.add(ctx, name, paths[name]); err != nil {
			return err
		}
	}
	return nil
}
