package app

import (
	"cmp"
	"context"
	"fmt"

	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// Who may call an operation, besides those who have one of [wire.Roles].
const (
	Anybody  = ""    // signed in or not
	SignedIn = "any" // whatever their roles
)

// A Rule says who may call an operation.
type Rule struct {
	ID      string // of the operation
	Summary string // what it does, in words
	Changes bool   // it changes something: refusing it is written into the history

	Role            string // Anybody, SignedIn, or a role
	OfOne           bool   // the role is needed for one application, not everywhere
	InPerson        bool   // people call it themselves, no token of theirs does: a stolen token makes no other
	Fresh           bool   // callers have shown just now who they are: a stolen session does nothing of this
	Agree           string // the role of others who have to agree first, where the policy or the application says so
	BeforeTwoFactor bool   // whoever has to set up a second factor first may call it all the same
}

// Allow returns why a caller may not do something, as far as that is known before it is known what they want.
func (s *App) Allow(ctx context.Context, r Rule) error {
	err := r.allows(CallerOf(ctx))
	if fault.Is(err, fault.KindForbidden) {
		s.noteRefusal(ctx, r, "")
	}
	return err
}

func (r Rule) allows(p *Caller) error {
	switch {
	case r.Role == Anybody:
		return nil
	case p == nil:
		return fault.Unauthorized("sign in first: idletally login ADDRESS")
	case p.WantsTwoFactor && !r.BeforeTwoFactor:
		return fault.Forbidden("your roles need a second factor: set one up first (idletally sign-in second-factor)")
	case r.Role != SignedIn && r.Role != wire.Viewer && !r.has(p.Roles()):
		return fault.Forbidden(fmt.Sprintf("%s may not do this: it needs the role %s", p.Name, r.Role))
	case r.InPerson && p.By != "":
		return fault.Forbidden("a token may not do this: sign in yourself")
	case r.Fresh:
		return isFresh(p)
	}
	return nil
}

// has reports whether roles suffice, for one application only if that is enough.
func (r Rule) has(roles auth.Roles) bool {
	if r.OfOne {
		return roles.Somewhere(r.Role)
	}
	return roles.Everywhere(r.Role)
}

// AllowFor returns why a caller may not do something with an application.
func (s *App) AllowFor(ctx context.Context, r Rule, application string) error {
	p := CallerOf(ctx)
	if p.Roles().For(r.Role, application) {
		return nil
	}
	s.noteRefusal(ctx, r, application)
	return fault.Forbidden(fmt.Sprintf(
		"%s may not do this for %s: it needs the role %[3]s, or %[3]s@%[2]s", p.Name,
		cmp.Or(application, "an application that is not named"), r.Role))
}

// noteRefusal writes into the history who wanted to change something that they may not.
func (s *App) noteRefusal(ctx context.Context, r Rule, application string) {
	if !r.Changes {
		return
	}
	needs := "needs the role " + r.Role
	switch {
	case application != "":
		needs += " for " + application
	case r.InPerson && CallerOf(ctx).By != "":
		needs = "people do this themselves, no token"
	}
	s.refused(ctx, speaker(ctx), "refused", r.ID, needs)
}
