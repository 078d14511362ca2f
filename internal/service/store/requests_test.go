package store

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"
)

func asking(by, call string, needed int) Request {
	sum := sha256.Sum256([]byte(call))
	return Request{Hash: sum[:], AskedBy: by, Operation: "set-roles", Role: "admin", Detail: "{}", Needed: needed}
}

// A request is agreed to by as many others as it needs, however many do so at once, and is used once.
func TestRequests(t *testing.T) {
	ctx := t.Context()
	by := name("admin")
	q, err := st.AddRequest(ctx, asking(by, by, 3), time.Hour)
	must(t, err)
	if got, err := st.RequestOf(ctx, q.Hash, by); err != nil || got.ID != q.ID || got.State != RequestWaiting {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := st.RequestOf(ctx, q.Hash, by+"x"); !errors.Is(err, ErrNotFound) {
		t.Errorf("it is somebody else's as well: %v", err)
	}
	if _, err := st.Agree(ctx, q.ID, by, ""); !errors.Is(err, ErrConflict) {
		t.Errorf("whoever asks agrees: %v", err)
	}

	last := make(chan bool, 20)
	var all sync.WaitGroup
	for i := range 6 {
		for range 2 { // twice by each
			all.Go(func() {
				agreed, err := st.Agree(ctx, q.ID, fmt.Sprintf("other-%d", i), "")
				if err != nil && !errors.Is(err, ErrConflict) {
					t.Error(err)
				}
				last <- err == nil && agreed
			})
		}
	}
	all.Wait()
	close(last)
	n := 0
	for l := range last {
		if l {
			n++
		}
	}
	q, err = st.Request(ctx, q.ID)
	if err != nil || n != 1 || q.State != RequestAgreed || len(q.Agreed) != 3 {
		t.Errorf("%d were the last; %+v, %v", n, q, err)
	}

	used := 0
	for range 3 {
		if err := st.MoveRequest(ctx, q.ID, RequestAgreed, RequestUsed, ""); err == nil {
			used++
		}
	}
	if _, err := st.RequestOf(ctx, q.Hash, by); !errors.Is(err, ErrNotFound) || used != 1 {
		t.Errorf("it is used %d times; then: %v", used, err)
	}

	over, err := st.AddRequest(ctx, asking(by, "over", 1), -time.Second)
	must(t, err)
	if _, err := st.Agree(ctx, over.ID, "other", ""); !errors.Is(err, ErrConflict) {
		t.Errorf("one that is over is agreed to: %v", err)
	}
	for i := range maxRequests {
		_, err = st.AddRequest(ctx, asking(by, fmt.Sprint(i), 1), time.Hour)
		must(t, err)
	}
	if _, err := st.AddRequest(ctx, asking(by, "one more", 1), time.Hour); !errors.Is(err, ErrConflict) {
		t.Errorf("more than may wait: %v", err)
	}
}

// Requests are found by keys, however many there were.
func TestRequestsUseKeys(t *testing.T) {
	ctx := t.Context()
	for i := range 500 {
		_, err := st.AddRequest(ctx, asking(fmt.Sprintf("admin-of-%d", i), fmt.Sprint("call ", i), 1), -time.Hour)
		must(t, err)
	}
	_, err := st.db.ExecContext(ctx, "ANALYZE TABLE request")
	must(t, err)
	sum := sha256.Sum256([]byte("call 7"))
	for name, q := range map[string]struct {
		text string
		args []any
		key  string
	}{
		"of a call": {requestOfCall, []any{sum[:], "admin-of-7", now()}, "by_call"},
		"open":      {requestsOpen, []any{RequestWaiting, now()}, "by_state"},
	} {
		t.Run(name, func(t *testing.T) {
			for _, row := range planOf(t, q.text, q.args) {
				if deref(row.Key) != q.key || deref(row.Type) == "ALL" {
					t.Errorf("it goes by %s (%s), want %s", deref(row.Key), deref(row.Type), q.key)
				}
			}
		})
	}
}
