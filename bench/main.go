//go:build linux

// Bench prints figures, each beside a floor measured in the same run, floor and product in turn:
//
//	figure NAME VALUE UNIT floor VALUE ratio VALUE
package main

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
)

func main() {
	entries := flag.Int("entries", 1_000_000, "how many paths the tree has")
	rounds := flag.Int("rounds", 5, "how often floor and product are measured, in turn")
	dir := flag.String("dir", "", "where to make the tree; it is taken away afterwards")
	only := flag.String("only", "",
		"measure this alone: snapshot, store, reach, compare, derive, run, watch, share, console or load")
	agents := flag.String("agents", "100,500,2000", "how many agents wait, one after the other")
	changes := flag.Int("changes", 100, "how many changes are followed to the database and the page")
	flag.Parse()
	debug.SetGCPercent(400) // as the agent does

	for _, b := range []struct {
		name string
		run  func() error
	}{
		{"snapshot", func() error { return snapshot(*entries, *rounds, *dir) }},
		{"store", func() error { return keep(*entries) }},
		{"reach", func() error { return benchSubtree(*entries, *rounds) }},
		{"compare", func() error { return compare(*entries, *rounds) }},
		{"derive", func() error { return draft(*entries, *rounds) }},
		{"run", func() error {
			for _, n := range []int{1, 10_000, 100_000, *entries} {
				if err := carry(n, *rounds, *dir); err != nil {
					return err
				}
			}
			return nil
		}},
		{"share", func() error { return shares(min(*entries, 100_000), *rounds, *dir) }},
		{"console", func() error { return console(*dir) }},
		{"load", func() error { return load(*dir, *agents) }},
		{"watch", func() error { return overhear(*entries, *changes, *dir) }},
	} {
		if *only != "" && *only != b.name {
			continue
		}
		if err := b.run(); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", b.name+":", err)
			os.Exit(1)
		}
	}
}

// inTurn measures floor and product alternately, and returns the medians. The first round warms the caches and does
// not count.
func inTurn(rounds int, round func() (floor, ours float64, err error), tell func(floor, ours float64)) error {
	var floors, ours []float64
	for i := range rounds + 1 {
		f, o, err := round()
		if err != nil {
			return err
		}
		if i > 0 {
			floors, ours = append(floors, f), append(ours, o)
		}
	}
	slices.Sort(floors)
	slices.Sort(ours)
	tell(floors[len(floors)/2], ours[len(ours)/2])
	return nil
}

// workplace is a folder for a service and its database, and the program that they are made of.
func workplace(parent string) (dir, program string, err error) {
	if program, err = filepath.Abs("bin/idletally"); err != nil {
		return "", "", err
	}
	if dir, err = os.MkdirTemp(parent, "idletally-bench-"); err != nil {
		return "", "", err
	}
	return dir, program, os.Chmod(dir, 0o711) // the database's account goes through it
}
