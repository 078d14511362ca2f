package app

import (
	"errors"
	"log/slog"
	"testing"
	"time"

	"idletally/internal/service/budget"
	"idletally/internal/service/fault"
)

// Where the places of a class are taken, others are told when to come again: whether it is their own doing, or others'.
// Classes are apart.
func TestBusy(t *testing.T) {
	a := New(Config{Log: slog.New(slog.DiscardHandler)})
	own := shares()
	own[Costly] = budget.Share{All: 2, Each: 1, Line: 1, Queue: 1, Wait: 20 * time.Millisecond}
	a.budgets = budget.New(own)
	enter := func(class budget.Class, who string) (fault.Kind, func()) {
		_, leave, err := a.Enter(t.Context(), class, who)
		var refused *fault.Error
		switch {
		case err == nil:
			return 0, leave
		case !errors.As(err, &refused) || refused.Again <= 0:
			t.Errorf("%s for %s: %v", class, who, err)
		}
		return refused.Kind, nil
	}

	var leaves []func()
	for _, name := range []string{"bosun", "cook"} {
		t.Run(name, func(t *testing.T) {
			kind, leave := enter(Costly, name)
			if kind != 0 {
				t.Fatal(kind)
			}
			leaves = append(leaves, leave)
		})
	}

	go a.Enter(t.Context(), Costly, "bosun") // waits in the queue
	time.Sleep(5 * time.Millisecond)
	if kind, _ := enter(Costly, "bosun"); kind != fault.KindTooMany && kind != fault.KindUnavailable {
		t.Errorf("one's own doing: %d", kind)
	}

	time.Sleep(30 * time.Millisecond)
	if kind, _ := enter(Costly, "mate"); kind != fault.KindUnavailable {
		t.Errorf("others' doing: %d", kind)
	}
	if kind, _ := enter(Quick, "bosun"); kind != 0 {
		t.Errorf("another class: %d", kind)
	}

	for _, leave := range leaves {
		leave()
	}
	if kind, _ := enter(Costly, "mate"); kind != 0 {
		t.Errorf("when there is room: %d", kind)
	}
}

// Each class that a call can be of has its share.
func TestClassesHaveShares(t *testing.T) {
	for _, class := range []budget.Class{Quick, Costly, Sending, Hashing, Waiting, Asking} {
		if _, ok := shares()[class]; !ok {
			t.Errorf("%s has none", class)
		}
	}
}
