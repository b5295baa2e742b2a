package check

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/access"
	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/source"
	"proudlantern.example/lantern/core/survey"
)

var targetRules = []Rule{
	{
		Name: "mount-kind", Severity: Error, Needs: Image,
		Title:   "a file, socket or device where the image declares a folder",
		Text:    "The image keeps a folder of data there. A single file in its place cannot hold it.",
		Mistake: `mounts = ["/srv/skerry/mast.conf -> /var/lib/store"]    # the image declares the folder /var/lib/store`,
		Mended:  `mounts = ["/srv/skerry/mast -> /var/lib/store"]`,
		Find: func(in *Input) {
			eachPath(in, func(s *lab.Service, m lab.Mount, p survey.Path) {
				image, ok := imageOf(s)
				if ok && slices.Contains(image.Volumes, m.Target) &&
					slices.Contains([]string{survey.Regular, survey.Socket, survey.Device, survey.Pipe}, p.Kind) {
					in.report(s, source.Problem{
						At: m.SourceAt,
						Message: fmt.Sprintf("%s on %s is a %s, and the image keeps a folder at %s",
							m.Source, s.Stack.Host.Name, p.Kind, m.Target),
					})
				}
			})
		},
	}, {
		Name: "mount-duplicate", Severity: Error, Needs: Files,
		Title:   "one path inside is mounted twice",
		Text:    "Only one of the two can be there. Engines refuse, or take the last.",
		Mistake: `mounts = ["/srv/skerry/mast -> /data", "memory -> /data/"]`,
		Mended:  `mounts = ["/srv/skerry/mast -> /data", "memory -> /tmp"]`,
		Find: func(in *Input) {
			eachPair(in, func(s *lab.Service, earlier, later lab.Mount) {
				if earlier.Target == later.Target {
					in.report(s, source.Problem{
						At:      later.TargetAt,
						Message: later.Target + " is mounted twice in " + s.FullName(),
						Because: []source.Because{{Text: "the first time", At: earlier.TargetAt}},
					})
				}
			})
		},
	}, {
		Name: "mount-shadowed", Severity: Warning, Needs: Files,
		Title:   "a mount hides another one below it",
		Text:    "Mounts are made in their order: one that comes later, above an earlier one, covers it.",
		Mistake: `mounts = ["memory -> /data/tmp", "/srv/skerry/mast -> /data"]`,
		Mended:  `mounts = ["/srv/skerry/mast -> /data", "memory -> /data/tmp"]`,
		Find: func(in *Input) {
			eachPair(in, func(s *lab.Service, earlier, later lab.Mount) {
				if declare.Below(earlier.Target, later.Target) && later.Target != earlier.Target {
					in.report(s, source.Problem{
						At: later.TargetAt,
						Message: fmt.Sprintf("%s covers %s, which is mounted before it",
							later.Target, earlier.Target),
						Because: []source.Because{{Text: "covered", At: earlier.TargetAt}},
					})
				}
			})
		},
	}, {
		Name: "mount-writers", Severity: Note, Needs: Files,
		Title: "services of two stacks write the same folder",
		Text: "A store that finds its files changed by somebody else loses data: where one of the two " +
			"declares the folder as its data, this is a warning.",
		Mistake: `mounts = ["/srv/skerry/mast -> /var/lib/store", "/srv/skerry/shared -> /more"]    # another stack has /srv/skerry/mast, too`,
		Mended:  `mounts = ["/srv/skerry/tide-log -> /var/lib/store", "/srv/skerry/shared -> /more"]`,
		Find:    mountWriters,
	}, {
		Name: "mount-unkept", Severity: Warning, Needs: Image, Mends: true, Rests: Uses,
		Title: "a path where the image keeps data, without a mount",
		Text: "What it writes there is lost at each replacement. Mount a folder or a volume, or memory " +
			"where nothing needs to be kept.",
		Mistake: `image = "registry.skerry.example/store:4.2"    # keeps /var/lib/store, and nothing is mounted there`,
		Mended:  "mounts = [\"volume store -> /var/lib/store\"]\n\n[volume.store]",
		Find: func(in *Input) {
			eachDeclaredPath(in, func(s *lab.Service, kept string, image survey.Image) {
				covered := slices.ContainsFunc(s.Mounts, func(m lab.Mount) bool {
					return declare.Below(kept, m.Target) || declare.Below(m.Target, kept)
				})
				near := slices.ContainsFunc(s.Mounts, func(m lab.Mount) bool {
					return misspelt(m.Target, kept) && !slices.Contains(image.Volumes, m.Target)
				})
				said := s.Card != nil && slices.ContainsFunc(s.Card.Data, func(d declare.CardData) bool {
					return d.Path == kept && d.Keep != nil && !*d.Keep
				})
				if !covered && !near && !said {
					in.report(s, source.Problem{
						At: s.At,
						Message: fmt.Sprintf(
							"the image keeps data at %s, and nothing is mounted there: it is "+
								"lost at each replacement", kept),
						Mend: keep(s, kept),
					})
				}
			})
		},
	}, {
		Name: "mount-unlisted", Severity: Warning, Needs: Image, Mends: true,
		Title:   "a path inside is nearly, but not quite, one where the image keeps data",
		Text:    "The service would keep its data beside the mount, and lose it.",
		Mistake: `mounts = ["/srv/skerry/mast -> /var/lib/Store"]    # the image keeps /var/lib/store`,
		Mended:  `mounts = ["/srv/skerry/mast -> /var/lib/store"]`,
		Find: func(in *Input) {
			eachDeclaredPath(in, func(s *lab.Service, kept string, image survey.Image) {
				for _, m := range s.Mounts {
					if !misspelt(m.Target, kept) || slices.Contains(image.Volumes, m.Target) {
						continue
					}
					mend := &source.Mend{Text: "the image keeps data at " + kept}
					if m.TargetAt.Text() == m.Target {
						mend.Edits = []source.Edit{{At: m.TargetAt, New: kept}}
					}
					in.report(s, source.Problem{
						At:      m.TargetAt,
						Message: fmt.Sprintf("the image keeps data at %s, not at %s", kept, m.Target),
						Mend:    mend,
					})
				}
			})
		},
	}, {
		Name: "mount-contents-denied", Severity: Warning, Needs: Host,
		Title: "the rights of a folder are fine, those of entries inside it are not",
		Text: "Files that an earlier run left as somebody else cannot be read, or written. Up to 200 " +
			"entries right inside the folder are looked at.",
		Mistake: `mounts = ["/srv/skerry/mast -> /data"]    # it belongs to keeper, and files inside to root, mode 0600`,
		Mended:  `# after: chown -R keeper:watch /srv/skerry/mast`,
		Find:    contentsDenied,
	}, {
		Name: "device-missing", Severity: Error, Needs: Host, Mends: true, Rests: Names,
		Title: "a device that the host does not have, or that the service's user may not open",
		Text: "Devices keep their owner and mode inside. A process that is not root needs the " +
			"device's group among its own.",
		Mistake: `devices = ["/dev/lamp0", "/dev/none"]    # /dev/lamp0 belongs to gid 1401, mode 0660`,
		Mended:  "extra-groups = [\"1401\"]\ndevices = [\"/dev/lamp0\"]",
		Find:    deviceMissing,
	}, {
		Name: "mount-unmounted-disk", Severity: Error, Needs: Host,
		Title: "the path lies on a disk that is not mounted now",
		Text: "The data would fall onto the system disk, below the mount point, and be " +
			"hidden once the disk is back.",
		Mistake: `mounts = ["/srv/skerry/shared -> /data"]    # a disk that the table of file systems has for it is not mounted`,
		Mended:  `# after: mount /srv/skerry/shared`,
		Find: func(in *Input) {
			eachPath(in, func(s *lab.Service, m lab.Mount, _ survey.Path) {
				for _, f := range s.Stack.Host.Survey.FileSystems {
					if !f.Mounted && f.Mount != "/" && declare.Below(m.Source, f.Mount) {
						in.report(s, source.Problem{
							At: m.SourceAt,
							Message: fmt.Sprintf(
								"%s belongs on the disk of %s, which is not mounted on %s now",
								m.Source, f.Mount, s.Stack.Host.Name),
						})
					}
				}
			})
		},
	}, {
		Name: "mount-low-space", Severity: Warning, Needs: Host,
		Title:   "less than 1 GiB is free where a service writes",
		Text:    "Stores that cannot write any more stop, or lose what they hold.",
		Mistake: `mounts = ["/srv/skerry/mast -> /data", "/srv/skerry/shared -> /more"]    # 200 MiB free`,
		Mended:  `# after making room`,
		Find:    mountLowSpace,
	}, {
		Name: "mount-sensitive", Severity: Warning, Needs: Files,
		Title:   "a folder of the system itself, mounted writable",
		Text:    "A fault in the service, or an attacker inside it, can then change the machine itself.",
		Mistake: `mounts = ["/etc -> /a", "/home/keeper -> /b"]`,
		Mended:  `mounts = ["/etc -> /a, read-only"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, m := range s.Mounts {
					if what := sensitive(m.Source); m.Kind == declare.MountPath && !m.ReadOnly && what != "" {
						in.report(s, source.Problem{
							At: m.SourceAt,
							Message: fmt.Sprintf("%s may write %s, %s of %s",
								s.FullName(), m.Source, what, s.Stack.Host.Name),
						})
					}
				}
			}
		},
	}, {
		Name: "mount-outside", Severity: Warning, Needs: Files,
		Title:   "a path from the stack's folder that leads out of it",
		Text:    "The stack then depends on where the lab lies on this machine.",
		Mistake: `mounts = ["./../plates -> /data"]`,
		Mended:  `mounts = ["${folder.plates} -> /data"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, m := range s.Mounts {
					if m.Outside {
						in.report(s, source.Problem{
							At:      m.SourceAt,
							Message: "this leads out of the stack's folder, to " + m.Source,
						})
					}
				}
			}
		},
	}, {
		Name: "mount-remote", Severity: Error, Needs: Files,
		Title:   "a path from the stack's folder, on a host that is elsewhere",
		Text:    "The lab's folder is not there: an absolute path of the host is needed.",
		Mistake: `mounts = ["./pages -> /data"]    # on a host with engine = "ssh://…"`,
		Mended:  `mounts = ["${folder.data}/pages -> /data"]`,
		Find: func(in *Input) {
			for _, s := range in.services() {
				for _, m := range s.Mounts {
					if at, err := declare.ParseEngineAddress(s.Stack.Host.Engine); m.FromLab && err == nil &&
						at.Scheme != "unix" && !at.Loopback() {
						in.report(s, source.Problem{
							At:      m.SourceAt,
							Message: "the lab's folder is on this machine, and not on " + s.Stack.Host.Name,
						})
					}
				}
			}
		},
	}, {
		Name: "volume-owner", Severity: Note, Needs: Image,
		Title: "a volume that is new, or empty, under a service that runs as somebody else than its image's user",
		Text: "A new volume gets what the image has at that path, owner and mode too: usually its own " +
			"user's, or root's where the image has nothing there. A service with run-as may then not write " +
			"it. A host folder with create gets the service's owner; or leave run-as out.",
		Mistake: "run-as = \"ranger:birds\"    # uid 1312, and the image's user is 1311\n" +
			"mounts = [\"volume v -> /data\"]",
		Mended: "run-as = \"ranger:birds\"\nmounts = [\"/srv/skerry/v -> /data, create\"]",
		Find:   volumeOwner,
	}, {
		Name: "volume-shared", Severity: Warning, Needs: Files, Mends: true, Rests: Holders,
		Title: "two stacks use one volume of the engine",
		Text: "Neither knows of the other's files, and retiring one says nothing of the other. The fix " +
			"gives one of them a volume of its own, and is offered where nothing of that stack runs yet: " +
			"what runs would find its files gone.",
		Mistake: `engine-name = "readings"    # in tide-log and in mast`,
		Mended:  `engine-name = "mast.v"`,
		Find:    volumeShared,
	}, {
		Name: "volume-unused", Severity: Note, Needs: Files, Mends: true, Rests: Uses,
		Title:   "a volume that is declared and not mounted",
		Text:    "It is not made. Perhaps a mount is missing; if not, the declaration can go.",
		Mistake: `[volume.w]    # and no mounts with it`,
		Mended:  `# taken out, or: mounts = ["volume w -> /data"]`,
		Find: func(in *Input) {
			for _, st := range in.Lab.Stacks {
				if in.mistaken(st.Name) {
					continue // what uses it may be what cannot be understood
				}
				for _, v := range st.Volumes {
					used := slices.ContainsFunc(st.Services, func(s *lab.Service) bool {
						return slices.ContainsFunc(s.Mounts, func(m lab.Mount) bool { return m.Volume == v })
					})
					if !used && len(st.Services) > 0 {
						in.report(st.Services[0], source.Problem{
							At:      v.At,
							Message: "the volume " + v.Name + " is mounted by no service of " + st.Name,
							Mend:    takeOut(v),
						})
					}
				}
			}
		},
	},
}

func volumeOwner(in *Input) {
	for _, s := range in.surveyed() {
		image, ok := imageOf(s)
		facts := s.Stack.Host.Survey
		if s.RunAs == nil || !s.RunAs.Known || s.RunAs.UID == 0 || facts.Volumes == nil {
			continue
		}
		for _, m := range s.Mounts {
			if m.Volume == nil || m.ReadOnly || m.Volume.Existing {
				continue
			}
			if v, there := facts.Volume(m.Volume.EngineName); there && (v.Root == nil || !v.Root.Empty) {
				continue // mount-denied judges what is in it
			}
			if !ok {
				in.skip(s.Image.Text, "it is not known what the image declares")
				continue
			}
			whose := image.User
			user, _, _ := strings.Cut(image.User, ":")
			switch {
			case user == strconv.FormatInt(s.RunAs.UID, 10) && !m.StartEmpty:
				continue
			case m.StartEmpty:
				whose = "root, as it starts empty"
			case user == "" || user == "root" || user == "0":
				whose = "root, as the image names no other user"
			}
			in.report(s, source.Problem{
				At: m.SourceAt,
				Message: fmt.Sprintf(
					"the volume %s is new: it will belong to whom the image says at %s, "+
						"probably %s, and %s runs as %s",
					m.Volume.Name, m.Target, whose, s.FullName(), facts.UserName(s.RunAs.UID)),
			})
		}
	}
}

// volumeShared reports on the side that does not run yet, else on the later one.
func volumeShared(in *Input) {
	type key struct {
		host *lab.Host
		name string
	}
	type user struct {
		stack  *lab.Stack
		volume *lab.Volume
	}
	inUse := func(u user) bool {
		return slices.ContainsFunc(u.stack.Services, func(s *lab.Service) bool {
			return runs(s) && slices.ContainsFunc(s.Mounts, func(m lab.Mount) bool { return m.Volume == u.volume })
		})
	}
	first := map[key]user{}
	for _, st := range in.Lab.Stacks {
		if st.Host == nil || len(st.Services) == 0 {
			continue
		}
		for _, v := range st.Volumes {
			later := user{st, v}
			k := key{st.Host, v.EngineName}
			earlier, shared := first[k]
			first[k] = later
			if !shared {
				continue
			}
			if inUse(later) && !inUse(earlier) {
				later, earlier = earlier, later
			}
			in.report(later.stack.Services[0], source.Problem{
				At: later.volume.At,
				Message: fmt.Sprintf("the volume %s on %s is used by another stack, too",
					v.EngineName, st.Host.Name),
				Because: []source.Because{{Text: "there", At: earlier.volume.At}},
				Mend:    ownVolume(later.stack, later.volume, inUse(later)),
			})
		}
	}
}

// ownVolume offers a stack a volume of its own in place of a shared one, where nothing can have files in it
// yet.
func ownVolume(st *lab.Stack, v *lab.Volume, inUse bool) *source.Mend {
	if st.Host.Survey == nil || inUse || v.Existing || v.EngineNameAt.File == nil {
		return nil
	}
	own := st.Name + "." + v.Name
	return source.Replace(v.EngineNameAt, own, "nothing of "+st.Name+" uses it yet: "+own+" would be its own")
}

// takeOut offers to remove the table of a volume, as far as nothing stands in it: what does, somebody has
// thought about.
func takeOut(v *lab.Volume) *source.Mend {
	f := v.At.File
	start := strings.LastIndexByte(f.Text[:v.At.Start], '\n') + 1
	end := len(f.Text)
	if next := strings.Index(f.Text[start:], "\n["); next >= 0 {
		end = start + next + 1
	}
	header := "[volume." + v.Name
	if strings.TrimSpace(f.Text[start:end]) != header+"]" || strings.Contains(f.Text, header+".") {
		return nil
	}
	return source.Replace(f.Span(start, end), "", "nothing is lost when its declaration goes: it was never made")
}

// eachPair calls f for each two mounts of a service, in their order.
func eachPair(in *Input, f func(s *lab.Service, earlier, later lab.Mount)) {
	for _, s := range in.services() {
		for i, later := range s.Mounts {
			for _, earlier := range s.Mounts[:i] {
				f(s, earlier, later)
			}
		}
	}
}

// eachDeclaredPath calls f for each path where a service's image keeps data.
func eachDeclaredPath(in *Input, f func(s *lab.Service, kept string, image survey.Image)) {
	for _, s := range in.surveyed() {
		unread := slices.ContainsFunc(in.Lab.Problems, func(p source.Problem) bool {
			return p.Stack == s.Stack.Name && p.Service == s.Name
		})
		if unread && in.mistaken(s.Stack.Name) {
			continue // one of its mounts may be what cannot be understood
		}
		if image, ok := imageOf(s); ok {
			for _, v := range image.Volumes {
				f(s, path.Clean(v), image)
			}
		}
	}
}

// keep offers a volume of the stack for a path. Its name comes from the service and the last part of the path.
func keep(s *lab.Service, kept string) *source.Mend {
	name := s.Name
	if last := strings.ToLower(path.Base(kept)); last != name {
		name += "-" + last
	}
	// What runs may have something there that a line which is missing now has put there.
	var running []survey.Container
	if facts := s.Stack.Host.Survey; facts != nil {
		running = facts.Containers
	}
	for _, c := range running {
		for _, m := range c.Mounts {
			if from, target, ok := strings.Cut(m, " -> "); ok && c.Name == s.ContainerName() && c.Lab != "" &&
				strings.Split(target, ",")[0] == kept {
				return &source.Mend{Text: "what runs has " + from + " there"}
			}
		}
	}
	taken := slices.ContainsFunc(s.Stack.Volumes, func(v *lab.Volume) bool { return v.Name == name })
	mend := &source.Mend{Text: "a volume keeps it: volume " + name + " -> " + kept}
	if f := s.Stack.File; !taken && declare.IsName(name) && strings.HasSuffix(f.Text, "\n") {
		if edits := addTo(s, "mounts", s.Declared().Mounts, "volume "+name+" -> "+kept); edits != nil {
			end := len(f.Text)
			mend.Edits = append(edits, source.Edit{At: f.Span(end, end), New: "\n[volume." + name + "]\n"})
		}
	}
	return mend
}

// misspelt reports whether a path is another one but for letter case or one letter.
func misspelt(p, right string) bool {
	return p != right &&
		(strings.EqualFold(p, right) ||
			path.Dir(p) == path.Dir(right) && declare.OneLetterAway(path.Base(p), path.Base(right)) &&
				len(path.Base(right)) > 3)
}

func mountWriters(in *Input) {
	type folders struct {
		written map[string][]writer // by the folder itself
		inside  map[string][]writer // by each folder above it
	}
	hosts := map[*lab.Host]folders{}
	for _, s := range in.services() {
		for _, m := range s.Mounts {
			if m.Kind != declare.MountPath || m.ReadOnly {
				continue
			}
			f, ok := hosts[s.Stack.Host]
			if !ok {
				f = folders{map[string][]writer{}, map[string][]writer{}}
				hosts[s.Stack.Host] = f
			}
			real := realPath(s, m)
			other := func(list []writer) *writer { return ofAnotherStack(list, s.Stack) }
			tell := func(o *writer, what string) {
				f := in.report(s, source.Problem{
					At:      m.SourceAt,
					Message: fmt.Sprintf("%s and %s both write %s", s.FullName(), o.service.FullName(), what),
					Because: []source.Because{{Text: o.service.FullName(), At: o.mount.SourceAt}},
				})
				if keeps(s, m) || keeps(o.service, o.mount) {
					f.Severity = Warning
				}
			}
			switch o := other(f.written[real]); {
			case o != nil && o.mount.Source != m.Source:
				tell(o, fmt.Sprintf("%s, which is also %s", m.Source, o.mount.Source))
			case o != nil:
				tell(o, m.Source)
			default:
				if o := other(f.inside[real]); o != nil {
					tell(o, fmt.Sprintf("%s, inside %s", o.mount.Source, m.Source))
				}
			}
			for above := path.Dir(real); above != "/" && above != "."; above = path.Dir(above) {
				if o := other(f.written[above]); o != nil && other(f.written[real]) == nil {
					tell(o, fmt.Sprintf("%s, inside %s", m.Source, o.mount.Source))
					break
				}
			}
			f.written[real] = append(f.written[real], writer{s, m})
			for above := path.Dir(real); above != "/" && above != "."; above = path.Dir(above) {
				f.inside[above] = append(f.inside[above], writer{s, m})
			}
		}
	}
}

// writer is a service that writes what it mounts.
type writer struct {
	service *lab.Service
	mount   lab.Mount
}

// ofAnotherStack returns the first writer that is not of the stack; nil when all are.
func ofAnotherStack(list []writer, stack *lab.Stack) *writer {
	for _, w := range list {
		if w.service.Stack != stack {
			return &w
		}
	}
	return nil
}

// realPath returns the path of a mount without symbolic links, as far as the survey knows it.
func realPath(s *lab.Service, m lab.Mount) string {
	if s.Stack.Host.Survey != nil {
		if p, ok := s.Stack.Host.Survey.Path(m.Source); ok && p.Real != "" {
			return p.Real
		}
	}
	return m.Source
}

// keeps reports whether the image of a service keeps its data where a mount is.
func keeps(s *lab.Service, m lab.Mount) bool {
	image, ok := imageOf(s)
	return ok && slices.Contains(image.Volumes, m.Target)
}

func mountLowSpace(in *Input) {
	const enough = 1 << 30
	told := map[string]bool{}
	eachPath(in, func(s *lab.Service, m lab.Mount, p survey.Path) {
		on, _ := s.Stack.Host.Survey.FileSystemOf(cmp.Or(p.Real, p.Path))
		key := s.Stack.Host.Name + on.Mount
		if m.ReadOnly || on.Size == 0 || on.Free >= enough || told[key] {
			return
		}
		told[key] = true
		in.report(s, source.Problem{
			At:      m.SourceAt,
			Message: fmt.Sprintf("%s is free at %s on %s", bytes(on.Free), on.Mount, s.Stack.Host.Name),
		})
	})
}

// sensitive says what a folder of the system is; "" for any other.
func sensitive(p string) string {
	switch {
	case p == "/":
		return "the whole disk"
	case p == "/home" || p == "/root" || path.Dir(p) == "/home":
		return "somebody's home as a whole, with keys and passwords,"
	case declare.Below(p, "/var/lib/docker") || declare.Below(p, "/var/lib/containers"):
		return "the engine's own data"
	}
	for _, folder := range []string{"/etc", "/proc", "/dev", "/sys", "/boot", "/usr", "/bin", "/sbin", "/lib"} {
		if declare.Below(p, folder) && !declare.Below(p, "/dev/shm") && !declare.Below(p, "/dev/dri") &&
			!(folder == "/dev" && p != "/dev") {
			return "part of the system"
		}
	}
	return ""
}

// contentsDenied reports the most frequent kind of entry that a service cannot use, in folders that it can.
func contentsDenied(in *Input) {
	eachPath(in, func(s *lab.Service, m lab.Mount, p survey.Path) {
		w, words, err := access.Of(s)
		facts := s.Stack.Host.Survey
		if p.Kind != survey.Folder || err != nil {
			return // mount-denied says what could not be judged
		}
		wanted := func(folder bool) access.Rights {
			want := access.Read
			if folder {
				want |= access.Enter
			}
			if !m.ReadOnly {
				want |= access.Write
			}
			return want
		}
		if got, _ := access.Check(p, w, wanted(true)); got != wanted(true) {
			return // mount-denied
		}
		var worst survey.Inside
		var lacks access.Rights
		for _, e := range p.Inside {
			want := wanted(e.Kind == survey.Folder)
			got, _ := access.Check(survey.Path{Kind: e.Kind, UID: e.UID, GID: e.GID, Mode: e.Mode}, w, want)
			if got != want && e.Count > worst.Count {
				worst, lacks = e, want&^got
			}
		}
		if worst.Count == 0 {
			return
		}
		what := worst.Example
		if worst.Count > 1 {
			what = fmt.Sprintf("%s and %d more", worst.Example, worst.Count-1)
		}
		in.report(s, source.Problem{
			At: m.SourceAt,
			Message: fmt.Sprintf("%s may use %s, and not %s inside it: it may not %s there",
				words, m.Source, what, lacks.Words(worst.Kind == survey.Folder)),
			Because: []source.Because{{Text: fmt.Sprintf("%s belongs to %s and %s, mode %s",
				worst.Example, facts.UserName(worst.UID), facts.GroupName(worst.GID), worst.Mode)}},
			Mend: &source.Mend{
				Text: fmt.Sprintf("if all of it is the service's: chown -R %d:%d '%s'", w.UID, w.GID, m.Source),
			},
		})
	})
}

func deviceMissing(in *Input) {
	for _, s := range in.surveyed() {
		facts := s.Stack.Host.Survey
		for _, d := range s.Settings.Devices {
			i := slices.IndexFunc(facts.Devices, func(f survey.DeviceFile) bool { return f.Path == d.Host })
			if i < 0 {
				in.skip(d.Host, "the survey of "+s.Stack.Host.Name+" does not have this device")
				continue
			}
			f := facts.Devices[i]
			at := s.ItemAt("devices", d.String())
			if f.Missing {
				in.report(s, source.Problem{
					At:      at,
					Message: fmt.Sprintf("%s has no device %s", s.Stack.Host.Name, d.Host),
				})
				continue
			}
			w, words, err := access.Of(s)
			if err != nil || s.Settings.Privileged || s.RunAs == nil && s.OwnerUID != "" {
				continue // root opens it, and images that take ids arrange for it themselves
			}
			device := survey.Path{Kind: survey.Device, UID: f.UID, GID: f.GID, Mode: f.Mode}
			if got, _ := access.Check(device, w, access.Read); got&access.Read != 0 {
				continue
			}
			p := source.Problem{
				At: at,
				Message: fmt.Sprintf("%s may not open %s, which belongs to %s and %s, mode %s",
					words, d.Host, facts.UserName(f.UID), facts.GroupName(f.GID), f.Mode),
			}
			w.Groups = append(w.Groups, f.GID)
			if got, _ := access.Check(device, w, access.Read); got&access.Read != 0 &&
				(facts.Engine == nil || !facts.Engine.Rootless) {
				group := strconv.FormatInt(f.GID, 10)
				p.Mend = &source.Mend{
					Text:  fmt.Sprintf("extra-groups = [\"%s\"] gives it the device's group", group),
					Edits: addTo(s, "extra-groups", s.Declared().Settings.ExtraGroups, group),
				}
			}
			in.report(s, p)
		}
	}
}
