//go:build linux

package change

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/seeded"
)

// mixed is a world whose paths are in random states before, too.
func mixed(t testing.TB, r *rand.Rand) *world {
	t.Helper()
	w := makeWorld(t, r, 1)
	start := &world{dir: w.dir, steps: w.steps, chunks: w.chunks}
	first := start.runner(t)
	if err := first.Run(t.Context()); err != nil {
		t.Fatal(err)
	}
	first.Journal.Close()
	if err := os.Remove(start.journal(t)); err != nil {
		t.Fatal(err)
	}
	var steps []plan.Step
	for _, s := range w.steps {
		steps = append(steps, plan.Step{Path: s.Path, Kind: s.Kind, Before: s.After, After: randomAfter(r, s.Kind)})
	}
	w.steps, w.chunks = steps, memory{steps[:len(steps)/2], steps[len(steps)/2:]}
	return w
}

// A crash before each and every write and change that a run makes: running again ends with the plan carried
// out, every original is the true one, and from these the tree is put back as it was.
func TestCrashEverywhere(t *testing.T) {
	seed := seeded.Rand(t).Uint64()
	points := 0
	for round := uint64(0); points < 1000; round++ {
		for at := 0; ; at++ {
			w := mixed(t, rand.New(rand.NewPCG(seed, round))) // the same one each time
			n, crashed := 0, false
			func() {
				r := w.runner(t)
				r.pause = func() {
					if n++; n > at {
						panic("crash")
					}
				}
				defer func() {
					if recover() != nil {
						crashed = true
						r.Journal.f.Close()
					}
				}()
				if err := r.Run(t.Context()); err != nil {
					t.Fatal(err)
				}
			}()
			if !crashed {
				break // there was no such point any more
			}
			points++
			r := w.runner(t)
			if err := r.Run(t.Context()); err != nil {
				t.Fatalf("seed %d, round %d, crash %d: %v", seed, round, at, err)
			}
			w.check(t, true)
			b := w.back(t, r.Journal)
			r.Journal.Close()
			if err := os.Remove(w.journal(t)); err != nil {
				t.Fatal(err)
			}
			back := b.runner(t)
			if err := back.Run(t.Context()); err != nil {
				t.Fatal(err)
			}
			w.check(t, false)
			if t.Failed() {
				t.Fatalf("seed %d, round %d, crash %d", seed, round, at)
			}
			if err := os.RemoveAll(w.dir); err != nil {
				t.Fatal(err)
			}
		}
	}
	t.Logf("%d crashes", points)
}

// Between any two system calls of a run nobody can do anything with any path that they could not do before,
// and cannot do afterwards: with what leads to it counted.
func TestNeverMoreOpen(t *testing.T) {
	r := seeded.Rand(t)
	names := &perm.Directory{Accounts: []perm.Account{
		{ID: "u1000", Name: "a", Groups: []perm.Principal{"g2000"}}, {ID: "u1001", Name: "b", Groups: []perm.Principal{"g2001", "g2002"}},
		{ID: "u1002", Name: "c", Groups: []perm.Principal{"g2002"}}, {ID: "u1003", Name: "d", Groups: []perm.Principal{"g9"}},
	}}
	names.Index()
	looks := 0
	for range 8 {
		w := mixed(t, r)
		var askers []*access.Asker
		for _, a := range names.Accounts {
			askers = append(askers, access.NewAsker(access.SubjectOf(names, a.ID)))
		}
		// what everybody can do, as bits by account and operation, path by path
		can := func(state func(plan.Step) perm.Set) []uint64 {
			states := map[string]perm.Set{}
			for _, s := range w.steps {
				states[s.Path] = state(s)
			}
			out := make([]uint64, len(w.steps))
			for i, s := range w.steps {
				var way access.Way
				for at := s.Path; pathname.Under(at, w.dir); at = pathname.Folder(at) {
					k := perm.Folder
					if at == s.Path {
						k = s.Kind
					}
					way = append(access.Way{{Path: pathname.Path(at), Kind: k, Set: states[at]}}, way...)
				}
				bit := 0
				for _, a := range askers {
					for _, op := range []access.Operation{access.Read, access.Write, access.Execute, access.List, access.Enter, access.Create} {
						if a.Can(way, op) {
							out[i] |= 1 << bit
						}
						bit++
					}
				}
			}
			return out
		}
		before, after := can(func(s plan.Step) perm.Set { return s.Before }), can(func(s plan.Step) perm.Set { return s.After })
		run := w.runner(t)
		run.pause = func() {
			looks++
			now := can(func(s plan.Step) perm.Set { return look(t, w.dir, s.Path).State.Set() })
			for i, s := range w.steps {
				if more := now[i] &^ (before[i] | after[i]); more != 0 && !t.Failed() {
					t.Errorf("%s: more open in between: %b, before %b, after %b", filepath.Base(s.Path), now[i], before[i], after[i])
				}
			}
		}
		if err := run.Run(t.Context()); err != nil {
			t.Fatal(err)
		}
		w.check(t, true)
	}
	if looks < 300 {
		t.Errorf("looked %d times only", looks)
	}
}
