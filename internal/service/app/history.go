package app

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"idletally/internal/core/chain"
	"idletally/internal/report"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// HistoryRequest says which lines of history are wanted.
type HistoryRequest struct {
	Who     string    `query:"who" maxLength:"80" doc:"Who did it"`
	What    string    `query:"what" maxLength:"32" doc:"What was done, or the first word of it: plan, run, sign-in"`
	Subject string    `query:"subject" maxLength:"255" doc:"To what it was done"`
	From    time.Time `query:"from"`
	To      time.Time `query:"to" doc:"Before this time"`
	After   string    `query:"after" maxLength:"16"`
	Limit   int       `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

func (in *HistoryRequest) query() store.HistoryQuery {
	return store.HistoryQuery{
		Who:     in.Who,
		What:    in.What,
		Subject: in.Subject,
		From:    in.From,
		To:      in.To,
		Before:  in.After,
		Limit:   in.Limit,
	}
}

func (s *App) history(ctx context.Context, in *HistoryRequest) ([]wire.History, error) {
	lines, err := s.store.History(ctx, in.query())
	list := make([]wire.History, len(lines))
	for i, l := range lines {
		list[i] = wire.History{
			ID: l.ID, At: l.At, Who: l.Who, Token: l.Token, What: l.What, Subject: l.Subject, Detail: l.Detail,
		}
		list[i].Tell()
	}
	return list, err
}

// WriteHistory returns the audit log as CSV, newest first.
func (s *App) WriteHistory(_ context.Context, in *HistoryRequest) (*Download, error) {
	write := func(ctx context.Context, to io.Writer) error {
		w := csv.NewWriter(to)
		_ = w.Write([]string{"at", "who", "token", "what", "subject", "detail", "id"}) // an error stays with the writer

		for in.Limit = 1000; ; {
			list, err := s.history(ctx, in)
			if err != nil {
				return err
			}

			for _, h := range list {
				_ = w.Write([]string{
					h.At.UTC().Format(time.RFC3339Nano), report.Cell(h.Who), report.Cell(h.Token), h.What,
					report.Cell(h.Subject), report.Cell(h.Detail), h.ID,
				})
				in.After = h.ID
			}

			w.Flush()
			if len(list) < in.Limit || w.Error() != nil {
				return w.Error()
			}
		}
	}
	return &Download{Name: "history.csv", Type: "text/csv; charset=utf-8", Write: write}, nil
}

// ListHistory lists the audit log, newest first.
func (s *App) ListHistory(ctx context.Context, in *HistoryRequest) (*wire.Page[wire.History], error) {
	list, err := s.history(ctx, in)
	if err != nil {
		return nil, err
	}

	p, err := counted(ctx, in.After != "", page(list, in.Limit, func(h wire.History) string { return h.ID }),
		func(ctx context.Context) (int64, error) {
			return s.store.CountHistory(ctx, in.query())
		})
	return &p, err
}

// CheckHistory verifies that nothing of the history was changed, taken out or put in.
func (s *App) CheckHistory(ctx context.Context, _ *struct{}) (*wire.HistoryCheck, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()

	var w chain.Walker
	h, strays, err := s.store.Chain(ctx, 0, w.Next)
	if err != nil && !errors.Is(err, chain.ErrBroken) {
		return nil, err
	}

	if err == nil {
		err = w.End(h, s.OrderKey())
	}

	out := wire.HistoryCheck{Lines: w.Seq, Head: h.Hash.String(), Key: s.OrderKey()}
	switch {
	case err != nil:
		out.Fault = err.Error()
	case strays != 0:
		out.Fault = fmt.Sprintf(
			"%d lines were put among those from before the history was chained, or taken away there", strays)
	}

	return &out, nil
}

// ExportHistory returns the whole history as lines of JSON that can be verified elsewhere; the last is its signed head.
func (s *App) ExportHistory(context.Context, *struct{}) (*Download, error) {
	return &Download{Type: "application/x-ndjson", Write: func(ctx context.Context, w io.Writer) error {
		enc := json.NewEncoder(w)
		h, _, err := s.store.Chain(ctx, 0, func(l chain.Line) error { return enc.Encode(l) })
		if err != nil {
			return err
		}
		return enc.Encode(chain.End{Head: h, Key: s.OrderKey()})
	}}, nil
}
