package http

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/core/chain"
	"idletally/internal/report"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func (s *Server) historyRoutes() {
	add(s, op{"GET", "/history", "list-history", "List the audit log, newest first", wire.Viewer, 200},
		s.listHistory)

	add(s, op{"GET", "/history/file", "write-history", "The audit log as CSV, newest first", wire.Viewer, 200},
		s.writeHistory)
	add(s,
		op{
			"GET", "/history/check", "check-history",
			"Verify that nothing of the history was changed, taken out or put in", wire.Viewer, 200,
		},
		s.checkHistory)

	add(s,
		op{
			"GET", "/history/chain", "export-history",
			"The whole history as lines of JSON that can be verified elsewhere; the last is its signed head",
			wire.Viewer, 200,
		},
		s.exportHistory)
}

// historyAsk says which lines of history are wanted.
type historyAsk struct {
	Who     string    `query:"who" maxLength:"80" doc:"Who did it"`
	What    string    `query:"what" maxLength:"32" doc:"What was done, or the first word of it: plan, run, sign-in"`
	Subject string    `query:"subject" maxLength:"255" doc:"To what it was done"`
	From    time.Time `query:"from"`
	To      time.Time `query:"to" doc:"Before this time"`
	After   string    `query:"after" maxLength:"16"`
	Limit   int       `query:"limit" default:"100" minimum:"1" maximum:"1000"`
}

func (in *historyAsk) query() store.HistoryQuery {
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

func (s *Server) history(ctx context.Context, in *historyAsk) ([]wire.History, error) {
	list, err := s.Store.History(ctx, in.query())
	for i := range list {
		list[i].Tell()
	}
	return list, err
}

func (s *Server) writeHistory(_ context.Context, in *historyAsk) (*huma.StreamResponse, error) {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "text/csv; charset=utf-8")
		ctx.SetHeader("Content-Disposition", `attachment; filename="history.csv"`)
		w := csv.NewWriter(ctx.BodyWriter())
		_ = w.Write([]string{"at", "who", "token", "what", "subject", "detail", "id"}) // an error stays with the writer

		for in.Limit = 1000; ; {
			list, err := s.history(ctx.Context(), in)
			if err != nil {
				s.Log.Error("history was not written to its end", "error", err)
				panic(http.ErrAbortHandler) // so that nobody takes what there is for all
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
				return
			}
		}
	}}, nil
}

// listHistory serves: List the audit log, newest first.
func (s *Server) listHistory(ctx context.Context, in *historyAsk) (*body[wire.Page[wire.History]], error) {
	list, err := s.history(ctx, in)
	if err != nil {
		return nil, err
	}

	p, err := counted(ctx, in.After != "", page(list, in.Limit, func(h wire.History) string { return h.ID }),
		func(ctx context.Context) (int64, error) {
			return s.Store.CountHistory(ctx, in.query())
		})
	return &body[wire.Page[wire.History]]{p}, err
}

// checkHistory serves: Verify that nothing of the history was changed, taken out or put in.
func (s *Server) checkHistory(ctx context.Context, _ *struct{}) (*body[wire.HistoryCheck], error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()

	var w chain.Walker
	h, strays, err := s.Store.Chain(ctx, 0, w.Next)
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

	return &body[wire.HistoryCheck]{out}, nil
}

// exportHistory serves: The whole history as lines of JSON that can be verified elsewhere; the last is its signed head.
func (s *Server) exportHistory(context.Context, *struct{}) (*huma.StreamResponse, error) {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		ctx.SetHeader("Content-Type", "application/x-ndjson")
		enc := json.NewEncoder(ctx.BodyWriter())
		h, _, err := s.Store.Chain(ctx.Context(), 0, func(l chain.Line) error { return enc.Encode(l) })
		if err == nil {
			err = enc.Encode(chain.End{Head: h, Key: s.OrderKey()})
		}

		if err != nil {
			s.Log.Error("history was not written to its end", "error", err)
			panic(http.ErrAbortHandler) // so that nobody takes what there is for all
		}
	}}, nil
}
