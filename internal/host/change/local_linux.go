package change

import (
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
)

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

func newLocal(roots []string, hands int) Reach {
	l := &local{roots: map[string]pinned{}, hands: make([]ownHand, hands)}
	for _, path := range roots {
		root, err := fsys.OpenRoot(path)
		l.roots[path] = pinned{root, err}
	}
	return l
}

func (l *local) Open(hand int, root, path string) (Thing, error) {
	o, err := l.opener(hand, root)
	if err != nil {
		return nil, err
	}
	fd, err := o.Open(path)
	if err != nil {
		return nil, err
	}
	return ownThing{fd, root, path, l}, nil
}

func (l *local) opener(hand int, root string) (*fsys.Opener, error) {
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
	return o, nil
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
	fd         int
	root, path string
	l          *local
}

func (t ownThing) Look(hand int) (fsys.Sight, error) { return t.l.hands[hand].reader.Look(t.fd) }

// Settles is nothing for most: they were changed long ago, by the same clock.
func (t ownThing) Settles(s fsys.Sight) time.Duration {
	grain := s.Grain()
	return max(0, min(grain, grain-time.Since(time.Unix(0, s.Changed))))
}

// Same asks about a folder through its descriptor: it has one name.
func (t ownThing) Same(hand int, s fsys.Sight) (bool, error) {
	h := &t.l.hands[hand]
	if s.Kind == perm.Folder {
		return h.reader.Same(t.fd, s)
	}
	o, err := t.l.opener(hand, t.root)
	if err != nil {
		return false, err
	}
	return o.Still(&h.reader, t.path, s)
}

func (t ownThing) Plain(hand int) (perm.Set, error) {
	p, err := t.l.hands[hand].reader.Plain(t.fd)
	return p.Set(), err
}

// Astray is about what folders hand on for good, which they do not here.
func (t ownThing) Astray(perm.Set) (string, error) { return "", nil }

func (t ownThing) Make(m Moves, before func()) error { return fsys.Apply(t.fd, m.Ops, before) }

func (t ownThing) Content() (tree.Hash, error) { return fsys.Digest(t.fd) }

func (t ownThing) Hold() (Hold, error) {
	l, err := fsys.TakeLease(t.fd)
	if err != nil {
		return nil, err
	}
	return ownHold{l}, nil
}

type ownHold struct{ *fsys.Lease }

func (h ownHold) Content() tree.Hash { return h.Lease.Content }

func (t ownThing) Close() error { return unix.Close(t.fd) }
