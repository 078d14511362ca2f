package app

import (
	"context"
	"strings"
	"time"
	"unicode/utf8"

	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/statement"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Whom the roster lets act alone has a plan run that nobody else has looked at, for hosts that know the roster: these
// hold it against what that person signed. Where a host takes the service's word, it always takes two people.

// aloneLife is how long a plan that one person decided on may be started.
const aloneLife = time.Hour

// ApprovePlanAlone approves a plan, one's own too, that nobody else has looked at, with the reason why it cannot wait.
func (s *App) ApprovePlanAlone(ctx context.Context, in *DecisionRequest) (*wire.Plan, error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	digest, err := lookedAt(p, in)
	if err != nil {
		return nil, err
	}
	if utf8.RuneCountInString(strings.TrimSpace(in.Body.Remark)) < minWord {
		return nil, fault.Invalid("say why it cannot wait for somebody else, in ten characters or more")
	}
	may, err := s.mayAlone(ctx, p)
	switch {
	case err != nil:
		return nil, err
	case !may:
		s.audit(ctx, "acting alone refused", in.ID, "")
		return nil, fault.Forbidden("the roster does not let you act alone on each host of this plan: have somebody " +
			"else approve it")
	case in.Body.Signed == nil:
		return nil, fault.Invalid("whoever acts alone signs it by a key of their own: sign it in the console, or " +
			"with --sign")
	}

	a, err := s.approving(ctx, p, digest, statement.Alone, in.Body)
	if err != nil {
		return nil, err
	}
	a.Life = aloneLife
	if err := s.store.ApproveAlone(ctx, p.ID, a); err != nil {
		return nil, err
	}

	s.audit(ctx, saidAlone, in.ID, approvalDetail(a, in.Body))
	s.tellPlan(ctx, wire.NoticeReview, in.ID, "approved by "+a.By+" alone")
	return s.showPlan(ctx, in.ID)
}

// mayAlone reports whether the roster that counts lets the caller act alone on each host of a plan. What hosts that
// know no roster change takes two people, whatever it says.
func (s *App) mayAlone(ctx context.Context, p store.Plan) (bool, error) {
	r, ok, err := s.roster(ctx)
	if err != nil || !ok {
		return false, err
	}
	own := r.Person(CallerOf(ctx).Name)
	if own == nil {
		return false, nil
	}
	x, err := s.signable(ctx, p)
	if err != nil || len(x.knowing) != len(x.hosts) {
		return false, err
	}

	for _, h := range x.hosts {
		if !own.May(roster.Alone, p.Application, h) &&
			!(x.Manifest.Kind == plan.Restore && own.May(roster.PutBack, p.Application, h)) {
			return false, nil
		}
	}
	return true, nil
}

// stillAlone returns an error unless whoever approved a plan alone still may run it. What the roster says of them,
// hosts look at by themselves.
func (s *App) stillAlone(ctx context.Context, p store.Plan) error {
	all, err := s.store.Approvals(ctx, p.ID)
	if err != nil {
		return err
	}
	for _, a := range all {
		if a.Reviewer == p.DecidedBy && a.RoleList != nil && rolesOf(*a.RoleList).For(wire.Operator, p.Application) &&
			(a.CountsFrom == nil || !a.At.Before(*a.CountsFrom)) {
			return nil
		}
	}
	return fault.Conflict("whoever approved plan " + p.ID + " alone may not run it any more: have it approved again")
}
