//go:build linux

package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"idletally/internal/core/derive"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
)

// draft measures deriving a baseline from a snapshot. Its floor is reading the encoded tree from memory; the draft is
// read, checked against the snapshot and measured, so the tree is walked several times.
func draft(entries, rounds int) error {
	ctx := context.Background()
	src, forest, n := orderly(entries)
	host := derive.Seen{Host: "slip-north", Source: src, Forest: forest, Directory: benchDirectory()}
	var d derive.Draft
	return inTurn(rounds, func() (floor, ours float64, err error) {
		if floor, err = readAll(ctx, src, forest, n); err != nil {
			return 0, 0, err
		}
		start := time.Now()
		d, err = derive.Baseline(ctx, "bench", []derive.Seen{host})
		return floor, time.Since(start).Seconds(), err
	}, func(f, o float64) {
		fmt.Printf("figure derive-%d %.3f s floor %.3f ratio %.2f\n", n+1, o, f, o/f)
		fmt.Fprintf(os.Stderr, "  %d rules\n", len(d.Rules))
	})
}

// orderly makes a tree as on well kept hosts: tenants that are alike, each with several kinds of folders, and one
// path in ten thousand that follows no rule.
func orderly(entries int) (tree.Memory, tree.Hash, int) {
	m := tree.Memory{}
	made := 0
	entry := func(name string, k perm.Kind, owner uint32, bits mode.Mode, child tree.Hash) tree.Entry {
		made++
		if made%10_000 == 0 {
			bits ^= 0o004
		}
		return tree.Entry{Name: name, Kind: k, Set: posix.State{UID: owner, GID: 3001, Mode: bits}.Set(), Child: child}
	}

	parts := []struct {
		name          string
		owner         uint32
		folder, files mode.Mode
		ending        string
	}{
		{"bin", 2001, 0o755, 0o755, ""},
		{"conf", 2001, 0o750, 0o640, ".conf"},
		{"data", 2002, 0o2770, 0o660, ".dat"},
		{"keys", 2003, 0o700, 0o600, ".key"},
		{"site", 2001, 0o755, 0o644, ".html"},
	}

	var tenants tree.Node
	for t := 0; made < entries; t++ {
		var tenant tree.Node
		for _, p := range parts {
			var n tree.Node
			for d := range 4 {
				var deep tree.Node
				for f := range 40 {
					deep.Entries = append(deep.Entries,
						entry(fmt.Sprintf("file-%02d%s", f, p.ending), perm.File, p.owner, p.files, tree.Hash{}))
				}
				n.Entries = append(n.Entries,
					entry(fmt.Sprintf("part-%d", d), perm.Folder, p.owner, p.folder, m.Add(deep)))
			}
			tenant.Entries = append(tenant.Entries, entry(p.name, perm.Folder, p.owner, p.folder, m.Add(n)))
		}
		tenants.Entries = append(tenants.Entries,
			entry(fmt.Sprintf("tenant-%05d", t), perm.Folder, 2001, 0o755, m.Add(tenant)))
	}

	root := entry("/srv", perm.Folder, 2001, 0o755, m.Add(tenants))
	return m, m.Add(tree.Node{Forest: true, Entries: []tree.Entry{root}}), made - 1
}
