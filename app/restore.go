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
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/deploy"
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
	if err := w.isHere(ctx, st.Host, "restore"); err != nil {
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
		if _, err := os.Lstat(s.Place); err == nil {
			s.There = true
		}
		r.Steps = append(r.Steps, s)
	}
	return nil
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
	return r, r.unpack(ctx, func(s RestoreStep) string { return s.Place })
}

// unpack unpacks the roots of the steps to where place says.
func (r *Restoring) unpack(ctx context.Context, place func(RestoreStep) string) error {
	u := &backup.Unpacking{Owners: os.Geteuid() == 0, Special: r.options.Special, Place: func(n int) string {
		i := slices.IndexFunc(r.Steps, func(s RestoreStep) bool { return s.Root == n })
		if i < 0 {
			return ""
		}
		return place(r.Steps[i])
	}}
	if !u.Owners {
		r.Notes = append(r.Notes, "owners are not brought back: only root may give files to others")
	}
	err := r.reader.Unpack(ctx, u)
	r.Notes = append(r.Notes, inPlaces(u.Notes, r.About.Roots)...)
	if err != nil {
		return notRestored(ctx, err)
	}
	return nil
}

func notRestored(ctx context.Context, err error) error {
	var known *Error
	switch {
	case errors.As(err, &known):
		return err
	case ctx.Err() != nil:
		return &Error{Kind: Interrupted, Message: "interrupted; what was there is as it was"}
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
	swaps, err := r.unpackBeside(ctx)
	if err != nil {
		return 0, err
	}
	stood, out, err := d.Rest(ctx, st.Name, st, func() error { return exchangeAll(swaps) })
	for i, s := range swaps {
		if r.Steps[i].Kept = s.kept; s.kept != "" {
			r.at.remember(st.Host.Name, s.kept)
		}
	}
	if err == nil {
		err = r.writeFiles()
	}
	if err == nil {
		err = rested(st.Name, out)
	}
	if err != nil {
		removeFresh(swaps)
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
func (r *Restoring) unpackBeside(ctx context.Context) (swaps []*swap, err error) {
	defer func() {
		if err != nil {
			removeFresh(swaps)
		}
	}()
	for _, s := range r.Steps {
		one, err := newSwap(s.Place)
		if err != nil {
			return swaps, notRestored(ctx, err)
		}
		if err := one.room(r.sizes[s.Root]); err != nil {
			return swaps, err
		}
		swaps = append(swaps, one)
	}
	return swaps, r.unpack(ctx, func(s RestoreStep) string {
		return swaps[slices.IndexFunc(r.Steps, func(o RestoreStep) bool { return o.Root == s.Root })].fresh
	})
}

func removeFresh(swaps []*swap) {
	for _, s := range swaps {
		os.RemoveAll(s.fresh)
	}
}

// exchangeAll exchanges all of them, or none.
func exchangeAll(swaps []*swap) error {
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

// swap lets something take the place of what is there, which is kept beside it. Where the place is a mounted file system
// of its own, which cannot be renamed, its content is exchanged.
type swap struct {
	place, fresh, kept string
	within             bool
}

const (
	freshSuffix = ".restoring"
	keptSuffix  = ".before-restore"
)

func newSwap(place string) (*swap, error) {
	s := &swap{place: place, fresh: place + freshSuffix}
	if err := os.MkdirAll(filepath.Dir(place), 0o755); err != nil {
		return nil, err
	}
	if s.within = isMountPoint(place); s.within {
		s.fresh = filepath.Join(place, freshSuffix)
	}
	// What a restore that was killed has left.
	return s, os.RemoveAll(s.fresh)
}

func isMountPoint(place string) bool {
	var here, above unix.Stat_t
	return unix.Lstat(place, &here) == nil && unix.Lstat(filepath.Dir(place), &above) == nil && here.Dev != above.Dev
}

// room makes sure that so many bytes have room beside what is there.
func (s *swap) room(bytes int64) error {
	var disk unix.Statfs_t
	if err := unix.Statfs(filepath.Dir(s.fresh), &disk); err != nil {
		return nil //nolint:nilerr // then the writing tells
	}
	if free := int64(disk.Bavail) * int64(disk.Bsize); free < bytes {
		return &Error{
			Kind: Stopped, Message: fmt.Sprintf("%s needs %d bytes, and its disk has %d free: what is there is kept until all is restored",
				s.place, bytes, free),
			Do: "make room, or move what is there away by hand first",
		}
	}
	return nil
}

// exchange does it; an error leaves what was there in its place.
func (s *swap) exchange() error {
	if _, err := os.Lstat(s.fresh); errors.Is(err, fs.ErrNotExist) {
		return nil // nothing of it is in the backup
	}
	if s.within {
		return s.exchangeWithin()
	}
	if _, err := os.Lstat(s.place); err == nil {
		s.kept = freeName(s.place + keptSuffix)
		if err := os.Rename(s.place, s.kept); err != nil {
			s.kept = ""
			return err
		}
	}
	if err := os.Rename(s.fresh, s.place); err != nil {
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

func (s *swap) exchangeWithin() error {
	s.kept = freeName(filepath.Join(s.place, keptSuffix))
	if err := os.Mkdir(s.kept, 0o700); err != nil {
		return err
	}
	if err := moveAll(s.place, s.kept); err != nil {
		return errors.Join(err, moveAll(s.kept, s.place))
	}
	info, err := os.Lstat(s.fresh)
	if err == nil {
		err = moveAll(s.fresh, s.place)
	}
	if err != nil {
		s.back()
		return err
	}
	st := info.Sys().(*syscall.Stat_t)
	return errors.Join(os.Chown(s.place, int(st.Uid), int(st.Gid)), os.Chmod(s.place, info.Mode()), os.Remove(s.fresh))
}

// moveAll moves what is in a folder, but for what a restore has made there.
func moveAll(from, to string) error {
	entries, err := os.ReadDir(from)
	for _, e := range entries {
		if n := e.Name(); err == nil && !strings.HasPrefix(n, freshSuffix) && !strings.HasPrefix(n, keptSuffix) {
			err = os.Rename(filepath.Join(from, n), filepath.Join(to, n))
		}
	}
	return err
}

// back undoes an exchange.
func (s *swap) back() {
	switch {
	case s.kept == "":
	case s.within:
		moveAll(s.place, s.fresh)
		moveAll(s.kept, s.place)
		os.Remove(s.kept)
	default:
		os.Rename(s.place, s.fresh)
		os.Rename(s.kept, s.place)
	}
	s.kept = ""
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
		if f, err = os.OpenFile(filepath.Join(w.Dir, keptFile), os.O_WRONLY|os.O_CREATE|os.O_APPEND|syscall.O_NOFOLLOW, 0o600); err == nil {
			_, err = f.Write(append(line, '\n'))
			err = errors.Join(err, f.Close())
		}
	}
	if err != nil {
		w.warn("a sweep will not find %s: %s", path, labdir.InWords(err))
	}
}

// kept returns what was there on a host before something was restored, and is there still.
func (w *Workspace) kept(host string) []string {
	text, err := labdir.ReadAny(filepath.Join(w.Dir, keptFile), 1<<20)
	if err != nil {
		return nil
	}
	var all []string
	for line := range strings.Lines(text) {
		var k keptPath
		if json.Unmarshal([]byte(line), &k) != nil || k.Host != host || !filepath.IsAbs(k.Path) ||
			!strings.Contains(filepath.Base(k.Path), keptSuffix) || slices.Contains(all, k.Path) {
			continue
		}
		if _, err := os.Lstat(k.Path); err == nil {
			all = append(all, k.Path)
		}
	}
	return all
}
