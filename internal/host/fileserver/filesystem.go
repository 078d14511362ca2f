package fileserver

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"idletally/internal/core/ace"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/tree"
	"idletally/internal/host/change"
	"idletally/internal/host/fsys"
)

// shareFileSystem is the shares of a server, as a run works on them.
type shareFileSystem struct {
	ctx context.Context
	s   Server

	mu     sync.Mutex
	shares map[string]Share
	gone   error // why nothing more can be reached
}

// FileSystem lets runs change what lies on the server's shares: /SHARE/PATH.
func FileSystem(ctx context.Context, s Server) change.FileSystem {
	return &shareFileSystem{ctx: ctx, s: s, shares: map[string]Share{}}
}

func (r *shareFileSystem) share(name string) (Share, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.gone != nil { // who waited for it once need not again
		return nil, r.gone
	}
	if s := r.shares[name]; s != nil {
		return s, nil
	}
	s, err := r.s.Open(r.ctx, name)
	if err == nil {
		r.shares[name] = s
	}
	return s, err
}

func (r *shareFileSystem) Open(_ int, _, path string) (change.Handle, error) {
	name, below, err := Split(path)
	if err != nil {
		return nil, err
	}
	s, err := r.share(name)
	if err != nil {
		return nil, r.away(err)
	}
	t := &openPath{r: r, share: s, name: below}
	if err := t.open(); err != nil {
		return nil, err
	}
	return t, nil
}

func (r *shareFileSystem) Release(int) {}

func (r *shareFileSystem) Close() {
	for _, s := range r.shares {
		_ = s.Close() // nothing more is asked of it
	}
	clear(r.shares)
}

// away makes a run stop when nothing more can be reached: it can be resumed, and what it did not reach was not
// refused.
func (r *shareFileSystem) away(err error) error {
	if !errors.Is(err, ErrLost) || errors.Is(err, change.ErrAway) {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.gone = fmt.Errorf("%w: %w", change.ErrAway, err)
	return r.gone
}

// openPath is a path of a share, opened once. When the connection is lost and made again, the path is opened anew,
// and has to be what it was: the same file, with the same permissions.
type openPath struct {
	r     *shareFileSystem
	share Share
	name  string
	only  bool // looked at
	h     Handle
	last  *Seen
}

func (t *openPath) open() (err error) {
	const look = ace.ReadControl | ace.ReadAttributes
	if t.only {
		t.h, err = t.share.Hold(t.name, look)
		return t.r.away(err)
	}
	t.h, err = t.share.Hold(t.name, look|ace.WriteDAC|ace.WriteOwner)
	if Refused(err) { // an owner may change the list of what they cannot give away
		t.h, err = t.share.Hold(t.name, look|ace.WriteDAC)
	}
	return t.r.away(err)
}

// again is how often a path is opened anew after it was lost.
const again = 20

// look reads the path, over a new connection if the old one is lost.
func (t *openPath) look() (Seen, error) {
	seen, err := t.h.Look()
	for n := 0; n < again && errors.Is(err, ErrLost); n++ {
		_ = t.h.Close() // it went with its connection
		if err = t.open(); err != nil {
			return seen, err
		}
		seen, err = t.h.Look()
	}

	if err != nil {
		return seen, t.r.away(err)
	}
	if t.last != nil && (t.last.ID != seen.ID || t.last.Kind != seen.Kind) {
		return seen, fsys.ErrOther
	}

	t.last = &seen
	return seen, nil
}

func (t *openPath) Stat(int) (fsys.Stat, error) {
	seen, err := t.look()
	if err != nil {
		return fsys.Stat{}, err
	}
	set, err := nt.SetOf(seen.Descriptor)
	return fsys.Stat{
		Stamp: fsys.Stamp{Ino: seen.ID, Changed: seen.Changed},
		Kind:  seen.Kind,
		Set:   set,
		Links: max(seen.Links, 1),
	}, err
}

// ClockGranularity does not consult this host's clock: the server has one of its own.
func (t *openPath) ClockGranularity(s fsys.Stat) time.Duration { return s.Grain() }

// Revalidate opens the path anew, and goes on with what it leads to now.
func (t *openPath) Revalidate(hand int, s fsys.Stat) (bool, error) {
	_ = t.h.Close() // it was only pointed at
	if err := t.open(); err != nil {
		return false, err
	}
	now, err := t.Stat(hand)
	if err == nil && (now.Ino != s.Ino || now.Kind != s.Kind || now.Links != s.Links) {
		return false, fsys.ErrOther
	}
	return now == s, err
}

// Astray reads the folder anew: somebody may have changed it since the step was drafted. The folder of a share cannot
// be read.
func (t *openPath) Astray(to perm.Set) (string, error) {
	if t.name == "" || t.last == nil {
		return "", nil
	}
	up := &openPath{r: t.r, share: t.share, name: folderOf(t.name), only: true}
	if err := up.open(); err != nil {
		return "", fmt.Errorf("its folder: %w", err)
	}
	defer up.Close()

	seen, err := up.look()
	if err != nil {
		return "", fmt.Errorf("its folder: %w", err)
	}
	above, err := nt.SetOf(seen.Descriptor)
	if err != nil {
		return "", fmt.Errorf("its folder: %w", err)
	}

	return perm.Astray(perm.In(above, t.last.Kind, to), nil), nil
}

// folderOf returns the folder of a path on a share, in the server's form: "" is the share's own.
func folderOf(name string) string {
	if i := strings.LastIndexByte(name, '\\'); i >= 0 {
		return name[:i]
	}
	return ""
}

func (t *openPath) Reread(hand int) (perm.Set, error) {
	now, err := t.Stat(hand)
	return now.Set, err
}

// Apply sets the parts that differ now, all of them at once.
func (t *openPath) Apply(m change.Moves, before func()) error {
	to, ok := nt.Of(m.To)
	if !ok {
		return errors.New("the step is not for a file server")
	}

	was := t.last
	for n := 0; ; n++ {
		seen, err := t.look()
		if err != nil {
			return err
		}
		now := seen.Descriptor
		if n > 0 && was != nil && !now.Equal(to) && (!now.Equal(was.Descriptor) || seen.Changed != was.Changed) {
			return fsys.ErrOther
		}

		part := Part(0)
		if now.Owner != to.Owner {
			part |= SetOwner
		}

		if now.Group != to.Group {
			part |= SetGroup
		}

		now.Owner, now.Group = to.Owner, to.Group
		if !now.Equal(to) {
			part |= SetList
		}

		if part == 0 {
			return nil
		}

		if before != nil {
			before()
		}

		err = t.h.Set(to, part)
		if n == again || !errors.Is(err, ErrLost) {
			return t.r.away(err)
		}
	}
}

// No permission on a share gives a program power, so that nobody asks for these.
var errNoPower = errors.New("nothing on a share runs with more than its caller has")

func (t *openPath) Content() (tree.Hash, error) { return tree.Hash{}, errNoPower }
func (t *openPath) Hold() (change.Hold, error)  { return nil, errNoPower }

func (t *openPath) Close() error {
	if t.h == nil {
		return nil
	}
	return t.h.Close()
}
