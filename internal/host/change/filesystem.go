package change

import (
	"errors"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
)

// ErrAway says that the place where a run works cannot be reached any more. The run stops there, and can be resumed.
var ErrAway = errors.New("the run cannot get at its paths any more")

// A FileSystem is where the paths of a plan lie: this host's own file systems, or a file server's.
type FileSystem interface {
	// Open opens a path beneath one of the plan's roots and follows no link. A path that is not there is
	// fs.ErrNotExist. Workers are numbered from 0, and each works on one path at a time.
	Open(worker int, root, path string) (Handle, error)
	// Release closes what a worker keeps open between paths for speed.
	Release(worker int)
	Close()
}

// A Handle is an open path: what is examined is what is changed. It may be passed from one worker to another.
type Handle interface {
	// Stat returns the state of the inode, and what Revalidate needs to know it again.
	Stat(worker int) (fsys.Stat, error)
	// ClockGranularity returns how long to wait until any further change must get a later ctime than s.
	ClockGranularity(s fsys.Stat) time.Duration
	// Revalidate resolves the path once more, and reports whether the inode is unchanged since s. It is an error if
	// the path names another inode, or if the number of links differs.
	Revalidate(worker int, s fsys.Stat) (bool, error)
	// Astray returns how a state would differ from what the folder above passes on now; "" if it would not, and on
	// file systems where inheritance happens only when a path is made.
	Astray(to perm.Set) (string, error)
	// Reread returns the permissions as they are now. It may skip what was neither there before nor set by the run.
	Reread(worker int) (perm.Set, error)
	// Apply makes a transition, and calls before when nothing but its last part is left.
	Apply(m Moves, before func()) error
	// Content returns the SHA-256 of a file's content.
	Content() (tree.Hash, error)
	// Hold makes sure that nobody has a file open for writing, and that an attempt to open it so is noticed.
	Hold() (Hold, error)
	Close() error
}

// A Hold is on a file that nobody writes.
type Hold interface {
	Content() tree.Hash // of what is in it
	Kept() bool         // nobody has begun to open it for writing since
	Release()
}

// Moves are how something gets to another state: by single calls where the system changes one thing after the other, at
// once where it does not.
type Moves struct {
	Ops   []perm.Move
	To    perm.Set
	Power int // the first of the calls, counted from 1, by which a program gets more power than it had; 0: none does
}

// movesOf returns the calls to another state of a path that a step finds in the state from, and that was reviewed in
// the state before.
func movesOf(k perm.Kind, before, from, to perm.Set, ops []perm.Move) Moves {
	m := Moves{Ops: ops, To: to}
	if !perm.Empowers(k, before, to) {
		return m
	}
	if perm.Empowers(k, before, from) { // a state that a crash has left is made sure of as well
		m.Power = 1
		return m
	}
	for i, move := range ops {
		if perm.Empowers(k, before, move.State) {
			m.Power = i + 1
			break
		}
	}
	return m
}

// split returns the calls until one by which a program gets more power, and from there on.
func (m Moves) split() (until, from Moves) {
	until, from = m, m
	until.Ops, from.Ops = m.Ops[:min(m.Power-1, len(m.Ops))], m.Ops[min(m.Power-1, len(m.Ops)):]
	return until, from
}
