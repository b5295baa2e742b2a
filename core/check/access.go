package check

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/lab"
	"proudlantern.example/lantern/core/survey"
)

// rights are permission bits: read 4, write 2, execute (for a folder: enter) 1.
type rights uint8

const (
	mayRead  rights = 4
	mayWrite rights = 2
	mayEnter rights = 1
)

func (r rights) String() string {
	b := []byte("rwx")
	for i, bit := range []rights{mayRead, mayWrite, mayEnter} {
		if r&bit == 0 {
			b[i] = '-'
		}
	}
	return string(b)
}

// words says in words what rights are, for a folder or a file.
func (r rights) words(folder bool) string {
	var w []string
	if r&mayEnter != 0 && folder {
		w = append(w, "enter")
	}
	if r&mayRead != 0 {
		w = append(w, "read")
	}
	if r&mayWrite != 0 {
		w = append(w, "write")
	}
	if len(w) > 1 {
		return strings.Join(w[:len(w)-1], ", ") + " or " + w[len(w)-1]
	}
	return strings.Join(w, "")
}

func parseRights(s string) rights {
	var r rights
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
	perms rights
}

func parseACL(acl []string) (entries []entry, mask rights, masked bool) {
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

// who is an identity as the kernel of the host knows it.
type who struct {
	uid, gid survey.ID
	groups   []survey.ID
	rules    func(uid, gid survey.ID) bool // whose files it may use whatever their modes say
}

// asRoot is what an engine with root makes of an identity: ids inside are those of the host.
func asRoot(id lab.Identity, groups []survey.ID) who {
	return who{id.UID, id.GID, groups, func(survey.ID, survey.ID) bool { return id.UID == 0 }}
}

// inNamespace is what an engine without root makes of it. Its root rules over the files of those that are
// somebody inside (user_namespaces(7), "capable_wrt_inode_uidgid").
func inNamespace(e *survey.Engine, id lab.Identity, groups []survey.ID) (w who, ok bool) {
	uid, known := survey.HostID(e.UIDMap, id.UID)
	gid, both := survey.HostID(e.GIDMap, id.GID)
	w = who{uid: uid, gid: gid, rules: func(uid, gid survey.ID) bool {
		return id.UID == 0 && survey.HasHostID(e.UIDMap, uid) && survey.HasHostID(e.GIDMap, gid)
	}}
	for _, g := range groups {
		if host, ok := survey.HostID(e.GIDMap, g); ok {
			w.groups = append(w.groups, host)
		}
	}
	return w, known && both
}

// whoIs returns as whom a service works on its host, and in words; an error says why that is not known.
func whoIs(s *lab.Service) (w who, words string, err error) {
	id, ok, why := s.Identity()
	if !ok {
		return who{}, "", errors.New(why)
	}
	facts := s.Stack.Host.Survey
	words = facts.UserName(id.UID)
	if facts.Engine == nil || !facts.Engine.Rootless {
		return asRoot(id, groupsOf(s)), words, nil
	}
	if len(facts.Engine.UIDMap) == 0 {
		return who{}, "",
			fmt.Errorf(
				"the engine of %s runs without root, and it is not known which ids of "+
					"the host those inside are", s.Stack.Host.Name)
	}
	if w, ok = inNamespace(facts.Engine, id, groupsOf(s)); !ok {
		return who{}, "",
			fmt.Errorf("uid %d and gid %d do not exist on the engine of %s, which runs without root",
				id.UID, id.GID, s.Stack.Host.Name)
	}
	if id.UID == 0 {
		return w, "root inside, which is " + facts.UserName(w.uid) + " on the host,", nil
	}
	return w, fmt.Sprintf("uid %d inside, which is %s on the host,", id.UID, facts.UserName(w.uid)), nil
}

// engineUser is the user that an engine without root runs as, who has to reach what is mounted.
func engineUser(facts *survey.Survey) (who, bool) {
	w, ok := inNamespace(facts.Engine, lab.Identity{}, nil)
	if a, known := facts.AccountOf(w.uid); known {
		w.groups = a.Groups
	}
	return w, ok
}

// access works out which of the wanted rights an identity has on a file or folder itself, and says which
// entry decides about the first that it has not. Each right is asked for by itself: reading may be granted by
// one entry and writing by another.
func access(p survey.Path, w who, want rights) (got rights, decides string) {
	for _, bit := range []rights{mayEnter, mayRead, mayWrite} {
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
func accessOne(p survey.Path, w who, want rights) (bool, string) {
	mode64, _ := strconv.ParseUint(p.Mode, 8, 32)
	mode := uint32(mode64)
	entries, mask, masked := parseACL(p.ACL)
	if mode&0o070 == 0 {
		// With nothing in the group's digit, which is the mask, Linux does not look at the list at all
		// (fs/namei.c, acl_permission_check): whom it names then counts as one of the others.
		entries, masked = nil, false
	}
	switch {
	case w.rules(p.UID, p.GID):
		return true, ""
	case w.uid == p.UID:
		if rights(mode>>6)&want != 0 {
			return true, ""
		}
		return false, fmt.Sprintf("it is the owner, whom mode %s gives %s", p.Mode, rights(mode>>6&7))
	}
	for _, e := range entries {
		if e.tag == "user" && e.id == strconv.FormatInt(w.uid, 10) {
			return e.perms&mask&want != 0, maskedWords("the entry user:"+e.id, e.perms, mask, want)
		}
	}
	member := func(gid survey.ID) bool { return gid == w.gid || slices.Contains(w.groups, gid) }
	matched, words := false, ""
	if !masked && member(p.GID) {
		owning := rights(mode >> 3 & 7)
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
	if rights(mode)&want != 0 {
		return true, ""
	}
	return false,
		fmt.Sprintf("it is neither the owner nor in the group, and mode %s gives others %s", p.Mode, rights(mode&7))
}

func maskedWords(name string, perms, mask, want rights) string {
	if lost := perms & want &^ mask; lost != 0 {
		return fmt.Sprintf("%s grants %s, but the mask %s takes %s back", name, perms, mask, lost.words(true))
	}
	return fmt.Sprintf("%s grants %s", name, perms&mask)
}
