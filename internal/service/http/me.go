package http

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// turnAfter is how old the console's token gets before it becomes another one.
const turnAfter = time.Hour

// spareCodes is how many codes to spare somebody gets, for when the second factor is lost.
const spareCodes = 8

// rotateSession returns the console another token now and then, so that one that was read somewhere does not last.
func (s *Server) rotateSession(w http.ResponseWriter, r *http.Request, x store.Session, hash [32]byte) [32]byte {
	since := x.Created
	if x.Turned.Valid {
		since = x.Turned.Time
	}

	if time.Since(since) < turnAfter {
		return hash
	}

	token, fresh := auth.Token()
	if err := s.Store.TurnSession(r.Context(), hash, fresh); err != nil {
		if !errors.Is(err, store.ErrConflict) { // another call has done it
			s.Log.Warn("a session keeps its token", "error", err)
		}
		return hash
	}

	c := cookie(token, x.Expires)
	http.SetCookie(w, &c)
	return fresh
}

// second checks a second factor: a code by time, or one to spare. Each counts once.
func (s *Server) second(ctx context.Context, p store.Person, code string) (bool, error) {
	if p.Second != nil {
		secret, err := s.unseal(secondOf(p.Name), p.Second)
		if err != nil {
			return false, err
		}

		if step, ok := auth.CheckSecond(secret, code, time.Now(), p.SecondUsed); ok {
			err := s.Store.UseSecond(ctx, p.Name, step)
			if isConflict(err) { // somebody else was faster with it
				return false, nil
			}
			return err == nil, err
		}

		if _, again := auth.CheckSecond(secret, code, time.Now(), 0); again {
			s.refused(ctx, speaker(ctx), "code used again", p.Name, "somebody has seen it, or the same was given twice")
		}
	}

	code = strings.ToLower(strings.TrimSpace(code))

	// as an earlier version kept them
	used, err := s.Store.UseSpare(ctx, p.Name, s.spareHash(p.Name, code), auth.HashToken(code))
	if used {
		s.audit(withPerson(ctx, p), "spare code used", p.Name, "")
	}

	return used, err
}

func (s *Server) meRoutes() {
	add(s, op{"GET", "/me/sessions", "list-sessions", "List where you are signed in", "any", 200},
		s.listSessions)

	add(s, op{"DELETE", "/me/sessions/{id}", "end-session", "Sign out elsewhere", "any", 204},
		inPerson(s.endSession))
	add(s, op{"DELETE", "/me/sessions", "end-sessions", "Sign out everywhere but here", "any", 204},
		inPerson(s.endSessions))
	add(s, op{"DELETE", "/people/{name}/sessions", "end-sessions-of", "Sign somebody out everywhere", wire.Admin, 204},
		inPerson(s.endSessionsOf))
	add(s,
		op{
			"POST", "/me/second", "propose-second",
			"Begin a second factor: a code by time (RFC 6238), six digits, every 30 seconds. It counts once " +
				"it is confirmed",
			"any", 201,
		},
		inPerson(s.proposeSecond))

	add(s,
		op{
			"PUT", "/me/second", "confirm-second", "Confirm a second factor by its code. All other sessions end",
			"any", 200,
		},
		inPerson(s.confirmSecond))

	add(s,
		op{
			"POST", "/me/second/remove", "remove-second", "Turn off your second factor, by one of its codes", "any",
			204,
		},
		inPerson(s.removeSecond))

	add(s,
		op{
			"DELETE", "/people/{name}/second", "remove-second-of",
			"Take away the second factor of somebody who has lost it. Their sessions end", wire.Admin, 204,
		},
		inPerson(s.removeSecondOf))
}

// listSessions serves: List where you are signed in.
func (s *Server) listSessions(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.SignedIn]], error) {
	me := caller(ctx)
	list, err := s.Store.Sessions(ctx, me.Name)
	out := wire.Page[wire.SignedIn]{Items: []wire.SignedIn{}}

	for _, x := range list {
		out.Items = append(out.Items, wire.SignedIn{
			ID:      x.ID,
			What:    x.What,
			Since:   x.Created,
			Expires: x.Expires,
			Here:    x.ID == me.session,
		})
	}

	return &body[wire.Page[wire.SignedIn]]{whole(out)}, err
}

// dropSessions ends a session of somebody, or all but one that is kept.
func (s *Server) dropSessions(ctx context.Context, person, id, keep string) (*struct{}, error) {
	n, err := s.Store.EndSessions(ctx, person, id, keep)
	if err == nil && n == 0 && id != "" {
		err = fault.NotFound("no session " + id + " of " + person)
	}

	if err == nil {
		s.audit(ctx, "sessions ended", person, itoa(int(n)))
	}

	return nil, err
}

// endSessionRequest is what endSession takes.
type endSessionRequest struct {
	ID string `path:"id" minLength:"1" maxLength:"16"`
}

// endSession serves: Sign out elsewhere.
func (s *Server) endSession(ctx context.Context, in *endSessionRequest) (*struct{}, error) {
	return s.dropSessions(ctx, caller(ctx).Name, in.ID, "")
}

// endSessions serves: Sign out everywhere but here.
func (s *Server) endSessions(ctx context.Context, _ *struct{}) (*struct{}, error) {
	return s.dropSessions(ctx, caller(ctx).Name, "", caller(ctx).session)
}

// endSessionsOf serves: Sign somebody out everywhere.
func (s *Server) endSessionsOf(ctx context.Context, in *byName) (*struct{}, error) {
	return s.dropSessions(ctx, in.Name, "", "")
}

// proposeSecond serves: Begin a second factor: a code by time (RFC 6238), six digits, every 30 seconds. It
// counts once it is confirmed.
func (s *Server) proposeSecond(ctx context.Context, _ *struct{}) (*body[wire.Second], error) {
	if caller(ctx).Second != nil {
		return nil, fault.Conflict("you have a second factor: remove it first")
	}

	secret := auth.NewSecond()
	sealed, err := s.seal(secondOf(caller(ctx).Name), secret)
	if err == nil {
		err = s.Store.ProposeSecond(ctx, caller(ctx).Name, sealed)
	}

	return &body[wire.Second]{
		wire.Second{Secret: auth.SecondText(secret), URL: auth.SecondURL(secret, caller(ctx).Name, s.Name)},
	}, err
}

// confirmSecond serves: Confirm a second factor by its code. All other sessions end.
func (s *Server) confirmSecond(ctx context.Context, in *body[wire.SecondCode]) (*body[wire.SpareCodes], error) {
	me := caller(ctx)
	if me.SecondNext == nil {
		return nil, fault.Conflict("no second factor waits to be confirmed: begin one first")
	}
	right, err := s.try(ctx, codeGuess(me.Name, within(me)))
	if err != nil {
		return nil, err
	}
	secret, err := s.unseal(secondOf(me.Name), me.SecondNext)
	if err != nil {
		return nil, err
	}

	step, ok := auth.CheckSecond(secret, in.Body.Code, time.Now(), 0)
	if !ok {
		return nil, fault.Invalid(
			"this code does not fit: is the clock of your device right?")
	}

	codes, hashes := s.newSpareCodes(me.Name)
	if err := s.Store.ConfirmSecond(ctx, me.Name, me.SecondNext, step, hashes, me.session); err != nil {
		return nil, err
	}

	right()
	s.audit(ctx, "second factor set", me.Name, "")
	return &body[wire.SpareCodes]{wire.SpareCodes{Codes: codes}}, nil
}

// removeSecond serves: Turn off your second factor, by one of its codes.
func (s *Server) removeSecond(ctx context.Context, in *body[wire.SecondCode]) (*struct{}, error) {
	me := caller(ctx)
	err := s.sayCode(ctx, me, in.Body.Code)
	if err == nil {
		err = s.Store.DropCode(ctx, me.Name)
	}

	if err == nil {
		s.audit(ctx, "second factor removed", me.Name, "")
	}

	return nil, err
}

// removeSecondOf serves: Take away the second factor of somebody who has lost it. Their sessions end.
func (s *Server) removeSecondOf(ctx context.Context, in *byName) (*struct{}, error) {
	from, err := s.countsFrom(ctx)
	if err == nil {
		err = s.Store.DropSeconds(ctx, in.Name, from)
	}

	if err == nil {
		s.audit(ctx, "second factor removed", in.Name, "by an admin")
		_, err = s.Store.EndSessions(ctx, in.Name, "", "")
	}

	return nil, err
}
