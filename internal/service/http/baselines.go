package http

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"idletally/internal/core/baseline"
	"idletally/internal/core/verdict"
	"idletally/internal/service/desk"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func wireEdition(e store.Edition) wire.Edition {
	return wire.Edition{
		Application: e.Application,
		Number:      e.Number,
		State:       e.State,
		Title:       e.Title,
		Author:      e.Author,
		Created:     e.Created,
		PublishedBy: e.PublishedBy,
		Published:   e.Published,
		Text:        e.Text,
	}
}

// baselineSchema is for editors, and tells nothing of this service.
const baselineSchema = "/api/schemas/baseline-1.json"

func (s *Server) baselineRoutes(r chi.Router) {
	r.Get(baselineSchema, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/schema+json")
		_, _ = w.Write(baseline.Schema)
	})
	add(s, op{"POST", "/baselines/check", "check-baseline", "Check a baseline without keeping it", wire.Viewer, 200},
		s.checkBaseline)
	addFor(s,
		op{"POST", "/baselines", "upload-baseline", "Keep a baseline as the next draft edition", wire.Author, 201},
		func(ctx context.Context, in *body[wire.NewEdition]) (string, error) {
			return s.applicationOfText(ctx, &body[wire.BaselineText]{wire.BaselineText{Text: in.Body.Text}})
		}, s.uploadBaseline)

	addFor(s,
		op{
			"POST", "/baselines/effect", "preview-baseline",
			"How a baseline would judge the last snapshots, beside the published edition", wire.Author, 200,
		},
		s.applicationOfText, s.previewBaseline)

	addFor(s,
		op{
			"POST", "/baselines/derive", "derive-baseline",
			"Draft a baseline from hosts that are right, without keeping it", wire.Author, 200,
		},
		func(_ context.Context, in *body[wire.NewDerivation]) (string, error) { return in.Body.Application, nil },
		s.deriveBaseline)

	add(s,
		op{
			"GET", "/baselines/{name}/{number}/effect", "compare-editions",
			"Which paths two editions judge differently, on the last snapshots", wire.Viewer, 200,
		},
		s.compareEditions)

	add(s,
		op{
			"GET", "/baselines/{name}/{number}/explain", "explain-path", "Which rule decides which aspect of a path",
			wire.Viewer, 200,
		},
		s.explainPath)

	add(s,
		op{
			"GET", "/baselines/{name}", "list-editions", "List an application's editions, newest first", wire.Viewer,
			200,
		},
		s.listEditions)

	add(s, op{"GET", "/baselines/{name}/{number}", "get-edition", "Show an edition with its text", wire.Viewer, 200},
		s.getEdition)
	addFor(s,
		op{
			"POST", "/baselines/{name}/{number}/publish", "publish-edition",
			"Make an edition the one that counts, and compare the last snapshots with it", wire.Author, 200,
		},
		func(_ context.Context, in *baselineOne) (string, error) { return in.Name, nil },
		s.publishEdition)

	add(s,
		op{
			"GET", "/applications", "list-applications", "List applications with the state on their hosts",
			wire.Viewer, 200,
		},
		s.listApplications)
}

func (s *Server) application(
	ctx context.Context, newest store.Edition, current map[place]*store.Report, known *desk.Known,
) (wire.Application, error) {
	a := wire.Application{Name: newest.Application, Title: newest.Title, Hosts: []wire.HostState{}}
	e, _, hosts, err := s.desk.Published(ctx, newest.Application)
	if isNotFound(err) {
		return a, nil
	}
	if err != nil {
		return a, err
	}

	a.Published, a.Title = e.Number, e.Title
	var looks []verdict.Look
	for _, h := range hosts {
		r := current[place{a.Name, h.Name}]
		l := known.Of(e, h, r, counting(r))
		st := wire.HostState{HostVerdict: wire.HostVerdictOf(h.Name, l, known.At)}
		if r != nil {
			w := reportHead(*r)
			w.Findings = counting(r)
			w.Waived = r.Waived
			w.Opens = r.Opens
			w.Closes = r.Closes
			st.Report = &w
		}

		a.Hosts, looks = append(a.Hosts, st), append(looks, l)
	}

	v := wire.VerdictOf(verdict.Of(looks, known.At))
	a.Verdict = &v
	return a, nil
}

type baselineOne struct {
	Name   string `path:"name"`
	Number int    `path:"number" doc:"0 is the published edition"`
}

// checkBaseline serves: Check a baseline without keeping it.
func (s *Server) checkBaseline(ctx context.Context, in *body[wire.BaselineText]) (*body[wire.Checked], error) {
	_, c, err := s.desk.Check(ctx, in.Body.Text)
	return &body[wire.Checked]{c}, err
}

// uploadBaseline serves: Keep a baseline as the next draft edition.
func (s *Server) uploadBaseline(ctx context.Context, in *body[wire.NewEdition]) (*body[wire.Edition], error) {
	doc, c, err := s.desk.Check(ctx, in.Body.Text)
	if err != nil {
		return nil, err
	}
	if !c.OK {
		return nil, faulty(c.Errors)
	}

	n, err := s.Store.AddEdition(ctx,
		store.Edition{
			Application: doc.Application,
			Text:        in.Body.Text,
			Title:       doc.Title,
			Author:      caller(ctx).Name,
		},
		in.Body.After)

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "edition drafted", doc.Application, "")

	// others may be writing at it
	s.happen(ctx, store.Happening{Kind: wire.HappenedEdition, Application: doc.Application, Subject: itoa(n)})
	e, err := s.Store.Edition(ctx, doc.Application, n)
	return &body[wire.Edition]{wireEdition(e)}, err
}

// previewBaseline serves: How a baseline would judge the last snapshots, beside the published edition.
func (s *Server) previewBaseline(ctx context.Context, in *body[wire.BaselineText]) (*body[wire.EditionEffect], error) {
	old, err := s.desk.Against(ctx, in.Body.Text)
	if err != nil {
		return nil, err
	}

	out, err := s.desk.Effect(ctx, old, in.Body.Text)
	return &body[wire.EditionEffect]{out}, err
}

// deriveBaseline serves: Draft a baseline from hosts that are right, without keeping it.
func (s *Server) deriveBaseline(ctx context.Context, in *body[wire.NewDerivation]) (*body[wire.Derived], error) {
	out, err := s.desk.Derive(ctx, in.Body)
	return &body[wire.Derived]{out}, err
}

// compareEditionsRequest is what compareEditions takes.
type compareEditionsRequest struct {
	Name    string `path:"name"`
	Number  int    `path:"number" doc:"0 is the published edition"`
	Against int    `query:"against" doc:"The edition that it is held against; 0 is the published one"`
}

// compareEditions serves: Which paths two editions judge differently, on the last snapshots.
func (s *Server) compareEditions(ctx context.Context, in *compareEditionsRequest) (*body[wire.EditionEffect], error) {
	old, fresh, err := s.desk.Editions(ctx, in.Name, in.Against, in.Number)
	if err != nil {
		return nil, err
	}

	out, err := s.desk.Effect(ctx, old.Text, fresh.Text)
	return &body[wire.EditionEffect]{out}, err
}

// explainPathRequest is what explainPath takes.
type explainPathRequest struct {
	Name   string `path:"name"`
	Number int    `path:"number" doc:"0 is the published edition"`
	Host   string `query:"host" required:"true" maxLength:"64"`
	Path   string `query:"path" required:"true" maxLength:"131072"`
}

// explainPath serves: Which rule decides which aspect of a path.
func (s *Server) explainPath(ctx context.Context, in *explainPathRequest) (*body[wire.Explained], error) {
	e, err := s.Store.Edition(ctx, in.Name, in.Number)
	if err != nil {
		return nil, err
	}

	raw, err := unescaped("path", in.Path)
	if err == nil {
		err = checked("path", raw)
	}

	if err != nil {
		return nil, err
	}

	out, err := s.desk.Explain(ctx, e, in.Host, raw)
	return &body[wire.Explained]{out}, err
}

// listEditionsRequest is what listEditions takes.
type listEditionsRequest struct {
	Name  string `path:"name"`
	After int    `query:"after" minimum:"0"`
	Limit int    `query:"limit" default:"200" minimum:"1" maximum:"1000"`
}

// listEditions serves: List an application's editions, newest first.
func (s *Server) listEditions(ctx context.Context, in *listEditionsRequest) (*body[wire.Page[wire.Edition]], error) {
	rows, err := s.Store.Editions(ctx, in.Name, in.After, in.Limit)
	if err != nil {
		return nil, err
	}

	out := make([]wire.Edition, len(rows))
	for i, e := range rows {
		e.Text = ""
		out[i] = wireEdition(e)
	}

	p, err := counted(ctx, in.After != 0,
		page(out, in.Limit, func(e wire.Edition) string { return itoa(e.Number) }),
		func(ctx context.Context) (int64, error) {
			return s.Store.CountEditions(ctx, in.Name)
		})
	return &body[wire.Page[wire.Edition]]{p}, err
}

// getEdition serves: Show an edition with its text.
func (s *Server) getEdition(ctx context.Context, in *baselineOne) (*body[wire.Edition], error) {
	e, err := s.Store.Edition(ctx, in.Name, in.Number)
	return &body[wire.Edition]{wireEdition(e)}, err
}

// publishEdition serves: Make an edition the one that counts, and compare the last snapshots with it.
func (s *Server) publishEdition(ctx context.Context, in *baselineOne) (*body[wire.Edition], error) {
	if err := s.Store.Publish(ctx, in.Name, in.Number, caller(ctx).Name); err != nil {
		return nil, err
	}

	s.notifier.wakeAll(watchLists)
	s.audit(ctx, "edition published", in.Name, itoa(in.Number))
	if err := errors.Join(s.desk.CompareAll(ctx, in.Name), s.desk.CompareIncluding(ctx, in.Name)); err != nil {
		s.Log.Error("compare after publishing", "application", in.Name, "error", err)
	}

	s.happen(ctx, store.Happening{Kind: wire.HappenedEdition, Application: in.Name, Subject: itoa(in.Number)})
	e, err := s.Store.Edition(ctx, in.Name, in.Number)
	return &body[wire.Edition]{wireEdition(e)}, err
}

// listApplications serves: List applications with the state on their hosts.
func (s *Server) listApplications(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Application]], error) {
	newest, err := s.Store.Applications(ctx)
	if err != nil {
		return nil, err
	}
	reports, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	known, err := s.desk.Known(ctx, "", "", reports, time.Now(), 0)
	if err != nil {
		return nil, err
	}

	at := byPlace(reports)
	out := wire.Page[wire.Application]{Items: []wire.Application{}}
	for _, e := range newest {
		a, err := s.application(ctx, e, at, known)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, a)
	}

	return &body[wire.Page[wire.Application]]{whole(out)}, nil
}
