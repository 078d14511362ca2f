//go:build linux

package main

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
)

// compare measures comparing a snapshot with a baseline: cold, after ten changes, and for a hundred hosts with the
// same tree; and how the cost grows. Its floor is reading the encoded tree from memory: every node fetched, checked
// and decoded, and nothing else.
func compare(entries, rounds int) error {
	ctx := context.Background()
	src, forest, n := plant(entries)
	doc, err := baseline.Parse([]byte(rules(1000)))
	if err != nil {
		return err
	}

	c := comparison{src, doc}
	var sum drift.Summary
	var memo *drift.Memo
	err = inTurn(rounds, func() (floor, ours float64, err error) {
		if floor, err = readAll(ctx, src, forest, n); err != nil {
			return 0, 0, err
		}

		memo = drift.NewMemo(1 << 20)
		start := time.Now()
		sum, err = c.hold(ctx, forest, memo)
		return floor, time.Since(start).Seconds(), err
	}, func(f, o float64) {
		fmt.Printf("figure compare-cold-%d-x-1000 %.3f s floor %.3f ratio %.2f\n", n+1, o, f, o/f)
		fmt.Fprintf(os.Stderr, "  %d findings\n", sum.Findings)
	})

	if err != nil {
		return err
	}

	r := rand.New(rand.NewPCG(1, 1))
	err = inTurn(rounds, func() (floor, ours float64, err error) {
		for range 10 {
			if forest, err = touch(ctx, src, forest, r); err != nil {
				return 0, 0, err
			}
		}

		if floor, err = readAll(ctx, src, forest, n); err != nil {
			return 0, 0, err
		}

		start := time.Now()
		sum, err = c.hold(ctx, forest, memo)
		return floor, time.Since(start).Seconds(), err
	}, func(f, o float64) {
		fmt.Printf("figure compare-after-10-%d-x-1000 %.4f s floor %.3f ratio %.3f\n", n+1, o, f, o/f)
	})

	if err != nil {
		return err
	}

	err = inTurn(max(1, rounds/2), func() (floor, ours float64, err error) {
		start := time.Now()
		if _, err = c.hold(ctx, forest, drift.NewMemo(1<<20)); err != nil {
			return 0, 0, err
		}

		floor = time.Since(start).Seconds()
		shared := drift.NewMemo(1 << 20)
		start = time.Now()

		for range 100 {
			if _, err = c.hold(ctx, forest, shared); err != nil {
				return 0, 0, err
			}
		}

		return floor, time.Since(start).Seconds(), nil
	}, func(f, o float64) {
		// the floor is one host
		fmt.Printf("figure compare-100-equal-hosts-%d-x-1000 %.3f s floor %.3f ratio %.2f\n", n+1, o, f, o/f)
	})

	if err != nil {
		return err
	}

	for _, size := range []int{entries / 100, entries / 10, entries} {
		s, forest, n := plant(size)
		for _, count := range []int{10, 100, 1000} {
			if c.doc, err = baseline.Parse([]byte(rules(count))); err != nil {
				return err
			}

			c.src = s
			start := time.Now()
			if _, err := c.hold(ctx, forest, nil); err != nil {
				return err
			}

			fmt.Printf("figure compare-%d-x-%d %.3f s floor 0 ratio 0\n", n+1, count, time.Since(start).Seconds())
		}
	}

	return nil
}

type comparison struct {
	src tree.Memory
	doc *baseline.Document
}

// hold compares as the service does, from compiling on, for a host of its own.
func (c comparison) hold(ctx context.Context, forest tree.Hash, memo *drift.Memo) (drift.Summary, error) {
	dir := benchDirectory()
	m, _ := baseline.Compile(c.doc, dir)
	sum, _, err := drift.Compare(ctx, c.src, forest, m, dir, memo, nil, drift.Report{
		Finding: func(drift.Finding) error { return nil }, Unread: func(drift.Unread) error { return nil },
	})
	return sum, err
}

// benchDirectory is a host's accounts, made anew for each host.
func benchDirectory() *perm.Directory {
	dir := &perm.Directory{}
	for i := range 4 {
		dir.Accounts = append(dir.Accounts, perm.Account{
			ID:   unixid.UID(uint32(2001 + i)),
			Name: fmt.Sprintf("clerk-%d", i),
		})
	}
	for i := range 3 {
		dir.Groups = append(dir.Groups, perm.Account{ID: unixid.GID(uint32(3001 + i)), Name: fmt.Sprintf("crew-%d", i)})
	}
	return dir.Index()
}

// rules writes a baseline with a rule for every path, of which few are wrong.
func rules(n int) string {
	var b strings.Builder
	b.WriteString(
		"idletally: 1\napplication: bench\nhosts: {tags: [x]}\nroots: [/srv]\nrules:\n  - {rule: all, paths: " +
			"/srv/**, files: u+r, folders: u+rwx}\n")
	for i := 1; i < n; i++ {
		at := fmt.Sprintf("/srv/folder-%d/folder-%d", i%4, i/4%4)
		path := []string{
			at + "/**",
			at + fmt.Sprintf("/folder-%d/*.dat", i%3),
			fmt.Sprintf("/srv/**/file-%07d.dat", i*37),
			at + "/*/*/file-*1.dat",
			fmt.Sprintf("/srv/**/folder-%d/*.log", i%5),
		}[i%5]

		says := []string{"files: u+r", "folders: u+rx", "files: u+rw", "files: u-s", "files: o-x"}[i/5%5]
		if i == n-1 {
			path, says = at+"/folder-1/**", "files: o-r" // one in four files there is wrong
		}

		fmt.Fprintf(&b, "  - {rule: r%d, paths: %q, %q: %q}\n", i, path, strings.Split(says, ": ")[0],
			strings.Split(says, ": ")[1])
	}

	return b.String()
}

// touch changes the mode of one file somewhere in the tree, as a chmod on the host would.
func touch(ctx context.Context, m tree.Memory, forest tree.Hash, r *rand.Rand) (tree.Hash, error) {
	var change func(h tree.Hash) (tree.Hash, error)
	change = func(h tree.Hash) (tree.Hash, error) {
		nodes, err := tree.Load(ctx, m, h)
		if err != nil {
			return h, err
		}

		n := nodes[0]
		var folders, files []int
		for i := range n.Entries {
			if n.Entries[i].HasChild() {
				folders = append(folders, i)
			} else if n.Entries[i].Kind == perm.File {
				files = append(files, i)
			}
		}

		if len(folders) > 0 && (len(files) == 0 || r.IntN(8) > 0) {
			e := &n.Entries[folders[r.IntN(len(folders))]]
			if e.Child, err = change(e.Child); err != nil {
				return h, err
			}
			return m.Add(n), nil
		}

		if len(files) == 0 {
			return h, nil
		}

		e := &n.Entries[files[r.IntN(len(files))]]
		p, err := posix.Of(e.Set)
		if err != nil {
			return h, err
		}

		p.Mode ^= 0o010
		if p.Access != nil {
			p.Access = p.Access.Chmod(p.Mode)
		}

		e.Set = p.Set()
		return m.Add(n), nil
	}

	return change(forest)
}
