package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/internal/system"
	"proudlantern.example/lantern/labdir"
)

// OpenBackup opens a backup; keys are files of age identities. It has to be closed.
func OpenBackup(file string, keys []string) (*backup.Reader, error) {
	identities, err := identitiesOf(keys)
	if err != nil {
		return nil, err
	}
	r, err := backup.Open(file, identities)
	if err != nil {
		return nil, notRead(file, err)
	}
	return r, nil
}

// notRead words why a backup cannot be read.
func notRead(file string, err error) error {
	switch {
	case errors.Is(err, context.Canceled):
		return &Error{Kind: Interrupted, Message: "interrupted; nothing was changed"}
	case errors.Is(err, backup.ErrSealed):
		return &Error{Kind: Stopped, Message: file + ": " + err.Error(), Do: "--identity FILE, with the file of its key", Err: err}
	case errors.Is(err, backup.ErrDamaged), errors.Is(err, backup.ErrRefused):
		return &Error{Kind: Stopped, Message: file + ": " + err.Error(), Err: err}
	}
	return usage("%s cannot be read: %s", file, labdir.InWords(err))
}

// RestoreOptions say how a backup is restored.
type RestoreOptions struct {
	Keys    []string // files of age identities
	Special bool     // see [backup.Unpacking]
	Report  func(deploy.Event)
}

// Restoring is a backup that was read to its end and is what was written, before it is restored.
type Restoring struct {
	About backup.About
	Steps []RestoreStep
	Files map[string]string // of the lab, that are written because the lab has no such stack; by their paths
	Notes []string

	file    string
	reader  *backup.Reader
	lab     *Workspace // with those files
	at      *Workspace
	options RestoreOptions
	sizes   map[int]int64 // bytes of the files of each root
}

// RestoreStep is what becomes of one root.
type RestoreStep struct {
	Root   int
	Name   string      // what a person calls it
	Place  string      // on this machine; "" for a volume that has to be made
	Volume *lab.Volume // nil for a path
	There  bool        // something is there, which is kept beside
	Kept   string      // where that has gone; "" before
}

// Restoring reads a backup to its end, and finds out where what is in it belongs. It has to be closed.
func (w *Workspace) Restoring(ctx context.Context, file string, o RestoreOptions) (*Restoring, error) {
	r, err := w.reading(ctx, file, o)
	if err != nil {
		return nil, err
	}
	if err := r.find(ctx); err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

// reading opens a backup and makes sure that it is what was written.
func (w *Workspace) reading(ctx context.Context, file string, o RestoreOptions) (*Restoring, error) {
	reader, err := OpenBackup(file, o.Keys)
	if err != nil {
		return nil, err
	}
	r := &Restoring{About: reader.About, file: file, reader: reader, at: w, options: o, sizes: map[int]int64{}, Files: map[string]string{}}
	report := reader.Verify(ctx, func(e backup.Member) {
		for n := range r.About.Roots {
			if declare.Below(e.Path, backup.RootName(n)) {
				r.sizes[n] += e.Size
			}
		}
	})
	switch {
	case report.Err != nil:
		err = notRead(file, report.Err)
	case !report.Whole():
		err = &Error{
			Kind: Stopped, Message: fmt.Sprintf("%s: the backup is damaged: %s", file, strings.Join(report.Damaged, ", ")),
		}
		if len(report.Damaged) > 3 {
			err = &Error{Kind: Stopped, Message: fmt.Sprintf("%s: the backup is damaged: %d members", file, len(report.Damaged))}
		}
	case !declare.IsName(r.About.Stack):
		err = notRead(file, fmt.Errorf("%w: it is of no stack", backup.ErrRefused))
	case r.About.Lab != w.Name:
		r.Notes = append(r.Notes, "it is of another lab, "+r.About.Lab)
	}
	if err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

// Close closes the backup.
func (r *Restoring) Close() { r.reader.Close() }

// find works out where the roots belong: where the stack mounts now what it mounted then.
func (r *Restoring) find(ctx context.Context) error {
	w := r.at
	files, err := r.reader.Files(ctx)
	if err != nil {
		return notRead(r.file, err)
	}
	if _, err := os.Lstat(filepath.Join(w.Dir, r.About.Stack)); errors.Is(err, fs.ErrNotExist) {
		for path, text := range files {
			if strings.HasPrefix(path, r.About.Stack+"/") {
				r.Files[path] = text
			}
		}
	}
	if r.lab, err = w.with(r.Files); err != nil {
		return err
	}
	st := r.lab.Stack(r.About.Stack)
	if st == nil || st.Broken || st.Host == nil {
		return usage("%s, as it is in the lab now, cannot be understood: lantern check %s, or restore the backup with --beside DIR",
			r.About.Stack, r.About.Stack)
	}
	if err := w.canChange(ctx, st.Host, "restore"); err != nil {
		return err
	}
	d, err := w.deployer(ctx, st.Host, nil)
	if err != nil {
		return err
	}
	defer d.Engine.Close()
	volumes, err := d.Engine.Volumes(ctx)
	if err != nil {
		return unreachable(st.Host.Name, err)
	}
	for n, root := range r.About.Roots {
		m, ok := mountedAt(st, root)
		if !ok {
			r.Notes = append(r.Notes, root.String()+" is left out: "+st.Name+" does not mount it any more; --beside DIR brings it back")
			continue
		}
		s := RestoreStep{Root: n, Name: m.Source, Place: m.Source, Volume: m.Volume}
		if m.Volume != nil {
			s.Name, s.Place = "volume "+m.Volume.Name, placeOf(volumes, m.Volume.EngineName)
		}
		r.Steps = append(r.Steps, s)
	}
	var places []string
	for _, s := range r.Steps {
		places = append(places, s.Place)
	}
	hands, err := w.worker(ctx, d.Engine, st.Host, "restore", places, nil)
	if err != nil {
		return err
	}
	there, err := hands.There(ctx, places)
	for i := range there {
		r.Steps[i].There = there[i] && places[i] != ""
	}
	return errors.Join(err, hands.Close())
}

// with returns the lab with further files, which it does not have yet.
func (w *Workspace) with(files map[string]string) (*Workspace, error) {
	if len(files) == 0 {
		return w, nil
	}
	return w.Overlay(files)
}

// mountedAt returns the mount that a root was of.
func mountedAt(st *lab.Stack, root backup.Root) (lab.Mount, bool) {
	for _, s := range st.Services {
		for _, m := range s.Mounts {
			kind := m.Kind == declare.MountVolume && root.Volume != "" || m.Kind == declare.MountPath && root.Volume == ""
			if kind && slices.Contains(root.At, s.Name+" "+m.Target) {
				return m, true
			}
		}
	}
	return lab.Mount{}, false
}

// Beside unpacks all of it into a folder that does not exist yet.
func (w *Workspace) Beside(ctx context.Context, file, dir string, o RestoreOptions) (*Restoring, error) {
	r, err := w.reading(ctx, file, o)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	files, err := r.reader.Files(ctx)
	if err != nil {
		return nil, notRead(file, err)
	}
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, usage("%s cannot be made: %s", dir, labdir.InWords(err))
	}
	for _, path := range slices.Sorted(maps.Keys(files)) {
		if err := labdir.WriteIn(dir, path, "", files[path], SecretMode); err != nil {
			return nil, usage("%s cannot be written: %s", path, labdir.InWords(err))
		}
	}
	for n, root := range r.About.Roots {
		name := fmt.Sprintf("%04d-%s", n, filepath.Base(root.Path))
		if root.Volume != "" {
			name = fmt.Sprintf("%04d-%s", n, root.Volume)
		}
		r.Steps = append(r.Steps, RestoreStep{Root: n, Name: root.String(), Place: filepath.Join(dir, name)})
	}
	return r, r.unpack(ctx, folders.Here{}, func(s RestoreStep) string { return s.Place })
}

// unpack unpacks the roots of the steps to where place says.
func (r *Restoring) unpack(ctx context.Context, hands folders.Worker, place func(RestoreStep) string) error {
	u, places := &backup.Unpacking{Special: r.options.Special}, map[int]string{}
	for _, s := range r.Steps {
		places[s.Root] = place(s)
	}
	if hands == (folders.Here{}) && os.Geteuid() != 0 {
		r.Notes = append(r.Notes, "owners are not brought back: only root may give files to others")
	}
	err := hands.Unpack(ctx, r.reader, u, places)
	r.Notes = append(r.Notes, inPlaces(u.Notes, r.About.Roots)...)
	if err != nil {
		return notRestored(ctx, err)
	}
	return nil
}

func notRestored(ctx context.Context, err error) error {
	var known *Error
	var room *folders.RoomError
	switch {
	case errors.As(err, &known):
		return err
	case ctx.Err() != nil:
		return &Error{Kind: Interrupted, Message: "interrupted; what was there is as it was"}
	case errors.As(err, &room):
		return &Error{
			Kind: Stopped, Message: room.Error() + ": what is there is kept until all is restored",
			Do: "make room, or move what is there away by hand first",
		}
	case errors.Is(err, fs.ErrPermission):
		return &Error{
			Kind: Stopped, Message: "nothing was restored: " + labdir.InWords(err), Do: "run it as root (sudo)", Err: err,
		}
	}
	return &Error{Kind: Stopped, Message: "nothing was restored: " + err.Error(), Err: err}
}

// CarryOut unpacks everything beside what is there, and only then, while the stack stands still, lets it take its place.
// It returns how long that took.
func (r *Restoring) CarryOut(ctx context.Context) (stood time.Duration, err error) {
	st := r.lab.Stack(r.About.Stack)
	d, err := r.at.deployer(ctx, st.Host, r.options.Report)
	if err != nil {
		return 0, err
	}
	defer d.Engine.Close()
	if err := r.makeVolumes(ctx, d, st); err != nil {
		return 0, err
	}
	var above []string
	for _, s := range r.Steps {
		above = append(above, filepath.Dir(s.Place))
	}
	hands, err := r.at.worker(ctx, d.Engine, st.Host, "restore", above, above)
	if err != nil {
		return 0, err
	}
	defer hands.Close()
	swaps, err := r.unpackBeside(ctx, hands)
	if err != nil {
		return 0, err
	}
	stood, out, err := d.Rest(ctx, st.Name, st, func() error { return hands.Exchange(ctx, swaps) })
	for i, s := range swaps {
		if r.Steps[i].Kept = s.Kept; s.Kept != "" {
			r.at.remember(st.Host.Name, s.Kept)
		}
	}
	if err == nil {
		err = r.writeFiles()
	}
	if err == nil {
		err = rested(st.Name, out)
	}
	if err != nil {
		removeFresh(ctx, hands, swaps)
		return stood, notRestored(ctx, err)
	}
	return stood, nil
}

// writeFiles writes the files of the stack, where the lab had none of them.
func (r *Restoring) writeFiles() error {
	for _, path := range slices.Sorted(maps.Keys(r.Files)) {
		mode := fs.FileMode(SecretMode)
		if strings.HasSuffix(path, ".toml") {
			mode = 0o644
		}
		if err := labdir.WriteIn(r.at.Dir, path, "", r.Files[path], mode); err != nil {
			return usage("%s cannot be written: %s", path, labdir.InWords(err))
		}
	}
	return nil
}

// unpackBeside unpacks each root beside what is there. An error leaves nothing of that.
func (r *Restoring) unpackBeside(ctx context.Context, hands folders.Worker) (swaps []*folders.Swap, err error) {
	defer func() {
		if err != nil {
			removeFresh(ctx, hands, swaps)
		}
	}()
	var places []folders.Wanted
	for _, s := range r.Steps {
		places = append(places, folders.Wanted{Place: s.Place, Bytes: r.sizes[s.Root]})
	}
	if swaps, err = hands.Begin(ctx, places); err != nil {
		return swaps, notRestored(ctx, err)
	}
	if len(swaps) != len(places) {
		return swaps, &Error{Kind: Stopped, Message: "the helper has made ready for something else"}
	}
	return swaps, r.unpack(ctx, hands, func(s RestoreStep) string {
		return swaps[slices.IndexFunc(r.Steps, func(o RestoreStep) bool { return o.Root == s.Root })].Fresh
	})
}

func removeFresh(ctx context.Context, hands folders.Worker, swaps []*folders.Swap) {
	var paths []string
	for _, s := range swaps {
		paths = append(paths, s.Fresh)
	}
	hands.Remove(context.WithoutCancel(ctx), paths)
}

// makeVolumes makes the volumes that are not there.
func (r *Restoring) makeVolumes(ctx context.Context, d *deploy.Deployer, st *lab.Stack) error {
	for _, v := range plan.VolumesOf(st) {
		i := slices.IndexFunc(r.Steps, func(s RestoreStep) bool { return s.Volume != nil && s.Volume.EngineName == v.Name })
		if i < 0 || r.Steps[i].Place != "" {
			continue
		}
		// Of no deploy: none takes it away when it is put back.
		labels := map[string]string{plan.LabelLab: d.Lab, plan.LabelStack: st.Name, plan.LabelEntry: "0"}
		if _, err := d.Engine.CreateVolume(ctx, v, labels); err != nil {
			return &Error{Kind: Stopped, Message: "the volume " + v.Name + ": " + err.Error(), Err: err}
		}
		volumes, err := d.Engine.Volumes(ctx)
		if err != nil {
			return unreachable(d.Host, err)
		}
		if r.Steps[i].Place = placeOf(volumes, v.Name); r.Steps[i].Place == "" {
			return &Error{Kind: Stopped, Message: "the engine of " + d.Host + " does not say where the volume " + v.Name + " lies"}
		}
	}
	return nil
}

// keptFile names, a line each, what was there before something was restored.
const keptFile = ".lantern/before-restore.jsonl"

// keptPath is a line of that file.
type keptPath struct {
	Host string `json:"host"`
	Path string `json:"path"`
}

// remember writes down what was kept, for a sweep.
func (w *Workspace) remember(host, path string) {
	line, err := json.Marshal(keptPath{host, path})
	if err == nil {
		var f *os.File
		if f, err = os.OpenFile(filepath.Join(w.Dir, keptFile), os.O_WRONLY|os.O_CREATE|os.O_APPEND|system.NoFollow, 0o600); err == nil {
			_, err = f.Write(append(line, '\n'))
			err = errors.Join(err, f.Close())
		}
	}
	if err != nil {
		w.warn("a sweep will not find %s: %s", path, labdir.InWords(err))
	}
}

// keptOn returns what was there on a host before something was restored, and is there still.
func (w *Workspace) keptOn(ctx context.Context, e *engine.Engine, h *lab.Host) ([]string, error) {
	paths := w.kept(h.Name)
	if len(paths) == 0 {
		return nil, nil
	}
	hands, err := w.worker(ctx, e, h, "sweep", paths, nil)
	if err != nil {
		return nil, err
	}
	defer hands.Close()
	there, err := hands.There(ctx, paths)
	var found []string
	for i, is := range there {
		if is {
			found = append(found, paths[i])
		}
	}
	return found, err
}

// kept returns what was written down of a host.
func (w *Workspace) kept(host string) []string {
	text, err := labdir.ReadAny(filepath.Join(w.Dir, keptFile), 1<<20)
	if err != nil {
		return nil
	}
	var all []string
	for line := range strings.Lines(text) {
		var k keptPath
		if json.Unmarshal([]byte(line), &k) != nil || k.Host != host || !filepath.IsAbs(k.Path) ||
			!strings.Contains(filepath.Base(k.Path), folders.KeptSuffix) || slices.Contains(all, k.Path) {
			continue
		}
		all = append(all, k.Path)
	}
	return all
}
