package app

import (
	"context"

	"idletally/internal/service/store"
)

// Upkeep does what has to be done once, with the service's keys, after an upgrade or a restore. It comes
// before anything is served.
func (s *App) Upkeep(ctx context.Context) error {
	if err := s.bind(ctx); err != nil {
		return err
	}
	if err := s.succeed(ctx); err != nil {
		return err
	}

	if err := s.store.TieOlder(ctx); err != nil {
		// The service goes on: whoever looks at the history is told what is wrong with it.
		s.log.Error("what the history had before it was chained is not tied", "error", err)
	}

	at, told, err := s.store.Restored(ctx)
	if err != nil || at == "" {
		return err
	}
	if err := s.store.Audit(ctx, store.By{Who: "the service"}, "restored", "backup",
		"of "+at+": sessions and enrolment codes ended; what was ended after that time may count again"); err != nil {
		return err
	}

	return told()
}

// bind binds sealed values to their places that an earlier version sealed for any. It does so once: later on nothing
// is accepted that is not bound.
func (s *App) bind(ctx context.Context) error {
	return s.store.Upkeep(ctx, "bind second factors", func() error {
		old, err := s.sealer("answers")
		if err != nil {
			return err
		}
		return s.store.EachTwoFactor(ctx, func(person string, sealed []byte) ([]byte, error) {
			b, err := old.Open(nil, nil, sealed, nil)
			if err != nil { // it is bound already, or nobody's
				return sealed, nil
			}
			return s.seal(secondOf(person), b)
		})
	})
}
