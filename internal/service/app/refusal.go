package app

import (
	"context"
	"errors"

	"idletally/internal/service/engine"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
)

// Refusal returns why an error was refused, for callers. What is not meant for them is logged here and nowhere else.
func (s *App) Refusal(err error) *fault.Error {
	var known *fault.Error
	if errors.As(err, &known) {
		return known
	}

	as := func(kind fault.Kind, text string) *fault.Error { return &fault.Error{Kind: kind, Text: text} }
	switch {
	case errors.Is(err, store.ErrNotFound):
		return as(fault.KindNotFound, err.Error())
	case errors.Is(err, store.ErrStale):
		return as(fault.KindStale, err.Error())
	case errors.Is(err, store.ErrConflict), errors.Is(err, store.ErrRepeated):
		return as(fault.KindConflict, err.Error())
	case errors.Is(err, engine.ErrBad), errors.Is(err, store.ErrBadNode):
		return as(fault.KindInvalid, err.Error())
	}

	switch store.Trouble(err) {
	case store.ErrText:
		return as(fault.KindInvalid, "a name or an id in this call has a character that no name or id has")
	case store.ErrFull:
		s.log.Error("database", "error", err)
		return as(fault.KindFull, "the database has no room left: nothing was changed; make room, then try again")
	case store.ErrUnsure:
		s.log.Error("database", "error", err)
		return as(fault.KindUnavailable,
			"the database was lost in the middle of this: look whether it was done before you try again")
	case store.ErrUnavailable:
		s.log.Error("database", "error", err)
		return as(fault.KindUnavailable,
			"the database does not answer: nothing was changed; try again when it is back")
	}

	if errors.Is(err, context.Canceled) { // who asked has gone
		s.log.Debug("request broken off", "error", err)
		return as(fault.KindUnavailable, "this was broken off")
	}
	s.log.Error("request failed", "error", err)
	return as(fault.KindFailed, "the service failed at this: its log says why")
}
