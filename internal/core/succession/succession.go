// Package succession tells which key signs in place of another: each step is signed by the key that stands
// down, so that whoever knows one of the keys can follow to the newest, and never back.
package succession

import (
	"bytes"
	"crypto/ed25519"
	"errors"
	"fmt"
	"time"
)

// A Handover has one key sign in place of another from some time on.
type Handover struct {
	From      ed25519.PublicKey `json:"from"`
	To        ed25519.PublicKey `json:"to"`
	At        time.Time         `json:"at"`        // to the second
	Signature []byte            `json:"signature"` // by From
}

// MaxSteps bounds a line of keys: one a month for eight years.
const MaxSteps = 100

// ErrBroken says that a line of keys is none.
var ErrBroken = errors.New("the keys do not follow on each other")

func (s Handover) signed() []byte {
	return fmt.Appendf(nil, "idletally succession 1\nfrom %x\nto %x\nat %s\n", []byte(s.From), []byte(s.To),
		s.At.UTC().Format(time.RFC3339))
}

// Next makes the step from one key to another.
func Next(from ed25519.PrivateKey, to ed25519.PublicKey, at time.Time) Handover {
	s := Handover{From: from.Public().(ed25519.PublicKey), To: to, At: at.UTC().Truncate(time.Second)}
	s.Signature = ed25519.Sign(from, s.signed())
	return s
}

// Check returns ErrBroken unless each step is signed by the key that stands down, starts from the one before,
// and no key comes twice.
func Check(line []Handover) error {
	if len(line) > MaxSteps {
		return fmt.Errorf("%w: there are %d steps: at most %d are followed", ErrBroken, len(line), MaxSteps)
	}

	seen := map[string]bool{}
	for i, s := range line {
		switch {
		case len(s.From) != ed25519.PublicKeySize || len(s.To) != ed25519.PublicKeySize:
			return fmt.Errorf("%w: step %d has a key of another length", ErrBroken, i+1)
		case i > 0 && !bytes.Equal(line[i-1].To, s.From):
			return fmt.Errorf("%w: step %d does not start from the key before it", ErrBroken, i+1)
		case !ed25519.Verify(s.From, s.signed(), s.Signature):
			return fmt.Errorf("%w: step %d is not signed by the key that stands down", ErrBroken, i+1)
		}
		seen[string(s.From)] = true
		if seen[string(s.To)] {
			return fmt.Errorf("%w: step %d leads back to a key from before", ErrBroken, i+1)
		}
	}

	return nil
}

// Follow returns the newest key that one leads to, which is that key itself where it has not stood down. It
// returns ErrBroken for a line that does not pass Check: nobody is followed by a part of it.
func Follow(key ed25519.PublicKey, line []Handover) (ed25519.PublicKey, error) {
	if err := Check(line); err != nil {
		return key, err
	}
	for _, s := range line {
		if bytes.Equal(s.From, key) {
			key = s.To
		}
	}
	return key, nil
}

// Former returns the keys that have stood down.
func Former(line []Handover) (keys []ed25519.PublicKey) {
	for _, s := range line {
		keys = append(keys, s.From)
	}
	return keys
}
