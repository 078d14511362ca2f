package http

import (
	"context"
	"errors"

	"idletally/internal/core/baseline"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// Which application a call is about, for those whom a role is given for one alone.

func (s *Server) applicationOfPlan(ctx context.Context, in *byID) (string, error) {
	p, err := s.Store.Plan(ctx, in.ID)
	return p.Application, err
}

func (s *Server) applicationOfRun(ctx context.Context, in *byID) (string, error) {
	r, err := s.Store.Run(ctx, in.ID)
	if err != nil {
		return "", err
	}
	return s.applicationOfPlan(ctx, &byID{r.Plan})
}

func (s *Server) applicationOfSnapshot(ctx context.Context, in *byID) (string, error) {
	v, err := s.Store.Snapshot(ctx, in.ID)
	return v.Application, err
}

func (s *Server) applicationOfWaiver(ctx context.Context, in *byID) (string, error) {
	w, err := s.Store.Waiver(ctx, in.ID)
	return w.Application, err
}

func (s *Server) applicationOfSchedule(ctx context.Context, in *byID) (string, error) {
	x, err := s.Store.Schedule(ctx, in.ID)
	return x.Application, err
}

func (s *Server) applicationOfText(ctx context.Context, in *body[wire.BaselineText]) (string, error) {
	doc, err := s.desk.Parse(ctx, in.Body.Text)
	var faults baseline.Errors
	if errors.As(err, &faults) {
		return "", faulty(faults)
	}
	if err != nil {
		return "", err
	}
	return doc.Application, nil
}

// faulty says what is wrong with a baseline.
func faulty(faults baseline.Errors) error {
	details := make([]error, len(faults))
	for i, e := range faults {
		details[i] = e
	}
	return fault.Invalid("the baseline has errors", details...)
}

// applicationOfDraft is that of what a plan is drafted from. Where that is of several the desk refuses it.
func (s *Server) applicationOfDraft(ctx context.Context, in *body[wire.Draft]) (string, error) {
	ask := in.Body
	report := ""
	switch {
	case ask.Run != "":
		return s.applicationOfRun(ctx, &byID{ask.Run})
	case ask.Snapshot != "":
		return s.applicationOfSnapshot(ctx, &byID{ask.Snapshot})
	case ask.Changes != "", ask.All:
		return ask.Application, nil
	case len(ask.Groups) > 0:
		report = ask.Groups[0].Report
	case len(ask.Findings) > 0:
		report = ask.Findings[0].Report
	default:
		return "", fault.Invalid("choose findings, groups or all")
	}

	r, err := s.Store.Report(ctx, report)
	return r.Application, err
}
