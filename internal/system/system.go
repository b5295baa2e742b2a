// Package system is what the operating systems that lantern runs on do each in its own way. What one cannot do is an
// error that wraps [errors.ErrUnsupported].
package system

import "io/fs"

// Facts are what is known of a file beyond [fs.FileInfo].
type Facts struct {
	UID, GID      uint32
	Bits          uint32 // permissions, with those for setting ids: the last four octal digits of st_mode (inode(7))
	Device, Inode uint64
	Links         uint64 // names that it has
}

// FactsOf returns what is known of a file; ok is false where the system knows none of it.
func FactsOf(info fs.FileInfo) (f Facts, ok bool) { return factsOf(info) }
