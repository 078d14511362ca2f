package store

import (
	"context"
	"fmt"
)

// What is listed whole has a bound, which is enforced where something is added: so that no list of these is ever cut.
var (
	maxHooks        = 1000
	maxPeople       = 10_000
	maxSchedules    = 10_000
	maxApplications = 10_000
	maxTokens       = 100    // of one person
	maxAllTokens    = 20_000 // of all of them
	maxSessions     = 1000   // of one person: the oldest end
)

// somewhat is how much over a bound a list may be: two who add at once may both be the last.
const somewhat = 100

// room reports whether there may be one more of what a query counts; some of it can be removed.
func (s *Store) room(ctx context.Context, most int, what, query string, args ...any) error {
	full, err := s.full(ctx, most, query, args...)
	if err == nil && full {
		err = fmt.Errorf("there are %d %s: remove some first: %w", most, what, ErrConflict)
	}
	return err
}

// full reports whether there are as many as there may be.
func (s *Store) full(ctx context.Context, most int, query string, args ...any) (bool, error) {
	n, err := s.count(ctx, query, args...)
	return n >= int64(most), err
}
