package app

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"filippo.io/age"

	"proudlantern.example/lantern/backup"
	"proudlantern.example/lantern/core/plan"
	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/deploy"
	"proudlantern.example/lantern/deploy/history"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/folders"
	"proudlantern.example/lantern/labdir"
)

// backupFolder is where backups are written when nobody says where.
const backupFolder = ".lantern/backups"

// Endings of the names of backups.
const (
	backupSuffix = ".tar.zst"
	sealedSuffix = backupSuffix + ".age"
)

// BackupOptions say how a backup is taken.
type BackupOptions struct {
	Folder        string   // that it is written into; "" for the lab's own
	Live          bool     // services run on meanwhile
	Only, Without []string // names of what the stack mounts, see [plan.Held.Name]
	EncryptTo     []string // recipients of age
	Keep          int      // so many backups of the stack stay in the folder; 0: all
	Report        func(deploy.Event)
	Progress      func(bytes int64)
}

// Backup is one that was taken.
type Backup struct {
	File    string
	Stack   string
	Entries int
	Bytes   int64         // of the files in it
	Stood   time.Duration // how long something stood still
	Pruned  []string      // older ones that were removed
	Notes   []string      // what is not in it, and what changed while it was read
}

// Backup takes a backup of a stack: of what its services write, of its files and of which images it runs. What runs is
// stopped meanwhile, unless it is to be taken live.
func (w *Workspace) Backup(ctx context.Context, stack string, o BackupOptions) (*Backup, error) {
	st := w.Stack(stack)
	switch {
	case st == nil:
		return nil, w.noStack(stack)
	case st.Broken || st.Host == nil:
		return nil, usage("the files of %s cannot be understood: lantern check %s", stack, stack)
	}
	recipients, err := recipientsOf(o.EncryptTo)
	if err != nil {
		return nil, err
	}
	held, err := plan.Holds(st, o.Only, o.Without)
	if err != nil {
		return nil, usage("%s", err)
	}
	d, err := w.deployer(ctx, st.Host, o.Report)
	if err != nil {
		return nil, err
	}
	defer d.Engine.Close()
	b := &Backup{Stack: stack}
	about := backup.About{
		Backup: backup.Version, Lab: w.Name, Stack: stack, Host: st.Host.Name, Taken: time.Now().UTC().Truncate(time.Second), Live: o.Live,
		Images: []backup.Image{}, Roots: []backup.Root{},
	}
	if about.Images, err = imagesOf(ctx, d, stack, b); err != nil {
		return nil, unreachable(st.Host.Name, err)
	}
	places, err := b.places(ctx, d, held)
	if err != nil {
		return nil, err
	}
	hands, err := w.worker(ctx, d.Engine, st.Host, "backup", places, nil)
	if err != nil {
		return nil, err
	}
	defer hands.Close()
	if places, err = b.roots(ctx, hands, held, places, &about); err != nil {
		return nil, err
	}
	folder, err := w.backupFile(b, o.Folder, about.Taken, len(recipients) > 0)
	if err != nil {
		return nil, err
	}
	take := func() error { return w.take(ctx, b, about, hands, places, recipients, o.Progress) }
	if o.Live {
		err = take()
	} else {
		var out deploy.Outcome
		if b.Stood, out, err = d.Rest(ctx, stack, st, take); err == nil {
			err = rested(stack, out)
		}
	}
	if err != nil {
		return nil, notBackedUp(ctx, stack, err)
	}
	if o.Keep > 0 {
		b.Pruned, err = prune(folder, stack, o.Keep)
	}
	return b, err
}

// backupFile gives a backup the name of its file, in a folder that is made.
func (w *Workspace) backupFile(b *Backup, folder string, taken time.Time, sealed bool) (string, error) {
	if folder == "" {
		folder = filepath.Join(w.Dir, backupFolder)
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", usage("%s cannot be made: %s", folder, labdir.InWords(err))
	}
	backup.Clear(folder)
	suffix := backupSuffix
	if sealed {
		suffix = sealedSuffix
	}
	b.File = filepath.Join(folder, b.Stack+"-"+taken.Format(takenForm)+suffix)
	return folder, nil
}

// takenForm is how the name of a backup tells when it was taken, in UTC.
const takenForm = "20060102T150405Z"

// rested words what has become of a stack that stood still.
func rested(stack string, out deploy.Outcome) error {
	switch out.Result {
	case deploy.Refused:
		return &Error{Kind: Stopped, Message: stack + ": nothing was done: " + out.Holder}
	case deploy.Done, deploy.NothingToDo:
		return nil
	}
	e := &Error{Kind: Manual, Message: stack + " does not run again as before", Do: "lantern status " + stack}
	if out.Failure != nil {
		e.Because = out.Failure.Error()
	}
	return e
}

func notBackedUp(ctx context.Context, stack string, err error) error {
	var known *Error
	switch {
	case errors.As(err, &known):
		return err
	case ctx.Err() != nil:
		return &Error{Kind: Interrupted, Message: "interrupted; no backup of " + stack + " was made"}
	case errors.Is(err, fs.ErrPermission):
		return &Error{
			Kind: Stopped, Message: "no backup of " + stack + " was made: " + labdir.InWords(err),
			Do: "what services write only root may read: run it as root (sudo)", Err: err,
		}
	}
	return &Error{Kind: Stopped, Message: "no backup of " + stack + " was made: " + err.Error(), Err: err}
}

func recipientsOf(list []string) ([]age.Recipient, error) {
	var all []age.Recipient
	for _, text := range list {
		r, err := age.ParseRecipients(strings.NewReader(text))
		if err != nil {
			return nil, usage("%q is no recipient of age: such a one begins with age1", text)
		}
		all = append(all, r...)
	}
	return all, nil
}

// imagesOf returns what the services of a stack run. Volumes that nobody has given a name are noted: they are not in it.
func imagesOf(ctx context.Context, d *deploy.Deployer, stack string, b *Backup) ([]backup.Image, error) {
	containers, err := d.Containers(ctx, stack)
	if err != nil {
		return nil, err
	}
	all := []backup.Image{}
	for _, c := range containers {
		service := c.Labels[plan.LabelService]
		if service == "" {
			continue
		}
		one := backup.Image{Service: service, Image: c.Container.Image, ID: c.ImageID}
		image, err := d.Engine.Image(ctx, c.ImageID)
		if err != nil && !errors.Is(err, engine.ErrNotFound) {
			return nil, err
		}
		one.Digests = image.Digests
		all = append(all, one)
		if len(c.AnonymousVolumes) > 0 {
			b.Notes = append(b.Notes, stack+"/"+service+" has a volume without a name, which is left out: declare one for it")
		}
	}
	return all, nil
}

// places returns where on its machine each root is; "" where that is not known.
func (b *Backup) places(ctx context.Context, d *deploy.Deployer, held []plan.Held) ([]string, error) {
	volumes, err := d.Engine.Volumes(ctx)
	if err != nil {
		return nil, unreachable(d.Host, err)
	}
	var places []string
	for _, h := range held {
		place := h.Path
		if h.Volume != nil {
			place = placeOf(volumes, h.Volume.EngineName)
		}
		places = append(places, place)
	}
	return places, nil
}

// roots returns the places of the roots that there are, and tells of what is left out.
func (b *Backup) roots(ctx context.Context, hands folders.Worker, held []plan.Held, places []string, about *backup.About) ([]string, error) {
	there, err := hands.There(ctx, places)
	if err != nil {
		return nil, err
	}
	var found []string
	for i, h := range held {
		root := backup.Root{Path: h.Path, At: h.At}
		if h.Volume != nil {
			root.Volume = h.Volume.Name
		}
		switch {
		case h.Why != "":
			b.Notes = append(b.Notes, h.Name()+" is left out: "+h.Why)
			continue
		case places[i] == "" || !there[i]:
			b.Notes = append(b.Notes, h.Name()+" is left out: it is not there")
			continue
		}
		about.Roots, found = append(about.Roots, root), append(found, places[i])
	}
	return found, nil
}

// placeOf returns the folder of a volume on the engine's machine; "" where there is none.
func placeOf(volumes []survey.Volume, name string) string {
	i := slices.IndexFunc(volumes, func(v survey.Volume) bool { return v.Name == name })
	if i < 0 {
		return ""
	}
	return volumes[i].Place
}

// take writes the backup.
func (w *Workspace) take(ctx context.Context, b *Backup, about backup.About, hands folders.Worker, places []string, recipients []age.Recipient,
	progress func(int64)) error {
	to, err := backup.Create(b.File, about, recipients)
	if err != nil {
		return err
	}
	to.Progress, to.Skip = progress, []string{folders.FreshSuffix, folders.KeptSuffix} // of restores into mounted file systems
	files := w.files(b.Stack)
	slices.SortFunc(files, func(x, y history.File) int {
		return slices.Compare(strings.Split(x.Path, "/"), strings.Split(y.Path, "/"))
	})
	for _, f := range files {
		if err := to.File(f.Path, f.Text, f.Mode); err != nil {
			to.Abort()
			return err
		}
	}
	for i, place := range places {
		if err := hands.Pack(ctx, to, i, place); err != nil {
			to.Abort()
			return err
		}
	}
	if err := to.Close(); err != nil {
		return err
	}
	b.Entries, b.Bytes, b.Notes = to.Entries, to.Bytes, append(b.Notes, inPlaces(to.Notes, about.Roots)...)
	return nil
}

// inPlaces writes paths of members as what they are of.
func inPlaces(notes []string, roots []backup.Root) []string {
	out := slices.Clone(notes)
	for i := range out {
		for n, r := range roots {
			out[i] = strings.Replace(out[i], backup.RootName(n), r.String(), 1)
		}
	}
	return out
}

// backupsOf returns the backups of a stack in a folder, the newest first.
func backupsOf(folder, stack string) ([]string, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	var all []string
	for _, e := range entries {
		rest, ours := strings.CutPrefix(e.Name(), stack+"-")
		rest = strings.TrimSuffix(strings.TrimSuffix(rest, sealedSuffix), backupSuffix)
		if _, err := time.Parse(takenForm, rest); ours && err == nil && e.Type().IsRegular() {
			all = append(all, filepath.Join(folder, e.Name()))
		}
	}
	slices.Sort(all)
	slices.Reverse(all)
	return all, nil
}

// prune removes all backups of a stack but the newest ones.
func prune(folder, stack string, keep int) (gone []string, err error) {
	all, err := backupsOf(folder, stack)
	if err != nil {
		return nil, usage("%s cannot be read: %s", folder, labdir.InWords(err))
	}
	for _, path := range all[min(keep, len(all)):] {
		if err := os.Remove(path); err != nil {
			return gone, usage("%s cannot be removed: %s", path, labdir.InWords(err))
		}
		gone = append(gone, path)
	}
	return gone, nil
}

// identitiesOf reads files of age keys.
func identitiesOf(files []string) ([]age.Identity, error) {
	var all []age.Identity
	for _, file := range files {
		text, err := labdir.ReadAny(file, 1<<20)
		if err != nil {
			return nil, usage("%s cannot be read: %s", file, labdir.InWords(err))
		}
		keys, err := age.ParseIdentities(strings.NewReader(text))
		if err != nil {
			return nil, usage("%s holds no key of age: a line of it begins with AGE-SECRET-KEY-", file)
		}
		all = append(all, keys...)
	}
	return all, nil
}
