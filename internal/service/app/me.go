package app

import (
	"context"
	"strings"
	"time"

	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// spareCodes is how many spare codes somebody gets, for when the second factor is lost.
const spareCodes = 8

// second checks a second factor: a one-time code, or a spare one. Each counts once.
func (s *App) second(ctx context.Context, p store.Person, code string) (bool, error) {
	if p.Second != nil {
		secret, err := s.unseal(secondOf(p.Name), p.Second)
		if err != nil {
			return false, err
		}

		if step, ok := auth.CheckTOTP(secret, code, time.Now(), p.SecondUsed); ok {
			err := s.store.UseTwoFactor(ctx, p.Name, step)
			if isConflict(err) { // somebody else was faster with it
				return false, nil
			}
			return err == nil, err
		}

		if _, again := auth.CheckTOTP(secret, code, time.Now(), 0); again {
			s.refused(ctx, speaker(ctx), "code used again", p.Name, "somebody has seen it, or the same was given twice")
		}
	}

	code = strings.ToLower(strings.TrimSpace(code))

	// As an earlier version stored them.
	used, err := s.store.UseSpare(ctx, p.Name, s.spareHash(p.Name, code), auth.HashToken(code))
	if used {
		s.audit(withPerson(ctx, p), "spare code used", p.Name, "")
	}

	return used, err
}

// ListSessions lists where you are signed in.
func (s *App) ListSessions(ctx context.Context, _ *struct{}) (*wire.Page[wire.SignedIn], error) {
	me := CallerOf(ctx)
	list, err := s.store.Sessions(ctx, me.Name)
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

	return whole(out), err
}

// dropSessions ends a session of somebody, or all but one that is kept.
func (s *App) dropSessions(ctx context.Context, person, id, keep string) (*struct{}, error) {
	n, err := s.store.EndSessions(ctx, person, id, keep)
	if err == nil && n == 0 && id != "" {
		err = fault.NotFound("no session " + id + " of " + person)
	}

	if err == nil {
		s.audit(ctx, "sessions ended", person, itoa(int(n)))
	}

	return nil, err
}

// EndSessionRequest is the request of [App.EndSession].
type EndSessionRequest struct {
	ID string `path:"id" minLength:"1" maxLength:"16"`
}

// EndSession signs out elsewhere.
func (s *App) EndSession(ctx context.Context, in *EndSessionRequest) (*struct{}, error) {
	return s.dropSessions(ctx, CallerOf(ctx).Name, in.ID, "")
}

// EndSessions signs out everywhere but here.
func (s *App) EndSessions(ctx context.Context, _ *struct{}) (*struct{}, error) {
	return s.dropSessions(ctx, CallerOf(ctx).Name, "", CallerOf(ctx).session)
}

// EndSessionsOf signs somebody out everywhere.
func (s *App) EndSessionsOf(ctx context.Context, in *ByName) (*struct{}, error) {
	return s.dropSessions(ctx, in.Name, "", "")
}

// ProposeSecond begins a second factor: a code by time (RFC 6238), six digits, every 30 seconds. It
// counts once it is confirmed.
func (s *App) ProposeSecond(ctx context.Context, _ *struct{}) (*wire.Second, error) {
	if CallerOf(ctx).Second != nil {
		return nil, fault.Conflict("you have a second factor: remove it first")
	}

	secret := auth.NewTOTP()
	sealed, err := s.seal(secondOf(CallerOf(ctx).Name), secret)
	if err == nil {
		err = s.store.ProposeSecond(ctx, CallerOf(ctx).Name, sealed)
	}

	return &wire.Second{Secret: auth.TOTPText(secret),
		URL: auth.TOTPURL(secret, CallerOf(ctx).Name, s.config.Name)}, err
}

// ConfirmSecond confirms a second factor by its code. All other sessions end.
func (s *App) ConfirmSecond(ctx context.Context, in *wire.SecondCode) (*wire.SpareCodes, error) {
	me := CallerOf(ctx)
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

	step, ok := auth.CheckTOTP(secret, in.Code, time.Now(), 0)
	if !ok {
		return nil, fault.Invalid(
			"this code does not fit: is the clock of your device right?")
	}

	codes, hashes := s.newSpareCodes(me.Name)
	if err := s.store.ConfirmSecond(ctx, me.Name, me.SecondNext, step, hashes, me.session); err != nil {
		return nil, err
	}

	right()
	s.audit(ctx, "second factor set", me.Name, "")
	return &wire.SpareCodes{Codes: codes}, nil
}

// RemoveSecond turns off your second factor, by one of its codes.
func (s *App) RemoveSecond(ctx context.Context, in *wire.SecondCode) (*struct{}, error) {
	me := CallerOf(ctx)
	err := s.sayCode(ctx, me, in.Code)
	if err == nil {
		err = s.store.DropCode(ctx, me.Name)
	}

	if err == nil {
		s.audit(ctx, "second factor removed", me.Name, "")
	}

	return nil, err
}

// RemoveSecondOf takes away the second factor of somebody who has lost it. Their sessions end.
func (s *App) RemoveSecondOf(ctx context.Context, in *ByName) (*struct{}, error) {
	from, err := s.countsFrom(ctx)
	if err == nil {
		err = s.store.DropTwoFactor(ctx, in.Name, from)
	}

	if err == nil {
		s.audit(ctx, "second factor removed", in.Name, "by an admin")
		_, err = s.store.EndSessions(ctx, in.Name, "", "")
	}

	return nil, err
}
