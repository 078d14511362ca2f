//go:build linux

package smb

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/host/change"
	"idletally/internal/host/fsys"
)

// A reach gets a run at the paths of a server's shares.
type reach struct {
	ctx context.Context
	s   *Session

	mu     sync.Mutex
	shares map[string]*Share
}

// Reach lets runs change what lies on the server's shares: /SHARE/PATH.
func (s *Session) Reach(ctx context.Context) change.Reach {
	return &reach{ctx: ctx, s: s, shares: map[string]*Share{}}
}

func (r *reach) share(name string) (*Share, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if s := r.shares[name]; s != nil {
		return s, nil
	}
	s, err := r.s.Open(r.ctx, name)
	if err == nil {
		r.shares[name] = s
	}
	return s, err
}

func (r *reach) Open(_ int, _, path string) (change.Thing, error) {
	name, below, err := Split(path)
	if err != nil {
		return nil, err
	}
	s, err := r.share(name)
	if err != nil {
		return nil, err
	}
	const look = ntsd.ReadControl | ntsd.ReadAttributes
	h, err := s.Hold(below, look|ntsd.WriteDAC|ntsd.WriteOwner)
	if Refused(err) { // an owner may change the list of what they cannot give away
		h, err = s.Hold(below, look|ntsd.WriteDAC)
	}
	if Gone(err) {
		return nil, fmt.Errorf("%w: %w", err, fs.ErrNotExist)
	}
	if err != nil {
		return nil, err
	}
	return thing{h}, nil
}

func (r *reach) Rest(int) {}

func (r *reach) Close() {
	for _, s := range r.shares {
		_ = s.Close() // nothing more is asked of it
	}
	clear(r.shares)
}

// thing is a path of a share, opened once.
type thing struct{ h *Handle }

func (t thing) Look(int) (fsys.Sight, error) {
	seen, err := t.h.Look()
	if err != nil {
		return fsys.Sight{}, err
	}
	set, err := perm.NTSet(seen.Descriptor)
	return fsys.Sight{Stamp: fsys.Stamp{Ino: seen.ID}, Kind: seen.Kind, Set: set, Links: 1}, err
}

func (t thing) Same(hand int, s fsys.Sight) (bool, error) {
	now, err := t.Look(hand)
	return now == s, err
}

func (t thing) Plain(hand int) (perm.Set, error) {
	now, err := t.Look(hand)
	return now.Set, err
}

// Make sets what is another now, all of it at once.
func (t thing) Make(m change.Moves, before func()) error {
	seen, err := t.h.Look()
	if err != nil {
		return err
	}
	to, ok := perm.NTOf(m.To)
	if !ok {
		return errors.New("the step is not for a file server")
	}
	now, part := seen.Descriptor, Part(0)
	if now.Owner != to.Owner {
		part |= SetOwner
	}
	if now.Group != to.Group {
		part |= SetGroup
	}
	if now.Owner, now.Group = to.Owner, to.Group; !now.Equal(to) {
		part |= SetList
	}
	if part == 0 {
		return nil
	}
	if before != nil {
		before()
	}
	return t.h.Set(to, part)
}

func (t thing) Close() error { return t.h.Close() }
