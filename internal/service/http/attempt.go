package http

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"time"

	"idletally/internal/service/fault"
	"idletally/internal/service/store"
)

const (
	// keyHeader comes with calls that change something, so that they can be made again without being carried out again.
	keyHeader = "Idempotency-Key"
	maxKey    = 128
	maxAnswer = 4 << 20
	// underWay is how long a call without an answer may still be at work elsewhere.
	underWay    = 10 * time.Second
	longestCall = 2 * time.Minute
)

// answered is an answer as it is kept: sealed, since it may hold a code or a token.
type answered struct {
	Type     string `json:"type"`
	Location string `json:"location,omitempty"`
	Body     []byte `json:"body"`
}

// once carries a call that comes with a key out once, however often it is made, on whichever instance. Where
// it was carried out before, it gets the answer that it got then.
func (s *Server) once(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key, p := r.Header.Get(keyHeader), caller(r.Context())
		if key == "" || p == nil || r.Method == http.MethodGet || r.Method == http.MethodHead {
			next.ServeHTTP(w, r)
			return
		}

		if len(key) > maxKey {
			s.plain(w, r, fault.Malformed(keyHeader+": want at most 128 characters"))
			return
		}

		// With other roles it is another call: whoever lost one is not given again what they got by it.
		asked := []byte(r.Method + " " + r.URL.RequestURI() + "\n" + p.RoleList + "\n")
		if large(r.URL.Path) == 0 { // too large to be held
			body, err := io.ReadAll(r.Body)
			if err != nil {
				s.plain(w, r, fault.TooLarge("body: "+err.Error()))
				return
			}

			r.Body = io.NopCloser(bytes.NewReader(body))
			asked = append(asked, body...)
		}

		a := store.NewAttempt(p.Name+"\x00"+p.by, key, asked)
		if s.answeredBefore(w, r, a) {
			return
		}

		// It goes on where the caller's connection breaks: who calls again gets its answer.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), longestCall)
		defer cancel()

		held := &heldAnswer{header: http.Header{}, status: http.StatusOK}
		next.ServeHTTP(held, r.WithContext(store.WithAttempt(ctx, a)))
		if held.status == http.StatusConflict && !a.Done && s.answeredBefore(w, r, a) { // somebody else was faster
			return
		}

		if a.Done && held.status < 500 && held.body.Len() <= maxAnswer {
			if err := s.keepAnswer(r.Context(), a, held); err != nil {
				s.Log.Warn("an answer was not kept", "error", err)
			}
		}

		for k, v := range held.header {
			w.Header()[k] = v
		}

		w.WriteHeader(held.status)
		_, _ = w.Write(held.body.Bytes()) // nobody is left to tell
	})
}

// answeredBefore answers a call that was made before, if it was.
func (s *Server) answeredBefore(w http.ResponseWriter, r *http.Request, a *store.Attempt) bool {
	before, err := s.Store.AttemptAnswer(r.Context(), a)
	var got answered
	switch {
	case errors.Is(err, store.ErrNotFound):
		return false
	case errors.Is(err, store.ErrOtherCall):
		err = fault.Invalid(err.Error())
	case err != nil:
	case before.Status == 0 && time.Since(before.At) < underWay:
		w.Header().Set("Retry-After", "1")
		err = fault.Conflict("this call is being carried out: ask again in a moment")
	case before.Status == 0:
		err = fault.Conflict(
			"this call was begun, and its answer was lost with the instance that made it: look at what is there, " +
				"and call anew with another key if need be")
	default:
		var b []byte
		if b, err = s.unseal(a.Sealed(), before.Body); err == nil {
			err = json.Unmarshal(b, &got)
		}
		if err != nil {
			err = fault.Conflict(
				"this call was carried out, and its answer cannot be read any more: look at what is there")
		}
	}

	if err != nil {
		s.plain(w, r, err)
		return true
	}

	if got.Type != "" {
		w.Header().Set("Content-Type", got.Type)
	}

	if got.Location != "" {
		w.Header().Set("Location", got.Location)
	}

	w.Header().Set("Idletally-Answered", before.At.UTC().Format(time.RFC3339))
	w.WriteHeader(before.Status)
	_, _ = w.Write(got.Body)
	return true
}

func (s *Server) keepAnswer(ctx context.Context, a *store.Attempt, held *heldAnswer) error {
	b, err := json.Marshal(answered{held.header.Get("Content-Type"), held.header.Get("Location"), held.body.Bytes()})
	if err != nil {
		return err
	}
	sealed, err := s.seal(a.Sealed(), b)
	if err != nil {
		return err
	}
	return s.Store.KeepAnswer(context.WithoutCancel(ctx), a, held.status, sealed)
}

// heldAnswer holds an answer back until it is kept.
type heldAnswer struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (h *heldAnswer) Header() http.Header         { return h.header }
func (h *heldAnswer) WriteHeader(status int)      { h.status = status }
func (h *heldAnswer) Write(b []byte) (int, error) { return h.body.Write(b) }

func (s *Server) sealer(use string) (cipher.AEAD, error) {
	block, err := aes.NewCipher(s.secret(use))
	if err != nil {
		return nil, err
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// sealedFor is what the key is made for that seals.
const sealedFor = "sealed values"

// seal makes something unreadable for who has only the database, and bound to its place there: it can be
// unsealed for that alone.
func (s *Server) seal(place string, b []byte) ([]byte, error) {
	g, err := s.sealer(sealedFor)
	if err != nil {
		return nil, err
	}
	return g.Seal(nil, nil, b, []byte(place)), nil
}

func (s *Server) unseal(place string, b []byte) ([]byte, error) {
	g, err := s.sealer(sealedFor)
	if err != nil {
		return nil, err
	}
	return g.Open(nil, nil, b, []byte(place))
}

// secondOf is the place of somebody's second factor.
func secondOf(person string) string { return "second factor of " + person }
