package app

import (
	"context"
	"errors"
	"time"

	"idletally/internal/core/verdict"
	"idletally/internal/service/engine"
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

// BaselineSchema is for editors, and reveals nothing of this service.
const BaselineSchema = "/api/schemas/baseline-1.json"

func (s *App) application(
	ctx context.Context, newest store.Edition, current map[place]*store.Report, known *engine.Known,
) (wire.Application, error) {
	a := wire.Application{Name: newest.Application, Title: newest.Title, Hosts: []wire.HostState{}}
	e, _, hosts, err := s.engine.Published(ctx, newest.Application)
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

// An EditionRequest names an edition of an application.
type EditionRequest struct {
	Name   string `path:"name"`
	Number int    `path:"number" doc:"0 is the published edition"`
}

// CheckBaseline checks a baseline without keeping it.
func (s *App) CheckBaseline(ctx context.Context, in *wire.BaselineText) (*wire.Checked, error) {
	_, c, err := s.engine.Check(ctx, in.Text)
	return &c, err
}

// UploadBaseline keeps a baseline as the next draft edition.
func (s *App) UploadBaseline(ctx context.Context, in *wire.NewEdition) (*wire.Edition, error) {
	doc, c, err := s.engine.Check(ctx, in.Text)
	if err != nil {
		return nil, err
	}
	if !c.OK {
		return nil, faulty(c.Errors)
	}

	n, err := s.store.AddEdition(ctx,
		store.Edition{
			Application: doc.Application,
			Text:        in.Text,
			Title:       doc.Title,
			Author:      CallerOf(ctx).Name,
		},
		in.After)

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "edition drafted", doc.Application, "")

	// others may be writing at it
	s.happen(ctx, store.Happening{Kind: wire.HappenedEdition, Application: doc.Application, Subject: itoa(n)})
	e, err := s.store.Edition(ctx, doc.Application, n)
	return new(wireEdition(e)), err
}

// PreviewBaseline returns how a baseline would judge the last snapshots, beside the published edition.
func (s *App) PreviewBaseline(ctx context.Context, in *wire.BaselineText) (*wire.EditionEffect, error) {
	old, err := s.engine.Against(ctx, in.Text)
	if err != nil {
		return nil, err
	}

	return s.effect(ctx, old, in.Text)
}

// DeriveBaseline drafts a baseline from hosts that are right, without keeping it.
func (s *App) DeriveBaseline(ctx context.Context, in *wire.NewDerivation) (*wire.Derived, error) {
	out, err := s.engine.Derive(ctx, *in)
	return &out, err
}

// CompareEditionsRequest is the request of [App.CompareEditions].
type CompareEditionsRequest struct {
	Name    string `path:"name"`
	Number  int    `path:"number" doc:"0 is the published edition"`
	Against int    `query:"against" doc:"The edition that it is compared with; 0 is the published one"`
}

// CompareEditions returns which paths two editions judge differently, on the last snapshots.
func (s *App) CompareEditions(ctx context.Context, in *CompareEditionsRequest) (*wire.EditionEffect, error) {
	old, fresh, err := s.engine.Editions(ctx, in.Name, in.Against, in.Number)
	if err != nil {
		return nil, err
	}

	return s.effect(ctx, old.Text, fresh.Text)
}

// effect returns how a text would judge the last snapshots, and which baselines change with it.
func (s *App) effect(ctx context.Context, old, text string) (*wire.EditionEffect, error) {
	out, err := s.engine.Effect(ctx, old, text)
	if err != nil {
		return nil, err
	}
	if out.Including, err = s.engine.Including(ctx, out.Application); err != nil {
		s.log.Error("baselines that include one", "application", out.Application, "error", err)
	}
	return &out, nil
}

// ExplainPathRequest is the request of [App.ExplainPath].
type ExplainPathRequest struct {
	Name   string `path:"name"`
	Number int    `path:"number" doc:"0 is the published edition"`
	Host   string `query:"host" required:"true" maxLength:"64"`
	Path   string `query:"path" required:"true" maxLength:"131072"`
}

// ExplainPath returns which rule decides which aspect of a path.
func (s *App) ExplainPath(ctx context.Context, in *ExplainPathRequest) (*wire.Explained, error) {
	e, err := s.store.Edition(ctx, in.Name, in.Number)
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

	out, err := s.engine.Explain(ctx, e, in.Host, raw)
	return &out, err
}

// ListEditionsRequest is the request of [App.ListEditions].
type ListEditionsRequest struct {
	Name  string `path:"name"`
	After int    `query:"after" minimum:"0"`
	Limit int    `query:"limit" default:"200" minimum:"1" maximum:"1000"`
}

// ListEditions lists an application's editions, newest first.
func (s *App) ListEditions(ctx context.Context, in *ListEditionsRequest) (*wire.Page[wire.Edition], error) {
	rows, err := s.store.Editions(ctx, in.Name, in.After, in.Limit)
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
			return s.store.CountEditions(ctx, in.Name)
		})
	return &p, err
}

// GetEdition shows an edition with its text.
func (s *App) GetEdition(ctx context.Context, in *EditionRequest) (*wire.Edition, error) {
	e, err := s.store.Edition(ctx, in.Name, in.Number)
	return new(wireEdition(e)), err
}

// PublishEdition makes an edition the one that counts, and compares the last snapshots with it.
func (s *App) PublishEdition(ctx context.Context, in *EditionRequest) (*wire.Edition, error) {
	if err := s.store.Publish(ctx, in.Name, in.Number, CallerOf(ctx).Name); err != nil {
		return nil, err
	}

	s.notifier.wakeAll(watchLists)
	s.audit(ctx, "edition published", in.Name, itoa(in.Number))
	if err := errors.Join(s.engine.CompareAll(ctx, in.Name), s.engine.CompareIncluding(ctx, in.Name)); err != nil {
		s.log.Error("compare after publishing", "application", in.Name, "error", err)
	}

	s.happen(ctx, store.Happening{Kind: wire.HappenedEdition, Application: in.Name, Subject: itoa(in.Number)})
	s.tellEdition(ctx, *in, wire.EditionPublished)
	e, err := s.store.Edition(ctx, in.Name, in.Number)
	return new(wireEdition(e)), err
}

// tellEdition tells whoever depends on an edition how it stands.
func (s *App) tellEdition(ctx context.Context, of EditionRequest, state string) {
	err := s.engine.TellEdition(context.WithoutCancel(ctx), wire.EditionNotice{
		Of:      of.Name,
		Edition: of.Number,
		Who:     CallerOf(ctx).Name,
		State:   state,
	})
	if err != nil {
		s.log.Error("notices of an edition", "application", of.Name, "edition", of.Number, "error", err)
	}
}

// ListApplications lists applications with the state on their hosts.
func (s *App) ListApplications(ctx context.Context, _ *struct{}) (*wire.Page[wire.Application], error) {
	newest, err := s.store.Applications(ctx)
	if err != nil {
		return nil, err
	}
	reports, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	known, err := s.engine.Known(ctx, "", "", reports, time.Now(), 0)
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

	return whole(out), nil
}
