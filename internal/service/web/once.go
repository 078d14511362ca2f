package web

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"time"

	"idletally/internal/service/app"
	"idletally/internal/service/fault"
)

const (
	// KeyHeader comes with calls that change something, so that they can be made again without being carried out again.
	KeyHeader   = "Idempotency-Key"
	MaxKey      = 128
	maxAnswer   = 4 << 20
	longestCall = 2 * time.Minute
)

// once carries a call that comes with a key out once, however often it is made, on whichever instance. If it was
// carried out before, it gets the answer that it got then.
func (s *Edge) once(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key, p := r.Header.Get(KeyHeader), app.CallerOf(r.Context())
		if key == "" || p == nil || r.Method == http.MethodGet || r.Method == http.MethodHead {
			next.ServeHTTP(w, r)
			return
		}

		if len(key) > MaxKey {
			s.Plain(w, r, fault.Malformed(KeyHeader+": want at most 128 characters"))
			return
		}

		asked, err := askedBy(p, r)
		if err != nil {
			s.Plain(w, r, err)
			return
		}
		a := app.NewAttempt(p.Name+"\x00"+p.By, key, asked)
		if s.answeredBefore(w, r, a) {
			return
		}

		// It goes on if the caller's connection breaks: whoever calls again gets its answer.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), longestCall)
		defer cancel()

		held := &heldAnswer{header: http.Header{}, status: http.StatusOK}
		next.ServeHTTP(held, r.WithContext(app.WithAttempt(ctx, a)))
		if held.status == http.StatusConflict && !a.Done && s.answeredBefore(w, r, a) { // somebody else was faster
			return
		}

		if a.Done && held.status < 500 && held.body.Len() <= maxAnswer {
			s.KeepAnswer(r.Context(), a, app.KeptAnswer{
				Type:     held.header.Get("Content-Type"),
				Location: held.header.Get("Location"),
				Body:     held.body.Bytes(),
				Status:   held.status,
			})
		}

		for k, v := range held.header {
			w.Header()[k] = v
		}

		w.WriteHeader(held.status)
		_, _ = w.Write(held.body.Bytes()) // nobody is left to tell
	})
}

// askedBy returns what somebody asks by a call. With other roles it is another call: whoever lost one is not given
// again what they got by it. Bodies that are too large for memory are not part of it.
func askedBy(p *app.Caller, r *http.Request) ([]byte, error) {
	asked := []byte(r.Method + " " + r.URL.RequestURI() + "\n" + p.RoleList + "\n")
	if large(r.URL.Path) > 0 {
		return asked, nil
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, fault.TooLarge("body: " + err.Error())
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	return append(asked, body...), nil
}

// answeredBefore answers a call that was made before, if it was.
func (s *Edge) answeredBefore(w http.ResponseWriter, r *http.Request, a *app.Attempt) bool {
	got, err := s.AnswerBefore(r.Context(), a)
	if err != nil {
		s.Plain(w, r, err)
		return true
	}
	if got == nil {
		return false
	}

	if got.Type != "" {
		w.Header().Set("Content-Type", got.Type)
	}
	if got.Location != "" {
		w.Header().Set("Location", got.Location)
	}

	w.Header().Set("Idletally-Answered", got.At.UTC().Format(time.RFC3339))
	w.WriteHeader(got.Status)
	_, _ = w.Write(got.Body)
	return true
}

// heldAnswer holds an answer back until it is stored.
type heldAnswer struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (h *heldAnswer) Header() http.Header         { return h.header }
func (h *heldAnswer) WriteHeader(status int)      { h.status = status }
func (h *heldAnswer) Write(b []byte) (int, error) { return h.body.Write(b) }
