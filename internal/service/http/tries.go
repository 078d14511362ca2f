package http

import (
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// tries counts tries of passwords and codes by name, within a minute. One counts from when it begins, so that many at once are
// no way around, until it turns out to be right.
type tries struct {
	mu       sync.Mutex
	minute   int64
	of, last map[string]int // in this minute, and in the one before
}

const maxTries = 20 // within a minute

var errTries = huma.Error429TooManyRequests("too many wrong sign-ins with this name: wait a minute")

// begin counts a try, where there may be another one. Those of the minute before count for as much of it as lies within the last sixty seconds.
func (t *tries) begin(name string, at time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch now := at.Unix() / 60; {
	case now == t.minute+1 && len(t.of) <= maxTried:
		t.minute, t.of, t.last = now, map[string]int{}, t.of
	case now != t.minute || len(t.of) > maxTried:
		t.minute, t.of, t.last = now, map[string]int{}, nil
	}
	if float64(t.of[name])+float64(t.last[name])*float64(60-at.Unix()%60)/60 >= maxTries {
		return false
	}
	t.of[name]++
	return true
}

const maxTried = 100_000 // names that are counted

// right takes a try back.
func (t *tries) right(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.of[name] = max(0, t.of[name]-1)
}

// rarely remembers for a while what was told.
type rarely struct {
	mu   sync.Mutex
	told map[string]time.Time
}

const (
	rarelyAgain = 10 * time.Minute
	maxRarely   = 10_000
)

func (r *rarely) first(what string, at time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if t, ok := r.told[what]; ok && at.Sub(t) < rarelyAgain {
		return false
	}
	if len(r.told) >= maxRarely || r.told == nil {
		r.told = map[string]time.Time{}
	}
	r.told[what] = at
	return true
}
