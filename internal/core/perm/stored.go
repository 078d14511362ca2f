package perm

import (
	"cmp"
	"slices"

	"idletally/internal/core/mode"
)

// An Inode is what a system says of a path's permissions besides attributes (statx(2)).
type Inode struct {
	UID, GID uint32
	Mode     mode.Mode
	Flags    Flags
}

// A Stored scheme is kept by file systems of Linux: in inodes, and in extended attributes of certain names.
type Stored interface {
	Scheme
	// Attributes lists the names of the attributes that hold permissions.
	Attributes() []string
	// Claims reports whether a path that has the given ones of these attributes is of the scheme.
	Claims(has func(attribute string) bool) bool
	// Read returns the state of a path. get returns an attribute's value; "" for one that is not there.
	Read(i Inode, get func(attribute string) string) (State, error)
}

// A Stepwise state changes by one call after another, because the system has none that changes all of it at once.
type Stepwise interface {
	State
	// Sequence returns the moves that lead to another state of the scheme. Each changes one thing at once.
	Sequence(k Kind, to State) []Move
	// Direct returns moves that lead to another state without narrowing it first, and false where somebody could do
	// more in between than before or after. What leads to the path has to be narrow, and what is in it must stay as
	// it is.
	Direct(k Kind, to State) ([]Move, bool)
	// Plain reports whether the inode holds all of it.
	Plain() bool
}

// A Move is one call, and the state that it leads to: a crash can leave any of these.
type Move struct {
	Call  Call
	State Set
}

// A Call is one system call that changes permissions. Exactly one of its parts is set.
type Call struct {
	What  string // for people: "change the owner"
	Owner *Owner
	Mode  *mode.Mode
	Set   *Attribute
	Drop  string // the name of an attribute that is to go
}

// An Owner is the accounts that chown(2) sets, both at once.
type Owner struct{ UID, GID uint32 }

// An Attribute is an extended attribute and its value.
type Attribute struct{ Name, Value string }

// StoredSchemes returns those that file systems of Linux keep. The last one claims what no other does.
func StoredSchemes() (out []Stored) {
	for _, s := range schemes {
		if x, ok := s.(Stored); ok {
			out = append(out, x)
		}
	}
	slices.SortStableFunc(out, func(a, b Stored) int { return -cmp.Compare(a.ID(), b.ID()) })
	return out
}
