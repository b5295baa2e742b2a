package app

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/hostconn"
	"proudlantern.example/lantern/labdir"
)

// trialSuffix is on the name of a stack that is only tried.
const trialSuffix = "-trial"

// Trial is what a backup has shown when it was tried.
type Trial struct {
	Stack   string // the name that it had
	Outcome deploy.Outcome
	Notes   []string // what was otherwise than in the stack itself
}

// Try deploys what is in a backup as a stack of another name, beside the original: with copies of the data, on ports of
// loopback that are free, on a network of its own alone. Once it is proven, or not, nothing of it stays.
func (w *Workspace) Try(ctx context.Context, file string, o RestoreOptions) (t *Trial, err error) {
	r, err := w.reading(ctx, file, o)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	t = &Trial{Stack: r.About.Stack + trialSuffix}
	if w.Stack(t.Stack) != nil {
		return nil, usage("the lab has a stack %s, which is the name that a trial gets", t.Stack)
	}
	if err := os.MkdirAll(filepath.Join(w.Dir, ".lantern"), 0o700); err != nil {
		return nil, usage("the lab cannot be written: %s", labdir.InWords(err))
	}
	dir, err := os.MkdirTemp(filepath.Join(w.Dir, ".lantern"), "trial-")
	if err != nil {
		return nil, usage("the lab cannot be written: %s", labdir.InWords(err))
	}
	defer os.RemoveAll(dir)
	copied, err := w.trialLab(ctx, r, t, filepath.Join(dir, "lab"))
	if err != nil {
		return nil, err
	}
	st := copied.Stack(t.Stack)
	if st == nil || st.Broken || st.Host == nil {
		return nil, &Error{Kind: Stopped, Message: "the files of the stack in the backup cannot be understood in this lab"}
	}
	if err := w.canChange(ctx, st.Host, "restore"); err != nil {
		return nil, err
	}
	d, err := w.deployer(ctx, st.Host, o.Report)
	if err != nil {
		return nil, err
	}
	defer d.Engine.Close()
	x := &trial{Trial: t, r: r, on: d, dir: filepath.Join(dir, "data"), st: st}
	// What belongs to the lab, no engine without root may enter.
	if rootless := d.Engine.Rootless(ctx); rootless || d.Engine.Conn.Files != hostconn.Local {
		if x.dir, x.mode = x.beside(), 0o700; rootless {
			x.mode = 0o711
		}
	}
	defer func() { err = errors.Join(err, x.clear(context.WithoutCancel(ctx))) }()
	if err := x.set(); err != nil {
		return nil, err
	}
	defer func() {
		out, lost := d.Retire(context.WithoutCancel(ctx), t.Stack, deploy.Options{WithVolumes: true})
		if err == nil && (lost != nil || len(out.ManualSteps) > 0) {
			err = &Error{Kind: Manual, Message: "something is left of the trial", Do: "lantern retire " + t.Stack + " --with-volumes", Err: lost}
		}
	}()
	if err := x.fill(ctx); err != nil {
		return nil, err
	}
	t.Outcome, err = d.Deploy(ctx, st, deploy.Options{})
	if err != nil {
		err = &Error{Kind: Stopped, Message: "the trial could not begin: " + err.Error(), Err: err}
	}
	return t, err
}

// trialLab makes a lab that has the stack of the backup under the name of the trial.
func (w *Workspace) trialLab(ctx context.Context, r *Restoring, t *Trial, dir string) (*Workspace, error) {
	files, err := r.reader.Files(ctx)
	if err != nil {
		return nil, notRead(r.file, err)
	}
	if err := os.Mkdir(dir, 0o700); err != nil {
		return nil, usage("the lab cannot be written: %s", labdir.InWords(err))
	}
	files[declare.LabFile] = w.TextNow(declare.LabFile)
	for _, path := range slices.Sorted(maps.Keys(files)) {
		to := path
		if rest, ok := strings.CutPrefix(path, r.About.Stack+"/"); ok {
			to = t.Stack + "/" + rest
		}
		if err := labdir.WriteIn(dir, to, "", files[path], SecretMode); err != nil {
			return nil, usage("%s cannot be written: %s", to, labdir.InWords(err))
		}
	}
	copied, err := Open(dir, w.caller)
	if err != nil {
		return nil, err
	}
	if st := copied.Stack(t.Stack); st != nil && st.Host != nil {
		copied = copied.Survey(ctx, st.Host.Name)
	}
	return copied, nil
}

// trial is one that is being prepared.
type trial struct {
	*Trial
	r     *Restoring
	on    *deploy.Deployer
	dir   string // on the host, of the data
	mode  uint32 // of that folder; 0 where it goes with the trial's lab
	st    *lab.Stack
	empty []folders.Folder // that stand for what is not in the backup
	hands folders.Worker   // nil before something was made
}

// beside is a folder for the data beside that of the original, where there is room for such.
func (x *trial) beside() string {
	beside := "/var/tmp"
	for _, root := range x.r.About.Roots {
		if root.Path != "" && filepath.Dir(root.Path) != "/" {
			beside = filepath.Dir(root.Path)
			break
		}
	}
	return filepath.Join(beside, ".trial-"+strings.ToLower(rand.Text()[:8])+folders.FreshSuffix)
}

// clear takes the data away.
func (x *trial) clear(ctx context.Context) error {
	if x.hands == nil {
		return nil
	}
	var err error
	if x.mode != 0 {
		err = x.hands.Remove(ctx, []string{x.dir})
	}
	return errors.Join(err, x.hands.Close())
}

// set changes the stack so that nothing of the original is touched.
func (x *trial) set() error {
	x.st.Own = true
	for _, v := range x.st.Volumes {
		v.EngineName, v.Existing = x.Stack+"."+v.Name, false
	}
	note := func(text string) {
		if !slices.Contains(x.Notes, text) {
			x.Notes = append(x.Notes, text)
		}
	}
	for _, s := range x.st.Services {
		if s.NetworkMode == "host" {
			return &Error{
				Kind:    Stopped,
				Message: s.Name + " lives in the host's network, where a second one would be in the way of the first: this stack cannot be tried",
			}
		}
		s.TakesOver, s.Overlap = "", false
		s.OneCopy()
		if len(s.Networks) > 0 {
			s.Networks = nil
			note("it is on no network of the lab: what other stacks give is not there")
		}
		s.After = slices.DeleteFunc(s.After, func(a lab.After) bool { return a.Service.Stack != s.Stack })
		for i := range s.Ports {
			s.Ports[i].Host = declare.Range{} // the engine picks one
			s.Ports[i].Addresses = []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}
		}
		for i := range s.Mounts {
			if err := x.mount(s, &s.Mounts[i], note); err != nil {
				return err
			}
		}
	}
	return nil
}

// mount lets a mount be of the copy; what is only read, and not in the backup, stays what it is.
func (x *trial) mount(s *lab.Service, m *lab.Mount, note func(string)) error {
	switch {
	case m.Kind == declare.MountEngine:
		return &Error{
			Kind: Stopped, Message: s.Name + " works with the engine itself, and so would a second one: this stack cannot be tried",
		}
	case m.Kind != declare.MountPath:
		return nil
	}
	for n, root := range x.r.About.Roots {
		if root.Path != "" && slices.Contains(root.At, s.Name+" "+m.Target) {
			m.Source = x.place(n)
			return nil
		}
	}
	for n, root := range x.r.About.Roots { // one that lies in another one went with it
		if root.Path != "" && declare.Below(m.Source, root.Path) {
			m.Source = x.place(n) + strings.TrimPrefix(m.Source, root.Path)
			return nil
		}
	}
	if !m.ReadOnly {
		note(m.Source + " is not in the backup: there is an empty folder in its place")
		m.Source, m.Create = filepath.Join(x.dir, "empty", s.Name, m.Target), true
		x.empty = append(x.empty, folders.Folder{Path: m.Source, Mode: 0o777})
	}
	return nil
}

// place is where a root that is no volume is unpacked.
func (x *trial) place(n int) string { return filepath.Join(x.dir, filepath.Base(backup.RootName(n))) }

// fill makes the volumes, and brings the data back.
func (x *trial) fill(ctx context.Context) error {
	for n, root := range x.r.About.Roots {
		s := RestoreStep{Root: n, Name: root.String(), Place: x.place(n)}
		if root.Volume != "" {
			i := slices.IndexFunc(x.st.Volumes, func(v *lab.Volume) bool { return v.Name == root.Volume })
			if i < 0 {
				continue
			}
			s.Volume, s.Place = x.st.Volumes[i], ""
		}
		x.r.Steps = append(x.r.Steps, s)
	}
	if err := x.r.makeVolumes(ctx, x.on, x.st); err != nil {
		return err
	}
	above := []string{filepath.Dir(x.dir)}
	for _, s := range x.r.Steps {
		if s.Volume != nil {
			above = append(above, filepath.Dir(s.Place))
		}
	}
	var err error
	if x.hands, err = x.r.at.worker(ctx, x.on.Engine, x.st.Host, "restore", above, above); err != nil {
		return err
	}
	if err := x.hands.Make(ctx, append([]folders.Folder{{Path: x.dir, Mode: cmp.Or(x.mode, 0o700)}}, x.empty...)); err != nil {
		return notRestored(ctx, err)
	}
	swaps, err := x.r.unpackBeside(ctx, x.hands)
	x.Notes = append(x.Notes, x.r.Notes...)
	if err == nil {
		if err = x.hands.Exchange(ctx, swaps); err != nil {
			err = notRestored(ctx, err)
		}
	}
	var kept []string
	for _, s := range swaps {
		if s.Kept != "" { // a volume as it was made
			kept = append(kept, s.Kept)
		}
	}
	return errors.Join(err, x.hands.Remove(ctx, kept))
}
