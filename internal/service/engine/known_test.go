package engine

import (
	"testing"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/verdict"
	"idletally/internal/service/store"
)

// A look counts until two by schedule are missing; those of other hosts, and what was to be before there was
// a schedule, are not missing.
func TestUntil(t *testing.T) {
	day := func(d, h, m int) time.Time { return time.Date(2026, 11, d, h, m, 0, 0, time.UTC) }
	rotaOf := func(spec, tag string, from time.Time, spread time.Duration) rota {
		times, err := Times(spec, "")
		must(t, err)
		return rota{tag, times, from, spread}
	}
	long := day(1, 0, 0)

	for _, c := range []struct {
		what  string
		rotas []rota
		age   time.Duration
		at    time.Time
		want  time.Time
	}{
		{"no schedule", nil, 0, day(20, 8, 0), day(21, 10, 0)},
		{"an age that was asked for", []rota{rotaOf("30 2 * * *", "", long, 0)}, time.Hour, day(20, 8, 0),
			day(20, 9, 0)},
		{"daily", []rota{rotaOf("30 2 * * *", "", long, 0)}, 0, day(20, 8, 0), day(22, 2, 30)},
		{"daily, looked at by it", []rota{rotaOf("30 2 * * *", "", long, 0)}, 0, day(20, 2, 31), day(22, 2, 30)},
		{"hourly", []rota{rotaOf("0 * * * *", "", long, 0)}, 0, day(20, 8, 5), day(20, 10, 0)},
		// a Friday
		{"on working days, over Sunday", []rota{rotaOf("0 6 * * 1-5", "", long, 0)}, 0, day(20, 6, 10), day(24, 6, 0)},
		{"spread over an hour", []rota{rotaOf("30 2 * * *", "", long, time.Hour)}, 0, day(20, 3, 0), day(22, 3, 30)},
		{"the denser of two", []rota{rotaOf("0 3 * * 0", "", long, 0), rotaOf("30 2 * * *", "", long, 0)}, 0,
			day(20, 8, 0), day(22, 2, 30)},
		{"of other hosts", []rota{rotaOf("0 * * * *", "boats", long, 0)}, 0, day(20, 8, 0), day(21, 10, 0)},
		{"of its tag", []rota{rotaOf("0 * * * *", "tills", long, 0)}, 0, day(20, 8, 0), day(20, 10, 0)},
		{"made after the look", []rota{rotaOf("0 * * * *", "", day(20, 14, 30), 0)}, 0, day(20, 8, 0), day(20, 16, 0)},
		{"hardly ever", []rota{rotaOf("0 0 29 2 *", "", long, 0)}, 0, day(20, 8, 0),
			time.Date(2032, 2, 29, 0, 0, 0, 0, time.UTC)},
	} {
		t.Run(c.what, func(t *testing.T) {
			k := &Known{
				age:  c.age,
				rota: map[string][]rota{"ticketing": c.rotas, "boats": {rotaOf("* * * * *", "", long, 0)}},
			}
			if got := k.until("ticketing", store.Host{Name: "slip-north", TagList: "tills"}, c.at); !got.Equal(c.want) {
				t.Errorf("%s: %s, want %s", c.what, got, c.want)
			}
		})
	}
}

// What is known of a place is as old as its last look that told something; one that told nothing is said.
func TestKnownOf(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	taken, later := now.Add(-10*time.Hour), now.Add(-time.Minute)

	// held against a new edition
	r := &store.Report{
		Application: "boats",
		Host:        "ferry",
		Snapshot:    "s1",
		Edition:     2,
		Unread:      3,
		Created:     now.Add(-time.Hour),
	}

	e, h := store.Edition{Application: "boats", Number: 2}, store.Host{Name: "ferry"}
	ptr := func(s string) *string { return &s }
	for _, c := range []struct {
		what string
		look *store.Look
		r    *store.Report
		want verdict.Look
	}{
		{"nothing", nil, nil, verdict.Look{Published: 2}},
		{"a look that failed", &store.Look{State: lifecycle.SnapshotFailed, Message: "no room", Snapshot: "s0"}, nil,
			verdict.Look{Published: 2, Failed: "no room"}},
		{"one that is not compared yet", &store.Look{State: lifecycle.SnapshotWaiting, Snapshot: "s0"}, nil,
			verdict.Look{Published: 2}},
		{"a report", &store.Look{State: lifecycle.SnapshotReady, Snapshot: "s1"}, r,
			verdict.Look{At: taken, Edition: 2, Published: 2, Unread: 3, Findings: 5}},
		{"whose snapshot has gone", nil, &store.Report{Edition: 2, Snapshot: "s9", Created: r.Created},
			verdict.Look{At: r.Created, Edition: 2, Published: 2, Findings: 5}},
		{"and a later look that failed", &store.Look{State: lifecycle.SnapshotFailed, Message: "no room",
			Snapshot: "s2"}, r,
			verdict.Look{At: taken, Edition: 2, Published: 2, Unread: 3, Findings: 5, Failed: "no room"}},
		{"and one that could not be compared", &store.Look{State: lifecycle.SnapshotReady, Message: "too large",
			Snapshot: "s2"}, r,
			verdict.Look{At: taken, Edition: 2, Published: 2, Unread: 3, Findings: 5, Failed: "too large"}},
		{"and one that is being compared", &store.Look{State: lifecycle.SnapshotWaiting, Snapshot: "s2"}, r,
			verdict.Look{At: taken, Edition: 2, Published: 2, Unread: 3, Findings: 5}},
		{"an agent that watches", &store.Look{State: lifecycle.SnapshotReady, Snapshot: "s1", Watched: ptr("s1"),
			WatchedAt: &later}, r,
			verdict.Look{At: later, Edition: 2, Published: 2, Unread: 3, Findings: 5}},
		{"one that watched what was before",
			&store.Look{State: lifecycle.SnapshotReady, Snapshot: "s1", Watched: ptr("s0"), WatchedAt: &later}, r,
			verdict.Look{At: taken, Edition: 2, Published: 2, Unread: 3, Findings: 5}},
	} {
		t.Run(c.what, func(t *testing.T) {
			k := &Known{
				At:     now,
				age:    26 * time.Hour,
				taken:  map[string]time.Time{"s1": taken},
				newest: map[where]store.Look{},
			}

			if c.look != nil {
				k.newest[where{"boats", "ferry"}] = *c.look
			}

			if !c.want.At.IsZero() {
				c.want.Until = c.want.At.Add(k.age)
			}

			if got := k.Of(e, h, c.r, 5); got != c.want {
				t.Errorf("%s: %+v, want %+v", c.what, got, c.want)
			}
		})
	}
}
