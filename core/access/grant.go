package access

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"proudlantern.example/lantern/core/survey"
)

// Grant returns a file or folder as it would be with an identity having more rights there, and nobody else: the owner
// gets them in the mode, anybody else in an entry of the access control list. Where the mask has to become wider, the
// other entries get no more than they had through the one before (acl(5)).
func Grant(p survey.Path, w Who, more Rights) survey.Path {
	mode, uid := ModeOf(p), w.UID
	if uid == p.UID {
		p.Mode = fmt.Sprintf("%04o", mode|uint32(more)<<6)
		return p
	}
	entries, mask, masked := ParseACL(p.ACL)
	// With nothing in the group's digit Linux does not look at the list: what stands in it had no effect.
	if masked && mode&0o070 == 0 {
		mask = 0
	}
	if !masked {
		entries, mask = []entry{{"group", "", Rights(mode >> 3 & 7)}}, 7
	}
	own := strconv.FormatInt(uid, 10)
	had := Rights(0)
	i := slices.IndexFunc(entries, func(e entry) bool { return e.tag == "user" && e.id == own })
	if i >= 0 {
		had = entries[i].perms & mask
	} else {
		// What it had as one of a group, or of the others, it keeps.
		w.Root = false
		had, _ = Check(p, w, Read|Write|Enter)
		entries = slices.Insert(entries, 0, entry{tag: "user", id: own})
		i = 0
	}
	entries[i].perms = had | more
	wide := Rights(0)
	for j := range entries {
		if j != i {
			entries[j].perms &= mask
		}
		wide |= entries[j].perms
	}
	slices.SortStableFunc(entries, func(a, b entry) int { return rank(a) - rank(b) })
	p.ACL = nil
	for _, e := range entries {
		p.ACL = append(p.ACL, e.tag+":"+e.id+":"+e.perms.String())
	}
	p.ACL = append(p.ACL, "mask::"+wide.String())
	p.Mode = fmt.Sprintf("%04o", mode&^0o070|uint32(wide)<<3)
	return p
}

// rank is the order of entries in a list: users, then groups, the owning one first.
func rank(e entry) int {
	switch {
	case e.tag == "user":
		return 0
	case e.id == "":
		return 1
	}
	return 2
}

// ModeOf returns the mode of a file as a number.
func ModeOf(p survey.Path) uint32 {
	mode, _ := strconv.ParseUint(p.Mode, 8, 32)
	return uint32(mode)
}

// Plain returns the permissions of owner, owning group and others, without the mask.
func Plain(p survey.Path) uint32 {
	mode := ModeOf(p) & 0o777
	if entries, _, masked := ParseACL(p.ACL); masked {
		for _, e := range entries {
			if e.tag == "group" && e.id == "" {
				mode = mode&^0o070 | uint32(e.perms)<<3
			}
		}
	}
	return mode
}

// EntryOf returns the entry of a user in a list, such as user:1311:rwx; "" where there is none.
func EntryOf(acl []string, uid survey.ID) string {
	for _, e := range acl {
		if strings.HasPrefix(e, "user:"+strconv.FormatInt(uid, 10)+":") {
			return e
		}
	}
	return ""
}
