package app

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/report"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func (s *App) wirePlan(ctx context.Context, p store.Plan, whole bool) (wire.Plan, error) {
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return wire.Plan{}, err
	}

	var digest tree.Hash
	copy(digest[:], p.Digest)
	w := wire.Plan{
		ID:          p.ID,
		Application: p.Application,
		Kind:        p.Kind,
		Title:       p.Title,
		State:       p.State,
		Author:      p.Author,
		Created:     p.Created,
		Digest:      digest.String(),
		DecidedBy:   p.DecidedBy,
		Decided:     p.Decided,
		Remark:      p.Remark,
		Expires:     p.Expires,
		Alone:       p.Alone,
		Hosts:       []wire.PlanHost{},
	}

	if p.State == lifecycle.PlanApproved && p.Expires != nil && p.Expires.Before(time.Now()) {
		w.State = lifecycle.PlanExpired
	}

	w.First, w.StopAt = m.First, m.StopAt
	for _, h := range m.Hosts {
		w.Hosts = append(w.Hosts, wire.PlanHost{Host: h.Host, Steps: h.Steps})
		w.Steps += h.Steps
	}

	if r, err := s.store.PlanRun(ctx, p.ID); err == nil {
		w.Run = r.ID
	} else if !isNotFound(err) {
		return w, err
	}

	if whole {
		_ = json.Unmarshal([]byte(p.Source), &w.Left) // we wrote it
		if w.Groups, err = s.store.PlanGroups(ctx, p.ID); err != nil {
			return w, err
		}
		if w.Cautions, err = s.engine.Cautions(ctx, p); err != nil {
			return w, err
		}
		if err := s.review(ctx, p, &w); err != nil {
			return w, err
		}
	}

	return w, nil
}

// maxScript bounds the steps of a script: a shell is slow, and people read it.
const maxScript = 20_000

// verifiedSteps returns steps from the very bytes that the plan's digest stands for.
func (s *App) verifiedSteps(ctx context.Context, p store.Plan, host string, n int) ([]plan.Step, error) {
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return nil, err
	}
	part, ok := m.For(host)
	if !ok || n >= len(part.Chunks) {
		return nil, fault.NotFound("the plan has no such steps")
	}
	return s.engine.Steps(ctx, p, part, n)
}

// showPlan returns a plan with all that is said of it.
func (s *App) showPlan(ctx context.Context, id string) (*wire.Plan, error) {
	p, err := s.store.Plan(ctx, id)
	if err != nil {
		return nil, err
	}

	w, err := s.wirePlan(ctx, p, true)
	return &w, err
}

type text struct {
	Type        string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// DraftPlan drafts a plan: a remediation from findings, a restore from a run's originals or a
// snapshot, an adjustment from hand-written changes.
func (s *App) DraftPlan(ctx context.Context, in *wire.Draft) (*wire.Plan, error) {
	if err := plainText("title", in.Title); err != nil {
		return nil, err
	}

	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()

	var id string
	var err error
	switch by := CallerOf(ctx).Name; {
	case in.Run != "":
		id, err = s.engine.DraftRestore(ctx, *in, by)
	case in.Snapshot != "":
		id, err = s.engine.DraftReturn(ctx, *in, by)
	case in.Changes != "":
		id, err = s.engine.DraftAdjustment(ctx, *in, by)
	default:
		id, err = s.engine.DraftRemediation(ctx, *in, by)
	}

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "plan drafted", id, in.Title)
	return s.showPlan(ctx, id)
}

// ForeseeChanges returns what changes would come to, from how the hosts were seen last, and drafts nothing.
func (s *App) ForeseeChanges(ctx context.Context, in *wire.Foresee) (*wire.Foreseen, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()

	out, err := s.engine.Foresee(ctx, *in)
	return &out, err
}

// ListPlansRequest is the request of [App.ListPlans].
type ListPlansRequest struct {
	State lifecycle.Plan `query:"state" enum:"draft,in review,approved,declined,running,halted,finished"`
	After string         `query:"after" maxLength:"16"`
	Limit int            `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

// ListPlans lists plans, newest first.
func (s *App) ListPlans(ctx context.Context, in *ListPlansRequest) (*wire.Page[wire.Plan], error) {
	rows, err := s.store.Plans(ctx, in.State, in.After, in.Limit)
	if err != nil {
		return nil, err
	}

	out := make([]wire.Plan, len(rows))
	for i, p := range rows {
		if out[i], err = s.wirePlan(ctx, p, false); err != nil {
			return nil, err
		}
	}

	p, err := counted(ctx, in.After != "", page(out, in.Limit, func(p wire.Plan) string { return p.ID }),
		func(ctx context.Context) (int64, error) {
			return s.store.CountPlans(ctx, in.State)
		})
	return &p, err
}

// GetPlan shows a plan with its equal steps.
func (s *App) GetPlan(ctx context.Context, in *ByID) (*wire.Plan, error) {
	return s.showPlan(ctx, in.ID)
}

// ListStepsRequest is the request of [App.ListSteps].
type ListStepsRequest struct {
	ID    string `path:"id" maxLength:"16"`
	Host  string `query:"host" required:"true" maxLength:"64"`
	Chunk int    `query:"chunk" minimum:"0" doc:"Chunks hold up to 2,000 steps; ask until one is not found"`
}

// ListSteps lists a plan's steps on a host, from the bytes that are signed.
func (s *App) ListSteps(ctx context.Context, in *ListStepsRequest) (*wire.Page[wire.Step], error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	list, err := s.verifiedSteps(ctx, p, in.Host, in.Chunk)
	if err != nil {
		return nil, err
	}
	dir, err := s.store.NewestDirectory(ctx, p.Application, in.Host)
	if err != nil {
		return nil, err
	}

	out := wire.Page[wire.Step]{Items: []wire.Step{}}
	for i, st := range list {
		out.Items = append(out.Items, wire.Step{
			Host:   in.Host,
			Step:   in.Chunk*plan.StepsPerChunk + i,
			Path:   pathname.Escape(st.Path),
			Kind:   st.Kind.String(),
			Before: perm.Describe(st.Kind, st.Before, dir),
			After:  perm.Describe(st.Kind, st.After, dir),
		})
	}

	return &out, nil
}

// WriteScriptRequest is the request of [App.WriteScript].
type WriteScriptRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Host string `query:"host" required:"true" maxLength:"64"`
}

// WriteScript returns a plan's steps on a host as a shell script that uses the system's own utilities only,
// and undoes itself.
func (s *App) WriteScript(ctx context.Context, in *WriteScriptRequest) (*text, error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return nil, err
	}

	part, ok := m.For(in.Host)
	switch {
	case !ok:
		return nil, fault.NotFound("the plan has no steps for host " + in.Host)
	case part.Steps > maxScript:
		return nil, fault.Invalid(fmt.Sprintf(
			"the plan has %d steps there, a script holds at most %d: draft it in parts", part.Steps, maxScript))
	}

	var all []plan.Step
	for n := range part.Chunks {
		steps, err := s.engine.Steps(ctx, p, part, n)
		if err != nil {
			return nil, err
		}
		all = append(all, steps...)
	}

	if slices.ContainsFunc(all, func(s plan.Step) bool { return !perm.Scriptable(s.Before) }) {
		return nil, fault.Invalid("host " + in.Host +
			" is a file server: a shell script cannot set what is there, its agent can")
	}

	var b bytes.Buffer
	err = report.Script(&b, m, in.Host, all)
	return &text{"text/x-shellscript", "attachment", b.Bytes()}, err
}

// SubmitPlanRequest is the request of [App.SubmitPlan].
type SubmitPlanRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Body *wire.Submission
}

// SubmitPlan puts a draft in review.
func (s *App) SubmitPlan(ctx context.Context, in *SubmitPlanRequest) (*wire.Plan, error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	var given *roster.Signed
	if in.Body != nil {
		given = in.Body.Signed
	}
	signed, err := s.signedPlan(ctx, p, meant{says: statement.Submitted}, given)
	if err != nil {
		return nil, err
	}
	if err := s.store.SubmitPlan(ctx, in.ID, signed); err != nil {
		return nil, err
	}

	s.audit(ctx, "plan submitted", in.ID, saidBy(given))
	s.tellPlan(ctx, wire.NoticeReview, in.ID, "in review")
	return s.showPlan(ctx, in.ID)
}

// saidBy is how the history names the key that somebody signed by; "" where nobody did.
func saidBy(g *roster.Signed) string {
	if g == nil {
		return ""
	}
	return "signed by " + g.Key.Fingerprint()
}
