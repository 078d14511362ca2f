package app

import (
	"context"
	"errors"

	"idletally/internal/core/baseline"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// Which application a call is about, for those who have a role for only one.

func (s *App) ApplicationOfPlan(ctx context.Context, in *ByID) (string, error) {
	p, err := s.store.Plan(ctx, in.ID)
	return p.Application, err
}

func (s *App) ApplicationOfRun(ctx context.Context, in *ByID) (string, error) {
	r, err := s.store.Run(ctx, in.ID)
	if err != nil {
		return "", err
	}
	return s.ApplicationOfPlan(ctx, &ByID{r.Plan})
}

func (s *App) ApplicationOfSnapshot(ctx context.Context, in *ByID) (string, error) {
	v, err := s.store.Snapshot(ctx, in.ID)
	return v.Application, err
}

func (s *App) ApplicationOfWaiver(ctx context.Context, in *ByID) (string, error) {
	w, err := s.store.Waiver(ctx, in.ID)
	return w.Application, err
}

func (s *App) ApplicationOfSchedule(ctx context.Context, in *ByID) (string, error) {
	x, err := s.store.Schedule(ctx, in.ID)
	return x.Application, err
}

func (s *App) ApplicationOfText(ctx context.Context, in *wire.BaselineText) (string, error) {
	doc, err := s.engine.Parse(ctx, in.Text)
	var faults baseline.Errors
	if errors.As(err, &faults) {
		return "", faulty(faults)
	}
	if err != nil {
		return "", err
	}
	return doc.Application, nil
}

func (s *App) ApplicationOfEdition(ctx context.Context, in *wire.NewEdition) (string, error) {
	return s.ApplicationOfText(ctx, &wire.BaselineText{Text: in.Text})
}

func (s *App) ApplicationOfDecision(ctx context.Context, in *DecisionRequest) (string, error) {
	return s.ApplicationOfPlan(ctx, &ByID{in.ID})
}

func (s *App) ApplicationOfSubmission(ctx context.Context, in *SubmitPlanRequest) (string, error) {
	return s.ApplicationOfPlan(ctx, &ByID{in.ID})
}

func (s *App) ApplicationOfOrder(ctx context.Context, in *OrderRequest) (string, error) {
	return s.ApplicationOfRun(ctx, &ByID{in.ID})
}

// faulty says what is wrong with a baseline.
func faulty(faults baseline.Errors) error {
	details := make([]error, len(faults))
	for i, e := range faults {
		details[i] = e
	}
	return fault.Invalid("the baseline has errors", details...)
}

// ApplicationOfForesee returns the application of changes that are only foreseen.
func (s *App) ApplicationOfForesee(_ context.Context, in *wire.Foresee) (string, error) {
	return in.Application, nil
}

// ApplicationOfDraft returns the application of what a plan is drafted from. If there are several the engine refuses
// it.
func (s *App) ApplicationOfDraft(ctx context.Context, in *wire.Draft) (string, error) {
	ask := *in
	report := ""
	switch {
	case ask.Run != "":
		return s.ApplicationOfRun(ctx, &ByID{ask.Run})
	case ask.Snapshot != "":
		return s.ApplicationOfSnapshot(ctx, &ByID{ask.Snapshot})
	case ask.Changes != "", ask.All:
		return ask.Application, nil
	case len(ask.Groups) > 0:
		report = ask.Groups[0].Report
	case len(ask.Findings) > 0:
		report = ask.Findings[0].Report
	default:
		return "", fault.Invalid("choose findings, groups or all")
	}

	r, err := s.store.Report(ctx, report)
	return r.Application, err
}
