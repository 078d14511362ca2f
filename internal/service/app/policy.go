package app

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// policy remembers for a moment what holds for people: each call asks.
type policy struct {
	mu   sync.Mutex
	says wire.Policy
	till time.Time
}

// policyFor is how long another instance's change may be unknown here.
const policyFor = 2 * time.Second

// holds returns the policy that is in force now.
func (s *App) holds(ctx context.Context) (wire.Policy, error) {
	s.policy.mu.Lock()
	says, known := s.policy.says, time.Now().Before(s.policy.till)
	s.policy.mu.Unlock()
	if known {
		return says, nil
	}
	p, err := s.store.Policy(ctx) // nobody waits for another one's question: a slow database is asked side by side
	if err != nil {
		return wire.Policy{}, err
	}
	s.policy.mu.Lock()
	defer s.policy.mu.Unlock()
	s.policy.says, s.policy.till = p.Says, time.Now().Add(policyFor)
	return p.Says, nil
}

// countsFrom returns from when on approvals of a new reviewer count; nil is at once.
func (s *App) countsFrom(ctx context.Context) (*time.Time, error) {
	p, err := s.store.Policy(ctx)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	wait := auth.Delay(p.Says, p.Began, now)
	if wait == 0 {
		return nil, nil
	}
	from := now.Add(wait).UTC().Truncate(time.Second)
	return &from, nil
}

// void returns why an approval does not count now; "" if it does.
func void(p wire.Policy, a store.Approval, application string) string {
	switch {
	case time.Since(a.At) > approvalLife:
		return "too long ago to count"
	case a.RoleList == nil:
		return "nobody has this name any more"
	case !auth.MayApprove(p, rolesOf(*a.RoleList), application):
		return "may not approve it any more"
	case a.CountsFrom != nil && a.At.Before(*a.CountsFrom):
		return "counts as a reviewer only from " + a.CountsFrom.UTC().Format(time.RFC3339) + " on"
	}
	return ""
}

// rolesOf reads roles as the database has them.
func rolesOf(list string) auth.Roles { return auth.Roles(strings.Split(list, ",")) }

// mayApprove reports whether approvals of the caller count.
func (s *App) mayApprove(ctx context.Context, application string) error {
	p, err := s.holds(ctx)
	if err != nil {
		return err
	}
	me := CallerOf(ctx)
	if !auth.MayApprove(p, me.Roles(), application) {
		return fault.Forbidden("who manages people approves no plans: it takes two (idletally policy show)")
	}
	if me.CountsFrom != nil && time.Now().Before(*me.CountsFrom) {
		return fault.Forbidden("your approvals count from " + me.CountsFrom.UTC().Format(time.RFC3339) +
			" on: you are a new reviewer, or an admin has reset how you sign in")
	}
	return nil
}

// stillApproved says which approvals no longer count, if those that are left are too few.
func (s *App) stillApproved(ctx context.Context, p store.Plan) error {
	if p.Alone {
		return s.stillAlone(ctx, p)
	}
	says, err := s.holds(ctx)
	if err != nil {
		return err
	}
	all, err := s.store.Approvals(ctx, p.ID)
	if err != nil {
		return err
	}
	needed, err := s.store.Reviewers(ctx, p.Application)
	if err != nil {
		return err
	}

	count, why := 0, ""
	for _, a := range all {
		if reason := void(says, a, p.Application); reason != "" {
			why += "; " + a.Reviewer + ": " + reason
		} else {
			count++
		}
	}

	if count < needed {
		return fault.Conflict(fmt.Sprintf(
			"of the approvals of plan %s %d count now, and it needs %d%s: have it approved again", p.ID, count, needed,
			why))
	}

	return nil
}

func wirePolicy(p store.Policy) wire.PolicyNow {
	out := wire.PolicyNow{Policy: p.Says, Next: p.Next, By: p.By}
	if p.Next != nil {
		out.From = &p.From
	}
	return out
}

// tagged returns a policy with its entity tag, which is of what is in force and of what will be.
func tagged(p store.Policy) (*shown[wire.PolicyNow], string) {
	out := wirePolicy(p)
	b, _ := json.Marshal(out) // it is plain values
	return &shown[wire.PolicyNow]{tagOf(string(b)), out}, string(b)
}

func (s *App) newPolicy(ctx context.Context) (*shown[wire.PolicyNow], error) {
	s.policy.mu.Lock()
	s.policy.till = time.Time{}
	s.policy.mu.Unlock()
	p, err := s.store.Policy(ctx)
	out, _ := tagged(p)
	return out, err
}

func (s *App) auditPolicy(ctx context.Context, what string, p wire.Policy, from time.Time) {
	second := "no role needs a second factor"
	if len(p.SecondFactor) > 0 {
		second = "a second factor for " + strings.Join(p.SecondFactor, ", ")
	}
	enrolments := "do not end"
	if p.EnrolmentDays > 0 {
		enrolments = fmt.Sprintf("end after %d days", p.EnrolmentDays)
	}
	managers := "managers approve nothing"
	if p.ManagersApprove {
		managers = "managers may approve"
	}
	others := "admins change who may do what alone"
	if p.Agree > 0 {
		others = fmt.Sprintf("changes of who may do what take the agreement of %d more", p.Agree)
	}
	s.audit(ctx, what, "policy",
		fmt.Sprintf("from %s on: %s; new reviewers count after %d h; %s; sessions end after %d min; enrolments %s; %s",
			from.UTC().Format(time.RFC3339), managers, p.ReviewerAfter, second, p.Idle, enrolments, others))
}

// freshFor is how long somebody counts as having just shown who they are.
const freshFor = 10 * time.Minute

// isFresh says what somebody has to do before an operation, where they have not just shown who they are (RFC
// 9470, section 3).
func isFresh(w *Caller) error {
	if w.By != "" {
		return fault.Forbidden("a token may not do this: sign in yourself")
	}
	if time.Since(w.shown) <= freshFor {
		return nil
	}
	return &fault.Error{
		Kind:  fault.KindUnauthorized,
		Text:  "this takes your password, or a code of your second factor, again: idletally sign-in confirm",
		Shown: freshFor,
	}
}

// hasTwoFactor reports whether somebody has a second factor here.
func (s *App) hasTwoFactor(ctx context.Context, p store.Person) (bool, error) {
	if p.Second != nil {
		return true, nil
	}
	n, err := s.store.CountPasskeys(ctx, p.Name)
	return n > 0, err
}

// lacksTwoFactor reports whether somebody has to set up a second factor before anything else; for those who come by
// the provider it is up to the provider to ask for one.
func (s *App) lacksTwoFactor(ctx context.Context, p wire.Policy, who store.Person) (bool, error) {
	if who.Provider || !auth.WantsTwoFactor(p, who.Roles()) {
		return false, nil
	}
	has, err := s.hasTwoFactor(ctx, who)
	return !has, err
}

// Confirm takes somebody's password, or a code of their second factor, again.
func (s *App) Confirm(ctx context.Context, in *wire.Confirm) (*struct{}, error) {
	me := CallerOf(ctx)
	var err error
	switch given := [3]bool{in.Password != "", in.Code != "", in.Passkey != nil}; given {
	case [3]bool{true, false, false}:
		err = s.sayPassword(ctx, me, in.Password)
	case [3]bool{false, true, false}:
		err = s.sayCode(ctx, me, in.Code)
	case [3]bool{false, false, true}:
		_, _, err = s.showPasskey(ctx, *in.Passkey, toConfirm+" "+me.Name, me.Name)
	default:
		err = fault.Invalid("give password, code or passkey, one of them")
	}

	if err != nil {
		return nil, err
	}

	return nil, s.store.ShowSession(ctx, me.session)
}

// sayPassword takes the password of who calls.
func (s *App) sayPassword(ctx context.Context, me *Caller, password string) error {
	if me.Provider {
		return fault.Conflict(
			"you sign in by way of the provider, and have no password here: sign in there again, or give a code of " +
				"your second factor")
	}

	right, err := s.try(ctx, guess{me.Name, within(me), auth.OfPlace})
	if err != nil {
		return err
	}
	p, err := s.store.Person(ctx, me.Name)
	if err != nil {
		return err
	}

	if !auth.Check(p.Password, password) {
		s.refused(ctx, speaker(ctx), "password wrong", me.Name, "in a session")
		return fault.Forbidden("your password is another one")
	}

	right()
	return nil
}

// sayCode takes a code of the second factor of who calls.
func (s *App) sayCode(ctx context.Context, me *Caller, code string) error {
	has, err := s.hasTwoFactor(ctx, me.Person)
	if err == nil && !has {
		err = fault.Conflict("you have no second factor")
	}

	if err != nil {
		return err
	}
	right, err := s.try(ctx, codeGuess(me.Name, within(me)))
	if err != nil {
		return err
	}

	ok, err := s.second(ctx, me.Person, code)
	if err == nil && !ok {
		s.refused(ctx, speaker(ctx), "code wrong", me.Name, "in a session")
		err = fault.Invalid("this code does not fit, or was used before")
	}

	if err == nil {
		right()
	}

	return err
}

// GetPolicy returns what holds for people and their sessions, and what is to hold.
func (s *App) GetPolicy(ctx context.Context, _ *struct{}) (*shown[wire.PolicyNow], error) {
	p, err := s.store.Policy(ctx)
	out, _ := tagged(p)
	return out, err
}

// SetPolicyRequest is the request of [App.SetPolicy].
type SetPolicyRequest struct {
	Guarded
	Body wire.Policy
}

// SetPolicy says what is to hold for people and their sessions: at once where it is stricter,
// otherwise when a new reviewer would count.
func (s *App) SetPolicy(ctx context.Context, in *SetPolicyRequest) (*shown[wire.PolicyNow], error) {
	to := in.Body
	slices.Sort(to.SecondFactor)
	to.SecondFactor = slices.Compact(append([]string{}, to.SecondFactor...))

	for _, role := range to.SecondFactor {
		if !slices.Contains(wire.Roles, role) {
			return nil, fault.Invalid(fmt.Sprintf(
				"second_factor: %q is no role: want some of %s", role, strings.Join(wire.Roles, ", ")))
		}
	}

	was, err := s.store.Policy(ctx)
	if err != nil {
		return nil, err
	}
	_, now := tagged(was)
	if _, err := in.holds(now); err != nil {
		return nil, err
	}
	lacks, err := s.lacksTwoFactor(ctx, to, CallerOf(ctx).Person)
	if err != nil {
		return nil, err
	}
	if lacks {
		return nil, fault.Conflict(
			"you have no second factor yourself: set one up first, or nobody could take this back")
	}

	from, what := time.Now(), "policy set"
	if auth.Loosens(was.Says, to) {
		if wait := auth.Delay(was.Says, was.Began, from); wait > 0 {
			from, what = from.Add(wait), "policy proposed"
		}
	}

	if err := s.signersFor(ctx, to); err != nil {
		return nil, err
	}
	if err := s.store.SetPolicy(ctx, to, from, CallerOf(ctx).Name, was); err != nil {
		return nil, err
	}

	s.auditPolicy(ctx, what, to, from)
	return s.newPolicy(ctx)
}

// KeepPolicy has what holds for people go on holding.
func (s *App) KeepPolicy(ctx context.Context, _ *struct{}) (*shown[wire.PolicyNow], error) {
	was, err := s.store.Policy(ctx)
	if err != nil {
		return nil, err
	}
	if was.Next == nil {
		return nil, fault.Conflict("nothing else is to hold")
	}
	if err := s.store.SetPolicy(ctx, was.Says, time.Now(), "", was); err != nil {
		return nil, err
	}

	s.auditPolicy(ctx, "policy kept", was.Says, time.Now())
	return s.newPolicy(ctx)
}
