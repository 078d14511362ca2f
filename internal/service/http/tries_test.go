package http

import (
	"testing"
	"time"
)

// Within any sixty seconds nobody tries a name much more often than allowed, whenever the minute begins; right tries do not count, and others
// are not held up.
func TestTries(t *testing.T) {
	for offset := range int64(60) {
		x := &tries{}
		start := time.Unix(1_795_600_020+offset, 0)
		var at []time.Time
		for s := range 180 {
			for range 5 {
				if now := start.Add(time.Duration(s) * time.Second); x.begin("purser", now) {
					at = append(at, now)
				}
			}
		}
		for i, first := range at {
			n := 0
			for _, later := range at[i:] {
				if later.Sub(first) < time.Minute {
					n++
				}
			}
			if n > 2*maxTries-1 {
				t.Fatalf("begun at second %d: %d tries within a minute", offset, n)
			}
		}
		if len(at) > 4*maxTries || len(at) < 2*maxTries {
			t.Errorf("begun at second %d: %d tries in three minutes", offset, len(at))
		}
		if !x.begin("bosun", start.Add(180*time.Second)) {
			t.Error("somebody else is held up")
		}
	}
	x, now := &tries{}, time.Unix(1_795_600_059, 0)
	for range 10 * maxTries {
		if !x.begin("purser", now) {
			t.Fatal("right tries count")
		}
		x.right("purser")
	}
	for n := range maxTries {
		if !x.begin("purser", now) {
			t.Fatalf("held up after %d", n)
		}
	}
	if x.begin("purser", now) || x.begin("purser", now.Add(time.Second).Add(4*time.Second)) && x.begin("purser", now.Add(5*time.Second)) && x.begin("purser", now.Add(5*time.Second)) && x.begin("purser", now.Add(5*time.Second)) {
		t.Error("a new minute lets all of them in again")
	}
}
