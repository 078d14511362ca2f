// Package fault says why an operation was refused, in words for whoever asked for it. It knows nothing of how the
// refusal gets there: an interface gives each [Kind] the form that its protocol has for it.
//
//	return fault.Conflict("the snapshot is " + state)
package fault

import (
	"errors"
	"time"
)

// A Kind is what a refusal means to a program.
type Kind uint8

// The kinds of refusals.
const (
	KindFailed       Kind = iota // the service failed at it; the only kind that is not the caller's or a host's doing
	KindMalformed                // what was sent cannot be read
	KindUnauthorized             // nobody is signed in, or not by what this needs
	KindForbidden                // whoever is signed in may not do this
	KindNotFound                 // what is named is not there
	KindConflict                 // it does not fit how things are by now
	KindStale                    // somebody else has changed it meanwhile
	KindTooLarge                 // it is larger, or deeper, than is taken
	KindInvalid                  // it can be read, and cannot be done
	KindTooMany                  // there were too many calls
	KindBadAnswer                // a host answered what cannot be used
	KindUnavailable              // it cannot be done now
	KindNoAnswer                 // a host, or somebody else who was asked, does not answer
	KindFull                     // there is no room left to store it
)

// An Error is a refusal.
type Error struct {
	Kind   Kind
	Text   string        // what happened, to what, and what to do
	Code   string        // tells it apart from others of its kind; "" is one like all others
	Places []error       // of what was sent, that are wrong
	Again  time.Duration // after which to try again; 0 is not known

	// Shown is how long ago callers may have shown who they are: these have to show it again. 0 is any time.
	Shown time.Duration
}

func (e *Error) Error() string { return e.Text }

// Is reports whether an error is a refusal of a kind.
func Is(err error, k Kind) bool {
	var e *Error
	return errors.As(err, &e) && e.Kind == k
}

// Malformed returns a refusal of what cannot be read.
func Malformed(text string) error { return &Error{Kind: KindMalformed, Text: text} }

// Unauthorized returns a refusal of somebody who is not signed in.
func Unauthorized(text string) error { return &Error{Kind: KindUnauthorized, Text: text} }

// Forbidden returns a refusal of somebody who may not do it.
func Forbidden(text string) error { return &Error{Kind: KindForbidden, Text: text} }

// NotFound returns a refusal of what names something that is not there.
func NotFound(text string) error { return &Error{Kind: KindNotFound, Text: text} }

// Conflict returns a refusal of what does not fit the present state.
func Conflict(text string) error { return &Error{Kind: KindConflict, Text: text} }

// Stale returns a refusal of a change to what has changed meanwhile.
func Stale(text string) error { return &Error{Kind: KindStale, Text: text} }

// TooLarge returns a refusal of what is larger than allowed.
func TooLarge(text string) error { return &Error{Kind: KindTooLarge, Text: text} }

// Invalid returns a refusal of what cannot be done as it was asked, with the places that are wrong.
func Invalid(text string, places ...error) error {
	return &Error{Kind: KindInvalid, Text: text, Places: places}
}

// TooMany returns a refusal of somebody who calls too often. It may be tried after a time; 0 is not known.
func TooMany(text string, again time.Duration) error {
	return &Error{Kind: KindTooMany, Text: text, Again: again}
}

// BadAnswer returns a refusal because of what a host answered.
func BadAnswer(text string) error { return &Error{Kind: KindBadAnswer, Text: text} }

// Unavailable returns a refusal for now. It may be tried after a time; 0 is not known.
func Unavailable(text string, again time.Duration) error {
	return &Error{Kind: KindUnavailable, Text: text, Again: again}
}

// NoAnswer returns a refusal because somebody who was asked does not answer.
func NoAnswer(text string) error { return &Error{Kind: KindNoAnswer, Text: text} }

// Full returns a refusal for want of storage.
func Full(text string) error { return &Error{Kind: KindFull, Text: text} }
