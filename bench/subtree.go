//go:build linux

package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/subtree"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
)

// benchSubtree measures the question what an account can do with everything in a snapshot. Its floor is
// reading the encoded tree from memory: every node fetched, checked and decoded, and nothing else.
func benchSubtree(entries, rounds int) error {
	ctx := context.Background()
	m, forest, n := plant(entries)
	root := posix.State{UID: 0, GID: 0, Mode: 0o755}.Set()
	snap := subtree.Snapshot{
		Source: m,
		Forest: forest,
		Ways:   []access.Way{{{Path: "/", Kind: perm.Folder, Set: root}, {Path: "/srv", Kind: perm.Folder, Set: root}}},
	}
	fmt.Fprintf(os.Stderr, "%d entries in %d folders, one entry in ten with access entries\n", n, len(m)-1)
	account := access.Subject{ID: unixid.UID(2003), Groups: []perm.Principal{unixid.GID(3001), unixid.GID(3002)}}

	for _, q := range []struct {
		name string
		who  access.Subject
		op   access.Operation
		all  bool
	}{
		{"account-write", account, access.Write, false},
		{"everyone-write", access.Subject{ID: perm.Everyone}, access.Write, false},
		{"every-path-write", account, access.Write, true}, // no way is closed: nothing can be left out
	} {
		var t subtree.Tally
		err := inTurn(rounds, func() (float64, float64, error) {
			floor, err := readAll(ctx, m, forest, n)
			if err != nil {
				return 0, 0, err
			}

			start := time.Now()
			t, err = snap.Ask(ctx, subtree.Query{Operation: q.op, Now: access.NewAsker(q.who), Behind: q.all})
			return floor, time.Since(start).Seconds(), err
		}, func(f, o float64) {
			fmt.Printf("figure reach-%s-%d %.3f s floor %.3f ratio %.2f\n", q.name, n+1, o, f, o/f)
			fmt.Fprintf(os.Stderr, "  %d paths decided, %d held, %d folders closed, %d groups\n", t.Looked, t.Held,
				t.Closed, len(t.Groups))
		})
		if err != nil {
			return err
		}
	}

	return nil
}

// readAll reads a planted tree of so many entries and its root, and gives the seconds that took.
func readAll(ctx context.Context, src tree.Source, forest tree.Hash, n int) (float64, error) {
	start := time.Now()
	read := 0
	if err := tree.Walk(ctx, src, forest, func(string, tree.Entry) error { read++; return nil }); err != nil {
		return 0, err
	}
	if read != n+1 {
		return 0, fmt.Errorf("read %d of %d entries", read, n+1)
	}
	return time.Since(start).Seconds(), nil
}

// plant makes an encoded tree of folders with 40 files and 4 subfolders each.
func plant(entries int) (tree.Memory, tree.Hash, int) {
	m := tree.Memory{}
	named := posixacl.List{{Tag: posixacl.User, ID: 2003, Perm: mode.Read | mode.Write}}
	state := func(i int, k perm.Kind) perm.Set {
		p := posix.State{
			UID:  uint32(2001 + i%4),
			GID:  uint32(3001 + i%3),
			Mode: []mode.Mode{0o640, 0o664, 0o600, 0o644}[i%4],
		}
		if k == perm.Folder {
			p.Mode = []mode.Mode{0o755, 0o2775, 0o711, 0o755, 0o750, 0o775, 0o755, 0o755, 0o711, 0o755, 0o700}[i%11]
		}

		if i%10 == 0 {
			p.Access = posixacl.Build(p.Mode.Owner(), p.Mode.Group(), p.Mode.Other(), named, nil)
			p.Mode = p.Access.Mode(p.Mode)
		}

		return p.Set()
	}

	made := 0
	var grow func(left int) tree.Hash
	grow = func(left int) tree.Hash {
		var n tree.Node
		files := min(left, 40)
		if left < 60 { // no folder of almost nothing
			files = left
		}

		for range files {
			made++
			n.Entries = append(n.Entries, tree.Entry{
				Name: fmt.Sprintf("file-%07d.dat", made),
				Kind: perm.File,
				Set:  state(made, perm.File),
			})
		}

		left -= files
		for i := 0; i < 4 && left > 0; i++ {
			made++
			share := left/(4-i) - 1
			left -= share + 1
			set := state(made, perm.Folder)
			n.Entries = append(n.Entries, tree.Entry{
				Name:  fmt.Sprintf("folder-%d", i),
				Kind:  perm.Folder,
				Set:   set,
				Child: grow(max(share, 0)),
			})
		}

		return m.Add(n)
	}

	child := grow(entries)
	return m,
		m.Add(tree.Node{
			Forest:  true,
			Entries: []tree.Entry{{Name: "/srv", Kind: perm.Folder, Set: state(1, perm.Folder), Child: child}},
		}),
		made
}
