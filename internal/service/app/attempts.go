package app

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"encoding/json"
	"errors"
	"time"

	"idletally/internal/service/fault"
	"idletally/internal/service/store"
)

// An Attempt is a call that its caller can repeat without its being carried out again.
type Attempt = store.Attempt

// NewAttempt returns what a caller asked, under a key of their own.
func NewAttempt(caller, key string, asked []byte) *Attempt {
	return store.NewAttempt(caller, key, asked)
}

// WithAttempt makes changes be stored together with the fact that the call was carried out.
func WithAttempt(ctx context.Context, a *Attempt) context.Context { return store.WithAttempt(ctx, a) }

// underWay is how long a call without an answer may still be at work elsewhere.
const underWay = 10 * time.Second

// A KeptAnswer is the answer to a call that was made with a word of the caller's own. It is kept sealed, since it may
// hold a code or a token.
type KeptAnswer struct {
	Type     string `json:"type"`
	Location string `json:"location,omitempty"`
	Body     []byte `json:"body"`

	Status int       `json:"-"`
	At     time.Time `json:"-"`
}

// AnswerBefore returns the answer that a call had when it was made before; nil if it was not.
func (s *App) AnswerBefore(ctx context.Context, a *store.Attempt) (*KeptAnswer, error) {
	before, err := s.store.AttemptAnswer(ctx, a)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, nil
	case errors.Is(err, store.ErrOtherCall):
		return nil, fault.Invalid(err.Error())
	case err != nil:
		return nil, err
	case before.Status == 0 && time.Since(before.At) < underWay:
		return nil, &fault.Error{
			Kind: fault.KindConflict, Text: "this call is being carried out: ask again in a moment", Again: time.Second,
		}
	case before.Status == 0:
		return nil, fault.Conflict(
			"this call was begun, and its answer was lost with the instance that made it: look at what is there, " +
				"and call anew with another key if need be")
	}

	got := KeptAnswer{Status: before.Status, At: before.At}
	b, err := s.unseal(a.Sealed(), before.Body)
	if err == nil {
		err = json.Unmarshal(b, &got)
	}
	if err != nil {
		return nil, fault.Conflict(
			"this call was carried out, and its answer cannot be read any more: look at what is there")
	}
	return &got, nil
}

// KeepAnswer keeps an answer for whoever makes the same call again. A failure is only logged: the call is answered.
func (s *App) KeepAnswer(ctx context.Context, a *store.Attempt, answer KeptAnswer) {
	b, err := json.Marshal(answer)
	if err == nil {
		b, err = s.seal(a.Sealed(), b)
	}
	if err == nil {
		err = s.store.KeepAnswer(context.WithoutCancel(ctx), a, answer.Status, b)
	}
	if err != nil {
		s.log.Warn("an answer was not kept", "error", err)
	}
}

func (s *App) sealer(use string) (cipher.AEAD, error) {
	block, err := aes.NewCipher(s.secret(use))
	if err != nil {
		return nil, err
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// sealedFor is what the key is made for that seals.
const sealedFor = "sealed values"

// seal makes something unreadable to anybody who has only the database, and binds it to its place there: it can be
// unsealed for that alone.
func (s *App) seal(place string, b []byte) ([]byte, error) {
	g, err := s.sealer(sealedFor)
	if err != nil {
		return nil, err
	}
	return g.Seal(nil, nil, b, []byte(place)), nil
}

func (s *App) unseal(place string, b []byte) ([]byte, error) {
	g, err := s.sealer(sealedFor)
	if err != nil {
		return nil, err
	}
	return g.Open(nil, nil, b, []byte(place))
}

// secondOf is the place of somebody's second factor.
func secondOf(person string) string { return "second factor of " + person }
