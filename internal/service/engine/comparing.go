package engine

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"idletally/internal/service/store"
)

// Snapshots from agents are compared apart from the agents' calls: a host goes on with its next work, such as a run,
// however long that takes.
const (
	Comparers   = 4 // at once, of one instance
	lookAgain   = 2 * time.Second
	keepEvery   = 15 * time.Second
	compareIn   = 10 * time.Minute
	compareMost = 3 // tries that may fail
)

// shares of what is compared at once: something slow of one application, or of one host, leaves room for the others.
var shares = store.Shares{Application: Comparers / 2, Host: Comparers / 2}

// A bell wakes one who waits. The zero value is ready to be used.
type bell struct {
	once sync.Once
	c    chan struct{}
}

func (b *bell) wait() <-chan struct{} {
	b.once.Do(func() { b.c = make(chan struct{}, 1) })
	return b.c
}

func (b *bell) ring() {
	b.wait()
	select {
	case b.c <- struct{}{}:
	default: // it rings already
	}
}

// KeepComparing compares what agents have sent, until the context ends. What is not done by then, any instance does
// later.
func (d *Engine) KeepComparing(ctx context.Context) {
	var busy sync.WaitGroup
	defer busy.Wait()
	for ctx.Err() == nil {
		within, leave, err := d.place(ctx, Compare)
		if err != nil { // all who compare have been at it for so long: or the context has ended
			select {
			case <-time.After(lookAgain):
			case <-ctx.Done():
			}
			continue
		}

		c := d.nextComparison(within)
		if c == nil {
			leave()
			continue
		}

		busy.Go(func() {
			defer d.given.ring() // what had to wait for this one may go on
			defer leave()
			d.settle(within, *c)
		})
	}
}

// nextComparison waits for something to compare; nil when the context ends.
func (d *Engine) nextComparison(ctx context.Context) *store.Comparison {
	for ctx.Err() == nil {
		c, err := d.claimComparison(ctx)
		if c != nil {
			return c
		}
		if err != nil {
			d.Log.Error("look for snapshots to compare", "error", err)
		}
		select {
		case <-d.given.wait():
		case <-time.After(lookAgain):
		case <-ctx.Done():
		}
	}
	return nil
}

// claimComparison is not interrupted when the context ends: what it took would wait for its lease to end.
func (d *Engine) claimComparison(ctx context.Context) (*store.Comparison, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), keepEvery)
	defer cancel()
	return d.Store.ClaimComparison(ctx, shares)
}

// settle compares a snapshot and shows it. One that cannot be compared is shown after some tries, with the reason.
func (d *Engine) settle(ctx context.Context, c store.Comparison) {
	err := d.compareWithin(ctx, c)
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), keepEvery) // what is known by now is kept
	defer cancel()

	message := ""
	switch {
	case err != nil && ctx.Err() != nil:
		if err := d.Store.ReturnComparison(end, c); err != nil { // it is found when the lease ends
			d.Log.Warn("a comparison was broken off", "snapshot", c.Snapshot, "error", err)
		}
		return
	case errors.Is(err, store.ErrConflict):
		d.Log.Warn("another instance compares", "snapshot", c.Snapshot, "error", err)
		return
	case err == nil:
	case c.Tries < compareMost && !errors.Is(err, context.DeadlineExceeded):
		d.Log.Warn("compare, and try again", "snapshot", c.Snapshot, "try", c.Tries, "error", err)
		if err := d.Store.RetryComparison(end, c, time.Duration(c.Tries)*lookAgain); err != nil {
			d.Log.Warn("a comparison waits for its lease to end", "snapshot", c.Snapshot, "error", err)
		}
		return

	default:
		d.Log.Error("compare", "snapshot", c.Snapshot, "error", err)
		message = "it could not be compared with the baseline: " + err.Error()
	}

	if err := d.Store.EndComparison(end, c, message); err != nil {
		d.Log.Error("show a snapshot", "snapshot", c.Snapshot, "error", err)
		return
	}

	if d.Shown != nil {
		d.Shown(end, c)
	}
}

// compareWithin compares a snapshot with what is published when the comparison ends, for as long as the comparison is
// ours and no longer than compareIn.
func (d *Engine) compareWithin(ctx context.Context, c store.Comparison) (err error) {
	if c.Tries > compareMost { // who did that ended with it
		return fmt.Errorf("it was begun %d times and never ended", c.Tries-1)
	}
	ctx, cancel := context.WithTimeout(ctx, compareIn)
	defer cancel()
	ctx, lost := context.WithCancelCause(ctx)
	defer lost(nil)
	go d.keepLease(ctx, c, lost)
	// What one host sent must not keep all others from being compared.
	err = d.whole(ctx, Compare+" "+c.Snapshot, func(ctx context.Context) error { return d.compareUntilCurrent(ctx, c) })
	if err != nil && context.Cause(ctx) != nil {
		err = context.Cause(ctx)
	}
	return err
}

// compareUntilCurrent compares a snapshot until nothing else was published meanwhile.
func (d *Engine) compareUntilCurrent(ctx context.Context, c store.Comparison) error {
	snap, err := d.Store.Snapshot(ctx, c.Snapshot)
	if err != nil {
		return err
	}

	for {
		before, err := d.Store.PublishedNumber(ctx, snap.Application)
		if err != nil || before == 0 {
			return err
		}
		if err := d.Compare(ctx, snap); err != nil {
			return err
		}
		if after, err := d.Store.PublishedNumber(ctx, snap.Application); err != nil || after == before {
			return err
		}
	}
}

// keepLease renews a comparison's lease until the context ends, and ends that itself if somebody else has the
// comparison by now.
func (d *Engine) keepLease(ctx context.Context, c store.Comparison, lost context.CancelCauseFunc) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(keepEvery):
		}
		if err := d.Store.KeepComparison(ctx, c); errors.Is(err, store.ErrConflict) {
			lost(err)
			return
		} else if err != nil && ctx.Err() == nil {
			d.Log.Warn("a comparison's lease", "snapshot", c.Snapshot, "error", err)
		}
	}
}

// Given announces that an agent has sent a snapshot.
func (d *Engine) Given() { d.given.ring() }
