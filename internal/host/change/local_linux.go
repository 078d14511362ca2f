package change

import (
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
)

// local is the file systems of this host.
type local struct {
	roots map[string]pinned
	hands []localWorker
}

// pinned is a root that was opened once for the whole of a run, or why it could not be.
type pinned struct {
	root *fsys.Root
	err  error
}

type localWorker struct {
	reader  fsys.Reader
	openers map[string]*fsys.Opener
}

func newLocal(roots []string, hands int) FileSystem {
	l := &local{roots: map[string]pinned{}, hands: make([]localWorker, hands)}
	for _, path := range roots {
		root, err := fsys.OpenRoot(path)
		l.roots[path] = pinned{root, err}
	}
	return l
}

func (l *local) Open(hand int, root, path string) (Handle, error) {
	o, err := l.opener(hand, root)
	if err != nil {
		return nil, err
	}
	fd, err := o.Open(path)
	if err != nil {
		return nil, err
	}
	return localHandle{fd, root, path, l}, nil
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

func (l *local) Release(hand int) {
	for _, o := range l.hands[hand].openers {
		o.Close()
	}
}

func (l *local) Close() {
	for i := range l.hands {
		l.Release(i)
	}
	for _, p := range l.roots {
		if p.err == nil {
			p.root.Close()
		}
	}
}

type localHandle struct {
	fd         int
	root, path string
	l          *local
}

func (t localHandle) Stat(hand int) (fsys.Stat, error) { return t.l.hands[hand].reader.Look(t.fd) }

// ClockGranularity is nothing for most paths: they were changed long ago, by the same clock.
func (t localHandle) ClockGranularity(s fsys.Stat) time.Duration {
	grain := s.Grain()
	return max(0, min(grain, grain-time.Since(time.Unix(0, s.Changed))))
}

// Revalidate checks a folder through its descriptor: it has only one name.
func (t localHandle) Revalidate(hand int, s fsys.Stat) (bool, error) {
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

func (t localHandle) Reread(hand int) (perm.Set, error) {
	return t.l.hands[hand].reader.Plain(t.fd)
}

// Astray is about entries that paths inherit and keep in step, which there are none of here.
func (t localHandle) Astray(perm.Set) (string, error) { return "", nil }

func (t localHandle) Apply(m Moves, before func()) error { return fsys.Apply(t.fd, m.Ops, before) }

func (t localHandle) Content() (tree.Hash, error) { return fsys.Digest(t.fd) }

func (t localHandle) Hold() (Hold, error) {
	l, err := fsys.TakeLease(t.fd)
	if err != nil {
		return nil, err
	}
	return localHold{l}, nil
}

type localHold struct{ *fsys.Lease }

func (h localHold) Content() tree.Hash { return h.Lease.Content }

func (t localHandle) Close() error { return unix.Close(t.fd) }
