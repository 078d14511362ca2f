package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"idletally/internal/core/lifecycle"
	"idletally/internal/service/app"
	"idletally/internal/wire"
)

// followHappenings returns what happens, as server-sent events: each holds a Happening; the first says that
// the stream has begun.
func (s *API) followHappenings(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	c, leave, err := s.Follow()
	if err != nil {
		return nil, err
	}

	return &huma.StreamResponse{Body: func(hc huma.Context) {
		defer leave()
		hc.SetHeader("Content-Type", "text/event-stream")
		hc.SetHeader("Cache-Control", "no-store")
		w, ok := hc.BodyWriter().(http.ResponseWriter)
		if !ok {
			return
		}

		s.tellPage(hc.Context(), w, c)
	}}, nil
}

// tellPage writes what happens until the page goes, or it is time to ask anew.
func (s *API) tellPage(ctx context.Context, w http.ResponseWriter, c <-chan wire.Happening) {
	control := http.NewResponseController(w)
	write := func(format string, args ...any) bool {
		if control.SetWriteDeadline(time.Now().Add(app.KeepAlive+10*time.Second)) != nil {
			// a stream past its deadline is cut, written to or not
			return false
		}
		_, err := fmt.Fprintf(w, format, args...)
		return err == nil && control.Flush() == nil
	}

	event := func(h wire.Happening) bool {
		b, err := json.Marshal(h)
		return err == nil && write("data: %s\n\n", b)
	}
	if !write("retry: 1000\n") || !event(wire.Happening{Kind: wire.HappenedBegin}) {
		return
	}

	end, beat := time.After(app.ListenFor), time.NewTicker(app.KeepAlive)
	defer beat.Stop()

	for {
		select {
		case h, ok := <-c:
			if !ok || !event(h) {
				return
			}
		case <-beat.C:
			if !write(": here\n\n") {
				return
			}
		case <-ctx.Done():
			return
		case <-end:
			return
		case <-s.Stopping:
			return
		}
	}
}

// runEvents streams a run's state as server-sent events, whenever it changes, until it ends. It
// reads the database, so any instance can serve it.
func (s *API) runEvents(w http.ResponseWriter, r *http.Request) {
	if err := s.Allow(r.Context(), app.Rule{Role: wire.Viewer}); err != nil {
		s.Plain(w, r, err)
		return
	}

	ctx, cancel := context.WithTimeout(r.Context(), time.Hour)
	defer cancel()

	rc := http.NewResponseController(w)
	last, said := "", time.Now()
	for first := true; ; first = false {
		run, err := s.App.GetRun(ctx, &app.ByID{ID: chi.URLParam(r, "id")})
		if err != nil {
			if first {
				s.Plain(w, r, err)
			}
			return
		}

		if first {
			w.Header().Set("Content-Type", "text/event-stream")
			w.Header().Set("Cache-Control", "no-store")
		}

		b, err := json.Marshal(wire.WithLists(*run))
		if err != nil {
			return
		}

		text := ""
		switch {
		case string(b) != last:
			last = string(b)
			text = fmt.Sprintf("event: run\ndata: %s\n\n", b)
		case time.Since(said) > app.KeepAlive: // so that everybody on the way knows that it lives
			text = ": it goes on\n\n"
		}

		if text != "" {
			said = time.Now()
			// a stream past its deadline is cut, written to or not
			_ = rc.SetWriteDeadline(said.Add(app.KeepAlive + 10*time.Second))
			if _, err := io.WriteString(w, text); err != nil || rc.Flush() != nil {
				return
			}
		}

		if run.State != lifecycle.RunRunning {
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
