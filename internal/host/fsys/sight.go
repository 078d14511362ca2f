// Package fsys reads and changes the permissions of Linux paths through descriptors. A path is
// resolved once, beneath a pinned root and without following any link; what is checked is what
// is changed.
package fsys

import "idletally/internal/core/perm"

// A Sight is what a descriptor showed.
type Sight struct {
	Stamp
	Kind  perm.Kind
	Set   perm.Set
	Links uint64
	Dev   uint64
}

// A Stamp is what cannot stay the same where anything of a path's permissions changed: its inode,
// and when that was changed last, in nanoseconds of Unix time.
type Stamp struct {
	Ino     uint64
	Changed int64
}
