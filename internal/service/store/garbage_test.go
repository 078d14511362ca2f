package store

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/service/mariadb"
	"idletally/internal/testkit/seeded"
	"idletally/internal/wire"
)

// apart opens a database of its own, in which things count for seconds.
func apart(t *testing.T) *Store {
	t.Helper()
	dir, err := os.MkdirTemp("", "idletally-apart-")
	must(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	must(t, os.Chmod(dir, 0o711)) // the database's own account goes through it
	db, err := mariadb.Start(t.Context(), dir)
	must(t, err)
	t.Cleanup(func() { db.Stop() })
	s, err := Open(t.Context(), db.DSN)
	must(t, err)
	t.Cleanup(func() { s.Close() })
	s.Trust = Trust{Relied: 2 * time.Second, Note: time.Second}
	return s
}

// wood makes trees of few kinds of folders, so that they have much in common.
func wood(r *rand.Rand) (tree.Memory, tree.Hash) {
	m := tree.Memory{}
	var grow func(depth int) tree.Hash
	grow = func(depth int) tree.Hash {
		var n tree.Node
		kind := r.IntN(4)
		for i := range 3 {
			e := tree.Entry{
				Name: fmt.Sprint(i),
				Kind: perm.File,
				Set:  posix.State{UID: uint32(kind), GID: uint32(depth)}.Set(),
			}
			if depth > 0 && r.IntN(2) == 0 {
				e.Kind, e.Child = perm.Folder, grow(depth-1)
			}
			n.Entries = append(n.Entries, e)
		}

		return m.Add(n)
	}

	e := tree.Entry{Name: "/srv", Kind: perm.Folder, Set: posix.State{UID: uint32(r.IntN(50))}.Set(), Child: grow(4)}
	return m, m.Add(tree.Node{Forest: true, Entries: []tree.Entry{e}})
}

// upload sends a tree as an agent does, and keeps a snapshot of it.
func upload(ctx context.Context, s *Store, m tree.Memory, forest tree.Hash, host string) (string, error) {
	lacking := map[tree.Hash]bool{}
	for frontier := []tree.Hash{forest}; len(frontier) > 0; {
		have, err := s.Have(ctx, frontier)
		if err != nil {
			return "", err
		}

		var next []tree.Hash
		for _, h := range frontier {
			if have[h] || lacking[h] {
				continue
			}

			lacking[h] = true
			n, err := tree.Decode(m[h])
			if err != nil {
				return "", err
			}

			next = append(next, n.Children()...)
		}

		frontier = next
	}

	// An upload takes its time: what it was told to be stored has to stay so meanwhile.
	time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
	var pack [][]byte
	err := tree.Each(ctx, m, forest, func(h tree.Hash, b []byte) error {
		if lacking[h] {
			pack = append(pack, b)
		}

		if len(pack) < 4 {
			return nil
		}

		err := s.PutNodes(ctx, pack)
		pack = nil
		return err
	})

	if err == nil {
		err = s.PutNodes(ctx, pack)
	}

	if err != nil {
		return "", err
	}

	id, err := s.ImportSnapshot(ctx, "app", host, []string{"/srv"}, time.Now(),
		wire.SnapshotDone{Forest: forest, Directory: &perm.Directory{Accounts: []perm.Account{{ID: "u1", Name: host}}}},
		"somebody")
	if err == nil {
		err = s.ShowSnapshot(ctx, id)
	}

	return id, err
}

func whole(ctx context.Context, s *Store, forest tree.Hash) error {
	return tree.Walk(ctx, s, forest, func(string, tree.Entry) error { return nil })
}

// While trees are sent, kept and let go, garbage is collected all the time: no snapshot ever lacks a
// node, and in the end nothing is left that nothing leads to.
func TestSweepTakesNothingThatIsNeeded(t *testing.T) {
	t.Parallel()
	s := apart(t)
	r := seeded.Rand(t)
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	defer cancel()

	var wg sync.WaitGroup
	var sent, swept, taken atomic.Int64

	// However slow the machine is, so much has to happen.
	done := func() {
		if sent.Load() >= 120 && swept.Load() >= 30 && taken.Load() >= 100 {
			cancel()
		}
	}
	for i := range 4 {
		own := rand.New(rand.NewPCG(r.Uint64(), 1))
		wg.Go(func() {
			var ids []string
			for n := 0; ctx.Err() == nil; n++ {
				m, forest := wood(own)
				id, err := upload(ctx, s, m, forest, fmt.Sprintf("h%d", i))
				if err == nil {
					err = whole(ctx, s, forest)
				}

				if ctx.Err() != nil {
					return
				}

				if err != nil {
					t.Errorf("upload %d: %v", n, err)
					return
				}

				sent.Add(1)
				done()
				ids = append(ids, id)
				if len(ids) > 5 { // what is let go is what others send again
					k := own.IntN(len(ids))
					if err := s.DropSnapshot(ctx, ids[k]); err != nil && ctx.Err() == nil {
						t.Error(err)
					}
					ids = append(ids[:k], ids[k+1:]...)
				}

				time.Sleep(time.Duration(own.IntN(60)) * time.Millisecond)
			}
		})
	}

	wg.Go(func() {
		for ctx.Err() == nil {
			out, err := s.Sweep(ctx)
			if err == nil {
				_, err = s.SweepDirectories(ctx)
			}

			if err != nil && ctx.Err() == nil {
				t.Error(err)
				return
			}

			swept.Add(1)
			taken.Add(out.Taken)
			done()
		}
	})

	wg.Wait()
	t.Logf("%d uploads, %d sweeps, %d nodes taken", sent.Load(), swept.Load(), taken.Load())
	if sent.Load() < 120 || swept.Load() < 30 || taken.Load() < 100 {
		t.Error("too little happened to show anything")
	}

	background := t.Context()
	check := func() (nodes int) {
		t.Helper()
		for after := []byte(nil); ; {
			n, faults, next, err := s.CheckNodes(background, after, 100)
			if err != nil || len(faults) > 0 {
				t.Fatalf("%v, %v", faults, err)
			}

			nodes += n
			if next == nil {
				break
			}

			after = next
		}

		if _, faults, err := s.CheckSnapshots(background); err != nil || len(faults) > 0 {
			t.Fatalf("%v, %v", faults, err)
		}

		return nodes
	}

	check()
	must(t, s.EachPlace(background, func(rows []PlaceTime) error {
		for _, p := range rows {
			snap, err := s.Snapshot(background, p.ID)
			if err == nil {
				err = whole(background, s, snap.Hash())
			}

			if err == nil {
				err = s.DropSnapshot(background, p.ID)
			}

			if err != nil {
				return err
			}
		}

		return nil
	}))

	_, err := s.db.ExecContext(background, "DELETE FROM snapshot") // and what was cut off in its upload
	must(t, err)
	time.Sleep(s.Trust.Relied + 2*time.Second)
	if _, err := s.Sweep(background); err != nil {
		t.Fatal(err)
	}

	if _, err := s.SweepDirectories(background); err != nil {
		t.Fatal(err)
	}

	if n := check(); n != 0 {
		t.Errorf("%d nodes are left that nothing leads to", n)
	}

	if u, err := s.Storage(background); err != nil || u != (Storage{}) {
		t.Errorf("%+v, %v", u, err)
	}
}

// A run that broke off has doomed what is needed: the next one saves it, and so does sending it again.
func TestSweepAfterABreak(t *testing.T) {
	t.Parallel()
	s := apart(t)
	ctx := t.Context()
	m, forest := wood(seeded.Rand(t))
	_, err := upload(ctx, s, m, forest, "h")
	must(t, err)
	_, err = s.db.ExecContext(ctx, "UPDATE node SET doomed = TRUE, used = '2026-01-01'")
	must(t, err)
	have, err := s.Have(ctx, []tree.Hash{forest})
	if err != nil || have[forest] {
		t.Errorf("somebody may rely on a doomed node: %v, %v", have, err)
	}

	out, err := s.Sweep(ctx)
	if err != nil || out.Taken != 0 || out.Live != int64(len(m)) {
		t.Errorf("%+v, %v", out, err)
	}

	if have, err = s.Have(ctx, []tree.Hash{forest}); err != nil || !have[forest] {
		t.Errorf("%v, %v", have, err)
	}

	_, err = s.db.ExecContext(ctx, "UPDATE node SET doomed = TRUE")
	must(t, err)
	_, err = upload(ctx, s, m, forest, "h2")
	must(t, err)
	must(t, whole(ctx, s, forest))
}

// What is damaged in the database is told.
func TestCheckTells(t *testing.T) {
	t.Parallel()
	s := apart(t)
	ctx := t.Context()
	m := tree.Memory{}
	in := func(child tree.Hash, name string) tree.Entry {
		return tree.Entry{Name: name, Kind: perm.Folder, Set: posix.State{}.Set(), Child: child}
	}
	gone := m.Add(tree.Node{})
	forest := m.Add(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{in(m.Add(tree.Node{Entries: []tree.Entry{in(gone, "a")}}), "/srv")},
	})
	_, err := upload(ctx, s, m, forest, "h")
	must(t, err)
	_, err = s.db.ExecContext(ctx, "UPDATE node SET data = ? WHERE hash = ?",
		encoder.EncodeAll(m[forest][:len(m[forest])-1], nil), forest[:])
	must(t, err)
	_, err = s.db.ExecContext(ctx, "DELETE FROM node WHERE hash = ?", gone[:])
	must(t, err)
	_, faults, _, err := s.CheckNodes(ctx, nil, 10_000)
	text := fmt.Sprint(faults)
	if err != nil || len(faults) < 2 || !strings.Contains(text, "its bytes hash to") ||
		!strings.Contains(text, gone.String()+", which is not there") {
		t.Errorf("%v, %v", faults, err)
	}

	_, err = s.db.ExecContext(ctx, "DELETE FROM directory")
	must(t, err)
	_, err = s.db.ExecContext(ctx, "DELETE FROM node WHERE hash = ?", forest[:])
	must(t, err)
	if n, faults, err := s.CheckSnapshots(ctx); err != nil || n != 1 || len(faults) != 2 {
		t.Errorf("%d, %v, %v", n, faults, err)
	}
}

func TestDuty(t *testing.T) {
	ctx := t.Context()
	duty := name("duty")
	var mine atomic.Int64
	var wg sync.WaitGroup

	for i := range 8 {
		wg.Go(func() {
			ok, err := st.TakeDuty(ctx, duty, fmt.Sprint(i), time.Minute)
			if err != nil {
				t.Error(err)
			}
			if ok {
				mine.Add(1)
			}
		})
	}

	wg.Wait()
	if mine.Load() != 1 {
		t.Errorf("%d do what one is to do", mine.Load())
	}

	if ok, err := st.TakeDuty(ctx, name("duty"), "a", -time.Minute); err != nil || !ok {
		t.Errorf("%t, %v", ok, err)
	}
}
