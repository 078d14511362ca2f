package app

import (
	"context"
	"io"
	"time"

	"idletally/internal/archive"
	"idletally/internal/core/roster"
	"idletally/internal/service/store"
)

// WriteEvidence returns a plan's steps as its digest stands for them, what people signed of it, the roster that they
// signed by, and what a run came to, as one file that anybody can verify (see docs/formats.md).
func (s *App) WriteEvidence(ctx context.Context, in *ByID) (*Download, error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	head := archive.EvidenceHead{
		Manifest: p.Manifest,
		OrderKey: s.OrderKey(),
		Hosts:    []archive.EvidenceHost{},
		Made:     time.Now().UTC().Truncate(time.Second),
	}
	if head.Roster, err = s.rosterEvidence(ctx, p.ID); err != nil {
		return nil, err
	}

	switch run, err := s.store.PlanRun(ctx, p.ID); {
	case isNotFound(err):
	case err != nil:
		return nil, err
	default:
		head.Run = run.ID
		if head.Hosts, err = s.runEvidence(ctx, run.ID); err != nil {
			return nil, err
		}
	}

	return &Download{
		Name: p.ID + ".evidence",
		Type: "application/octet-stream",
		Write: func(ctx context.Context, w io.Writer) error {
			return archive.WriteEvidence(w, head, func(host string, n int) ([]byte, error) {
				return s.store.PlanChunk(ctx, p.ID, host, n)
			})
		},
	}, nil
}

// rosterEvidence returns the whole line of the roster, and what people signed of a plan.
func (s *App) rosterEvidence(ctx context.Context, plan string) (e roster.Evidence, err error) {
	e.Line, e.Signed = []roster.Step{}, []roster.Signed{}
	line, err := s.store.RosterLine(ctx, 0, maxLine)
	if err != nil || len(line) == 0 {
		return e, err
	}
	e.First = line[0].Document
	if e.Line, err = s.steps(ctx, line[1:]); err != nil {
		return e, err
	}
	e.Signed, err = s.signaturesOf(ctx, plan)
	return e, err
}

// runEvidence returns what hosts were ordered, and what they say of it.
func (s *App) runEvidence(ctx context.Context, run string) ([]archive.EvidenceHost, error) {
	hosts, err := s.store.RunHosts(ctx, run)
	if err != nil {
		return nil, err
	}
	orders, err := s.store.GivenOrders(ctx, run)
	if err != nil {
		return nil, err
	}
	given := map[string]store.GivenOrder{}
	for _, o := range orders {
		given[o.Host] = o
	}

	out := make([]archive.EvidenceHost, len(hosts))
	for i, h := range hosts {
		out[i] = archive.EvidenceHost{
			Host:      h.Host,
			Order:     given[h.Host].Order,
			Signature: given[h.Host].Signature,
			State:     h.State,
			Done:      h.Done,
			Already:   h.Already,
			Skipped:   h.Skipped,
			Refused:   h.Refused,
			Wrong:     h.Wrong,
			Message:   h.Message,
		}
	}
	return out, nil
}
