package http

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/report"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func (s *Server) wirePlan(ctx context.Context, p store.Plan, whole bool) (wire.Plan, error) {
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
		Hosts:       []wire.PlanHost{},
	}

	if p.State == "approved" && p.Expires != nil && p.Expires.Before(time.Now()) {
		w.State = "expired"
	}

	w.First, w.StopAt = m.First, m.StopAt
	for _, h := range m.Hosts {
		w.Hosts = append(w.Hosts, wire.PlanHost{Host: h.Host, Steps: h.Steps})
		w.Steps += h.Steps
	}

	if r, err := s.Store.PlanRun(ctx, p.ID); err == nil {
		w.Run = r.ID
	} else if !isNotFound(err) {
		return w, err
	}

	if whole {
		_ = json.Unmarshal([]byte(p.Source), &w.Left) // we wrote it
		if w.Groups, err = s.Store.PlanGroups(ctx, p.ID); err != nil {
			return w, err
		}
		if w.Cautions, err = s.desk.Cautions(ctx, p); err != nil {
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

func (s *Server) planRoutes() {
	addFor(s,
		op{
			"POST", "/plans", "draft-plan",
			"Draft a plan: a remediation from findings, a restore from a run's originals or a snapshot, an " +
				"adjustment from hand-written changes",
			wire.Author, 201,
		},
		s.applicationOfDraft, s.draftPlan)

	add(s, op{"GET", "/plans", "list-plans", "List plans, newest first", wire.Viewer, 200},
		s.listPlans)

	add(s, op{"GET", "/plans/{id}", "get-plan", "Show a plan with its equal steps", wire.Viewer, 200},
		s.getPlan)

	add(s,
		op{
			"GET", "/plans/{id}/steps", "list-steps", "List a plan's steps on a host, from the bytes that are signed",
			wire.Viewer, 200,
		},
		s.listSteps)

	add(s,
		op{
			"GET", "/plans/{id}/script", "write-script",
			"A plan's steps on a host as a shell script that uses the system's own utilities only, and undoes itself",
			wire.Viewer, 200,
		},
		s.writeScript)

	addFor(s, op{"POST", "/plans/{id}/submit", "submit-plan", "Put a draft in review", wire.Author, 200},
		s.applicationOfPlan, s.submitPlan)

	s.reviewRoutes()
}

// verifiedSteps returns steps out of the very bytes that the plan's digest stands for.
func (s *Server) verifiedSteps(ctx context.Context, p store.Plan, host string, n int) ([]plan.Step, error) {
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return nil, err
	}
	part, ok := m.For(host)
	if !ok || n >= len(part.Chunks) {
		return nil, fault.NotFound("the plan has no such steps")
	}
	return s.desk.Steps(ctx, p, part, n)
}

// showPlan returns a plan with all that is said of it.
func (s *Server) showPlan(ctx context.Context, id string) (*body[wire.Plan], error) {
	p, err := s.Store.Plan(ctx, id)
	if err != nil {
		return nil, err
	}

	w, err := s.wirePlan(ctx, p, true)
	return &body[wire.Plan]{w}, err
}

type text struct {
	Type        string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// draftPlan serves: Draft a plan: a remediation from findings, a restore from a run's originals or a
// snapshot, an adjustment from hand-written changes.
func (s *Server) draftPlan(ctx context.Context, in *body[wire.Draft]) (*body[wire.Plan], error) {
	if err := plainText("title", in.Body.Title); err != nil {
		return nil, err
	}

	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()

	var id string
	var err error
	switch by := caller(ctx).Name; {
	case in.Body.Run != "":
		id, err = s.desk.DraftRestore(ctx, in.Body, by)
	case in.Body.Snapshot != "":
		id, err = s.desk.DraftReturn(ctx, in.Body, by)
	case in.Body.Changes != "":
		id, err = s.desk.DraftAdjustment(ctx, in.Body, by)
	default:
		id, err = s.desk.DraftRemediation(ctx, in.Body, by)
	}

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "plan drafted", id, in.Body.Title)
	return s.showPlan(ctx, id)
}

// listPlansRequest is what listPlans takes.
type listPlansRequest struct {
	State string `query:"state" enum:"draft,in review,approved,declined,running,halted,finished"`
	After string `query:"after" maxLength:"16"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

// listPlans serves: List plans, newest first.
func (s *Server) listPlans(ctx context.Context, in *listPlansRequest) (*body[wire.Page[wire.Plan]], error) {
	rows, err := s.Store.Plans(ctx, in.State, in.After, in.Limit)
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
			return s.Store.CountPlans(ctx, in.State)
		})
	return &body[wire.Page[wire.Plan]]{p}, err
}

// getPlan serves: Show a plan with its equal steps.
func (s *Server) getPlan(ctx context.Context, in *byID) (*body[wire.Plan], error) {
	return s.showPlan(ctx, in.ID)
}

// listStepsRequest is what listSteps takes.
type listStepsRequest struct {
	ID    string `path:"id" maxLength:"16"`
	Host  string `query:"host" required:"true" maxLength:"64"`
	Chunk int    `query:"chunk" minimum:"0" doc:"Chunks hold up to 2,000 steps; ask until one is not found"`
}

// listSteps serves: List a plan's steps on a host, from the bytes that are signed.
func (s *Server) listSteps(ctx context.Context, in *listStepsRequest) (*body[wire.Page[wire.Step]], error) {
	p, err := s.Store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	list, err := s.verifiedSteps(ctx, p, in.Host, in.Chunk)
	if err != nil {
		return nil, err
	}
	dir, err := s.Store.NewestDirectory(ctx, p.Application, in.Host)
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

	return &body[wire.Page[wire.Step]]{out}, nil
}

// writeScriptRequest is what writeScript takes.
type writeScriptRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Host string `query:"host" required:"true" maxLength:"64"`
}

// writeScript serves: A plan's steps on a host as a shell script that uses the system's own utilities only,
// and undoes itself.
func (s *Server) writeScript(ctx context.Context, in *writeScriptRequest) (*text, error) {
	p, err := s.Store.Plan(ctx, in.ID)
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
		steps, err := s.desk.Steps(ctx, p, part, n)
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

// submitPlan serves: Put a draft in review.
func (s *Server) submitPlan(ctx context.Context, in *byID) (*body[wire.Plan], error) {
	if err := s.Store.MovePlan(ctx, in.ID, "draft", "in review"); err != nil {
		return nil, err
	}

	s.audit(ctx, "plan submitted", in.ID, "")
	s.tellPlan(ctx, wire.NoticeReview, in.ID, "in review")
	return s.showPlan(ctx, in.ID)
}
