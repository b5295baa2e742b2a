package check

import (
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

// access works out which of the wanted rights an identity has on a file or folder itself, and says which entry decides about the first
// that it has not. Each right is asked for by itself: reading may be granted by one entry and writing by another.
func access(p survey.Path, id lab.Identity, groups []int, want rights) (got rights, decides string) {
	for _, bit := range []rights{mayEnter, mayRead, mayWrite} {
		if want&bit == 0 {
			continue
		}
		ok, why := accessOne(p, id, groups, bit)
		if ok {
			got |= bit
		} else if decides == "" {
			decides = why
		}
	}
	return got, decides
}

// accessOne follows POSIX.1e draft 17, 23.1.5 ("ACL access check algorithm"), as Linux carries it out, for a single right.
func accessOne(p survey.Path, id lab.Identity, groups []int, want rights) (bool, string) {
	mode64, _ := strconv.ParseUint(p.Mode, 8, 32)
	mode := uint32(mode64)
	entries, mask, masked := parseACL(p.ACL)
	if mode&0o070 == 0 {
		// With nothing in the group's digit, which is the mask, Linux does not look at the list at all (fs/namei.c, acl_permission_check): whom it
		// names then counts as one of the others.
		entries, masked = nil, false
	}
	switch {
	case id.UID == 0:
		return true, ""
	case id.UID == p.UID:
		if rights(mode>>6)&want != 0 {
			return true, ""
		}
		return false, fmt.Sprintf("it is the owner, whom mode %s gives %s", p.Mode, rights(mode>>6&7))
	}
	for _, e := range entries {
		if e.tag == "user" && e.id == strconv.Itoa(id.UID) {
			return e.perms&mask&want != 0, maskedWords("the entry user:"+e.id, e.perms, mask, want)
		}
	}
	member := func(gid int) bool { return gid == id.GID || slices.Contains(groups, gid) }
	matched, words := false, ""
	if !masked && member(p.GID) {
		owning := rights(mode >> 3 & 7)
		if owning&want != 0 {
			return true, ""
		}
		return false, fmt.Sprintf("its group is the owning one, which mode %s gives %s", p.Mode, owning)
	}
	for _, e := range entries {
		gid, err := strconv.Atoi(e.id)
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
	return false, fmt.Sprintf("it is neither the owner nor in the group, and mode %s gives others %s", p.Mode, rights(mode&7))
}

func maskedWords(name string, perms, mask, want rights) string {
	if lost := perms & want &^ mask; lost != 0 {
		return fmt.Sprintf("%s grants %s, but the mask %s takes %s back", name, perms, mask, lost.words(true))
	}
	return fmt.Sprintf("%s grants %s", name, perms&mask)
}
