// Package witness watches the history from outside of the database: whoever can write there can write another
// history, but has no key. It keeps beside the keys where the history ended, verifies what is added, and what is old
// again and again.
package witness

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"sync"
	"sync/atomic"

	"idletally/internal/atomicfile"
	"idletally/internal/core/chain"
)

// A Source is where the history is stored.
type Source interface {
	// Head returns where the history ends.
	Head(ctx context.Context) (chain.Head, error)
	// Lines hands out the lines after one, up to another.
	Lines(ctx context.Context, after, upTo int64, visit func(chain.Line) error) error
	// Strays returns how many lines there are outside of the chain that should not be.
	Strays(ctx context.Context) (int64, error)
}

// A Witness watches one history. Its methods may be called at the same time.
type Witness struct {
	Source Source
	Key    ed25519.PublicKey   // that signs the history's end
	Former []ed25519.PublicKey // which signed it before: what was noted may be from then
	File   string              // where the end is kept; "" keeps it nowhere

	least    atomic.Int64 // the line that the history had at the least
	mu       sync.Mutex
	begun    bool
	looked   bool           // at least once: what comes from now on is new
	noted    chain.Head     // what the file says; Seq 0 where it says nothing
	verified chain.Walker   // up to here
	marks    []chain.Walker // on the way there, every so many lines
	next     int            // the mark from which old lines are verified the next time
	foreign  string         // what the service itself has said of another end, in the history
}

const (
	markEvery = 10_000
	// atOnce bounds the old lines of one round: a shorter history is verified whole each time, a longer one in
	// several rounds.
	atOnce = 50_000
)

// A Fault says that a history is not what it was.
type Fault struct{ What string }

func (f *Fault) Error() string { return "the history is not what it was: " + f.What }

func fault(format string, args ...any) error { return &Fault{fmt.Sprintf(format, args...)} }

// Least returns the last line that the history had when it was looked at: an end before that is none of ours, whoever
// signed it.
func (w *Witness) Least() int64 { return w.least.Load() }

// Report makes Check find a fault that somebody else has noticed.
func (w *Witness) Report(what string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.foreign == "" {
		w.foreign = what
	}
}

// Check verifies what was added since the last time, and a part of what is older. The error is a *Fault if the
// history is not what it was. That stays so when a service starts again, until the file is removed by somebody who
// has the keys, and knows why.
func (w *Witness) Check(ctx context.Context) error {
	w.mu.Lock()
	defer w.mu.Unlock()

	if err := w.begin(); err != nil {
		return err
	}
	head, err := w.Source.Head(ctx)
	if err != nil {
		return err
	}

	last := w.Least()
	switch {
	case head.Seq < last:
		return fault(
			"it ends with line %d, and had line %d: lines were taken from its end, or it was set back to what "+
				"it was before",
			head.Seq, last)
	case !head.SignedBy(w.Key):
		return fault(
			"its end, line %d, is not signed by this service: somebody else wrote it, or it was signed "+
				"with another key",
			head.Seq)
	}

	first := !w.looked // all of it is verified just now
	if err := w.advance(ctx, head); err != nil {
		return err
	}

	if !first {
		if err := w.again(ctx); err != nil {
			return err
		}
	}

	if n, err := w.Source.Strays(ctx); err != nil || n != 0 {
		return errors.Join(err, strays(n))
	}
	if w.foreign != "" {
		return fault("%s", w.foreign)
	}

	return w.note(head)
}

func strays(n int64) error {
	if n == 0 {
		return nil
	}
	return fault("%d lines were put among those from before it was chained, or taken away there", n)
}

// Begin reads and returns what was recorded when a service ran last, which Check does otherwise; Seq is 0 if nothing
// was. The error is a *Fault if this service did not record it.
func (w *Witness) Begin() (noted chain.Head, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	err = w.begin()
	return w.noted, err
}

func (w *Witness) begin() error {
	if w.begun || w.File == "" {
		return nil
	}

	b, err := os.ReadFile(w.File)
	if errors.Is(err, fs.ErrNotExist) {
		w.begun = true
		return nil
	}

	if err == nil {
		err = json.Unmarshal(b, &w.noted)
	}

	if err != nil {
		return fmt.Errorf("where the history ended: %s: %w", w.File, err)
	}
	if w.noted.Seq == 0 ||
		!slices.ContainsFunc(append(w.Former[:len(w.Former):len(w.Former)], w.Key), w.noted.SignedBy) {
		return fault("what is noted of its end in %s is not signed by this service", w.File)
	}

	w.begun = true
	w.least.Store(w.noted.Seq)
	return nil
}

// advance verifies what follows on what is verified.
func (w *Witness) advance(ctx context.Context, head chain.Head) error {
	at := w.verified
	err := w.Source.Lines(ctx, at.Seq, head.Seq, func(l chain.Line) error {
		if err := at.Next(l); err != nil {
			return fault("%v", err)
		}
		if l.Seq == w.noted.Seq && l.Hash != w.noted.Hash {
			return fault(
				"line %d (%s by %s) is not the one that was noted beside the keys when a service ran last: all from "+
					"some line before it on was written anew",
				l.Seq, l.What, l.Who)
		}

		known := w.noted.Seq
		if known == 0 && !w.looked { // at first there is nothing that it could differ from
			known = head.Seq
		}

		if l.What == chain.TakenOver && l.Seq > known && w.foreign == "" {
			w.foreign = fmt.Sprintf("the service found an end that it had not signed, and said so in line %d: %s",
				l.Seq, l.Detail)
		}

		if l.Seq > 0 && l.Seq%markEvery == 0 {
			w.marks = append(w.marks, at)
		}

		return nil
	})

	if loose := at.Loose(); err == nil && loose != nil {
		err = fault("%v", loose)
	}

	if err == nil && (at.Seq != head.Seq || at.Hash != head.Hash) {
		err = fault("line %d follows on line %d nowhere: lines are missing, or its end is another one", head.Seq,
			at.Seq)
	}

	if err != nil {
		w.marks = w.marks[:min(len(w.marks), int(w.verified.Seq/markEvery))]
		return err
	}

	w.verified, w.looked = at, true
	w.least.Store(max(w.least.Load(), at.Seq))
	return nil
}

// again verifies a part of what was verified before.
func (w *Witness) again(ctx context.Context) error {
	for left := atOnce; left > 0; left -= markEvery {
		from := chain.Walker{}
		if w.next > 0 {
			from = w.marks[w.next-1]
		}

		to := w.verified
		if w.next < len(w.marks) {
			to = w.marks[w.next]
		}

		at := from
		if err := w.Source.Lines(ctx, from.Seq, to.Seq, func(l chain.Line) error {
			if err := at.Next(l); err != nil {
				return fault("%v", err)
			}
			return nil
		}); err != nil {
			return err
		}
		if at != to {
			return fault("between line %d and line %d it is another one than it was", from.Seq, to.Seq)
		}

		w.next++
		if w.next > len(w.marks) {
			w.next = 0
			return nil
		}
	}

	return nil
}

// note records where the history ends.
func (w *Witness) note(head chain.Head) error {
	if w.File == "" || head.Seq == 0 || head.Seq == w.noted.Seq {
		return nil
	}
	b, err := json.Marshal(head)
	if err != nil {
		return err
	}
	if err := atomicfile.Write(w.File, append(b, '\n')); err != nil {
		return fmt.Errorf("note where the history ends: %w", err)
	}
	w.noted = head
	return nil
}
