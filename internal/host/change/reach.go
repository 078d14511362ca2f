package change

import (
	"errors"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
)

// ErrAway says that what a run works at cannot be reached any more. The run stops there, and can be resumed.
var ErrAway = errors.New("the run cannot get at its paths any more")

// A Reach gets at the paths of a plan: this host's own, or those of a file server.
type Reach interface {
	// Open opens a path beneath one of the plan's roots, following nothing. A path that is not there is
	// fs.ErrNotExist. Hands are numbered from 0, and each works at one path at a time.
	Open(hand int, root, path string) (Thing, error)
	Rest(hand int) // lets go of what a hand keeps open to be quick
	Close()
}

// A Thing is what lies at a path, opened once: what is looked at is what is changed. Another hand may go on
// with it than the one that opened it.
type Thing interface {
	Look(hand int) (fsys.Sight, error)
	// Settles is how long it takes until whatever is done to it bears another time than what was seen.
	Settles(s fsys.Sight) time.Duration
	// Same looks the path up once more and says whether nothing was done to the thing since. Where the path
	// leads elsewhere, or the thing has more or fewer names, that is an error.
	Same(hand int, s fsys.Sight) (bool, error)
	// Astray says how a state of the thing would differ from what its folder hands on now; "" where it would
	// not, and where folders hand nothing on but when something is made.
	Astray(to perm.Set) (string, error)
	Plain(hand int) (perm.Set, error) // a look that may leave out what was not there before and was not set
	Make(m Moves, before func()) error
	// Content is the SHA-256 of what is in a file.
	Content() (tree.Hash, error)
	// Hold makes sure that nobody has a file open for writing, and that whoever opens it so is noticed.
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
	Ops   []fsys.Op
	To    perm.Set
	Power int // the first of the calls, counted from 1, by which a program gets more power than it had; 0: none does
}

// movesOf returns the calls from one state to another of a path that a step finds in the state before.
func movesOf(k perm.Kind, before perm.Set, from perm.POSIX, to perm.Set, ops []fsys.Op) Moves {
	m := Moves{Ops: ops, To: to}
	if !perm.Empowers(k, before, to) {
		return m
	}
	for i, state := range fsys.Partials(k, from, ops) {
		if perm.Empowers(k, before, state) {
			m.Power = max(i, 1) // a state that a crash has left is made sure of as well
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
