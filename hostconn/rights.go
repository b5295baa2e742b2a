package hostconn

import "proudlantern.example/lantern/core/survey"

// Rights are who may do what with a file or folder: all that [Handle.SetRights] changes.
type Rights struct {
	UID     survey.ID `json:"uid"`
	GID     survey.ID `json:"gid"`
	Bits    uint32    `json:"bits"`              // the last four octal digits of st_mode
	ACL     []byte    `json:"acl,omitempty"`     // system.posix_acl_access; nil for none
	Default []byte    `json:"default,omitempty"` // system.posix_acl_default
}

// Names of the extended attributes (acl(5)).
const (
	aclAccess  = "system.posix_acl_access"
	aclDefault = "system.posix_acl_default"
)

// WithACL returns rights with other lists and bits; defaults of nil stay as they are.
func (r Rights) WithACL(acl []string, bits uint32, defaults []string, defaultBits uint32) Rights {
	r.ACL, r.Bits = formatACL(acl, bits), bits
	if defaults != nil {
		r.Default = formatACL(defaults, defaultBits)
	}
	return r
}

// Same reports whether rights are the same.
func (r Rights) Same(o Rights) bool {
	return r.UID == o.UID && r.GID == o.GID && r.Bits == o.Bits && string(r.ACL) == string(o.ACL) && string(r.Default) == string(o.Default)
}
