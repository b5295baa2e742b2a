// Package access works out what an identity may do with files, as the kernel does.
package access

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/declare"
	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// Rights are permission bits: read 4, write 2, execute (for a folder: enter) 1.
type Rights uint8

const (
	// Read lets a file be read, or a folder be listed.
	Read Rights = 4
	// Write lets a file be written, or names in a folder be made and removed.
	Write Rights = 2
	// Enter lets a folder be gone through, or a file be run.
	Enter Rights = 1
)

func (r Rights) String() string {
	b := []byte("rwx")
	for i, bit := range []Rights{Read, Write, Enter} {
		if r&bit == 0 {
			b[i] = '-'
		}
	}
	return string(b)
}

// Words says in words what rights are, for a folder or a file.
func (r Rights) Words(folder bool) string {
	var w []string
	if r&Enter != 0 && folder {
		w = append(w, "enter")
	}
	if r&Read != 0 {
		w = append(w, "read")
	}
	if r&Write != 0 {
		w = append(w, "write")
	}
	if len(w) > 1 {
		return strings.Join(w[:len(w)-1], ", ") + " or " + w[len(w)-1]
	}
	return strings.Join(w, "")
}

func parseRights(s string) Rights {
	var r Rights
	for i, c := range s {
		if c != '-' && i < 3 {
			r |= 4 >> i
		}
	}
	return r
}

// entry is one entry of an access control list.
type entry struct {
	tag   string // user, group, mask, other
	id    string // "" for the owner's, the owning group's
	perms Rights
}

func ParseACL(acl []string) (entries []entry, mask Rights, masked bool) {
	for _, text := range acl {
		parts := strings.Split(text, ":")
		if len(parts) != 3 {
			continue
		}
		e := entry{parts[0], parts[1], parseRights(parts[2])}
		if e.tag == "mask" {
			mask, masked = e.perms, true
			continue
		}
		entries = append(entries, e)
	}
	return entries, mask, masked
}

// Who is an identity as the kernel of the host knows it.
type Who struct {
	UID, GID survey.ID
	Groups   []survey.ID
	Root     bool      // it may use files whatever their modes say
	Within   *IDRanges // whose files only, for the root of a user namespace; nil for those of everybody
}

// IDRanges are the ids of a user namespace on the host.
type IDRanges struct{ UIDs, GIDs []survey.IDMap }

// rules reports whether modes and lists of somebody's files mean nothing to an identity.
func (w Who) rules(uid, gid survey.ID) bool {
	return w.Root && (w.Within == nil || survey.HasHostID(w.Within.UIDs, uid) && survey.HasHostID(w.Within.GIDs, gid))
}

// Named is an identity by its uid alone, without any group.
func Named(uid survey.ID) Who { return Who{UID: uid, GID: -1, Root: uid == 0} }

// asRoot is what an engine with root makes of an identity: ids inside are those of the host.
func asRoot(id lab.Identity, groups []survey.ID) Who {
	return Who{UID: id.UID, GID: id.GID, Groups: groups, Root: id.UID == 0}
}

// inNamespace is what an engine without root makes of it. Its root rules over the files of those that are
// somebody inside (user_namespaces(7), "capable_wrt_inode_uidgid").
func inNamespace(e *survey.Engine, id lab.Identity, groups []survey.ID) (w Who, ok bool) {
	uid, known := survey.HostID(e.UIDMap, id.UID)
	gid, both := survey.HostID(e.GIDMap, id.GID)
	w = Who{UID: uid, GID: gid, Root: id.UID == 0, Within: &IDRanges{e.UIDMap, e.GIDMap}}
	for _, g := range groups {
		if host, ok := survey.HostID(e.GIDMap, g); ok {
			w.Groups = append(w.Groups, host)
		}
	}
	return w, known && both
}

// Of returns as whom a service works on its host, and in words; an error says why that is not known.
func Of(s *lab.Service) (w Who, words string, err error) {
	id, ok, why := s.Identity()
	if !ok {
		return Who{}, "", errors.New(why)
	}
	facts := s.Stack.Host.Survey
	words = facts.UserName(id.UID)
	if facts.Engine == nil || !facts.Engine.Rootless {
		return asRoot(id, GroupsOf(s)), words, nil
	}
	if len(facts.Engine.UIDMap) == 0 {
		return Who{}, "",
			fmt.Errorf(
				"the engine of %s runs without root, and it is not known which ids of "+
					"the host those inside are", s.Stack.Host.Name)
	}
	if w, ok = inNamespace(facts.Engine, id, GroupsOf(s)); !ok {
		return Who{}, "",
			fmt.Errorf("uid %d and gid %d do not exist on the engine of %s, which runs without root",
				id.UID, id.GID, s.Stack.Host.Name)
	}
	if id.UID == 0 {
		return w, "root inside, which is " + facts.UserName(w.UID) + " on the host,", nil
	}
	return w, fmt.Sprintf("uid %d inside, which is %s on the host,", id.UID, facts.UserName(w.UID)), nil
}

// EngineUser is the user that an engine without root runs as, who has to reach what is mounted.
func EngineUser(facts *survey.Survey) (Who, bool) {
	w, ok := inNamespace(facts.Engine, lab.Identity{}, nil)
	if a, known := facts.AccountOf(w.UID); known {
		w.Groups = a.Groups
	}
	return w, ok
}

// Check works out which of the wanted rights an identity has on a file or folder itself, and says which
// entry decides about the first that it has not. Each right is asked for by itself: reading may be granted by
// one entry and writing by another.
func Check(p survey.Path, w Who, want Rights) (got Rights, decides string) {
	for _, bit := range []Rights{Enter, Read, Write} {
		if want&bit == 0 {
			continue
		}
		ok, why := accessOne(p, w, bit)
		if ok {
			got |= bit
		} else if decides == "" {
			decides = why
		}
	}
	return got, decides
}

// accessOne follows POSIX.1e draft 17, 23.1.5 ("ACL access check algorithm"), as Linux carries it out, for a
// single right.
func accessOne(p survey.Path, w Who, want Rights) (bool, string) {
	mode64, _ := strconv.ParseUint(p.Mode, 8, 32)
	mode := uint32(mode64)
	entries, mask, masked := ParseACL(p.ACL)
	if mode&0o070 == 0 {
		// With nothing in the group's digit, which is the mask, Linux does not look at the list at all
		// (fs/namei.c, acl_permission_check): whom it names then counts as one of the others.
		entries, masked = nil, false
	}
	switch {
	case w.rules(p.UID, p.GID):
		return true, ""
	case w.UID == p.UID:
		if Rights(mode>>6)&want != 0 {
			return true, ""
		}
		return false, fmt.Sprintf("it is the owner, whom mode %s gives %s", p.Mode, Rights(mode>>6&7))
	}
	for _, e := range entries {
		if e.tag == "user" && e.id == strconv.FormatInt(w.UID, 10) {
			return e.perms&mask&want != 0, maskedWords("the entry user:"+e.id, e.perms, mask, want)
		}
	}
	member := func(gid survey.ID) bool { return gid == w.GID || slices.Contains(w.Groups, gid) }
	matched, words := false, ""
	if !masked && member(p.GID) {
		owning := Rights(mode >> 3 & 7)
		if owning&want != 0 {
			return true, ""
		}
		return false, fmt.Sprintf("its group is the owning one, which mode %s gives %s", p.Mode, owning)
	}
	for _, e := range entries {
		gid, err := strconv.ParseInt(e.id, 10, 64)
		if e.tag != "group" || !(e.id == "" && member(p.GID) || err == nil && member(gid)) {
			continue
		}
		if e.perms&mask&want != 0 {
			return true, ""
		}
		// What a mask takes back is the more surprising reason.
		if w := maskedWords("the entry group:"+e.id, e.perms, mask, want); !matched || e.perms&want != 0 {
			words = w
		}
		matched = true
	}
	if matched {
		return false, words
	}
	if Rights(mode)&want != 0 {
		return true, ""
	}
	return false,
		fmt.Sprintf("it is neither the owner nor in the group, and mode %s gives others %s", p.Mode, Rights(mode&7))
}

func maskedWords(name string, perms, mask, want Rights) string {
	if lost := perms & want &^ mask; lost != 0 {
		return fmt.Sprintf("%s grants %s, but the mask %s takes %s back", name, perms, mask, lost.Words(true))
	}
	return fmt.Sprintf("%s grants %s", name, perms&mask)
}

// OnHost writes the ids of a list as they are on the host, where it was read by the ids inside of an engine without root.
// Entries of those that are nobody inside are left out: nothing inside works as them.
func OnHost(acl []string, e *survey.Engine) (out []string) {
	for _, text := range acl {
		parts := strings.Split(text, ":")
		if len(parts) == 3 && parts[1] != "" {
			inside, err := strconv.ParseInt(parts[1], 10, 64)
			maps := e.GIDMap
			if parts[0] == "user" {
				maps = e.UIDMap
			}
			id, known := survey.HostID(maps, inside)
			if err != nil || !known {
				continue
			}
			parts[1] = strconv.FormatInt(id, 10)
		}
		out = append(out, strings.Join(parts, ":"))
	}
	return out
}

// Undecided returns the paths of a host of which the modes alone do not tell what services may do there, or which could
// not be seen: anybody but the owner and root may be given more by an access control list, or less.
func Undecided(l *lab.Lab, h *lab.Host) (paths []string) {
	facts := h.Survey
	for _, st := range l.Stacks {
		for _, s := range st.Services {
			for _, m := range s.Mounts {
				if st.Host != h || m.Kind != declare.MountPath || slices.Contains(paths, m.Source) {
					continue
				}
				p, seen := facts.Path(m.Source)
				w, _, err := Of(s)
				switch {
				case err != nil || !seen || p.Kind == survey.Missing:
				case p.Kind == survey.Hidden, !w.rules(p.UID, p.GID) && w.UID != p.UID:
					paths = append(paths, m.Source)
				}
			}
		}
	}
	return paths
}

// ClosedAbove returns the first folder on the way to a path that the user of an engine without root may not
// enter, and why. What is not known counts as open.
func ClosedAbove(facts *survey.Survey, p survey.Path) (closed survey.Path, decides string, ok bool) {
	if facts.Engine == nil || !facts.Engine.Rootless {
		return closed, "", false
	}
	w, known := EngineUser(facts)
	var above []string
	for dir := path.Dir(p.Real); known && p.Real != ""; dir = path.Dir(dir) {
		above = append(above, dir)
		if dir == "/" || dir == "." {
			break
		}
	}
	for _, dir := range slices.Backward(above) {
		folder, seen := facts.Path(dir)
		if !seen || folder.Kind != survey.Folder {
			continue
		}
		if got, decides := Check(folder, w, Enter); got == 0 {
			return folder, decides, true
		}
	}
	return closed, "", false
}

// GroupsOf returns the further groups that the service's process has.
func GroupsOf(s *lab.Service) []survey.ID {
	var gids []survey.ID
	for _, g := range s.Settings.Groups {
		if gid, err := strconv.ParseInt(g, 10, 64); err == nil {
			gids = append(gids, gid)
		}
	}
	return gids
}

// WithMask returns the path as it would be with another mask.
func WithMask(p survey.Path, mask Rights) survey.Path {
	acl := make([]string, 0, len(p.ACL))
	for _, e := range p.ACL {
		if strings.HasPrefix(e, "mask::") {
			e = "mask::" + mask.String()
		}
		acl = append(acl, e)
	}
	p.ACL = acl
	return p
}

// Letters returns the letters of what there is, such as rw.
func (r Rights) Letters() string { return strings.ReplaceAll(r.String(), "-", "") }
