package store

import (
	"context"
	"fmt"
)

// What is listed whole has a bound, which is held where something is added: so that no list of these is ever cut.
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

// room says whether there may be one more, of what a query counts.
func (s *Store) room(ctx context.Context, most int, what, query string, args ...any) error {
	n, err := s.count(ctx, query, args...)
	if err == nil && n >= int64(most) {
		err = fmt.Errorf("there are %d %s: remove some first: %w", n, what, ErrConflict)
	}
	return err
}
