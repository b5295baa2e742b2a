// Package prepare works out what has to change in the folders of a host, so that services can work there: the least
// right first, and nobody else gets more.
package prepare

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/access"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// What a change does.
const (
	Make  = "make"
	Owner = "owner"
	Group = "group"
	Mode  = "mode"
	ACL   = "acl"
)

// Change is one thing that changes, in words.
type Change struct {
	Host     string   `json:"host"`
	Path     string   `json:"path"`
	Services []string `json:"services"`
	Action   string   `json:"action"`
	From     string   `json:"from,omitempty"`
	To       string   `json:"to"`
	Why      string   `json:"why"`
}

// Step is what is done to one path.
type Step struct {
	Was, Will survey.Path // Was of a missing one has that kind
	Inherit   []Grant     // what new entries in the folder give
	Inside    []Grant     // what is given on what lies in the folder, as far as it is lacking
	Changes   []Change
}

// Grant is what an identity gets.
type Grant struct {
	Who  access.Who
	Want access.Rights // of a folder; of a file the same without entering
}

// Open is what somebody has to look at.
type Open struct{ Service, Path, Why string }

// need is what a service needs of a path.
type need struct {
	service *lab.Service
	mount   lab.Mount
	who     access.Who
	name    string // whose rights count, in words
	want    access.Rights
}

// madeMode is that of folders that are made, where none is declared; the deploy's own is the same.
const madeMode = "0750"

// Steps works out what has to change on a host for the services of some stacks; what others need of the same folders
// counts, too. The host is surveyed. Where an earlier preparation was killed, all that lies in folders is looked at:
// the survey shows no more than a part of it.
func Steps(l *lab.Lab, h *lab.Host, stacks []*lab.Stack, killed bool) (steps []Step, open []Open) {
	w := &work{host: h, killed: killed, state: map[string]survey.Path{}}
	by, paths := map[string][]need{}, []string{}
	for _, st := range l.Stacks {
		if st.Host != h {
			continue
		}
		for _, s := range st.Services {
			for _, m := range s.Mounts {
				if m.Kind != declare.MountPath {
					continue
				}
				if n, ok := w.need(s, m); ok {
					by[m.Source] = append(by[m.Source], n)
				}
				if slices.Contains(stacks, st) && !slices.Contains(paths, m.Source) {
					paths = append(paths, m.Source)
				}
			}
		}
	}
	slices.Sort(paths) // folders before what is in them
	for _, p := range paths {
		if needs := by[p]; len(needs) > 0 {
			w.path(p, needs)
		}
	}
	return w.steps, w.open
}

// work is what is known while the steps of a host are worked out.
type work struct {
	host   *lab.Host
	killed bool
	steps  []Step
	open   []Open
	state  map[string]survey.Path // as paths will be after the steps so far
}

// need returns what a service needs of a mount; ok is false where that is not known.
func (w *work) need(s *lab.Service, m lab.Mount) (need, bool) {
	who, name, err := access.Of(s)
	if err != nil {
		w.open = append(w.open, Open{s.FullName(), m.Source, err.Error()})
		return need{}, false
	}
	want := access.Read
	if !m.ReadOnly {
		want |= access.Write
	}
	return need{s, m, who, strings.TrimSuffix(name, ","), want}, true
}

// at returns a path as it will be by now.
func (w *work) at(p string) (survey.Path, bool) {
	if found, ok := w.state[p]; ok {
		return found, true
	}
	return w.host.Survey.Path(p)
}

// account returns an identity with the groups that the account of its uid has on the host: what these give it, an entry
// of its own must not take away.
func (w *work) account(who access.Who) access.Who {
	if a, ok := w.host.Survey.AccountOf(who.UID); ok {
		who.Groups = append(append(slices.Clone(who.Groups), a.GID), a.Groups...)
	}
	return who
}

func (w *work) leave(needs []need, p, why string) {
	for _, n := range needs {
		w.open = append(w.open, Open{n.service.FullName(), p, why})
	}
}

// step adds a step; ones that change nothing are left out.
func (w *work) step(s Step, needs []need) {
	if len(s.Changes) == 0 {
		return
	}
	var names []string
	for _, n := range needs {
		if !slices.Contains(names, n.service.FullName()) {
			names = append(names, n.service.FullName())
		}
	}
	for i := range s.Changes {
		s.Changes[i].Host, s.Changes[i].Services = w.host.Name, names
		s.Changes[i].Path = cmp.Or(s.Changes[i].Path, s.Will.Path)
	}
	w.state[s.Will.Path] = s.Will
	w.steps = append(w.steps, s)
}

// path works out what has to change at one path.
func (w *work) path(p string, needs []need) {
	facts := w.host.Survey
	found, known := w.at(p)
	if known && found.Real != "" && found.Real != p { // behind a link
		real, ok := w.at(found.Real)
		if known = ok; ok {
			real.Inside = found.Inside // only of what was asked for itself it is known
			found = real
		}
	}
	switch {
	case !known || found.Kind == survey.Hidden:
		w.leave(needs, p, "what is there cannot be seen without more rights")
		return
	case found.Kind == survey.Missing:
		w.missing(found, needs)
		return
	case found.Kind != survey.Folder && found.Kind != survey.Regular:
		return
	}
	if f, ok := facts.FileSystemOf(cmp.Or(found.Real, found.Path)); ok && slices.Contains(f.Options, "ro") {
		if slices.ContainsFunc(needs, func(n need) bool { return n.want&access.Write != 0 }) {
			w.leave(needs, p, "the file system at "+f.Mount+" is mounted read-only")
			return
		}
	}
	w.way(found, needs)
	w.existing(found, needs)
}

// way lets the user of an engine without root through to a path.
func (w *work) way(p survey.Path, needs []need) {
	for range 32 {
		closed, _, ok := access.ClosedAbove(w.now(), p)
		if !ok {
			return
		}
		who, _ := access.EngineUser(w.host.Survey)
		will := access.Grant(closed, who, access.Enter)
		w.step(Step{Was: closed, Will: will, Changes: describe(w.host.Survey, closed, will, who.UID,
			"the engine, which runs without root, may not enter it")}, needs)
	}
}

// now is the survey with what the steps so far make of its paths.
func (w *work) now() *survey.Survey {
	facts := *w.host.Survey
	facts.Paths = slices.Clone(facts.Paths)
	for i, p := range facts.Paths {
		if will, ok := w.state[p.Path]; ok {
			facts.Paths[i] = will
		}
	}
	facts.Index()
	return &facts
}

// describe words what differs between two states of a path.
func describe(facts *survey.Survey, was, will survey.Path, uid survey.ID, why string) []Change {
	var all []Change
	add := func(action, from, to string) {
		if from != to {
			all = append(all, Change{Action: action, From: from, To: to, Why: why})
		}
	}
	add(Owner, facts.UserName(was.UID), facts.UserName(will.UID))
	add(Group, facts.GroupName(was.GID), facts.GroupName(will.GID))
	if slices.Equal(was.ACL, will.ACL) {
		add(Mode, was.Mode, will.Mode)
	} else {
		add(ACL, access.EntryOf(was.ACL, uid), access.EntryOf(will.ACL, uid))
		if len(all) == 0 {
			add(ACL, strings.Join(was.ACL, " "), strings.Join(will.ACL, " "))
		}
	}
	return all
}

// whole returns the rights that a need comes to at a path: a folder has to be entered, too.
func (n need) whole(folder bool) access.Rights {
	if folder {
		return n.want | access.Enter
	}
	return n.want
}

// existing gives services what they lack at a path that is there.
func (w *work) existing(p survey.Path, needs []need) {
	folder := p.Kind == survey.Folder
	lacking := slices.DeleteFunc(slices.Clone(needs), func(n need) bool {
		got, _ := access.Check(p, n.who, n.whole(folder))
		return got == n.whole(folder)
	})
	will := p
	step := Step{Was: p}
	if len(lacking) > 0 {
		will = w.give(&step, p, needs, lacking)
	}
	writers := map[survey.ID]bool{}
	for _, n := range needs {
		if n.want&access.Write != 0 {
			writers[n.who.UID] = true
		}
	}
	if folder {
		w.inside(&step, p, needs)
		// What one of several makes there has to be of use to the others.
		if len(lacking) > 0 && len(writers) > 1 {
			for _, n := range needs {
				step.Inherit = append(step.Inherit, Grant{n.who, n.whole(true)})
			}
		}
	}
	step.Will = will
	w.step(step, needs)
}

// give works out how services that lack rights get them: an empty folder of root's goes to the one that needs it, or
// to the group of several; else each gets the missing letters.
func (w *work) give(step *Step, p survey.Path, needs, lacking []need) survey.Path {
	facts, will, folder := w.host.Survey, p, p.Kind == survey.Folder
	why := func(n need) string {
		got, _ := access.Check(p, n.who, n.whole(folder))
		return fmt.Sprintf("%s works as %s and may not %s there", n.service.FullName(), n.name,
			(n.whole(folder) &^ got).Words(folder))
	}
	roots := folder && p.UID == 0 && len(p.Inside) == 0 && len(p.ACL) == 0 && path.Dir(p.Path) != "/"
	alone := !slices.ContainsFunc(needs, func(n need) bool { return n.who.UID != needs[0].who.UID })
	n := lacking[0]
	if roots && alone && n.want&access.Write != 0 {
		will.UID = n.who.UID
		will.Mode = fmt.Sprintf("%04o", access.ModeOf(will)|uint32(n.whole(true))<<6)
		step.Changes = describe(facts, p, will, n.who.UID, why(n)+"; it is empty, and root's")
		return will
	}
	if gid, ok := common(needs); ok && roots && !alone {
		will.GID = gid
		will.Mode = fmt.Sprintf("%04o", access.ModeOf(will)|0o2070)
		step.Changes = describe(facts, p, will, n.who.UID, why(n)+"; it is empty, and their group is one: all of it may work there")
		return will
	}
	for _, n := range lacking {
		got, _ := access.Check(will, n.who, n.whole(folder))
		if got == n.whole(folder) {
			continue // with one before
		}
		was := will
		will = access.Grant(will, w.account(n.who), n.whole(folder))
		step.Changes = append(step.Changes, describe(facts, was, will, n.who.UID, why(n))...)
	}
	return will
}

// common returns a group that all have.
func common(needs []need) (survey.ID, bool) {
	for _, g := range append(slices.Clone(needs[0].who.Groups), needs[0].who.GID) {
		if g != 0 && !slices.ContainsFunc(needs, func(n need) bool { return n.who.GID != g && !slices.Contains(n.who.Groups, g) }) {
			return g, true
		}
	}
	return 0, false
}

// inside notes what services lack on entries that lie in the folder.
func (w *work) inside(step *Step, p survey.Path, needs []need) {
	facts := w.host.Survey
	for _, n := range needs {
		lacks, example := 0, survey.Inside{}
		for _, e := range p.Inside {
			want := n.whole(e.Kind == survey.Folder)
			got, _ := access.Check(survey.Path{Kind: e.Kind, UID: e.UID, GID: e.GID, Mode: e.Mode}, n.who, want)
			if (e.Kind == survey.Folder || e.Kind == survey.Regular) && got != want {
				lacks += e.Count
				example = e
			}
		}
		why := fmt.Sprintf("%s works as %s and cannot use what lies there, such as %s, which belongs to %s, mode %s",
			n.service.FullName(), n.name, example.Example, facts.UserName(example.UID), example.Mode)
		if _, seen := w.host.Survey.Path(p.Path); lacks == 0 && w.killed && seen { // of entries with lists it tells nothing
			lacks, why = 1, "an earlier prepare was interrupted there: all that lies there is looked at again"
		}
		if lacks == 0 || slices.ContainsFunc(step.Inside, func(g Grant) bool { return g.Who.UID == n.who.UID && g.Want == n.want }) {
			continue
		}
		step.Inside = append(step.Inside, Grant{n.who, n.want})
		step.Changes = append(step.Changes, Change{
			Action: ACL, Path: path.Join(p.Path, "**"),
			To:  fmt.Sprintf("user:%d:%s", n.who.UID, n.want|access.Enter),
			Why: why,
		})
	}
}

// missing makes a folder, and those above it that are missing, too.
func (w *work) missing(p survey.Path, needs []need) {
	for _, n := range needs {
		if path.Ext(n.mount.Source) != "" || path.Ext(n.mount.Target) != "" {
			w.leave(needs, p.Path, "it does not exist, and its name is one of a file")
			return
		}
	}
	if len(p.Near) > 0 && !needs[0].mount.Create {
		w.leave(needs, p.Path, "it does not exist; perhaps this is meant: "+strings.Join(p.NearPaths(), ", "))
		return
	}
	var above []string
	dir := path.Dir(p.Path)
	for ; dir != "/"; dir = path.Dir(dir) {
		if found, ok := w.at(dir); ok && found.Kind != survey.Missing {
			break
		}
		above = append(above, dir)
	}
	parent, ok := w.at(dir)
	if !ok || parent.Kind != survey.Folder {
		w.leave(needs, p.Path, "what is above it is no folder")
		return
	}
	for _, dir := range slices.Backward(above) {
		// Folders on the way belong to whom the one above them belongs to.
		will := survey.Path{Path: dir, Real: dir, Kind: survey.Folder, UID: parent.UID, GID: parent.GID, Mode: "0755"}
		w.make(will, needs, "it is above "+p.Path)
	}
	n := needs[0]
	for _, o := range needs {
		if o.want&access.Write != 0 {
			n = o
			break
		}
	}
	mode := madeMode
	if n.mount.Mode != 0 {
		mode = fmt.Sprintf("%04o", n.mount.Mode)
	}
	will := survey.Path{Path: p.Path, Real: p.Path, Kind: survey.Folder, UID: n.who.UID, GID: n.who.GID, Mode: mode}
	w.make(will, needs, n.service.FullName()+" works on it as "+n.name)
	w.way(will, needs)
	w.existing(will, needs)
}

func (w *work) make(will survey.Path, needs []need, why string) {
	facts := w.host.Survey
	w.step(Step{Was: survey.Path{Path: will.Path, Kind: survey.Missing}, Will: will, Changes: []Change{{
		Action: Make, To: fmt.Sprintf("%s and %s, mode %s", facts.UserName(will.UID), facts.GroupName(will.GID), will.Mode), Why: why,
	}}}, needs)
}
