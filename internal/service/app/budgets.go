package app

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"time"

	"idletally/internal/service/budget"
	"idletally/internal/service/engine"
	"idletally/internal/service/fault"
)

// The classes of calls.
const (
	Quick   budget.Class = "quick"   // some rows are read or written
	Costly  budget.Class = "costly"  // texts are parsed, trees are walked, thousands of rows are read
	Sending budget.Class = "sending" // a large body is read: each takes at most some 100 MiB
	Hashing budget.Class = "hashing" // a password is checked: each takes 64 MiB
	Waiting budget.Class = "waiting" // it waits for something to happen, or follows it
	Asking  budget.Class = "asking"  // somebody else is asked, and waited for

	// A snapshot is compared with its baseline: some 100 MiB each, and ten minutes at the most.
	comparing budget.Class = "comparing"
	tending   budget.Class = "tending" // the other chores of the service's own: each once at a time
)

// The chores of the service's own, besides those of the engine.
const (
	watchHistory = "history"  // is verified
	tellRefusals = "refusals" // that were gathered are written
	wake         = "wake"     // whom another instance has something for
)

// chores says what each of them costs. None is done that is not listed here.
var chores = map[budget.Class][]string{
	comparing: {engine.Compare},
	tending:   {engine.Schedules, engine.Notices, engine.Looks, engine.Storage, watchHistory, tellRefusals, wake},
}

// room waits until there is room for a chore.
func (s *App) room(ctx context.Context, chore string) (within context.Context, leave func(), err error) {
	for class, names := range chores {
		if slices.Contains(names, chore) {
			return s.budgets.Enter(ctx, class, chore)
		}
	}
	return nil, nil, fmt.Errorf("what the chore %s costs is not said in chores", chore)
}

// shares are what all calls of a class may take together. One console asks for some ten things at once.
func shares() map[budget.Class]budget.Share {
	cores := max(2, runtime.GOMAXPROCS(0))
	return map[budget.Class]budget.Share{
		Quick: {All: 64, Each: 16, Line: 4000, Queue: 100, Wait: 15 * time.Second, Within: time.Minute},
		Costly: {
			All: cores, Each: max(1, cores/2), Line: 400, Queue: 20, Wait: 30 * time.Second, Within: 3 * time.Minute,
		},
		Sending:   {All: 4, Each: 2, Line: 4000, Queue: 4, Wait: 20 * time.Second, Within: 4 * time.Minute},
		Hashing:   {All: 2, Each: 1, Line: 40, Queue: 4, Wait: 10 * time.Second, Within: time.Minute},
		Waiting:   {All: 50_000, Each: 30},
		comparing: {All: engine.Comparers, Each: engine.Comparers, Line: 1, Queue: 1, Wait: time.Hour},
		tending: {
			All: len(chores[tending]), Each: 1, Line: len(chores[tending]), Queue: 1, Wait: time.Minute,
			Within: time.Hour,
		},
		Asking: {All: 200, Each: 10, Line: 400, Queue: 20, Wait: 10 * time.Second, Within: 2 * time.Minute},
	}
}

// busy returns a refusal: with 429 to a caller who has too much going on, with 503 to others, and when to come again.
func busy(err error) error {
	var b *budget.Busy
	if !errors.As(err, &b) {
		return err
	}
	if b.Own {
		return fault.TooMany(b.Error(), b.Again)
	}
	return fault.Unavailable(b.Error(), b.Again)
}

// Enter takes a call's place in its class, for the caller that who names. What it returns ends with the caller's
// session if calls of the class last.
func (s *App) Enter(
	ctx context.Context, class budget.Class, who string,
) (within context.Context, leave func(), err error) {
	within, free, err := s.budgets.Enter(ctx, class, who)
	if err != nil || class != Waiting {
		return within, free, busy(err)
	}
	within, enough := s.whileSignedIn(within)
	return within, func() { enough(); free() }, nil
}
