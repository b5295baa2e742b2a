package host

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"syscall"

	"github.com/agext/levenshtein"

	"proudlantern.example/lantern/core/survey"
	"proudlantern.example/lantern/engine"
	"proudlantern.example/lantern/hostconn"
)

// readPaths looks at the paths and all their parents.
func readPaths(from hostconn.Files, s *survey.Survey, paths []string) {
	if _, err := from.ACL("/", true); errors.Is(err, hostconn.ErrNoACL) {
		s.Unknown[survey.UnknownACL] = err.Error()
	}
	readFileSystems(from, s, look(from, s, paths), "/etc/fstab")
}

// look adds what stands at the paths, their parents, and where links lead; it returns the paths without links.
func look(from hostconn.Files, s *survey.Survey, paths []string) (real []string) {
	var beside []string
	for _, p := range withParents(paths) {
		found := stat(from, p)
		if found.Kind == survey.Folder && slices.Contains(paths, p) {
			found.Inside = inside(from, p)
		}
		s.Paths = append(s.Paths, found)
		if found.Real != "" && found.Real != p {
			beside = append(beside, found.Real)
		}
		if slices.Contains(paths, p) {
			real = append(real, cmp.Or(found.Real, p))
		}
	}
	// Behind a link, the way goes through other folders.
	for _, p := range withParents(beside) {
		if !slices.ContainsFunc(s.Paths, func(o survey.Path) bool { return o.Path == p }) {
			s.Paths = append(s.Paths, stat(from, p))
		}
	}
	return real
}

// LookAt returns what stands at paths, at their parents, and on the way to where links lead.
func LookAt(from hostconn.Files, paths []string) []survey.Path {
	s := &survey.Survey{Unknown: map[string]string{}}
	look(from, s, paths)
	return s.Paths
}

// TakeOver lets what was seen in another way stand in a survey in place of what was there; access control lists are known
// then, as far as they were looked for.
func TakeOver(s *survey.Survey, seen []survey.Path) {
	s.Paths = slices.DeleteFunc(slices.Clone(s.Paths), func(p survey.Path) bool {
		return slices.ContainsFunc(seen, func(o survey.Path) bool { return o.Path == p.Path })
	})
	s.Paths = append(s.Paths, seen...)
	slices.SortFunc(s.Paths, func(a, b survey.Path) int { return strings.Compare(a.Path, b.Path) })
	delete(s.Unknown, survey.UnknownACL)
}

// withParents returns the paths and their parents up to /, sorted, each once.
func withParents(paths []string) []string {
	var all []string
	for _, p := range paths {
		for ; p != "/" && p != "."; p = path.Dir(p) {
			all = append(all, p)
		}
		all = append(all, "/")
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// stat returns what stands at a path.
func stat(from hostconn.Files, p string) survey.Path {
	info, err := from.Stat(p)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ENOTDIR):
		return survey.Path{Path: p, Kind: survey.Missing, Near: near(from, p)}
	case err != nil:
		return survey.Path{Path: p, Kind: survey.Hidden}
	}
	out := survey.Path{
		Path: p,
		Kind: kindOf(info.Mode),
		Real: p,
		UID:  info.UID,
		GID:  info.GID,
		Mode: fmt.Sprintf("%04o", info.Bits),
	}
	if real, err := from.Real(p); err == nil {
		out.Real = real
	}
	if acl, err := from.ACL(p, true); err == nil {
		out.ACL, _ = hostconn.ParseACL(acl)
	}
	return out
}

func kindOf(m fs.FileMode) string {
	switch {
	case m.IsDir():
		return survey.Folder
	case m&fs.ModeSocket != 0:
		return survey.Socket
	case m&fs.ModeNamedPipe != 0:
		return survey.Pipe
	case m&fs.ModeDevice != 0:
		return survey.Device
	}
	return survey.Regular
}

// readVolumes looks at the root folders of volumes: where they lie in the files of the host, else through
// containers that mount them. Where neither can be done it is not known.
func readVolumes(ctx context.Context, e *engine.Engine, from hostconn.Files, s *survey.Survey, names []string) {
	for i, v := range s.Volumes {
		if !slices.Contains(names, v.Name) {
			continue
		}
		if from != nil && path.IsAbs(v.Place) {
			p := stat(from, v.Place)
			if entries, err := from.Names(v.Place, 1); err == nil && p.Kind == survey.Folder {
				s.Volumes[i].Root = &survey.VolumeRoot{
					UID:   p.UID,
					GID:   p.GID,
					Mode:  p.Mode,
					Empty: len(entries) == 0,
				}
				continue
			}
		}
		if s.Engine.Rootless {
			continue // those that containers see are not the host's
		}
		if root, err := e.VolumeRoot(ctx, v.Name); err == nil {
			s.Volumes[i].Root = root
		}
	}
}

// near returns what somebody who wrote a path that does not exist may have meant: the path with different
// capital letters, then names beside where it should be, most alike first.
func near(from hostconn.Files, p string) []string {
	var found []string
	if other, ok := otherCase(from, p); ok {
		found = append(found, other)
	}
	if names, err := from.Names(path.Dir(p), 0); err == nil {
		for i, n := range names {
			names[i] = path.Join(path.Dir(p), n)
		}
		found = append(found, nearAmong(p, names)...)
	}
	return unique(beside(p, found))
}

// beside makes names of the paths that are in the same folder as one.
func beside(p string, paths []string) []string {
	for i, f := range paths {
		if path.Dir(f) == path.Dir(p) {
			paths[i] = path.Base(f)
		}
	}
	return paths
}

// otherCase walks down a path, taking at each step the name as it is or with different capital letters.
func otherCase(from hostconn.Files, p string) (string, bool) {
	at := "/"
	for _, part := range strings.Split(strings.Trim(p, "/"), "/") {
		next := path.Join(at, part)
		if _, err := from.Lstat(next); err != nil {
			names, err := from.Names(at, 0)
			if err != nil {
				return "", false
			}
			i := slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(n, part) })
			if i < 0 {
				return "", false
			}
			next = path.Join(at, names[i])
		}
		at = next
	}
	return at, true
}

// nearAmong returns up to three of the names that are p with different capital letters or lie beside it and
// are alike.
func nearAmong(p string, names []string) []string {
	distance := func(n string) int {
		if strings.EqualFold(n, p) {
			return -1
		}
		return levenshtein.Distance(path.Base(n), path.Base(p), nil)
	}
	var alike []string
	for _, n := range names {
		if d := distance(n); d < 0 || path.Dir(n) == path.Dir(p) && d <= max(2, len(path.Base(p))/3) {
			alike = append(alike, n)
		}
	}
	slices.SortStableFunc(alike, func(a, b string) int {
		return cmp.Or(cmp.Compare(distance(a), distance(b)), cmp.Compare(a, b))
	})
	return alike[:min(3, len(alike))]
}

func unique(list []string) []string {
	var out []string
	for _, s := range list {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}
