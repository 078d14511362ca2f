package roster

import (
	"errors"
	"fmt"
	"time"

	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
)

// A Request is what somebody asks others to agree to.
type Request struct {
	ID     string
	Asks   string    // in one line, as people read it
	Digest tree.Hash // of all that it says
}

// Agreed returns what somebody of the roster says of a request, or why a signature says nothing of it. Known reports
// whether an earlier edition counted: somebody may have signed while it did, if they are still who they were.
func (r Roster) Agreed(
	q Request, signed Signed, known func(statement.Point) bool, now time.Time,
) (statement.Statement, error) {
	s, _, err := r.speaker(signed)
	if err != nil {
		return s, err
	}
	switch {
	case s.Says != statement.Agreed || s.Request != q.ID || s.Asks != q.Asks || s.Digest != q.Digest:
		err = errors.New("has signed something else")
	case s.Roster != r.Point() && !(s.Roster.Number < r.Edition && known(s.Roster)):
		err = errors.New("has signed by an edition that never counted")
	case !now.Before(s.Until) || !now.Before(r.Until):
		err = errors.New("has signed what is over")
	case s.Made.After(now.Add(ahead)):
		err = errors.New("has signed by a clock that is wrong")
	}
	if err == nil {
		err = signed.Key.Verify(signed.Statement, signed.Signature, r.Terms())
	}
	if err != nil {
		return s, fmt.Errorf("%s: %w", s.Who, err)
	}
	return s, nil
}

// speaker reads what somebody signed: a person of the roster, under a key of theirs. The signature is still to be
// verified.
func (r Roster) speaker(signed Signed) (s statement.Statement, person *Person, err error) {
	if s, err = statement.Parse(signed.Statement); err != nil {
		return s, nil, err
	}
	person = r.Person(s.Who)
	switch {
	case person == nil:
		return s, nil, fmt.Errorf("%s is not in edition %d", s.Who, r.Edition)
	case !person.Has(signed.Key):
		return s, nil, fmt.Errorf("the key is none of %s", s.Who)
	}
	return s, person, nil
}
