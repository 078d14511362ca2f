// Package fsys reads and changes the permissions of Linux paths through descriptors. A path is
// resolved once, beneath a pinned root and without following any link; what is checked is what
// is changed.
package fsys

import (
	"errors"
	"time"

	"idletally/internal/core/perm"
)

// A Stat is what statx(2) and the attributes of an open inode tell: what it is, how it is owned and who may do what.
type Stat struct {
	Stamp
	Kind  perm.Kind
	Set   perm.Set
	Links uint64
	Dev   uint64
	Born  int64 // when the inode was made, in nanoseconds of Unix time; 0 where the file system does not tell
}

// A Stamp cannot stay the same if anything of a path's permissions changed: its inode, and when that was last
// changed, in nanoseconds of Unix time.
type Stamp struct {
	Ino     uint64
	Changed int64
}

// ErrOther says that something else lies at a path than a moment ago.
var ErrOther = errors.New(
	"no longer as reviewed: in this very moment something else came to lie there, or its names became more or fewer")

// Grain returns how long two changes can have the same time: file systems take it from a clock that ticks, and some
// keep whole seconds only.
func (s Stamp) Grain() time.Duration {
	if s.Changed%int64(time.Second) == 0 {
		return 1100 * time.Millisecond
	}
	return 20 * time.Millisecond
}

// ErrWritten says that somebody has a file open for writing, or mapped so that it can be written.
var ErrWritten = errors.New("somebody has it open for writing, so that what is in it can change")
