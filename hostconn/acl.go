package hostconn

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// How the extended attributes system.posix_acl_access and _default look (linux/posix_acl_xattr.h): a version, then tag,
// permissions and id of each entry, little-endian.
const (
	aclVersion = 2
	aclSize    = 8 // of an entry, in bytes

	tagOwner  = 0x01
	tagUser   = 0x02
	tagGroup  = 0x04 // the owning one
	tagGroups = 0x08
	tagMask   = 0x10
	tagOther  = 0x20

	noID = 0xffffffff
)

// ParseACL reads a list of access control. The entries of owner and others are left out of it, as the mode says the
// same: they come in the first and the last digit of mode, with the mask, or else the owning group, between.
func ParseACL(b []byte) (acl []string, mode uint32) {
	if len(b) < 4 || binary.LittleEndian.Uint32(b) != aclVersion {
		return nil, 0
	}
	mask, masked := uint32(0), false
	for b = b[4:]; len(b) >= aclSize; b = b[aclSize:] {
		perms := binary.LittleEndian.Uint16(b[2:])
		text := []byte("rwx")
		for i := range text {
			if perms&(4>>i) == 0 {
				text[i] = '-'
			}
		}
		id := binary.LittleEndian.Uint32(b[4:])
		switch binary.LittleEndian.Uint16(b) {
		case tagOwner:
			mode |= uint32(perms) << 6
		case tagUser:
			acl = append(acl, fmt.Sprintf("user:%d:%s", id, text))
		case tagGroup:
			acl = append(acl, fmt.Sprintf("group::%s", text))
			if !masked {
				mask = uint32(perms)
			}
		case tagGroups:
			acl = append(acl, fmt.Sprintf("group:%d:%s", id, text))
		case tagMask:
			acl = append(acl, fmt.Sprintf("mask::%s", text))
			mask, masked = uint32(perms), true
		case tagOther:
			mode |= uint32(perms)
		}
	}
	return acl, mode | mask<<3
}

// formatACL writes what [ParseACL] reads; nil where there are no entries beyond the mode.
func formatACL(acl []string, mode uint32) []byte {
	if len(acl) == 0 {
		return nil
	}
	type entry struct {
		tag, perms uint16
		id         uint32
	}
	all := []entry{{tagOwner, uint16(mode >> 6 & 7), noID}, {tagOther, uint16(mode & 7), noID}}
	for _, text := range acl {
		parts := strings.Split(text, ":")
		if len(parts) != 3 {
			continue
		}
		e := entry{id: noID}
		for i, c := range parts[2] {
			if c != '-' && i < 3 {
				e.perms |= 4 >> i
			}
		}
		switch {
		case parts[0] == "user":
			e.tag = tagUser
		case parts[0] == "mask":
			e.tag = tagMask
		case parts[1] == "":
			e.tag = tagGroup
		default:
			e.tag = tagGroups
		}
		if id, err := strconv.ParseUint(parts[1], 10, 32); err == nil {
			e.id = uint32(id)
		}
		all = append(all, e)
	}
	slices.SortFunc(all, func(a, b entry) int { return cmp.Or(cmp.Compare(a.tag, b.tag), cmp.Compare(a.id, b.id)) })
	b := binary.LittleEndian.AppendUint32(nil, aclVersion)
	for _, e := range all {
		b = binary.LittleEndian.AppendUint16(b, e.tag)
		b = binary.LittleEndian.AppendUint16(b, e.perms)
		b = binary.LittleEndian.AppendUint32(b, e.id)
	}
	return b
}
