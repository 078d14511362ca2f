package store

import (
	"crypto/sha256"
	"errors"
	"testing"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
	"idletally/internal/wire"
)

// What has come is compared once, the oldest first; what is slow of one application, host or place leaves
// room for the rest, and what somebody began and never ended goes to another one.
func TestClaimComparison(t *testing.T) {
	t.Parallel()
	s, ctx := apart(t), t.Context()
	m := tree.Memory{}
	forest := m.Add(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{{Name: "/srv", Kind: perm.File, Set: posix.State{UID: 7}.Set()}},
	})
	must(t, s.PutNodes(ctx, [][]byte{m[forest]}))
	done := wire.SnapshotDone{Forest: forest, Directory: &perm.Directory{}}
	for _, h := range []string{"barge", "dory", "ferry", "skiff"} {
		must(t, s.Invite(ctx, h, nil, sha256.Sum256([]byte(h)), time.Now().Add(time.Hour)))
	}

	heard := func(application, host string) string {
		t.Helper()
		id, err := s.AddHeard(ctx, application, host, []string{"/srv"}, false, done)
		must(t, err)
		time.Sleep(2 * time.Millisecond) // they are told apart by time
		return id
	}

	most := Shares{Application: 2, Host: 2}
	claim := func(want string) Comparison {
		t.Helper()
		c, err := s.ClaimComparison(ctx, most)
		must(t, err)
		if c == nil {
			c = &Comparison{}
		}

		if c.Snapshot != want {
			t.Fatalf("given %+v, want snapshot %q", *c, want)
		}

		return *c
	}

	state := func(id string) string {
		t.Helper()
		v, err := s.Snapshot(ctx, id)
		if errors.Is(err, ErrNotFound) {
			return "not there"
		}

		must(t, err)
		return string(v.State) + v.Message
	}

	// Somebody asked for this one: it waits for itself, whatever is heard of later.
	asked, err := s.AskSnapshot(ctx, "dory", "boats", []string{"/srv"}, false, false, "bosun")
	must(t, err)
	work, err := s.ClaimWork(ctx, "dory")
	must(t, err)
	must(t, s.KeepSnapshot(ctx, *work, done))
	must(t, s.KeepSnapshot(ctx, *work, done))                                 // told twice
	must(t, s.KeepSnapshot(ctx, *work, wire.SnapshotDone{Failed: "no room"})) // and then otherwise
	if state(asked) != "waiting" {
		t.Errorf("a snapshot that was given is %s when its agent says that it failed", state(asked))
	}

	if w, err := s.ClaimWork(ctx, "dory"); w != nil || err != nil {
		t.Errorf("the host has still to do %+v, %v", w, err)
	}

	if err := s.CancelSnapshot(ctx, asked, "bosun"); !errors.Is(err, ErrConflict) {
		t.Errorf("cancelled when it was there: %v", err)
	}

	time.Sleep(2 * time.Millisecond)
	first := heard("boats", "dory")
	second := heard("boats", "dory")
	if state(first) != "not there" || state(second) != "waiting" || state(asked) != "waiting" {
		t.Errorf("of what was heard one after the other: %s, %s; asked for: %s", state(first), state(second),
			state(asked))
	}

	ferry, skiff := heard("boats", "ferry"), heard("boats", "skiff")
	cars := heard("cars", "dory")
	oars := heard("oars", "dory")
	nets := heard("nets", "barge")

	a := claim(asked)
	b := claim(ferry) // not the second of the same place
	c := claim(cars)  // not the third of the application
	d := claim(nets)  // not the third of the host
	claim("")
	third := heard("boats", "dory") // for what waits, not for what is looked at
	if state(second) != "not there" || state(asked) != "waiting" {
		t.Errorf("%s, %s", state(second), state(asked))
	}

	must(t, s.EndComparison(ctx, a, ""))
	claimed := claim(skiff)
	must(t, s.ReturnComparison(ctx, claimed))
	if again := claim(skiff); again.Tries != 1 {
		t.Errorf("broken off, it counts as try %d", again.Tries)
	}

	claim(oars)

	// Who was away for too long has lost it.
	must(t, s.KeepComparison(ctx, b))
	_, err = s.db.ExecContext(ctx, `UPDATE comparison SET lease_until = '2001-01-01' WHERE snapshot = ?`, ferry)
	must(t, err)
	if again := claim(ferry); again.Tries != 2 {
		t.Errorf("begun anew as try %d", again.Tries)
	}

	for what, err := range map[string]error{
		"keep":   s.KeepComparison(ctx, b),
		"end":    s.EndComparison(ctx, b, ""),
		"retry":  s.RetryComparison(ctx, b, 0),
		"return": s.ReturnComparison(ctx, b),
	} {
		if !errors.Is(err, ErrConflict) {
			t.Errorf("%s what another one has: %v", what, err)
		}
	}

	must(t, s.EndComparison(ctx, d, "it could not"))
	if state(asked) != "ready" || state(nets) != "readyit could not" || state(ferry) != "waiting" ||
		state(third) != "waiting" {
		t.Errorf("asked %s, nets %s, ferry %s, third %s", state(asked), state(nets), state(ferry), state(third))
	}

	must(t, s.RetryComparison(ctx, c, time.Hour))
	claim("")
}

// The newest snapshot of a place is that of the last look, not that which was asked for last: what an agent
// was about to tell of its own accord when somebody asked comes in between, and is older.
func TestNewestIsTheLastLook(t *testing.T) {
	t.Parallel()
	s, ctx := apart(t), t.Context()
	m := tree.Memory{}
	looks := map[string]wire.SnapshotDone{}

	for i, what := range []string{"before", "heard", "asked", "later"} {
		forest := m.Add(tree.Node{
			Forest:  true,
			Entries: []tree.Entry{{Name: "/srv", Kind: perm.File, Set: posix.State{UID: uint32(i)}.Set()}},
		})
		must(t, s.PutNodes(ctx, [][]byte{m[forest]}))
		looks[what] = wire.SnapshotDone{
			Forest:    forest,
			Directory: &perm.Directory{Accounts: []perm.Account{{ID: unixid.UID(uint32(i)), Name: what}}},
		}
	}

	must(t, s.Invite(ctx, "ferry", nil, sha256.Sum256([]byte("ferry")), time.Now().Add(time.Hour)))
	compared := func() {
		t.Helper()
		c, err := s.ClaimComparison(ctx, Shares{Application: 2, Host: 2})
		must(t, err)
		must(t, s.EndComparison(ctx, *c, ""))
	}

	heard := func(what string) {
		t.Helper()
		_, err := s.AddHeard(ctx, "boats", "ferry", []string{"/srv"}, false, looks[what])
		must(t, err)
		compared()
	}

	newest := func(want string) Snapshot {
		t.Helper()
		v, err := s.Newest(ctx, "boats", "ferry")
		must(t, err)
		latest, err := s.Latest(ctx, "boats", "ferry")
		must(t, err)
		dir, _, err := s.HostDirectory(ctx, "ferry")
		must(t, err)
		homes, err := s.Homes(ctx, 5)
		must(t, err)
		if v.Hash() != looks[want].Forest || latest.ID != v.ID || dir.Accounts[0].Name != want || len(homes) != 1 ||
			homes[0].Snapshot != v.ID {
			t.Errorf("newest is %+v, want %s; latest %s, accounts %+v, of %+v", v, want, latest.ID, dir.Accounts, homes)
		}

		return v
	}

	heard("before")
	asked, err := s.AskSnapshot(ctx, "ferry", "boats", []string{"/srv"}, false, false, "bosun")
	must(t, err)
	work, err := s.ClaimWork(ctx, "ferry")
	must(t, err)
	heard("heard")
	newest("heard")
	must(t, s.KeepSnapshot(ctx, *work, looks["asked"]))
	compared()
	if v := newest("asked"); v.ID != asked {
		t.Errorf("%s, want %s", v.ID, asked)
	} else if before, err := s.Before(ctx, v); err != nil || before.Hash() != looks["heard"].Forest {
		t.Errorf("before that came %+v, %v", before, err)
	}

	must(t, s.EachPlace(ctx, func(of []PlaceTime) error {
		if len(of) != 3 || of[2].ID != asked {
			t.Errorf("in their order: %+v", of)
		}
		return nil
	}))

	heard("later")
	newest("later")
}
