package store

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/wire"
)

func edition(number int64, text string) RosterEdition {
	sum := sha256.Sum256([]byte(text))
	return RosterEdition{Digest: sum[:], Number: number, Document: []byte(text), ProposedBy: "admin"}
}

// One edition of a number counts, however many are proposed and signed at once; the first can be replaced until a host
// acts by it.
func TestRosters(t *testing.T) {
	ctx := t.Context()
	if _, err := st.Roster(ctx); !errors.Is(err, ErrNotFound) {
		t.Fatalf("there is a roster: %v", err)
	}
	first := edition(1, "another first one")
	must(t, st.FoundRoster(ctx, first))
	first = edition(1, "the first one")
	must(t, st.FoundRoster(ctx, first)) // nobody acts by the other

	host := name("host")
	must(t, st.AddHost(ctx, host))
	must(t, st.Greet(ctx, host, wire.Hello{Roster: statement.Point{Number: 1, Hash: tree.Hash(first.Digest)}}))
	if err := st.FoundRoster(ctx, edition(1, "a third one")); !errors.Is(err, ErrConflict) {
		t.Errorf("a first edition takes the place of one that a host acts by: %v", err)
	}
	with, err := st.HostsWithRoster(ctx, []string{host, "nobody"})
	if err != nil || len(with) != 1 || with[0].Roster != 1 || string(with[0].RosterDigest) != string(first.Digest) {
		t.Errorf("%+v, %v", with, err)
	}

	rivals := []RosterEdition{edition(2, "one"), edition(2, "another")}
	for _, e := range rivals {
		must(t, st.ProposeRoster(ctx, e))
		must(t, st.ProposeRoster(ctx, e)) // again changes nothing
	}
	counted := make(chan int, 20)
	var all sync.WaitGroup
	for i := range 10 {
		for n, e := range rivals {
			all.Go(func() {
				key := sha256.Sum256(fmt.Append(nil, i, n))
				counts, err := st.SignRoster(ctx, e.Digest, key[:], Signature{Who: "purser", Signed: []byte("{}")},
					func(all []Signature) bool { return len(all) >= 3 })
				if err != nil && !errors.Is(err, ErrConflict) {
					t.Error(err)
				}
				if err == nil && counts {
					counted <- n
				}
			})
		}
	}
	all.Wait()
	close(counted)
	winner := map[int]bool{}
	for n := range counted {
		winner[n] = true
	}
	now, err := st.Roster(ctx)
	must(t, err)
	if len(winner) != 1 || now.Number != 2 || now.Counts == nil {
		t.Errorf("edition %d counts, of %v", now.Number, winner)
	}

	line, err := st.RosterLine(ctx, 0, 10)
	if err != nil || len(line) != 2 || line[0].Number != 1 || string(line[1].Digest) != string(now.Digest) {
		t.Errorf("%d editions, %v", len(line), err)
	}
	if err := st.WithdrawRoster(ctx, now.Digest); !errors.Is(err, ErrConflict) {
		t.Errorf("what counts is withdrawn: %v", err)
	}
	for i := range maxProposals {
		must(t, st.ProposeRoster(ctx, edition(3, fmt.Sprint(i))))
	}
	if err := st.ProposeRoster(ctx, edition(3, "one more")); !errors.Is(err, ErrConflict) {
		t.Errorf("more proposals than there may be: %v", err)
	}

	t.Cleanup(func() {
		_, err := st.db.Exec(`UPDATE host SET roster_edition = 0`)
		must(t, err)
		_, err = st.db.Exec(`DELETE FROM roster_edition`)
		must(t, err)
	})
}

// What people sign of a plan comes and goes with what they say of it.
func TestPlanSignatures(t *testing.T) {
	ctx := t.Context()
	p, _ := aPlan(t, name("host"))
	says := func(what ...string) {
		t.Helper()
		got, err := st.PlanSignatures(ctx, p.ID)
		must(t, err)
		if len(got) != len(what) {
			t.Fatalf("%d signatures, want %v", len(got), what)
		}
		for i := range got {
			if got[i].Says != what[i] {
				t.Errorf("%+v, want %v", got, what)
			}
		}
	}
	by := func(says, who string) Signature { return Signature{Says: says, Who: who, Signed: []byte("{}")} }
	approve := func() {
		t.Helper()
		_, err := st.ApprovePlan(ctx, p, Approving{By: "reviewer", Digest: p.Digest, Needed: 1, Life: time.Hour,
			Signature: by("approved", "reviewer")}, func(Approval) bool { return true })
		must(t, err)
	}

	if _, err := st.ApprovePlan(ctx, p, Approving{By: "reviewer", Digest: p.Digest, Needed: 1, Life: time.Hour,
		Signature: by("approved", "reviewer")}, func(Approval) bool { return true }); !errors.Is(err, ErrConflict) {
		t.Errorf("a draft is approved: %v", err)
	}
	says() // nothing of it stays
	must(t, st.SubmitPlan(ctx, p.ID, by("submitted", "author")))
	if err := st.SubmitPlan(ctx, p.ID, by("submitted", "mate")); !errors.Is(err, ErrConflict) {
		t.Errorf("it is submitted twice: %v", err)
	}
	says("submitted")
	approve()
	says("submitted", "approved")
	must(t, st.WithdrawApproval(ctx, p.ID, "reviewer"))
	says("submitted")
	approve()
	must(t, st.WithdrawPlan(ctx, p.ID))
	says()
}

// A key is one person's, and goes with them.
func TestSigningKeys(t *testing.T) {
	ctx := t.Context()
	a, b := name("person"), name("person")
	for _, who := range []string{a, b} {
		must(t, st.AddPerson(ctx, Person{Name: who, RoleList: "viewer"}))
	}
	key := func(who, text string) SigningKey {
		sum := sha256.Sum256([]byte(text))
		return SigningKey{Person: who, Name: "laptop", Hash: sum[:], Text: text}
	}
	k, err := st.AddSigningKey(ctx, key(a, a))
	must(t, err)
	if _, err := st.AddSigningKey(ctx, key(b, a)); !errors.Is(err, ErrConflict) {
		t.Errorf("one key is two people's: %v", err)
	}
	for i := range maxSigningKeys {
		_, err = st.AddSigningKey(ctx, key(b, fmt.Sprint(b, i)))
		must(t, err)
	}
	if _, err := st.AddSigningKey(ctx, key(b, b)); !errors.Is(err, ErrConflict) {
		t.Errorf("more keys than somebody may have: %v", err)
	}

	must(t, st.UseSigningKey(ctx, k.Hash))
	if list, err := st.SigningKeys(ctx, a); err != nil || len(list) != 1 || list[0].Used == nil {
		t.Errorf("%+v, %v", list, err)
	}
	if err := st.RemoveSigningKey(ctx, b, k.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("somebody else's key is removed: %v", err)
	}
	must(t, st.RemovePerson(ctx, b))
	if list, err := st.SigningKeys(ctx, b); err != nil || len(list) != 0 {
		t.Errorf("%d keys of somebody who has left, %v", len(list), err)
	}
	must(t, st.RemoveSigningKey(ctx, a, k.ID))
}

// Rosters and signatures are found by keys, however many there are.
func TestRostersUseKeys(t *testing.T) {
	ctx := t.Context()
	p, _ := aPlan(t, name("host"))
	for i := range 300 {
		e := edition(int64(1000+i/10), fmt.Sprint("of many ", i))
		must(t, st.ProposeRoster(ctx, e))
		_, err := st.db.Exec(`INSERT INTO roster_signed (digest, key_hash, who, at, signed) VALUES (?, ?, 'x', ?, '')`,
			e.Digest, e.Digest, now())
		must(t, err)
	}
	_, err := st.db.Exec("ANALYZE TABLE roster_edition, roster_signed, plan_signed, signing_key")
	must(t, err)
	t.Cleanup(func() {
		_, err := st.db.Exec(`DELETE FROM roster_edition`)
		must(t, err)
	})

	digest := edition(1000, "of many 0").Digest
	for name, q := range map[string]struct {
		text string
		args []any
		key  string
	}{
		"the one that counts": {rosterNow, nil, "counting"},
		"the line":            {rosterLine, []any{3, 10}, "counting"},
		"proposals":           {rosterNexts, []any{1003}, "edition"},
		"signatures":          {rosterSigns, []any{digest}, "PRIMARY"},
		"a plan's signatures": {planSigns, []any{p.ID}, "PRIMARY"},
		"somebody's keys":     {keysOf, []any{"purser"}, "person"},
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

// What somebody signed who acted alone goes as they take it back, and so does what others had approved before.
func TestAloneIsTakenBack(t *testing.T) {
	ctx := t.Context()
	p, _ := aPlan(t, name("host"))
	must(t, st.SubmitPlan(ctx, p.ID, Signature{Says: "submitted", Who: "author", Signed: []byte("{}")}))
	_, err := approved(t, p, Approving{By: "reviewer", Digest: p.Digest, Needed: 2,
		Signature: Signature{Says: "approved", Who: "reviewer", Signed: []byte("{}")}})
	must(t, err)
	must(t, st.ApproveAlone(ctx, p.ID, Approving{By: "operator", Digest: p.Digest, Life: time.Hour,
		Signature: Signature{Says: "alone", Who: "operator", Signed: []byte("{}")}}))
	must(t, st.WithdrawApproval(ctx, p.ID, "operator"))
	left, err := st.PlanSignatures(ctx, p.ID)
	must(t, err)
	if len(left) != 1 || left[0].Says != "submitted" {
		t.Errorf("there is left %+v", left)
	}
}

// Two people who approve at once, and one who acts alone meanwhile: one of them has it approved, and what is stored
// says by whom.
func TestApprovalsAtOnce(t *testing.T) {
	ctx := t.Context()
	alones := 0
	for round := range 12 {
		p, _ := aPlan(t, name("host"))
		must(t, st.SubmitPlan(ctx, p.ID, Signature{Says: "submitted", Who: "author", Signed: []byte("{}")}))
		calls := map[string]func() (bool, error){}
		for _, who := range []string{"reviewer", "second"} {
			calls[who] = func() (bool, error) {
				return approved(t, p, Approving{By: who, Digest: p.Digest, Needed: 2,
					Signature: Signature{Says: "approved", Who: who, Signed: []byte("{}")}})
			}
		}
		if round%2 == 0 {
			calls["author"] = func() (bool, error) {
				err := st.ApproveAlone(ctx, p.ID, Approving{By: "author", Digest: p.Digest, Life: time.Hour,
					Signature: Signature{Says: "alone", Who: "author", Signed: []byte("{}")}})
				return err == nil, err
			}
		}

		var all sync.WaitGroup
		var deciding atomic.Int32
		for who, call := range calls {
			all.Go(func() {
				decided, err := call()
				if err != nil && !errors.Is(err, ErrConflict) {
					t.Errorf("%s: %v", who, err)
				}
				if decided {
					deciding.Add(1)
				}
			})
		}
		all.Wait()

		now, err := st.Plan(ctx, p.ID)
		must(t, err)
		list, err := st.Approvals(ctx, p.ID)
		must(t, err)
		want := map[bool]int{true: 1, false: 2}[now.Alone]
		if now.State != lifecycle.PlanApproved || deciding.Load() != 1 || len(list) != want {
			t.Fatalf("%d had it approved; it is %s, alone %t, by %+v", deciding.Load(), now.State, now.Alone, list)
		}
		if now.Alone {
			alones++
			if list[0].Reviewer != "author" {
				t.Errorf("who acted alone was %+v", list)
			}
		}

		must(t, st.WithdrawPlan(ctx, p.ID))
		if now, err = st.Plan(ctx, p.ID); err != nil || now.Alone {
			t.Errorf("it is still of one person alone: %+v, %v", now, err)
		}
	}
	t.Logf("%d of 12 by one person alone", alones)
}
