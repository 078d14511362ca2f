//go:build linux

package change

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
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

	w.steps = steps
	w.identify(t)
	w.chunks = Memory{steps[:len(steps)/2], steps[len(steps)/2:]}
	return w
}

// doomed is the environment of a process that carries out a world's plan and is killed before its n-th write or
// change: "n folder".
const doomed = "IDLETALLY_DOOMED"

func TestMain(m *testing.M) {
	if how := os.Getenv(doomed); how != "" {
		if err := perish(how); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func perish(how string) error {
	var at int
	var dir string
	if _, err := fmt.Sscan(how, &at, &dir); err != nil {
		return err
	}

	w := world{dir: dir}
	for n := range 2 {
		b, err := os.ReadFile(filepath.Join(dir+"-state", fmt.Sprint("chunk", n)))
		if err != nil {
			return err
		}
		steps, err := plan.DecodeChunk(b)
		if err != nil {
			return err
		}

		w.steps, w.chunks = append(w.steps, steps...), append(w.chunks, steps)
	}

	j, err := OpenJournal(filepath.Join(dir+"-state", "journal"), w.head())
	if err != nil {
		return err
	}

	r := &Runner{Journal: j, Roots: []string{dir}, Allowed: []string{dir}, Chunks: w.chunks, Batch: 5}
	n := 0
	r.pause = func() {
		n++
		if n > at {
			unix.Kill(os.Getpid(), unix.SIGKILL)
			select {}
		}
	}

	return r.Run(context.Background())
}

// I2: An agent that is killed before each and every write and change that a run makes: running again ends with the plan
// carried out, every original is the true one, and from these the tree is put back as it was. And where a run does
// not go on, the journal and a look are enough to put back what was done.
func TestCrashEverywhere(t *testing.T) {
	seed := seeded.Rand(t).Uint64()
	points := 0
	for round := uint64(0); points < testkit.Rounds(200, 1000); round++ {
		for at := 0; ; at++ {
			w := mixed(t, rand.New(rand.NewPCG(seed, round))) // the same one each time
			if err := os.MkdirAll(w.dir+"-state", 0o700); err != nil {
				t.Fatal(err)
			}

			for n, c := range w.chunks {
				if err := os.WriteFile(filepath.Join(w.dir+"-state", fmt.Sprint("chunk", n)), plan.EncodeChunk(c),
					0o600); err != nil {
					t.Fatal(err)
				}
			}

			child := exec.Command(os.Args[0])
			child.Env = append(os.Environ(), fmt.Sprintf("%s=%d %s", doomed, at, w.dir))
			out, err := child.CombinedOutput()
			if err == nil {
				break // there was no such point any more
			}

			st, ok := child.ProcessState.Sys().(syscall.WaitStatus)
			if !ok || !st.Signaled() || st.Signal() != unix.SIGKILL {
				t.Fatalf("round %d, crash %d: %v: %s", round, at, err, out)
			}

			points++
			var b *world
			r := w.runner(t)
			if at%2 == 0 {
				if err := r.Run(t.Context()); err != nil {
					t.Fatalf("seed %d, round %d, crash %d: %v", seed, round, at, err)
				}
				w.check(t, true)
				b = w.back(t, r.Journal)
			} else {
				b = w.given(t, r)
			}

			r.Journal.Close()
			if err := os.Remove(w.journal(t)); err != nil {
				t.Fatal(err)
			}

			back := b.runner(t)
			if err := back.Run(t.Context()); err != nil {
				t.Fatal(err)
			}

			back.Journal.Close()
			w.check(t, false)
			if t.Failed() {
				t.Fatalf("seed %d, round %d, crash %d", seed, round, at)
			}

			if err := errors.Join(os.RemoveAll(w.dir), os.RemoveAll(w.dir+"-state")); err != nil {
				t.Fatal(err)
			}
		}
	}

	t.Logf("%d crashes", points)
}

// given is the plan that puts back what a run has begun, without having ended.
func (w *world) given(t testing.TB, r *Runner) *world {
	t.Helper()
	left, err := r.Settle(t.Context())
	if err != nil {
		t.Fatal(err)
	}

	b := &world{dir: w.dir}
	for i, res := range r.Journal.Results() {
		now, ok := left[i]
		if res.Outcome == plan.Done {
			now, ok = w.steps[i].After, true
		}
		if o, known := r.Journal.Original(i); known && ok {
			b.steps = append(b.steps, plan.Step{
				Path:   w.steps[i].Path,
				Kind:   w.steps[i].Kind,
				Before: now,
				After:  o.Set,
				File:   o.File,
			})
		}
	}

	b.chunks = Memory{b.steps}
	return b
}

// I3: Between any two system calls of a run nobody can do anything with any path that they could not do before,
// and cannot do afterwards: with what leads to it counted.
func TestNeverMoreOpen(t *testing.T) {
	r := seeded.Rand(t)
	names := &perm.Directory{Accounts: []perm.Account{
		{ID: "u1000", Name: "a", Groups: []perm.Principal{"g2000"}},
		{ID: "u1001", Name: "b", Groups: []perm.Principal{"g2001", "g2002"}},
		{ID: "u1002", Name: "c", Groups: []perm.Principal{"g2002"}},
		{ID: "u1003", Name: "d", Groups: []perm.Principal{"g9"}},
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
					for _, op := range []access.Operation{
						access.Read, access.Write, access.Execute, access.List, access.Enter, access.Create,
					} {
						if a.Can(way, op) {
							out[i] |= 1 << bit
						}
						bit++
					}
				}
			}

			return out
		}

		before, after := can(func(s plan.Step) perm.Set { return s.Before }),
			can(func(s plan.Step) perm.Set { return s.After })
		run := w.runner(t)
		run.pause = func() {
			looks++
			now := can(func(s plan.Step) perm.Set { return look(t, w.dir, s.Path).Set })
			for i, s := range w.steps {
				if more := now[i] &^ (before[i] | after[i]); more != 0 && !t.Failed() {
					t.Errorf("%s: more open in between: %b, before %b, after %b", filepath.Base(s.Path), now[i],
						before[i], after[i])
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
