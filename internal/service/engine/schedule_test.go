package engine

import (
	"crypto/sha256"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/service/mariadb"
	"idletally/internal/service/store"
	"idletally/internal/testkit"
	"idletally/internal/wire"
)

var must = testkit.Must

// Times are read in their own zone, summer and winter.
func TestTimes(t *testing.T) {
	at := time.Date(2026, 11, 25, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct{ spec, zone, next string }{
		{"30 2 * * *", "", "2026-11-26T02:30:00Z"},
		{"30 2 * * *", "Asia/Tokyo", "2026-11-25T17:30:00Z"},
		{"0 9 * 7 1", "Europe/Lisbon", "2027-07-05T08:00:00Z"}, // an hour ahead in summer
		{"@weekly", "", "2026-11-29T00:00:00Z"},
		{"*/15 8-9 * * 1-5", "", "2026-11-26T08:00:00Z"},
	} {
		t.Run(c.spec, func(t *testing.T) {
			s, err := Times(c.spec, c.zone)
			must(t, err)
			if got := s.Next(at).UTC().Format(time.RFC3339); got != c.next {
				t.Errorf("%s in %s: %s, want %s", c.spec, c.zone, got, c.next)
			}
		})
	}

	for spec, zone := range map[string]string{
		"":           "",
		"30 2 * *":   "",
		"61 2 * * *": "",
		"0 0 31 2 *": "",
		"x":          "",
		"30 2 * * *": "Atlantis/Harbour",
	} {
		t.Run(spec, func(t *testing.T) {
			if _, err := Times(spec, zone); !errors.Is(err, ErrBad) {
				t.Errorf("%q in %q: %v", spec, zone, err)
			}
		})
	}
}

const scheduled = `idletally: 1
application: boats
hosts: {tags: [boats]}
roots: [/srv]
rules:
  - {rule: all, paths: /srv/**, files: 0640}
`

// ownStore is a store in a database of the test's own.
func ownStore(t *testing.T) *store.Store {
	t.Helper()
	dir := t.TempDir()
	must(t, os.Chmod(filepath.Dir(dir), 0o711))
	must(t, os.Chmod(dir, 0o711))
	db, err := mariadb.Start(t.Context(), filepath.Join(dir, "db"))
	must(t, err)
	t.Cleanup(db.Stop)
	st, err := store.Open(t.Context(), db.DSN)
	must(t, err)
	t.Cleanup(func() { _ = st.Close() })
	return st
}

// Of what a schedule makes due each host gets one snapshot, at its own moment, however many instances there
// are; what was missed is made good once, and what is still being taken is not asked for again.
func TestSchedules(t *testing.T) {
	ctx := t.Context()
	st := ownStore(t)
	d := &Engine{Store: st, Log: slog.New(slog.DiscardHandler)}

	for name, tags := range map[string][]string{
		"dory":  {"boats", "small"},
		"skiff": {"boats", "small"},
		"ferry": {"boats"},
		"barge": {"boats"},
		"other": {"cars"},
	} {
		must(t, st.Invite(ctx, name, tags, sha256.Sum256([]byte(name)), time.Now().Add(time.Hour)))
		if name != "barge" { // it has no agent
			_, err := st.SetCertificate(ctx, name, store.Certified{Serial: "c", Version: "1"})
			must(t, err)
		}
	}

	if _, err := d.AddSchedule(ctx, wire.NewSchedule{Application: "boats", Cron: "@daily"}, "bosun"); !errors.Is(err,
		store.ErrNotFound) {
		t.Errorf("an application that nobody has declared: %v", err)
	}

	n, err := st.AddEdition(ctx, store.Edition{Application: "boats", Text: scheduled, Author: "quartermaster"}, nil)
	must(t, err)
	must(t, st.Publish(ctx, "boats", n, "quartermaster"))
	if _, err := d.AddSchedule(ctx, wire.NewSchedule{Application: "boats", Cron: "@every 5s"}, "bosun"); !errors.Is(err,
		ErrBad) {
		t.Errorf("every five seconds: %v", err)
	}

	if _, err := d.AddSchedule(ctx, wire.NewSchedule{Application: "boats", Cron: "*/10 * * * *", Spread: 3600},
		"bosun"); !errors.Is(err, ErrBad) {
		t.Errorf("a spread that runs into the next time: %v", err)
	}

	all, err := d.AddSchedule(ctx,
		wire.NewSchedule{Application: "boats", Cron: "30 2 * * *", Zone: "Europe/Lisbon", Spread: 1800}, "bosun")
	must(t, err)
	asked := func() map[string]int {
		t.Helper()
		out := map[string]int{}
		list, err := st.Snapshots(ctx, "boats", "", "", 100)
		must(t, err)

		for _, s := range list {
			if !strings.HasPrefix(s.RequestedBy, "schedule ") {
				t.Errorf("asked for by %s", s.RequestedBy)
			}
			out[s.Host]++
		}

		return out
	}

	fire := func(at time.Time) {
		t.Helper()
		var both sync.WaitGroup
		for range 4 { // instances
			both.Go(func() {
				if err := d.Fire(ctx, at); err != nil {
					t.Error(err)
				}
			})
		}

		both.Wait()
	}

	fire(all.Next.Add(-time.Second))
	if got := asked(); len(got) != 0 {
		t.Errorf("too early: %v", got)
	}

	fire(all.Next)
	due, err := st.RipeDue(ctx, all.Next.Add(time.Hour), 10)
	must(t, err)
	moments := map[time.Time]bool{}

	for _, x := range due {
		moments[x.At] = true
		if x.At.Before(all.Next) || !x.At.Before(all.Next.Add(30*time.Minute)) {
			t.Errorf("%s is due %s", x.Host, x.At)
		}
	}

	if len(due)+len(asked()) != 3 || len(moments) < 2 {
		t.Errorf("due %+v, asked %v", due, asked())
	}

	fire(all.Next.Add(30 * time.Minute))
	if got := asked(); len(got) != 3 || got["dory"] != 1 || got["skiff"] != 1 || got["ferry"] != 1 {
		t.Errorf("asked for %v", got)
	}

	// The next day they are still being taken; and for a week no service runs.
	fire(all.Next.Add(24*time.Hour + time.Minute))
	fire(all.Next.Add(25 * time.Hour))
	if got := asked(); got["dory"]+got["skiff"]+got["ferry"] != 3 {
		t.Errorf("what is still being taken was asked for again: %v", got)
	}

	list, err := st.Snapshots(ctx, "boats", "", "", 100)
	must(t, err)
	for _, s := range list {
		must(t, st.CancelSnapshot(ctx, s.ID, "bosun"))
	}

	fire(all.Next.Add(8 * 24 * time.Hour))
	fire(all.Next.Add(8*24*time.Hour + time.Hour))
	if got := asked(); got["dory"]+got["skiff"]+got["ferry"] != 6 {
		t.Errorf("after a week without a service: %v", got)
	}

	now, err := st.Schedule(ctx, all.ID)
	if err != nil || !now.Next.After(all.Next.Add(8*24*time.Hour)) || now.Last == nil {
		t.Errorf("%+v, %v", now, err)
	}

	small, err := d.AddSchedule(ctx, wire.NewSchedule{Application: "boats", Cron: "0 4 1 1 *", Tag: "small"}, "bosun")
	must(t, err)
	must(t, st.RemoveSchedule(ctx, all.ID))
	list, err = st.Snapshots(ctx, "boats", "", "", 100)
	must(t, err)

	for _, s := range list {
		if s.State == lifecycle.SnapshotWaiting {
			must(t, st.CancelSnapshot(ctx, s.ID, "bosun"))
		}
	}

	fire(small.Next)
	fire(small.Next.Add(time.Second))
	if got := asked(); got["ferry"] != 2 || got["dory"] != 3 || got["skiff"] != 3 {
		t.Errorf("with a tag: %v", got)
	}

	if err := st.RemoveSchedule(ctx, all.ID); !errors.Is(err, store.ErrConflict) {
		t.Errorf("one that is gone: %v", err)
	}
}
