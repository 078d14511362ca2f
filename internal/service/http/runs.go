package http

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/service/auth"
	"idletally/internal/service/desk"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func (s *Server) wireRun(ctx context.Context, r store.RunRow) (wire.Run, error) {
	p, err := s.Store.Plan(ctx, r.Plan)
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

	w.Hosts, err = s.Store.RunHosts(ctx, r.ID)
	return w, err
}

func (s *Server) showRun(ctx context.Context, id string) (*body[wire.Run], error) {
	r, err := s.Store.Run(ctx, id)
	if err != nil {
		return nil, err
	}
	w, err := s.wireRun(ctx, r)
	return &body[wire.Run]{w}, err
}

func (s *Server) runRoutes(r chi.Router) {
	addFor(s, op{"POST", "/plans/{id}/run", "start-run", "Run an approved plan on its hosts", wire.Operator, 202},
		s.applicationOfPlan, s.startRun)

	add(s, op{"GET", "/runs", "list-runs", "List runs, newest first", wire.Viewer, 200},
		s.listRuns)

	add(s, op{"GET", "/runs/{id}", "get-run", "Show a run", wire.Viewer, 200},
		s.getRun)
	addFor(s, op{"POST", "/runs/{id}/halt", "halt-run", "Halt a run at the next step boundary", wire.Operator, 202},
		s.applicationOfRun, s.haltRun)

	addFor(s, op{"POST", "/runs/{id}/resume", "resume-run", "Go on with a halted or failed run", wire.Operator, 202},
		s.applicationOfRun, s.resumeRun)

	add(s,
		op{
			"GET", "/runs/{id}/results", "list-results",
			"List the steps of a run that are not simply done, with reasons", wire.Viewer, 200,
		},
		s.listResults)

	add(s,
		op{
			"GET", "/runs/{id}/originals", "list-originals",
			"List what a run found on a host before it changed anything", wire.Viewer, 200,
		},
		s.listOriginals)

	s.route(r, "GET", "/api/v1/runs/{id}/events", personally, s.runEvents)
}

// runEvents streams a run's state as server-sent events, whenever it changes, until it ends. It
// reads the database, so any instance can serve it.
func (s *Server) runEvents(w http.ResponseWriter, r *http.Request) {
	if err := allow(r.Context(), op{role: wire.Viewer}, auth.Roles.Everywhere); err != nil {
		s.plain(w, r, err)
		return
	}

	ctx, cancel := context.WithTimeout(r.Context(), time.Hour)
	defer cancel()

	rc := http.NewResponseController(w)
	last, said := "", time.Now()
	for first := true; ; first = false {
		row, err := s.Store.Run(ctx, chi.URLParam(r, "id"))
		var run wire.Run
		if err == nil {
			run, err = s.wireRun(ctx, row)
		}

		if err != nil {
			if first {
				s.plain(w, r, err)
			}
			return
		}

		if first {
			w.Header().Set("Content-Type", "text/event-stream")
			w.Header().Set("Cache-Control", "no-store")
		}

		b, err := json.Marshal(wire.WithLists(run))
		if err != nil {
			return
		}

		text := ""
		switch {
		case string(b) != last:
			last = string(b)
			text = fmt.Sprintf("event: run\ndata: %s\n\n", b)
		case time.Since(said) > keepAlive: // so that everybody on the way knows that it lives
			text = ": it goes on\n\n"
		}

		if text != "" {
			said = time.Now()
			// a stream past its deadline is cut, written to or not
			_ = rc.SetWriteDeadline(said.Add(keepAlive + 10*time.Second))
			if _, err := io.WriteString(w, text); err != nil || rc.Flush() != nil {
				return
			}
		}

		if run.State != "running" {
			return
		}

		select {
		case <-ctx.Done():
			return
		case <-s.Stopping:
			return
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// wakeHosts has the agents of a run's hosts ask for their work at once.
func (s *Server) wakeHosts(run wire.Run) {
	for _, h := range run.Hosts {
		s.notifier.wake(h.Host)
	}
}

// startRun serves: Run an approved plan on its hosts.
func (s *Server) startRun(ctx context.Context, in *byID) (*body[wire.Run], error) {
	p, err := s.Store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	m, err := plan.ParseManifest(p.Manifest)
	if err != nil {
		return nil, err
	}
	if p.State != "approved" {
		return nil, fault.Conflict(fmt.Sprintf("plan %s is %q: only an approved plan runs", p.ID,
			p.State))
	}
	if err := s.stillApproved(ctx, p); err != nil {
		return nil, err
	}
	if _, err := s.approvedBy(ctx, p); err != nil { // the hosts would wait for an order in vain
		return nil, err
	}
	id, err := s.Store.StartRun(ctx, p, m, caller(ctx).Name)
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "run started", id, "plan "+p.ID)
	out, err := s.showRun(ctx, id)
	if err == nil {
		s.wakeHosts(out.Body)
	}

	return out, err
}

// listRunsRequest is what listRuns takes.
type listRunsRequest struct {
	After string `query:"after" maxLength:"16"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"500"`
}

// listRuns serves: List runs, newest first.
func (s *Server) listRuns(ctx context.Context, in *listRunsRequest) (*body[wire.Page[wire.Run]], error) {
	rows, err := s.Store.Runs(ctx, in.After, in.Limit)
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
		s.Store.CountRuns)
	return &body[wire.Page[wire.Run]]{p}, err
}

// getRun serves: Show a run.
func (s *Server) getRun(ctx context.Context, in *byID) (*body[wire.Run], error) {
	return s.showRun(ctx, in.ID)
}

// haltRun serves: Halt a run at the next step boundary.
func (s *Server) haltRun(ctx context.Context, in *byID) (*body[wire.Run], error) {
	if err := s.Store.HaltRun(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "run halted", in.ID, "")
	out, err := s.showRun(ctx, in.ID)
	if err == nil && out.Body.State != "running" { // nobody had begun
		s.tellPlan(ctx, wire.NoticeRun, out.Body.Plan, out.Body.State)
	}

	return out, err
}

// resumeRun serves: Go on with a halted or failed run.
func (s *Server) resumeRun(ctx context.Context, in *byID) (*body[wire.Run], error) {
	if err := s.Store.ResumeRun(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "run resumed", in.ID, "")
	out, err := s.showRun(ctx, in.ID)
	if err == nil {
		s.wakeHosts(out.Body)
	}

	return out, err
}

// listResultsRequest is what listResults takes.
type listResultsRequest struct {
	ID    string `path:"id" maxLength:"16"`
	After string `query:"after" doc:"HOST:STEP" maxLength:"80"`
	Limit int    `query:"limit" default:"500" minimum:"1" maximum:"5000"`
}

// listResults serves: List the steps of a run that are not simply done, with reasons.
func (s *Server) listResults(ctx context.Context, in *listResultsRequest) (*body[wire.Page[wire.RunResult]], error) {
	host, stepText, _ := strings.Cut(in.After, ":")
	step, err := strconv.Atoi(stepText)
	if err != nil {
		step = -1
	}

	rows, err := s.Store.RunResults(ctx, in.ID, host, step, in.Limit)
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
			return s.Store.CountResults(ctx, in.ID)
		})
	return &body[wire.Page[wire.RunResult]]{p}, err
}

// listOriginalsRequest is what listOriginals takes.
type listOriginalsRequest struct {
	ID    string `path:"id" maxLength:"16"`
	Host  string `query:"host" required:"true" maxLength:"64"`
	Paths string `query:"paths" maxLength:"4096" doc:"Only paths that this pattern fits"`
	After int    `query:"after" minimum:"0" doc:"As next of the page before says"`
}

// listOriginals serves: List what a run found on a host before it changed anything.
func (s *Server) listOriginals(ctx context.Context, in *listOriginalsRequest) (*body[wire.Page[wire.Original]], error) {
	run, err := s.Store.Run(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	p, err := s.Store.Plan(ctx, run.Plan)
	if err != nil {
		return nil, err
	}

	var patterns []string
	if in.Paths != "" {
		patterns = []string{in.Paths}
	}

	wanted, err := desk.Fitting(patterns)
	if err != nil {
		return nil, err
	}
	dir, err := s.Store.NewestDirectory(ctx, p.Application, in.Host)
	if err != nil {
		return nil, err
	}
	chunks, err := s.Store.OriginalChunks(ctx, run.ID, in.Host)
	if err != nil {
		return nil, err
	}

	out := wire.Page[wire.Original]{Items: []wire.Original{}}

	// A pattern may fit few of many: a request looks through some chunks, and the next one goes on.
	for n := in.After; n < min(in.After+20, chunks); n++ {
		steps, err := s.Store.Originals(ctx, run.ID, in.Host, n)
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

	return &body[wire.Page[wire.Original]]{out}, nil
}
