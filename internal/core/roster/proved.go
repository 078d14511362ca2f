package roster

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"

	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
)

// Evidence is what is kept of who had a plan carried out: a first edition and the line that leads on from it, and what
// people signed of the plan.
type Evidence struct {
	First  []byte   `json:"first"` // the document of an edition
	Line   []Step   `json:"line"`  // what follows on it
	Signed []Signed `json:"signed"`
}

// ErrUntrusted says that evidence does not lead back to the edition that its reader trusts.
var ErrUntrusted = errors.New("the evidence does not lead on from the roster that you trust")

// editions returns the editions of the evidence from the trusted one on, which is known by its digest.
func (e Evidence) editions(trusted tree.Hash) (out []Roster, err error) {
	r, err := Parse(e.First)
	if err != nil {
		return nil, err
	}
	if tree.Hash(sha256.Sum256(e.First)) == trusted {
		out = append(out, r)
	}
	for _, s := range e.Line {
		next, err := Follow(r, []Step{s})
		if err != nil {
			return nil, err
		}
		r = next
		if len(out) > 0 || r.Digest() == trusted {
			out = append(out, r)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w: none of its %d editions has the fingerprint %s", ErrUntrusted, len(e.Line)+1,
			trusted)
	}
	return out, nil
}

// Proved returns who submitted a plan and who approved it, by the edition of the roster that counted when the last of
// them signed, and by what time that was; or an error unless they were enough, for the host of the order. What they
// signed may be over by now: it is about then.
func (e Evidence) Proved(trusted tree.Hash, o Order) (Roster, People, error) {
	editions, err := e.editions(trusted)
	if err != nil {
		return Roster{}, People{}, err
	}

	newest, last := int64(0), statement.Statement{}
	for _, g := range e.Signed {
		s, err := statement.Parse(g.Statement)
		if err != nil {
			return Roster{}, People{}, err
		}
		newest = max(newest, s.Roster.Number)
		if s.Made.After(last.Made) {
			last = s
		}
	}

	var past []statement.Point
	for _, r := range editions {
		if r.Edition < newest {
			past = append(past, r.Point())
			continue
		}
		known := func(p statement.Point) bool { return slices.Contains(past, p) }
		people, err := r.Authorize(o, e.Signed, known, last.Made)
		return r, people, err
	}
	return Roster{}, People{}, fmt.Errorf("%w: it ends before edition %d, by which they signed", ErrUntrusted, newest)
}
