//go:build linux

package change

import (
	"golang.org/x/sys/unix"

	"idletally/internal/core/perm"
	"idletally/internal/host/fsys"
)

// A Reach gets at the paths of a plan: this host's own, or those of a file server.
type Reach interface {
	// Open opens a path beneath one of the plan's roots, following nothing. A path that is not there is fs.ErrNotExist. Hands
	// are numbered from 0, and each works at one path at a time.
	Open(hand int, root, path string) (Thing, error)
	Rest(hand int) // lets go of what a hand keeps open to be quick
	Close()
}

// A Thing is what lies at a path, opened once: what is looked at is what is changed. Another hand may go on with it than the
// one that opened it.
type Thing interface {
	Look(hand int) (fsys.Sight, error)
	Same(hand int, s fsys.Sight) (bool, error) // whether nothing was done to it since
	Plain(hand int) (perm.Set, error)          // a look that may leave out what was not there before and was not set
	Make(m Moves, before func()) error
	Close() error
}

// Moves are how something gets to another state: by single calls where the system changes one thing after the other, at
// once where it does not.
type Moves struct {
	Ops []fsys.Op
	To  perm.Set
}

// local is the reach of this host.
type local struct {
	roots map[string]pinned
	hands []ownHand
}

// pinned is a root that was opened once for all of a run, or why it could not be.
type pinned struct {
	root *fsys.Root
	err  error
}

type ownHand struct {
	reader  fsys.Reader
	openers map[string]*fsys.Opener
}

func newLocal(roots []string, hands int) *local {
	l := &local{roots: map[string]pinned{}, hands: make([]ownHand, hands)}
	for _, path := range roots {
		root, err := fsys.OpenRoot(path)
		l.roots[path] = pinned{root, err}
	}
	return l
}

func (l *local) Open(hand int, root, path string) (Thing, error) {
	h := &l.hands[hand]
	o := h.openers[root]
	if o == nil {
		p := l.roots[root]
		if p.err != nil {
			return nil, p.err
		}
		if h.openers == nil {
			h.openers = map[string]*fsys.Opener{}
		}
		o = &fsys.Opener{Root: p.root}
		h.openers[root] = o
	}
	fd, err := o.Open(path)
	if err != nil {
		return nil, err
	}
	return ownThing{fd, l}, nil
}

func (l *local) Rest(hand int) {
	for _, o := range l.hands[hand].openers {
		o.Close()
	}
}

func (l *local) Close() {
	for i := range l.hands {
		l.Rest(i)
	}
	for _, p := range l.roots {
		if p.err == nil {
			p.root.Close()
		}
	}
}

type ownThing struct {
	fd int
	l  *local
}

func (t ownThing) Look(hand int) (fsys.Sight, error) { return t.l.hands[hand].reader.Look(t.fd) }

func (t ownThing) Same(hand int, s fsys.Sight) (bool, error) {
	return t.l.hands[hand].reader.Same(t.fd, s)
}

func (t ownThing) Plain(hand int) (perm.Set, error) {
	p, err := t.l.hands[hand].reader.Plain(t.fd)
	return p.Set(), err
}

func (t ownThing) Make(m Moves, before func()) error { return fsys.Apply(t.fd, m.Ops, before) }

func (t ownThing) Close() error { return unix.Close(t.fd) }
