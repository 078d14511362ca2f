package app

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"idletally/internal/core/pathname"
	"idletally/internal/core/plan"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// review adds who approved a plan, what was said of it, and how many have to agree.
func (s *App) review(ctx context.Context, p store.Plan, w *wire.Plan) error {
	approvals, err := s.store.Approvals(ctx, p.ID)
	if err != nil {
		return err
	}
	says, err := s.holds(ctx)
	if err != nil {
		return err
	}

	for _, a := range approvals {
		x := wire.Approval{Reviewer: a.Reviewer, At: a.At, Remark: a.Remark}
		if !p.Alone {
			x.Void = void(says, a, p.Application)
		}
		_ = json.Unmarshal([]byte(a.Words), &x.Words) // we wrote it
		w.Approvals = append(w.Approvals, x)
	}

	remarks, err := s.store.Remarks(ctx, p.ID)
	if err != nil {
		return err
	}

	for _, r := range remarks {
		w.Remarks = append(w.Remarks, wire.Remark{
			Author:    r.Author,
			At:        r.At,
			NewRemark: wire.NewRemark{Host: r.Host, Path: pathname.Escape(string(r.Path)), Body: r.Body},
		})
	}

	rows, err := s.store.PlanSignatures(ctx, p.ID)
	if err != nil {
		return err
	}
	r, _, err := s.roster(ctx)
	if err != nil {
		return err
	}
	if w.Signed, err = shownSignatures(r, rows); err != nil {
		return err
	}
	x, err := s.signable(ctx, p)
	if err != nil {
		return err
	}
	w.ToSign = x.knowingNames()
	if w.MayAlone, err = s.mayAlone(ctx, p); err != nil {
		return err
	}

	w.Needed, err = s.store.Reviewers(ctx, p.Application)
	return err
}

// minWord is how long a reviewer's word on a grave caution is, at the least: a reason, not a tick.
const minWord = 10

// What may be said of a plan: each look at it shows all.
const (
	maxWord         = 1000 // bytes
	maxRemarks      = 500
	maxRemarksOfOne = 100
	maxSaid         = 500_000 // bytes
)

// roomFor reports whether somebody may add one more remark to a plan.
func roomFor(said []store.Remark, author string, more wire.NewRemark) bool {
	own, bytes := 0, len(more.Path)+len(more.Body)
	for _, r := range said {
		bytes += len(r.Path) + len(r.Body)
		if r.Author == author {
			own++
		}
	}
	return len(said) < maxRemarks && own < maxRemarksOfOne && bytes <= maxSaid
}

// wordsOn takes what a reviewer says of the grave cautions; each needs a word, and nothing else has one.
func wordsOn(cautions []plan.Caution, given map[string]string) (map[string]string, error) {
	words := map[string]string{}
	var missing []string
	for _, c := range cautions {
		if !c.Grave {
			continue
		}

		word := strings.TrimSpace(given[c.ID])
		if utf8.RuneCountInString(word) < minWord {
			missing = append(missing, fmt.Sprintf("%s (host %s, %s: %s)", c.ID, c.Host, c.Folder, c.Text))
			continue
		}

		words[c.ID] = strings.ToValidUTF8(word[:min(len(word), maxWord)], "") // no character is cut in two
	}

	if len(missing) > 0 {
		return nil, fault.Invalid(fmt.Sprintf(
			"say why it is meant, in %d characters or more, of each grave caution: %s", minWord,
			strings.Join(missing, "; ")))
	}

	return words, nil
}

func told(words map[string]string) string {
	var b strings.Builder
	for id, w := range words {
		fmt.Fprintf(&b, "; caution %s: %s", id, w)
	}
	return b.String()
}

// A DecisionRequest is what a reviewer decides of a plan.
type DecisionRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Body wire.Decision
}

// decided returns a plan that somebody decides on, and the digest that they saw; it is an error if they may not.
func (s *App) decided(ctx context.Context, in *DecisionRequest, verb string) (p store.Plan, digest tree.Hash,
	err error) {
	if p, err = s.store.Plan(ctx, in.ID); err != nil {
		return p, digest, err
	}

	if p.Author == CallerOf(ctx).Name {
		s.audit(ctx, "own approval refused", in.ID, verb)
		return p, digest, fault.Forbidden(
			"nobody decides on their own plan: ask somebody else with the role reviewer")
	}
	digest, err = lookedAt(p, in)
	return p, digest, err
}

// lookedAt returns the digest that somebody looked at, which has to be the plan's.
func lookedAt(p store.Plan, in *DecisionRequest) (digest tree.Hash, err error) {
	if err := digest.UnmarshalText([]byte(in.Body.Digest)); err != nil {
		return digest, fault.Invalid("digest: " + err.Error() + ": give the one that the plan shows")
	}
	if plan.Digest(p.Manifest) != digest {
		return digest, fault.Conflict("the plan has the digest " + plan.Digest(p.Manifest).String() +
			", not the one you looked at: look again")
	}
	return digest, nil
}

// ApprovePlan approves another person's plan, with a word on each grave caution.
func (s *App) ApprovePlan(ctx context.Context, in *DecisionRequest) (*wire.Plan, error) {
	p, digest, err := s.decided(ctx, in, "approve")
	if err == nil {
		err = s.mayApprove(ctx, p.Application)
	}

	if err != nil {
		return nil, err
	}
	says, err := s.holds(ctx)
	if err != nil {
		return nil, err
	}

	a, err := s.approving(ctx, p, digest, statement.Approved, in.Body)
	if err != nil {
		return nil, err
	}
	needed, err := s.store.Reviewers(ctx, p.Application)
	if err != nil {
		return nil, err
	}

	a.Needed = needed
	approved, err := s.store.ApprovePlan(ctx, p, a, func(a store.Approval) bool {
		return void(says, a, p.Application) == ""
	})
	if err != nil {
		return nil, err
	}

	what := saidApproved
	if !approved {
		what = saidInPart
	}

	s.audit(ctx, what, in.ID, approvalDetail(a, in.Body))
	return s.showPlan(ctx, in.ID)
}

// approving returns what is to be stored of an approval by the caller: with their words on grave cautions, and what
// they signed.
func (s *App) approving(
	ctx context.Context, p store.Plan, digest tree.Hash, says string, in wire.Decision,
) (a store.Approving, err error) {
	// What is stored may have changed since the checker looked at it.
	if err := s.engine.Verify(ctx, p); err != nil {
		return a, err
	}
	cautions, err := s.engine.Cautions(ctx, p)
	if err != nil {
		return a, err
	}
	a = store.Approving{By: CallerOf(ctx).Name, Remark: in.Remark, Digest: digest[:], Life: approvalLife}
	if a.Words, err = wordsOn(cautions, in.Words); err != nil {
		return a, err
	}
	a.Signature, err = s.signedPlan(ctx, p, meant{says: says, words: a.Words, reason: in.Remark}, in.Signed)
	return a, err
}

// approvalDetail is how the history tells an approval. The digest comes first: see [backing.see].
func approvalDetail(a store.Approving, in wire.Decision) string {
	detail := hashOf(a.Digest).String() + " " + in.Remark + told(a.Words)
	if in.Signed != nil {
		detail += "; " + saidBy(in.Signed)
	}
	return detail
}

// DeclinePlan declines another person's plan.
func (s *App) DeclinePlan(ctx context.Context, in *DecisionRequest) (*wire.Plan, error) {
	p, digest, err := s.decided(ctx, in, "decline")
	if err != nil {
		return nil, err
	}
	if err := s.store.DeclinePlan(ctx, p.ID, CallerOf(ctx).Name, in.Body.Remark, digest[:]); err != nil {
		return nil, err
	}

	s.audit(ctx, "plan declined", in.ID, in.Body.Digest+" "+in.Body.Remark)
	return s.showPlan(ctx, in.ID)
}

// AddRemarkRequest is the request of [App.AddRemark].
type AddRemarkRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Body wire.NewRemark
}

// AddRemark says something of a plan, or of one of its steps.
func (s *App) AddRemark(ctx context.Context, in *AddRemarkRequest) (*wire.Plan, error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}

	me := CallerOf(ctx)
	if me.By != "" &&
		!slices.ContainsFunc(tokenRoles[1:], func(role string) bool {
			return me.Roles().For(role, p.Application)
		}) {
		return nil, fault.Forbidden(
			"a token that only views says nothing: give it the role author or operator, or sign in yourself")
	}

	said, err := s.store.Remarks(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if !roomFor(said, CallerOf(ctx).Name, in.Body) {
		return nil,
			fault.TooMany("too much has been said of this plan already, by you or by all: talk about it elsewhere", 0)
	}

	raw, err := unescaped("path", in.Body.Path)
	if err != nil {
		return nil, err
	}
	if err := s.store.AddRemark(ctx, in.ID, store.Remark{
		Author: CallerOf(ctx).Name,
		Host:   in.Body.Host,
		Path:   []byte(raw),
		Body:   in.Body.Body,
	}); err != nil {
		return nil, err
	}

	s.audit(ctx, "plan remarked on", in.ID, in.Body.Path)
	return s.showPlan(ctx, in.ID)
}

func wireRule(r store.ReviewRule) *shown[wire.ReviewRule] {
	return &shown[wire.ReviewRule]{tagOf(r.String()), wire.ReviewRule{Reviewers: r.Reviewers, Editions: &r.Editions}}
}

// GetReviewRule returns how many people look at an application's plans, and at editions of its baseline.
func (s *App) GetReviewRule(ctx context.Context, in *ByName) (*shown[wire.ReviewRule], error) {
	r, err := s.store.ReviewRule(ctx, in.Name)
	return wireRule(r), err
}

// SetReviewRuleRequest is the request of [App.SetReviewRule].
type SetReviewRuleRequest struct {
	Name string `path:"name" maxLength:"64"`
	Guarded
	Body wire.ReviewRule
}

// SetReviewRule says how many people look at an application's plans, and at editions of its baseline.
func (s *App) SetReviewRule(ctx context.Context, in *SetReviewRuleRequest) (*shown[wire.ReviewRule], error) {
	now, err := s.store.ReviewRule(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	was, err := in.holds(now.String())
	if err != nil {
		return nil, err
	}

	to := store.ReviewRule{Reviewers: in.Body.Reviewers, Editions: now.Editions}
	if in.Body.Editions != nil {
		to.Editions = *in.Body.Editions
	}
	var from *store.ReviewRule
	if was != nil {
		from = &now
	}
	if err := s.store.SetReviewRule(ctx, in.Name, to, from); err != nil {
		return nil, err
	}

	detail := itoa(to.Reviewers)
	if to.Editions > 0 {
		detail += ", and " + itoa(to.Editions) + " before an edition is published"
	}
	s.audit(ctx, "review rule set", in.Name, detail)
	return wireRule(to), nil
}

// WithdrawPlan takes one's own plan out of review, or one's own approval back, before it runs.
func (s *App) WithdrawPlan(ctx context.Context, in *ByID) (*wire.Plan, error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}

	what := saidWithdrawn
	if p.Author == CallerOf(ctx).Name {
		err = s.store.WithdrawPlan(ctx, p.ID)
	} else {
		what = saidTakenBack
		err = s.store.WithdrawApproval(ctx, p.ID, CallerOf(ctx).Name)
	}

	if err != nil {
		return nil, err
	}

	s.audit(ctx, what, in.ID, "")
	return s.showPlan(ctx, in.ID)
}
