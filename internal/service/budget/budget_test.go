package budget

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/internal/testkit/seeded"
)

const some Class = "some"

// Whatever many callers do, no more are in than may be, in all and of each; nobody who stays within their
// share is kept out by others, and nothing is remembered when all have gone.
func TestShares(t *testing.T) {
	// All callers' queues fit into the line: what it refuses on a busy machine, it refuses for themselves.
	share := Share{All: 5, Each: 2, Line: 8 * 4, Queue: 4, Wait: 10 * time.Second, Within: time.Minute}
	b := New(map[Class]Share{some: share})
	r := seeded.Rand(t)
	var in atomic.Int64
	var each [8]atomic.Int64
	var entered, own, others atomic.Int64
	var all sync.WaitGroup

	for n := range 400 {
		who := 0 // who comes again and again
		if n%4 == 0 {
			who = r.IntN(len(each))
		}

		hold, pause := time.Duration(r.IntN(2000))*time.Microsecond, time.Duration(r.IntN(50))*time.Millisecond
		all.Go(func() {
			time.Sleep(pause)
			_, leave, err := b.Enter(t.Context(), some, fmt.Sprint(who))
			var busy *Busy
			if errors.As(err, &busy) {
				if busy.Own {
					own.Add(1)
				} else {
					others.Add(1)
				}
				return
			}

			if err != nil {
				t.Error(err)
				return
			}

			entered.Add(1)
			if in.Add(1) > int64(share.All) || each[who].Add(1) > int64(share.Each) {
				t.Errorf("%d are in, %d of %d", in.Load(), each[who].Load(), who)
			}

			time.Sleep(hold)
			in.Add(-1)
			each[who].Add(-1)
			leave()
		})
	}

	all.Wait()
	if entered.Load() == 0 || own.Load() == 0 || others.Load() > 0 {
		t.Errorf("%d entered, %d were refused for themselves, %d for others", entered.Load(), own.Load(), others.Load())
	}

	if l := b.lines[some]; l.in != 0 || len(l.waiting) != 0 || len(l.callers) != 0 {
		t.Errorf("left behind: %d in, %d waiting, callers %v", l.in, len(l.waiting), l.callers)
	}
}

// Who waits too long, goes away, or finds the line full is told which; a call that takes too long is broken off.
func TestRefusals(t *testing.T) {
	b := New(map[Class]Share{
		some: {All: 1, Each: 1, Line: 1, Queue: 1, Wait: 100 * time.Millisecond, Within: 50 * time.Millisecond},
	})
	within, leave, err := b.Enter(t.Context(), some, "a")
	if err != nil {
		t.Fatal(err)
	}

	enter := func(ctx context.Context, who string) error {
		_, leave, err := b.Enter(ctx, some, who)
		if err == nil {
			leave()
		}
		return err
	}

	gone, cancel := context.WithCancel(t.Context())
	left := make(chan error)
	go func() { left <- enter(gone, "b") }()

	for l := b.lines[some]; ; time.Sleep(time.Millisecond) {
		l.mu.Lock()
		n := len(l.waiting)
		l.mu.Unlock()
		if n == 1 {
			break
		}
	}

	var busy *Busy
	if err := enter(t.Context(), "c"); !errors.As(err, &busy) || busy.Own || busy.Again == 0 {
		t.Errorf("the line is full: %v", err)
	}

	if err := enter(t.Context(), "b"); !errors.As(err, &busy) || !busy.Own {
		t.Errorf("the caller waits already: %v", err)
	}

	cancel()
	if err := <-left; !errors.Is(err, context.Canceled) && !errors.As(err, &busy) {
		t.Errorf("who went away: %v", err)
	}

	if err := enter(t.Context(), "b"); !errors.As(err, &busy) || busy.Own {
		t.Errorf("who waits too long: %v", err)
	}

	<-within.Done()
	leave()
	if err := enter(t.Context(), "b"); err != nil {
		t.Errorf("when there is room: %v", err)
	}
}

// Who waits for somebody else gives the place to others, and has it again before going on; at the end nobody
// has it twice.
func TestAway(t *testing.T) {
	const away Class = "away"
	b := New(map[Class]Share{some: {All: 1, Each: 1, Line: 10, Queue: 10, Wait: time.Minute}, away: {All: 2, Each: 1}})
	ctx, leave, err := b.Enter(t.Context(), some, "a")
	if err != nil {
		t.Fatal(err)
	}

	err = b.Away(ctx, away, func() error {
		_, others, err := b.Enter(t.Context(), some, "b")
		if err != nil {
			t.Error(err)
		}

		go func() { time.Sleep(20 * time.Millisecond); others() }()
		if l := b.lines[away]; l.in != 1 {
			t.Errorf("%d are away", l.in)
		}

		return errors.New("it does not answer")
	})

	if l := b.lines[some]; err == nil || err.Error() != "it does not answer" || l.in != 1 || l.callers["a"].in != 1 {
		t.Errorf("back with %v, %d in", err, l.in)
	}

	short, cancel := context.WithCancel(ctx)
	if err := b.Away(short, away, func() error { // somebody takes the place, and the call ends before it is free again
		if _, _, err := b.Enter(t.Context(), some, "b"); err != nil {
			t.Error(err)
		}
		cancel()
		return nil
	}); !errors.Is(err, context.Canceled) {
		t.Errorf("back with %v", err)
	}

	leave()
	if l := b.lines[some]; l.in != 1 || len(l.callers) != 1 || len(l.waiting) != 0 || b.lines[away].in != 0 {
		t.Errorf("%d in, callers %v", l.in, l.callers)
	}

	if err := b.Away(t.Context(), away, func() error { return nil }); err != nil {
		t.Errorf("without a place: %v", err)
	}
}
