package store

import (
	"crypto/sha256"
	"math"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
	"idletally/internal/wire"
)

// The newest look at a place is told whatever came of it, and what an agent says of a snapshot counts for
// that one alone.
func TestLooks(t *testing.T) {
	t.Parallel()
	s, ctx := apart(t), t.Context()
	m := tree.Memory{}
	looks := make([]wire.SnapshotDone, 2)

	for i := range looks {
		forest := m.Add(tree.Node{
			Forest:  true,
			Entries: []tree.Entry{{Name: "/srv", Kind: perm.File, Set: posix.State{UID: uint32(i)}.Set()}},
		})
		must(t, s.PutNodes(ctx, [][]byte{m[forest]}))
		looks[i] = wire.SnapshotDone{
			Forest:    forest,
			Directory: &perm.Directory{Accounts: []perm.Account{{ID: unixid.UID(uint32(i)), Name: "purser"}}},
		}
	}

	for _, h := range []string{"ferry", "skiff"} {
		must(t, s.Invite(ctx, h, nil, sha256.Sum256([]byte(h)), time.Now().Add(time.Hour)))
	}

	look := func(host string, done wire.SnapshotDone) string {
		t.Helper()
		id, err := s.AskSnapshot(ctx, host, "boats", []string{"/srv"}, false, false, "bosun")
		must(t, err)
		work, err := s.ClaimWork(ctx, host)
		must(t, err)
		must(t, s.KeepSnapshot(ctx, *work, done))
		return id
	}

	compared := func(message string) {
		t.Helper()
		c, err := s.ClaimComparison(ctx, Shares{Application: 2, Host: 2})
		must(t, err)
		must(t, s.EndComparison(ctx, *c, message))
	}

	newest := func(state lifecycle.Snapshot, message, id string) Look {
		t.Helper()
		all, err := s.Looks(ctx, "boats", "ferry")
		must(t, err)
		if len(all) != 1 || all[0].State != state || all[0].Message != message || all[0].Snapshot != id ||
			all[0].Host != "ferry" {
			t.Errorf("%+v, want %s %q, snapshot %s", all, state, message, id)
		}

		return all[0]
	}

	if all, err := s.Looks(ctx, "", ""); err != nil || len(all) != 0 {
		t.Errorf("before any: %+v, %v", all, err)
	}

	first := look("ferry", looks[0])
	newest(lifecycle.SnapshotWaiting, "", first)
	compared("")
	newest(lifecycle.SnapshotReady, "", first)
	newest(lifecycle.SnapshotFailed, "no room", look("ferry", wire.SnapshotDone{Failed: "no room"}))

	// One that somebody cancelled was no look, nor one that nobody has taken.
	cancelled, err := s.AskSnapshot(ctx, "ferry", "boats", []string{"/srv"}, false, false, "bosun")
	must(t, err)
	must(t, s.CancelSnapshot(ctx, cancelled, "bosun"))
	_, err = s.AskSnapshot(ctx, "skiff", "boats", []string{"/srv"}, false, false, "bosun")
	must(t, err)
	if all, err := s.Looks(ctx, "", ""); err != nil || len(all) != 1 || all[0].Message != "no room" {
		t.Errorf("%+v, %v", all, err)
	}

	second := look("ferry", looks[1])
	compared("it could not be compared with the baseline")
	newest(lifecycle.SnapshotReady, "it could not be compared with the baseline", second)
	taken, err := s.TakenAt(ctx, []string{first, second, cancelled, "nosuch"})
	if err != nil || len(taken) != 2 || taken[first].After(taken[second]) {
		t.Errorf("%v, %v", taken, err)
	}

	says := func(i int, application string, at time.Time) Look {
		t.Helper()
		accounts, err := looks[i].Directory.Hash()
		must(t, err)
		must(t,
			s.SetCurrent(ctx, "ferry",
				wire.CurrentPlace{Application: application, Forest: looks[i].Forest, Accounts: accounts}, at))
		return newest(lifecycle.SnapshotReady, "it could not be compared with the baseline", second)
	}

	at := now().Add(-time.Hour)
	if l := says(0, "boats", at); l.Watched != nil {
		t.Errorf("what an agent says of an earlier look counts: %+v", l)
	}

	says(1, "cars", at) // of which nothing is known
	if l := says(1, "boats", at); l.Watched == nil || *l.Watched != second || !l.WatchedAt.Equal(at) {
		t.Errorf("%+v", l)
	}

	if l := says(1, "boats", at.Add(watchedEvery/2)); !l.WatchedAt.Equal(at) {
		t.Errorf("it is written down again after %s", l.WatchedAt.Sub(at))
	}

	if l := says(1, "boats", at.Add(-time.Minute)); !l.WatchedAt.Equal(at) {
		t.Errorf("it goes back to %s", l.WatchedAt)
	}

	if l := says(1, "boats", at.Add(2*watchedEvery)); !l.WatchedAt.Equal(at.Add(2 * watchedEvery)) {
		t.Errorf("%s", l.WatchedAt)
	}

	must(t,
		s.Greet(ctx, "ferry", wire.Hello{
			Protocol: math.MaxInt,
			Oldest:   math.MinInt,
			Up:       math.MaxInt64,
			Runs:     math.MinInt64,
		}))

	if err := s.SetCurrent(ctx, "ferry", wire.CurrentPlace{Application: "boats", Accounts: "x"}, at); err == nil ||
		!strings.Contains(err.Error(), "accounts of boats") {
		t.Errorf("what is no hash: %v", err)
	}

	third := look("ferry", looks[0])
	if l := newest(lifecycle.SnapshotWaiting, "", third); l.Watched == nil || *l.Watched == third {
		t.Errorf("what was said of one snapshot counts for the next: %+v", l)
	}
}
