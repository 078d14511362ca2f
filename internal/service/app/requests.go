package app

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"idletally/internal/core/roster"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Who may do what is not for one person to change where the policy says so, and neither is what an application
// declares. Such a call waits until others have agreed to exactly it; whoever made it makes it again then. Nothing is
// done in somebody's absence, and what it returns goes to them alone.

// requestLife is how long others have to agree, and the call then to be made again.
const requestLife = 72 * time.Hour

// Agreed returns nil if nobody else has to agree to a call of the caller, or enough others have. Otherwise it returns a
// refusal that says what the call waits for. Done is told how the call went: one that failed can be made again.
func (s *App) Agreed(ctx context.Context, r Rule, application string, call any) (done func(error), err error) {
	needed, err := s.othersFor(ctx, r, application)
	if err != nil || needed == 0 {
		return func(error) {}, err
	}
	detail, err := s.detailOf(ctx, call)
	if err != nil {
		return nil, err
	}
	hash := sha256.Sum256(fmt.Appendf(nil, "%s %s %s", r.ID, application, detail))
	me := CallerOf(ctx).Name

	q, err := s.store.RequestOf(ctx, hash[:], me)
	if err == nil && q.State == store.RequestAgreed {
		err = s.stillAgreed(ctx, q, needed)
	}
	if isNotFound(err) {
		q, err = s.store.AddRequest(ctx, store.Request{
			Hash:        hash[:],
			AskedBy:     me,
			Operation:   r.ID,
			Summary:     r.Summary,
			Application: application,
			Role:        r.Agree,
			Detail:      string(detail),
			Needed:      needed,
		}, requestLife)
		if err == nil {
			s.audit(ctx, "request made", q.ID, r.ID+" "+string(detail))
			if of, ok := call.(*EditionRequest); ok {
				s.tellEdition(ctx, *of, wire.EditionWaiting)
			}
		}
	}
	if err != nil {
		return nil, err
	}
	if q.State != store.RequestAgreed {
		return nil, fault.Conflict(fmt.Sprintf("%s to agree to this: request %s waits for them (idletally request "+
			"list). When they have, do it again", othersHave(q.Needed-len(q.Agreed), q.Role), q.ID))
	}

	if err := s.store.MoveRequest(ctx, q.ID, store.RequestAgreed, store.RequestUsed, ""); err != nil {
		return nil, err
	}
	return func(err error) {
		ctx := context.WithoutCancel(ctx)
		if err != nil {
			err = s.store.MoveRequest(ctx, q.ID, store.RequestUsed, store.RequestAgreed, "")
		} else {
			s.audit(ctx, "request used", q.ID, r.ID+"; agreed to by "+strings.Join(q.Agreed, ", "))
		}
		if err != nil {
			s.log.Error("a request that was agreed to has to be asked for again", "request", q.ID, "error", err)
		}
	}, nil
}

// detailOf returns what a call says, as JSON. Of an edition that is its text as well, by its hash: another text is
// another call.
func (s *App) detailOf(ctx context.Context, call any) ([]byte, error) {
	of, ok := call.(*EditionRequest)
	if !ok {
		return json.Marshal(call)
	}
	e, err := s.store.Edition(ctx, of.Name, of.Number)
	if err != nil {
		return nil, err
	}
	return json.Marshal(editionAsked{*of, hex.EncodeToString(hashOfText(e.Text))})
}

// editionAsked is a call to publish an edition, with the SHA-256 of its text.
type editionAsked struct {
	EditionRequest
	Text string `json:"sha256"`
}

func hashOfText(text string) []byte {
	sum := sha256.Sum256([]byte(text))
	return sum[:]
}

// stillAgreed returns ErrNotFound unless as many as are needed now have agreed to a request, and may still: whoever has
// left, or lost a role since, or whose sign-in an admin has reset, does not count, nor who has not signed where people
// sign. Such a request is over.
func (s *App) stillAgreed(ctx context.Context, q store.Request, needed int) error {
	all, err := s.store.Agreements(ctx, q.ID)
	if err != nil {
		return err
	}
	p, err := s.holds(ctx)
	if err != nil {
		return err
	}
	signed, err := s.bySignature(ctx, q)
	if err != nil {
		return err
	}
	standing := 0
	for _, a := range all {
		if a.RoleList != nil && rolesOf(*a.RoleList).For(q.Role, q.Application) &&
			(a.CountsFrom == nil || !a.At.Before(*a.CountsFrom)) && (!p.AgreeSigned || signed(a)) {
			standing++
		}
	}
	if standing >= needed {
		return nil
	}

	if err := s.store.MoveRequest(ctx, q.ID, store.RequestAgreed, store.RequestDeclined, ""); err != nil {
		return err
	}
	s.audit(ctx, "request over", q.ID, fmt.Sprintf("of those who agreed %d may still, and %d are needed", standing,
		needed))
	return fmt.Errorf("request %s: %w", q.ID, store.ErrNotFound)
}

func othersHave(n int, role string) string {
	if n == 1 {
		return "another " + role + " has"
	}
	return fmt.Sprintf("%d other %ss have", n, role)
}

// othersFor returns how many others have to agree to a call. As many as there are are enough: nobody is locked out for
// want of people.
func (s *App) othersFor(ctx context.Context, r Rule, application string) (int, error) {
	switch r.Agree {
	case "":
		return 0, nil
	case wire.Reviewer:
		rule, err := s.store.ReviewRule(ctx, application)
		return rule.Editions, err
	}

	p, err := s.holds(ctx)
	if err != nil || p.Agree == 0 {
		return 0, err
	}
	people, err := s.store.People(ctx)
	if err != nil {
		return 0, err
	}
	others := 0 // also those whom the roster has no key of: a roster is not what makes anybody act alone
	for _, x := range people {
		if x.Name != CallerOf(ctx).Name && x.Roles().Everywhere(r.Agree) {
			others++
		}
	}
	return min(p.Agree, others), nil
}

func (s *App) wireRequest(ctx context.Context, r store.Request) (*wire.Request, error) {
	out := &wire.Request{
		ID:          r.ID,
		Operation:   r.Operation,
		Summary:     r.Summary,
		Application: r.Application,
		AskedBy:     r.AskedBy,
		Says:        r.Detail,
		Role:        r.Role,
		Needed:      r.Needed,
		Agreed:      append([]string{}, r.Agreed...),
		State:       r.State,
		Created:     r.Created,
		Expires:     r.Expires,
	}
	return out, s.shownAgreements(ctx, r, out)
}

// ListRequests lists what waits for others to agree, or was agreed to and is still to be done.
func (s *App) ListRequests(ctx context.Context, _ *struct{}) (*wire.Page[wire.Request], error) {
	rows, err := s.store.Requests(ctx)
	if err != nil {
		return nil, err
	}
	out := wire.Page[wire.Request]{Items: []wire.Request{}}
	for _, r := range rows {
		if !s.seesRequest(ctx, r) {
			continue
		}
		w, err := s.wireRequest(ctx, r)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, *w)
	}
	return whole(out), nil
}

// seesRequest reports whether a request is the caller's own, or one that they can agree to.
func (s *App) seesRequest(ctx context.Context, r store.Request) bool {
	me := CallerOf(ctx)
	return r.AskedBy == me.Name || me.Roles().For(r.Role, r.Application)
}

// requestFor returns a request that the caller can decide on.
func (s *App) requestFor(ctx context.Context, id string) (store.Request, error) {
	r, err := s.store.Request(ctx, id)
	if err != nil {
		return r, err
	}
	me := CallerOf(ctx)
	switch {
	case r.AskedBy == me.Name:
		return r, fault.Forbidden("nobody agrees to what they have asked for themselves")
	case !me.Roles().For(r.Role, r.Application):
		return r, fault.Forbidden(fmt.Sprintf("%s may not decide on this: it needs the role %s", me.Name, r.Role))
	case me.CountsFrom != nil && time.Now().Before(*me.CountsFrom):
		return r, fault.Forbidden("what you agree to counts from " + me.CountsFrom.UTC().Format(time.RFC3339) + " on")
	}
	return r, s.wroteNot(ctx, r)
}

// wroteNot returns an error if the caller wrote the edition that a request wants to be published.
func (s *App) wroteNot(ctx context.Context, r store.Request) error {
	if r.Role != wire.Reviewer {
		return nil
	}
	var of EditionRequest
	if err := json.Unmarshal([]byte(r.Detail), &of); err != nil {
		return fmt.Errorf("request %s: %w", r.ID, err)
	}
	e, err := s.store.Edition(ctx, of.Name, of.Number)
	if err == nil && e.Author == CallerOf(ctx).Name {
		err = fault.Forbidden("nobody agrees to an edition that they wrote themselves")
	}
	return err
}

// AgreeRequest is the request of [App.AgreeToRequest].
type AgreeRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Body *wire.Agreement
}

// AgreeToRequest agrees to what somebody else wants to do, with their signature where the policy wants one.
func (s *App) AgreeToRequest(ctx context.Context, in *AgreeRequest) (*wire.Request, error) {
	r, err := s.requestFor(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	var given *roster.Signed
	if in.Body != nil {
		given = in.Body.Signed
	}
	signed, err := s.signedAgreement(ctx, r, given)
	if err != nil {
		return nil, err
	}
	agreed, err := s.store.Agree(ctx, r.ID, CallerOf(ctx).Name, signed)
	if err != nil {
		return nil, err
	}

	what := "request agreed to in part"
	if agreed {
		what = "request agreed to"
	}
	detail := r.Operation + " of " + r.AskedBy
	if given != nil {
		detail += "; " + saidBy(given)
	}
	s.audit(ctx, what, r.ID, detail)
	return s.showRequest(ctx, r.ID)
}

// showRequest returns a request as it is now.
func (s *App) showRequest(ctx context.Context, id string) (*wire.Request, error) {
	r, err := s.store.Request(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.wireRequest(ctx, r)
}

// GetRequest shows a request that is the caller's own, or that they can agree to.
func (s *App) GetRequest(ctx context.Context, in *ByID) (*wire.Request, error) {
	r, err := s.store.Request(ctx, in.ID)
	if err == nil && !s.seesRequest(ctx, r) {
		err = fault.NotFound("there is no request " + in.ID)
	}
	if err != nil {
		return nil, err
	}
	return s.wireRequest(ctx, r)
}

// DeclineRequest declines what somebody else wants to do; its author takes it back so, too.
func (s *App) DeclineRequest(ctx context.Context, in *ByID) (*wire.Request, error) {
	r, err := s.store.Request(ctx, in.ID)
	if err == nil && r.AskedBy != CallerOf(ctx).Name {
		r, err = s.requestFor(ctx, in.ID)
	}
	if err == nil && r.State != store.RequestWaiting && r.State != store.RequestAgreed {
		err = fault.Conflict("request " + r.ID + " is " + r.State + " already")
	}
	if err == nil {
		err = s.store.MoveRequest(ctx, r.ID, r.State, store.RequestDeclined, CallerOf(ctx).Name)
	}
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "request declined", r.ID, r.Operation+" of "+r.AskedBy)
	return s.showRequest(ctx, r.ID)
}
