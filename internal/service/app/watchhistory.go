package app

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"idletally/internal/core/chain"
	"idletally/internal/service/store"
	"idletally/internal/service/witness"
	"idletally/internal/wire"
)

const (
	historyEvery = 20 * time.Second
	// A fault is told when it is seen twice: another node of a database may be a moment behind.
	historyAgain = 3 * time.Second
	historyTold  = time.Hour
)

// A historyFault is what is wrong with the history, and since when that is known.
type historyFault struct {
	what string
	at   time.Time
}

// watchHistory verifies the history all the time, until the context ends. What is wrong with it and, every hour,
// where it ends are logged and told to hooks, so that a copy stands where somebody who changes the database cannot
// change it.
func (s *App) watchHistory(ctx context.Context) {
	w := historyWatch{holder: store.NewID(), pause: time.Second}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(w.pause):
		}
		w.pause = historyEvery
		s.engine.Round(ctx, watchHistory, func(ctx context.Context) error { return s.lookAtHistory(ctx, &w) })
	}
}

// A historyWatch is what was told of the history, and when.
type historyWatch struct {
	holder      string
	pause       time.Duration // until the next look
	told, ended time.Time     // of what is wrong, and where it ends
}

func (s *App) lookAtHistory(ctx context.Context, w *historyWatch) error {
	var fault *witness.Fault
	switch err := s.witness.Check(ctx); {
	case errors.As(err, &fault):
		if s.fault.Load() == nil {
			s.fault.Store(&historyFault{fault.What, time.Now()})
			w.pause = historyAgain
			return nil
		}
		s.fault.Store(&historyFault{fault.What, s.fault.Load().at})
		if time.Since(w.told) > historyTold {
			w.told = time.Now()
			s.tellFault(ctx, fault.What)
		}
	case err != nil:
		return fmt.Errorf("the history could not be verified: %w", err)
	default:
		s.fault.Store(nil)
		w.told = time.Time{}
		if s.witness.Least() == 0 { // a new history is noted as soon as it has begun
			w.pause = time.Second
		}

		if time.Since(w.ended) > historyTold && s.tellHead(ctx, w.holder) {
			w.ended = time.Now()
		}
	}

	return nil
}

func (s *App) tellFault(ctx context.Context, what string) {
	s.log.Error("the history is not what it was: find out who writes to the database", "fault", what)
	if err := s.engine.TellHistory(ctx, wire.HistoryNotice{Fault: what}); err != nil {
		s.log.Error("notices of the history", "error", err)
	}
}

// tellHead tells where the history ends, if it is this instance that does.
func (s *App) tellHead(ctx context.Context, holder string) bool {
	mine, err := s.store.TakeDuty(ctx, "history", holder, historyTold+historyEvery)
	if err == nil && !mine {
		return false
	}

	var h chain.Head
	if err == nil {
		h, err = s.store.Head(ctx)
	}

	if err == nil {
		s.log.Info("the history ends here", "line", h.Seq, "hash", h.Hash.String(), "signature",
			hex.EncodeToString(h.Signature))
		err = s.engine.TellHistory(ctx, wire.HistoryNotice{Line: h.Seq, Hash: h.Hash.String(), Signature: h.Signature})
	}

	if err != nil {
		s.log.Error("notices of the history", "error", err)
	}

	return err == nil
}

// differs returns how the history differs from an end that it once had; "" if it does not.
func (s *App) differs(ctx context.Context, seen, now chain.Head) (why string, err error) {
	if now.Seq < seen.Seq {
		return fmt.Sprintf("it had line %d, and ends with line %d", seen.Seq, now.Seq), nil
	}
	why = fmt.Sprintf("line %d is not there any more", seen.Seq)
	err = s.store.Lines(ctx, seen.Seq-1, seen.Seq, func(l chain.Line) error {
		why = ""
		if l.Hash != seen.Hash {
			why = fmt.Sprintf("line %d (%s by %s) was another one then", l.Seq, l.What, l.Who)
		}
		return nil
	})
	return why, err
}
