package check

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"proudlantern.example/lantern/core/access"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

var mountRules = []Rule{
	{
		Name: "mount-missing", Severity: Error, Needs: Host, Mends: true,
		Title: "the folder or file of a mount does not exist on the host, and create does not allow making it",
		Text: "Some engines would make an empty folder there that belongs to root, and the service " +
			"would find none of its data. Let it be made, with its owner, by create; make it " +
			"yourself; or correct the path.",
		Mistake: `mounts = ["${folder.data}/nobody -> /data"]    # it does not exist`,
		Mended:  `mounts = ["${folder.data}/nobody -> /data, create"]`,
		Find: func(in *Input) {
			eachMissing(in, func(s *lab.Service, m lab.Mount, p survey.Path) {
				if _, _, ok := otherSpelling(p); ok {
					return
				}
				problem := source.Problem{
					At:      m.SourceAt,
					Message: fmt.Sprintf("%s does not exist on %s", m.Source, s.Stack.Host.Name),
				}
				if first := firstMissing(s.Stack.Host.Survey, m.Source); first != m.Source {
					problem.Because = []source.Because{{Text: path.Dir(first) +
						" is there, and nothing called " + path.Base(first) + " is in it"}}
				}
				if len(p.Near) > 0 {
					problem.Because = append(problem.Because, source.Because{
						Text: "beside it there are " + strings.Join(p.NearPaths(), ", "),
					})
				}
				problem.Mend = letCreate(m, p)
				in.report(s, problem)
			})
		},
	}, {
		Name: "mount-case", Severity: Error, Needs: Host, Mends: true,
		Title:   "the folder of a mount exists with different capital letters, or one letter away",
		Text:    "Letter case counts in paths: the service would find an empty folder beside its data.",
		Mistake: "mounts = [\n  \"${folder.data}/journals -> /a, read-only\",    # it is called Journals\n]",
		Mended:  `mounts = ["${folder.data}/Journals -> /a, read-only"]`,
		Find: func(in *Input) {
			eachMissing(in, func(s *lab.Service, m lab.Mount, p survey.Path) {
				right, how, ok := otherSpelling(p)
				if !ok {
					return
				}
				in.report(s, source.Problem{
					At: m.SourceAt,
					Message: fmt.Sprintf("%s does not exist on %s; %s does, %s",
						m.Source, s.Stack.Host.Name, right, how),
					Mend: respell(m, right),
				})
			})
		},
	}, {
		Name: "mount-denied", Severity: Error, Needs: Host,
		Title: "the service has no right to enter, read or write what is mounted",
		Text: "Inside a container the rights of the mounted folder itself count, not those of the " +
			"folders above it. A mount that is not read-only has to be writable. Change the owner, the " +
			"mode or the access control list on the host, or declare another identity.",
		Mistake: "run-as = \"ranger\"\nmounts = [\n  \"${folder.data}/mast -> /a\",    # which belongs " +
			"to keeper, mode 0750\n]",
		Mended: `run-as = "keeper"`,
		Find:   mountDenied,
	},
}

// eachMissing calls f for each mount whose source is missing on a host that was looked at.
func eachMissing(in *Input, f func(*lab.Service, lab.Mount, survey.Path)) {
	eachPath(in, func(s *lab.Service, m lab.Mount, p survey.Path) {
		if p.Kind == survey.Missing && !m.Create && !madeByNeighbour(s, m) {
			f(s, m, p)
		}
	})
}

// madeByNeighbour reports whether another service of the stack lets the deploy make the folder, or one below
// it: all folders of a stack are made before its first container.
func madeByNeighbour(s *lab.Service, m lab.Mount) bool {
	return slices.ContainsFunc(s.Stack.Services, func(o *lab.Service) bool {
		return slices.ContainsFunc(o.Mounts, func(other lab.Mount) bool {
			return other.Create && declare.Below(other.Source, m.Source)
		})
	})
}

// firstMissing returns the first part of the way to a missing path that is missing itself.
func firstMissing(facts *survey.Survey, p string) string {
	for dir := path.Dir(p); dir != "/" && dir != "."; dir = path.Dir(dir) {
		if above, ok := facts.Path(dir); !ok || above.Kind != survey.Missing {
			break
		}
		p = dir
	}
	return p
}

// letCreate offers to make the folder of a mount. What is only read, has a name like a file's, or like that
// of something beside it, was probably meant to be there; then nothing is offered.
func letCreate(m lab.Mount, p survey.Path) *source.Mend {
	if m.ReadOnly || len(p.Near) > 0 || path.Ext(m.Source) != "" || path.Ext(m.Target) != "" ||
		m.TargetAt.Text() != m.Target {
		return nil
	}
	at := m.TargetAt.File.Span(m.TargetAt.End, m.TargetAt.End)
	return source.Replace(at, ", create", "with create, deploy makes the folder, with the service's owner")
}

// otherSpelling returns the path that was probably meant: letter case first, else a letter away.
func otherSpelling(p survey.Path) (right, how string, ok bool) {
	for _, near := range p.NearPaths() {
		if strings.EqualFold(near, p.Path) {
			return near, "with different capital letters", true
		}
	}
	for _, near := range p.NearPaths() {
		// Digits tell folders apart on purpose (disk1, disk2), and so does a first letter.
		if declare.OneLetterAway(path.Base(near), path.Base(p.Path)) && len(path.Base(near)) > 4 &&
			path.Dir(near) == path.Dir(p.Path) {
			return near, "one letter away", true
		}
	}
	return "", "", false
}

// respell offers to write the path as it is on the host, as far as it stands in the file to the letter.
func respell(m lab.Mount, right string) *source.Mend {
	mend := &source.Mend{Text: "change to " + right}
	written := m.SourceAt.Text()
	if written == m.Source {
		mend.Edits = []source.Edit{{At: m.SourceAt, New: right}}
	} else if end := strings.LastIndexByte(written, '}'); end >= 0 {
		// Behind the last reference both spellings have the same letters at the same distance from the end.
		tail := written[end+1:]
		if len(right) == len(m.Source) && strings.HasSuffix(m.Source, tail) &&
			right[:len(right)-len(tail)] == m.Source[:len(m.Source)-len(tail)] {
			at := m.SourceAt.File.Span(m.SourceAt.Start+end+1, m.SourceAt.End)
			mend.Edits = []source.Edit{{At: at, New: right[len(right)-len(tail):]}}
		}
	}
	return mend
}

// volumeDenied computes for volumes that are there what mountDenied does for folders.
func volumeDenied(in *Input) {
	for _, s := range in.surveyed() {
		for _, m := range s.Mounts {
			if m.Volume == nil {
				continue
			}
			host := s.Stack.Host
			v, there := host.Survey.Volume(m.Volume.EngineName)
			if !there || v.Root == nil || v.Root.Empty {
				continue
			}
			w, words, err := access.Of(s)
			if err != nil {
				in.skip(s.FullName(), err.Error())
				continue
			}
			p := survey.Path{
				Path: "the volume " + v.Name,
				Kind: survey.Folder,
				UID:  v.Root.UID,
				GID:  v.Root.GID,
				Mode: v.Root.Mode,
			}
			want := access.Read | access.Enter
			if !m.ReadOnly {
				want |= access.Write
			}
			got, decides := access.Check(p, w, want)
			if got == want {
				continue
			}
			because := []source.Because{
				{Text: belongs(host.Survey, p)},
				{Text: fmt.Sprintf("%s works as %s, %s: %s",
					s.FullName(), strings.TrimSuffix(words, ","), host.Survey.GroupName(w.GID), decides)},
			}
			in.report(s, source.Problem{
				At: m.SourceAt,
				Message: fmt.Sprintf("%s on %s: %s may not %s there",
					p.Path, host.Name, words, (want &^ got).Words(true)), Because: because,
				Mend: volumeMend(s, p),
			})
		}
	}
}

// volumeMend says who may use a volume, or to whom it can be given: by the ids inside, which are what one writes.
func volumeMend(s *lab.Service, p survey.Path) *source.Mend {
	id, _, _ := s.Identity()
	give := fmt.Sprintf("once, a container that runs as root and gives it to %d:%d", id.UID, id.GID)
	uid, gid := p.UID, p.GID
	if e := s.Stack.Host.Survey.Engine; e != nil && e.Rootless {
		inside, known := survey.InsideID(e.UIDMap, uid)
		group, also := survey.InsideID(e.GIDMap, gid)
		if !known || !also {
			return &source.Mend{Text: give}
		}
		uid, gid = inside, group
	}
	return &source.Mend{Text: fmt.Sprintf("run-as = \"%d:%d\", whom it belongs to; or, %s", uid, gid, give)}
}

// createDenied finds folders that an engine without root cannot make: its own user has to be let in above them.
func createDenied(in *Input, s *lab.Service, m lab.Mount) {
	facts := s.Stack.Host.Survey
	if !m.Create || facts.Engine == nil || !facts.Engine.Rootless {
		return
	}
	who, known := access.EngineUser(facts)
	above, seen := facts.Path(path.Dir(m.Source))
	for seen && above.Kind == survey.Missing && above.Path != "/" {
		above, seen = facts.Path(path.Dir(above.Path))
	}
	if !known || !seen || above.Kind != survey.Folder {
		return
	}
	if got, decides := access.Check(above, who, access.Write|access.Enter); got != access.Write|access.Enter {
		in.report(s, source.Problem{
			At: m.SourceAt,
			Message: fmt.Sprintf("%s on %s cannot be made: the engine, which runs without root, may not write in %s",
				m.Source, s.Stack.Host.Name, above.Path),
			Because: []source.Because{{Text: belongs(facts, above)}, {Text: "the engine's user: " + decides}},
			Mend:    &source.Mend{Text: "lantern prepare makes it, as root"},
		})
	}
}

func mountDenied(in *Input) {
	volumeDenied(in)
	eachPath(in, func(s *lab.Service, m lab.Mount, p survey.Path) {
		if p.Kind == survey.Missing {
			createDenied(in, s, m)
		}
		if p.Kind != survey.Folder && p.Kind != survey.Regular {
			return
		}
		host := s.Stack.Host
		w, words, err := access.Of(s)
		if err != nil {
			in.skip(s.FullName(), err.Error())
			return
		}
		want := wanted(m, p)
		if f, ok := host.Survey.FileSystemOf(cmp.Or(p.Real, p.Path)); ok && !m.ReadOnly &&
			slices.Contains(f.Options, "ro") {
			in.report(s, source.Problem{
				At: m.SourceAt,
				Message: fmt.Sprintf(
					"%s on %s: no user may write there, because the file system at %s is mounted read-only",
					m.Source, host.Name, f.Mount),
			})
			return
		}
		if closed, decides, ok := access.ClosedAbove(host.Survey, p); ok {
			in.report(s, source.Problem{
				At: m.SourceAt,
				Message: fmt.Sprintf(
					"%s on %s: the engine, which runs without root, may not enter %s on the way",
					m.Source, host.Name, closed.Path), Because: []source.Because{
					{Text: belongs(host.Survey, closed)}, {Text: "the engine's user: " + decides},
				},
			})
			return
		}
		got, decides := access.Check(p, w, want)
		if got == want {
			return
		}
		if why := host.Survey.Unknown[survey.UnknownACL]; why != "" {
			in.skip(s.FullName(), fmt.Sprintf("by its mode alone, %s may not %s at %s; %s", words, (want&^got).Words(p.Kind == survey.Folder),
				m.Source, why))
			return
		}
		because := []source.Because{
			{Text: belongs(host.Survey, p)},
			{Text: fmt.Sprintf("%s works as %s, %s: %s",
				s.FullName(), strings.TrimSuffix(words, ","), host.Survey.GroupName(w.GID), decides)},
		}
		if id, _, _ := s.Identity(); !id.At.IsZero() {
			because[1].At = id.At
		}
		in.report(s, source.Problem{
			At: m.SourceAt,
			Message: fmt.Sprintf("%s on %s: %s may not %s there",
				m.Source, host.Name, words, (want &^ got).Words(p.Kind == survey.Folder)),
			Because: because,
			Mend:    permissionMend(m.Source, p, w, want),
		})
	})
}

// wanted returns the rights that a mount of a path needs.
func wanted(m lab.Mount, p survey.Path) access.Rights {
	want := access.Read
	if p.Kind == survey.Folder {
		want |= access.Enter
	}
	if !m.ReadOnly {
		want |= access.Write
	}
	return want
}

func belongs(facts *survey.Survey, p survey.Path) string {
	return fmt.Sprintf("%s belongs to %s and %s, mode %s%s",
		p.Path, facts.UserName(p.UID), facts.GroupName(p.GID), p.Mode, aclWords(p.ACL))
}

func aclWords(acl []string) string {
	if len(acl) == 0 {
		return ""
	}
	return ", ACL " + strings.Join(acl, " ")
}

// permissionMend says what would let the identity in, the least first.
func permissionMend(path string, p survey.Path, w access.Who, need access.Rights) *source.Mend {
	_, mask, masked := access.ParseACL(p.ACL)
	granted, _ := access.Check(access.WithMask(p, 7), w, need)
	switch {
	case masked && granted == need:
		return &source.Mend{
			Text: fmt.Sprintf("widen the mask to %s: setfacl -m m::%s '%s'", mask|need, mask|need, path),
		}
	case w.UID == p.UID:
		return &source.Mend{Text: fmt.Sprintf("give its owner the rights: chmod u+%s '%s'", need.Letters(), path)}
	case w.GID == p.GID && !masked:
		return &source.Mend{Text: fmt.Sprintf("give its group the rights: chmod g+%s '%s'", need.Letters(), path)}
	}
	return &source.Mend{
		Text: fmt.Sprintf(
			"give it an entry of its own: setfacl -m u:%d:%s '%s'; or make it the owner: chown %d:%d '%s'",
			w.UID, need, path, w.UID, w.GID, path),
	}
}
