//go:build linux

package change

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/testkit"
	"idletally/internal/testkit/frugal"
	"idletally/internal/testkit/seeded"
)

// known is what a journal knows of originals: by step, what it was.
func known(j *Journal) map[int]Original {
	out := map[int]Original{}
	for i := range j.steps {
		if o, ok := j.Original(i); ok {
			out[i] = o
		}
	}
	return out
}

// ended returns a run that is over, which wrote originals by so many steps at once: what it knows of these, and
// its journal's bytes.
func ended(t *testing.T, r *rand.Rand, batch int) (w *world, whole map[int]Original, journal []byte) {
	t.Helper()
	w = mixed(t, r)
	run := w.runner(t)
	run.Batch = batch
	must(t, run.Run(t.Context()))
	must(t, run.Journal.Close())
	journal, err := os.ReadFile(w.journal(t))
	must(t, err)
	return w, known(run.Journal), journal
}

// I4: A bit of every byte of a journal is turned over, or every single one ("make prove"): each time either every
// original is still there and right, or the journal says of which steps they are lost. And nobody goes on with it as
// if nothing was.
func TestEveryBitOfAJournal(t *testing.T) {
	r := seeded.Rand(t)
	w, whole, b := ended(t, r, 3)

	file := filepath.Join(t.TempDir(), "journal")
	lost, unread, each := 0, 0, testkit.Rounds(1, 8)
	for n := range each * len(b) {
		bit := n / each * 8
		bit += (n + r.IntN(8/each)) % 8
		b[bit/8] ^= 1 << (bit % 8)
		must(t, os.WriteFile(file, b, 0o600))
		j, _, err := ReadJournal(file)
		b[bit/8] ^= 1 << (bit % 8)
		if err != nil { // nothing of it counts, and that is said
			unread++
			continue
		}

		got := known(j)
		var missing []int
		for step, o := range whole {
			switch now, ok := got[step]; {
			case !ok:
				missing = append(missing, step)
			case now != o:
				t.Fatalf("bit %d: the original of step %d is %+v, was %+v", bit, step, now, o)
			}
		}

		slices.Sort(missing)
		if d := j.Damage(); !slices.Equal(missing, d.Lost) || d.More != 0 || len(got) > len(whole) {
			t.Fatalf("bit %d: the originals of %v are missing, it says %v", bit, missing, d)
		}

		lost += min(len(missing), 1)
		if len(missing) > 0 {
			if _, err := OpenJournal(file, w.head()); !errors.Is(err, ErrDamaged) {
				t.Fatalf("bit %d: a run would go on: %v", bit, err)
			}
			if kept, err := os.ReadFile(file); err != nil || len(kept) != len(b) {
				t.Fatalf("bit %d: the damaged journal has %d bytes then, %v", bit, len(kept), err)
			}
		}
	}

	t.Logf("%d bits; with %d an original is lost, with %d all of them", each*len(b), lost, unread)
	if lost < each*len(b)/10 || unread > each*40 {
		t.Errorf("%d and %d of %d", lost, unread, each*len(b))
	}
}

// I4: Holes in the middle, however large: what follows counts, and what is gone is told at least by number.
func TestHolesInAJournal(t *testing.T) {
	r := seeded.Rand(t)
	_, whole, b := ended(t, r, 2)
	file := filepath.Join(t.TempDir(), "journal")

	for range testkit.Rounds(500, 2000) {
		from := 400 + r.IntN(len(b)-400)
		to := from + 1 + r.IntN(len(b)-from)
		x := slices.Clone(b)

		switch r.IntN(3) {
		case 0:
			clear(x[from:to])
		case 1:
			x = slices.Delete(x, from, to)
		default:
			for i := from; i < to; i++ {
				x[i] = byte(r.Uint32())
			}
		}

		must(t, os.WriteFile(file, x, 0o600))
		j, _, err := ReadJournal(file)
		must(t, err)
		missing := 0

		for step, o := range whole {
			if now, ok := known(j)[step]; !ok {
				missing++
			} else if now != o {
				t.Fatalf("%d to %d: step %d", from, to, step)
			}
		}

		// Where nothing at all follows, it cannot be told from a crash.
		if d := j.Damage(); missing > len(d.Lost)+d.More && !d.Unknown && (d.Any() || j.Ended()) {
			t.Fatalf("%d to %d of %d: %d originals are missing, it says %v", from, to, len(b), missing, d)
		}
	}
}

// A name that a journal tells of, in a reason, holds what would be a record: it is none.
func TestRecordsInReasons(t *testing.T) {
	w := makeWorld(t, rand.New(rand.NewPCG(1, 1)), 1)
	r := w.runner(t)
	forged := appendRecord(nil, nil, recOriginal, append([]byte{1, 0, 0}, posix.State{UID: 4711}.Set().Bytes()...))
	r.Journal.outcome(0, plan.Refused, string(forged))
	must(t, r.Journal.sync())
	must(t, r.Journal.Close())
	b, err := os.ReadFile(w.journal(t))
	must(t, err)
	b[len(b)-len(forged)-12] ^= 1 // so that it is looked for
	must(t, os.WriteFile(w.journal(t), append(b, make([]byte, 40)...), 0o600))
	j, _, err := ReadJournal(w.journal(t))
	must(t, err)
	if o := known(j); len(o) > 0 {
		t.Errorf("originals that nobody recorded: %+v", o)
	}
}

// A journal takes no more memory than its file and what its head says there may be.
func TestJournalIsFrugal(t *testing.T) {
	file := filepath.Join(t.TempDir(), "journal")
	for name, b := range map[string][]byte{
		"a head alone that says much": appendRecord([]byte(journalMagic), nil, recHead,
			[]byte(`{"run":"r","steps":500000}`)),
		"zeros": append(appendRecord([]byte(journalMagic), nil, recHead, []byte(`{"run":"r","steps":1}`)),
			make([]byte, 16<<20)...),
	} {
		t.Run(name, func(t *testing.T) {
			must(t, os.WriteFile(file, b, 0o600))
			frugal.Run(t, 64<<20, func() { _, _, _ = ReadJournal(file) })
		})
	}
}
