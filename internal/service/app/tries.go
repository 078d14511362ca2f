package app

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
)

// A guess is a try at something of somebody's that can be guessed.
type guess struct {
	account string
	place   string // "" are all places together
	auth.Patience
}

// try begins guesses, all or none; right takes them back if they turn out to be right.
func (s *App) try(ctx context.Context, guesses ...guess) (right func(), err error) {
	for n, g := range guesses {
		wait, err := s.store.BeginTry(ctx, g.account, g.place, g.Patience)
		if err == nil && wait > 0 {
			err = tooMany(wait)
		}
		if err != nil {
			s.right(ctx, guesses[:n])
			return nil, err
		}
	}
	return func() { s.right(ctx, guesses) }, nil
}

func (s *App) right(ctx context.Context, guesses []guess) {
	for _, g := range guesses {
		if err := s.store.RightTry(context.WithoutCancel(ctx), g.account, g.place); err != nil {
			s.log.Warn("a right try counts as a wrong one", "account", g.account, "error", err)
		}
	}
}

func tooMany(wait time.Duration) error {
	return fault.TooMany(fmt.Sprintf("too many wrong tries: try again in %d seconds", int(math.Ceil(wait.Seconds()))),
		wait)
}

// passwordGuesses are what a try at somebody's password counts as. Somebody who signed in before with a device is
// told apart by it: no stranger's tries keep them out, even from the same address.
func passwordGuesses(name, place, device string) []guess {
	if device != "" {
		return []guess{{name, device, auth.OfPlace}}
	}
	return []guess{{name, place, auth.OfPlace}, {name, "", auth.OfStrangers}}
}

// codeGuess is what a try at a code of somebody's second factor counts as: theirs who come with a device or a
// session, or a stranger's.
func codeGuess(name, from string) guess { return guess{name, "code " + from, auth.OfCode} }

// within names the session of the caller as the place where they try something.
func within(w *Caller) string { return "session " + w.session }

// DeviceLife is as long as browsers keep any cookie (RFC 6265bis, 5.5).
const DeviceLife = 400 * 24 * time.Hour

// A device is what somebody who signed in keeps, so that they are no stranger the next time. It lets nobody in.
type device struct {
	Person string
	ID     string
	Until  time.Time
}

// newDevice makes one for somebody.
func (s *App) newDevice(person string) (string, error) {
	b, err := json.Marshal(device{person, store.NewID(), time.Now().Add(DeviceLife)})
	if err == nil {
		b, err = s.seal("device", b)
	}
	return base64.RawURLEncoding.EncodeToString(b), err
}

// deviceOf returns the id of a device that somebody signed in with before; "" if it is none of theirs.
func (s *App) deviceOf(person, kept string) string {
	var d device
	b, err := base64.RawURLEncoding.DecodeString(kept)
	if err == nil {
		b, err = s.unseal("device", b)
	}
	if err == nil {
		err = json.Unmarshal(b, &d)
	}
	if err != nil || d.Person != person || time.Now().After(d.Until) {
		return ""
	}
	return "device " + d.ID
}

// known remembers for a minute which tokens were valid, so that nobody else's hold them up. It decides only whether a
// token is looked up, never whether it is valid.
type known struct {
	mu       sync.Mutex
	minute   int64
	of, last map[[32]byte]bool
}

// maxKnown bounds how many are remembered of a minute.
const maxKnown = 20_000

func (k *known) advance(at time.Time) {
	switch now := at.Unix() / 60; now {
	case k.minute:
	case k.minute + 1:
		k.minute, k.of, k.last = now, nil, k.of
	default:
		k.minute = now
		k.of = nil
		k.last = nil
	}
}

func (k *known) have(hash [32]byte, at time.Time) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.advance(at)
	return k.of[hash] || k.last[hash]
}

func (k *known) add(hash [32]byte, at time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.advance(at)
	if k.of == nil {
		k.of = map[[32]byte]bool{}
	}
	if len(k.of) < maxKnown {
		k.of[hash] = true
	}
}

// refusals writes into the history what anybody can cause, over and over: the first of a kind at once, those that
// follow together.
type refusals struct {
	mu      sync.Mutex
	kind    map[string]*refusal
	strange int // kinds of nobody in particular
}

type refusal struct {
	by            store.By
	what, subject string
	since         time.Time
	more          int
	stranger      bool
}

const (
	refusalsAgain = 10 * time.Minute
	maxStrange    = 100    // kinds of nobody in particular that are told apart within that time
	maxRefusals   = 10_000 // all kinds
)

// note reports whether a refusal is to be written down; otherwise it is counted.
func (r *refusals) note(by store.By, what, subject string, at time.Time) (first bool) {
	r.mu.Lock()
	defer r.mu.Unlock()

	key := strings.Join([]string{by.Who, by.Token, what, subject}, "\x00")
	if r.kind == nil {
		r.kind = map[string]*refusal{}
	}

	stranger := by == store.By{Who: "nobody"} || by == store.By{Who: "an agent"}
	if r.kind[key] == nil && (stranger && r.strange >= maxStrange || len(r.kind) >= maxRefusals) {
		by, subject = store.By{Who: "others"}, ""
		key = what
	}

	if x := r.kind[key]; x != nil {
		x.more++
		return false
	}

	r.kind[key] = &refusal{by: by, what: what, subject: subject, since: at, stranger: stranger}
	if stranger {
		r.strange++
	}

	return true
}

// due takes out what was counted and is to be written down by now.
func (r *refusals) due(at time.Time) (out []refusal) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for key, x := range r.kind {
		if at.Sub(x.since) < refusalsAgain {
			continue
		}
		if x.stranger {
			r.strange--
		}
		delete(r.kind, key)
		if x.more > 0 {
			out = append(out, *x)
		}
	}
	return out
}

// refused records that somebody was refused something.
func (s *App) refused(ctx context.Context, by store.By, what, subject, detail string) {
	if s.refusals.note(by, what, subject, time.Now()) {
		s.write(ctx, by, what, subject, detail)
	}
}

// tellRefusals writes down what was counted, at intervals, until the context ends; and then all of it.
func (s *App) tellRefusals(ctx context.Context) {
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
		case <-time.After(time.Minute):
			s.engine.Round(ctx, tellRefusals, func(ctx context.Context) error {
				s.writeRefusals(ctx, time.Now())
				return nil
			})
		}
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	s.writeRefusals(last, time.Now().Add(refusalsAgain))
}

func (s *App) writeRefusals(ctx context.Context, at time.Time) {
	for _, x := range s.refusals.due(at) {
		s.write(ctx, x.by, x.what, x.subject,
			fmt.Sprintf("%d times more in the ten minutes from %s on", x.more, x.since.UTC().Format("15:04:05")))
	}
}
