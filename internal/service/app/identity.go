package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"idletally/internal/service/auth"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// A Presented is what somebody calls with.
type Presented struct {
	Hash     [32]byte // of the token
	ByCookie bool     // it came as a browser's cookie: no program's token counts there
	Alone    bool     // nobody asked for it: a page that is open asks by itself, which keeps no session alive
}

// Identify returns who calls; nil if nobody is known. Turned is the token that a browser has from now on; nil leaves
// the one that it has.
func (s *App) Identify(ctx context.Context, in Presented) (w *Caller, turned *turnedToken, err error) {
	says, err := s.holds(ctx)
	if err != nil {
		return nil, nil, err
	}

	p, x, err := s.store.SessionPerson(ctx, in.Hash)
	if err == nil {
		err = s.use(ctx, p.Name, x, says, in.Alone)
	}
	by := ""
	if errors.Is(err, store.ErrNotFound) && !in.ByCookie {
		var t store.Token
		p, t, err = s.store.TokenPerson(ctx, in.Hash)
		by = t.Name
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}

	w = &Caller{Person: p, token: in.Hash, By: by, session: x.ID, browser: in.ByCookie}
	if x.Shown != nil {
		w.shown = *x.Shown
	}
	if w.WantsTwoFactor, err = s.lacksTwoFactor(ctx, says, p); err != nil {
		return nil, nil, err
	}

	// Last of all: if anything failed after it, the browser would be left with a token that is no longer valid.
	if in.ByCookie {
		if turned = s.rotate(ctx, x, in.Hash); turned != nil {
			w.token = auth.HashToken(turned.Token)
		}
	}
	s.known.add(w.token, time.Now())
	return w, turned, nil
}

// Knows reports whether a token was valid a moment ago: then it is looked up at once. It never says whether it is
// valid.
func (s *App) Knows(hash [32]byte) bool { return s.known.have(hash, time.Now()) }

// use records that somebody uses a session, unless that has ended because nobody did. What a console asks by itself
// is no use.
func (s *App) use(ctx context.Context, person string, x store.Session, says wire.Policy, alone bool) error {
	idle := time.Since(*cmp.Or(x.Used, &x.Created))
	if idle > time.Duration(says.Idle)*time.Minute {
		if _, err := s.store.EndSessions(ctx, person, x.ID, ""); err != nil {
			// Or a looser policy would make it valid again.
			return err
		}
		return fmt.Errorf("a session that nobody used: %w", store.ErrNotFound)
	}
	if idle < time.Minute || alone {
		return nil
	}
	return s.store.UseSession(ctx, x.ID)
}

// turnAfter is how old the console's token gets before it becomes another one.
const turnAfter = time.Hour

// A turnedToken replaces the token that a session had.
type turnedToken struct {
	Token   string
	Expires time.Time // as the session
}

// rotate returns another token for the console at intervals, so that one that was read somewhere does not last; nil
// keeps the one that it has.
func (s *App) rotate(ctx context.Context, x store.Session, hash [32]byte) *turnedToken {
	since := x.Created
	if x.Turned.Valid {
		since = x.Turned.Time
	}
	if time.Since(since) < turnAfter {
		return nil
	}

	token, fresh := auth.Token()
	if err := s.store.TurnSession(ctx, hash, fresh); err != nil {
		if !errors.Is(err, store.ErrConflict) { // another call has done it
			s.log.Warn("a session keeps its token", "error", err)
		}
		return nil
	}
	return &turnedToken{Token: token, Expires: x.Expires}
}

// whileSignedIn returns a context that ends when the caller is no longer signed in, for calls that last.
func (s *App) whileSignedIn(ctx context.Context) (context.Context, context.CancelFunc) {
	me := CallerOf(ctx)
	if me == nil {
		return ctx, func() {}
	}

	ctx, cancel := context.WithCancel(ctx)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(KeepAlive):
			}

			stands, err := s.stands(ctx, me)
			switch {
			case err != nil && ctx.Err() == nil:
				s.log.Warn("whether somebody is still signed in is not known", "error", err)
			case err == nil && !stands:
				cancel()
				return
			}
		}
	}()

	return ctx, cancel
}

// stands reports whether somebody is still signed in, and records that a program waits there.
func (s *App) stands(ctx context.Context, me *Caller) (bool, error) {
	says, err := s.holds(ctx)
	if err != nil {
		return false, err
	}
	idle := time.Duration(says.Idle) * time.Minute
	stands, err := s.store.SessionStands(ctx, me.session, me.token, time.Now().Add(-idle))
	if err == nil && stands && me.session != "" && !me.browser {
		err = s.store.UseSession(ctx, me.session)
	}
	return stands, err
}

// Ready reports whether the service can do anything: whether its database answers.
func (s *App) Ready(ctx context.Context) error { return s.store.Ping(ctx) }
