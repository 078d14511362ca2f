package app

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/service/engine"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func (s *App) wireRun(ctx context.Context, r store.RunRow) (wire.Run, error) {
	p, err := s.store.Plan(ctx, r.Plan)
	if err != nil {
		return wire.Run{}, err
	}

	w := wire.Run{
		ID:          r.ID,
		Application: p.Application,
		Plan:        r.Plan,
		Title:       p.Title,
		State:       r.State,
		StartedBy:   r.StartedBy,
		Started:     r.Started,
		Ended:       r.Ended,
	}

	hosts, err := s.store.RunHosts(ctx, r.ID)
	w.Hosts = make([]wire.RunHost, len(hosts))
	for i, h := range hosts {
		w.Hosts[i] = wire.RunHost(h)
	}
	return w, err
}

func (s *App) showRun(ctx context.Context, id string) (*wire.Run, error) {
	r, err := s.store.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	w, err := s.wireRun(ctx, r)
	return &w, err
}

// wakeHosts makes the agents of a run's hosts ask for their work at once.
func (s *App) wakeHosts(run wire.Run) {
	for _, h := range run.Hosts {
		s.notifier.wake(h.Host)
	}
}

// StartRun runs an approved plan on its hosts.
func (s *App) StartRun(ctx context.Context, in *ByID) (*wire.Run, error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return nil, err
	}
	if p.State != lifecycle.PlanApproved {
		return nil, fault.Conflict(fmt.Sprintf("plan %s is %q: only an approved plan runs", p.ID,
			p.State))
	}
	if err := s.stillApproved(ctx, p); err != nil {
		return nil, err
	}
	if _, err := s.approvedBy(ctx, p); err != nil { // the hosts would wait for an order in vain
		return nil, err
	}
	if err := s.agreedOn(ctx, p); err != nil {
		return nil, err
	}
	id, err := s.store.StartRun(ctx, p, m, CallerOf(ctx).Name)
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "run started", id, "plan "+p.ID)
	out, err := s.showRun(ctx, id)
	if err == nil {
		s.wakeHosts(*out)
	}

	return out, err
}

// ListRunsRequest is the request of [App.ListRuns].
type ListRunsRequest struct {
	After string `query:"after" maxLength:"16"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

// ListRuns lists runs, newest first.
func (s *App) ListRuns(ctx context.Context, in *ListRunsRequest) (*wire.Page[wire.Run], error) {
	rows, err := s.store.Runs(ctx, in.After, in.Limit)
	if err != nil {
		return nil, err
	}

	out := make([]wire.Run, len(rows))
	for i, r := range rows {
		if out[i], err = s.wireRun(ctx, r); err != nil {
			return nil, err
		}
	}

	p, err := counted(ctx, in.After != "", page(out, in.Limit, func(r wire.Run) string { return r.ID }),
		s.store.CountRuns)
	return &p, err
}

// GetRun shows a run.
func (s *App) GetRun(ctx context.Context, in *ByID) (*wire.Run, error) {
	return s.showRun(ctx, in.ID)
}

// HaltRun halts a run at the next step boundary.
func (s *App) HaltRun(ctx context.Context, in *ByID) (*wire.Run, error) {
	if err := s.store.HaltRun(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "run halted", in.ID, "")
	out, err := s.showRun(ctx, in.ID)
	if err == nil && out.State != lifecycle.RunRunning { // nobody had begun
		s.tellPlan(ctx, wire.NoticeRun, out.Plan, string(out.State))
	}

	return out, err
}

// ResumeRun goes on with a halted or failed run.
func (s *App) ResumeRun(ctx context.Context, in *ByID) (*wire.Run, error) {
	if err := s.store.ResumeRun(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "run resumed", in.ID, "")
	out, err := s.showRun(ctx, in.ID)
	if err == nil {
		s.wakeHosts(*out)
	}

	return out, err
}

// ListResultsRequest is the request of [App.ListResults].
type ListResultsRequest struct {
	ID    string `path:"id" maxLength:"16"`
	After string `query:"after" doc:"HOST:STEP" maxLength:"80"`
	Limit int    `query:"limit" default:"500" minimum:"1" maximum:"5000"`
}

// ListResults lists the steps of a run that are not simply done, with reasons.
func (s *App) ListResults(ctx context.Context, in *ListResultsRequest) (*wire.Page[wire.RunResult], error) {
	host, stepText, _ := strings.Cut(in.After, ":")
	step, err := strconv.Atoi(stepText)
	if err != nil {
		step = -1
	}

	rows, err := s.store.RunResults(ctx, in.ID, host, step, in.Limit)
	out := make([]wire.RunResult, len(rows))
	for i, r := range rows {
		out[i] = wire.RunResult{
			Host:    r.Host,
			Step:    r.Step,
			Path:    pathname.Escape(string(r.Path)),
			Outcome: r.Outcome,
			Reason:  r.Reason,
		}
	}

	if err != nil {
		return nil, err
	}

	p, err := counted(ctx, in.After != "",
		page(out, in.Limit, func(r wire.RunResult) string { return r.Host + ":" + itoa(r.Step) }),
		func(ctx context.Context) (int64, error) {
			return s.store.CountResults(ctx, in.ID)
		})
	return &p, err
}

// ListOriginalsRequest is the request of [App.ListOriginals].
type ListOriginalsRequest struct {
	ID    string `path:"id" maxLength:"16"`
	Host  string `query:"host" required:"true" maxLength:"64"`
	Paths string `query:"paths" maxLength:"4096" doc:"Only paths that this pattern fits"`
	After int    `query:"after" minimum:"0" doc:"As next of the page before says"`
}

// ListOriginals lists what a run found on a host before it changed anything.
func (s *App) ListOriginals(ctx context.Context, in *ListOriginalsRequest) (*wire.Page[wire.Original], error) {
	run, err := s.store.Run(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	p, err := s.store.Plan(ctx, run.Plan)
	if err != nil {
		return nil, err
	}

	var patterns []string
	if in.Paths != "" {
		patterns = []string{in.Paths}
	}

	wanted, err := engine.Fitting(patterns)
	if err != nil {
		return nil, err
	}
	dir, err := s.store.NewestDirectory(ctx, p.Application, in.Host)
	if err != nil {
		return nil, err
	}
	chunks, err := s.store.OriginalChunks(ctx, run.ID, in.Host)
	if err != nil {
		return nil, err
	}

	out := wire.Page[wire.Original]{Items: []wire.Original{}}

	// A pattern may match few of many: a request looks through some chunks, and the next one goes on.
	for n := in.After; n < min(in.After+20, chunks); n++ {
		steps, err := s.store.Originals(ctx, run.ID, in.Host, n)
		if err != nil {
			return nil, err
		}

		out.Next = ""
		if n+1 < chunks {
			out.Next = itoa(n + 1)
		}

		for _, st := range steps {
			if wanted(st.Path) {
				out.Items = append(out.Items, wire.Original{
					Host:     in.Host,
					Path:     pathname.Escape(st.Path),
					Kind:     st.Kind.String(),
					Original: perm.Describe(st.Kind, st.Before, dir),
					Left:     perm.Describe(st.Kind, st.After, dir),
				})
			}
		}

		if len(out.Items) > 0 {
			break
		}
	}

	return &out, nil
}
