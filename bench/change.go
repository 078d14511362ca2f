//go:build linux

package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/host/change"
	"idletally/internal/host/scan"
	"idletally/internal/host/spool"
)

// carry measures a run of so many steps, each of which changes owner, group and mode after its original is on stable
// storage. The floor is the time of the system's own utilities, which keep nothing: chown -R, then chmod -R. They go
// one way and the run goes back, so that both change every path.
func carry(entries, rounds int, parent string) error {
	root, err := os.MkdirTemp(parent, "idletally-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(root)

	journals, err := os.MkdirTemp(parent, "idletally-bench-journal-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(journals)

	if _, err := grow(root, entries); err != nil {
		return err
	}

	utilities := func() error {
		for _, argv := range [][]string{{"chown", "-R", "1001:1001", root}, {"chmod", "-R", "u=rwX,g=rX,o=", root}} {
			if out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput(); err != nil {
				return fmt.Errorf("%v: %w: %s", argv, err, out)
			}
		}
		return nil
	}

	before, err := states(root)
	if err != nil {
		return err
	}
	if err := utilities(); err != nil {
		return err
	}
	steps, err := states(root)
	if err != nil {
		return err
	}
	if len(steps) != len(before) {
		return fmt.Errorf("%d paths, and then %d", len(before), len(steps))
	}

	for i := range steps {
		steps[i].After = before[i].Before
	}

	steps = slices.DeleteFunc(steps, func(s plan.Step) bool { return s.Before == s.After })
	if err := run(root, filepath.Join(journals, "first"), steps); err != nil {
		return err
	}

	n := 0
	return inTurn(rounds, func() (float64, float64, error) {
		start := time.Now()
		if err := utilities(); err != nil {
			return 0, 0, err
		}

		floor := time.Since(start).Seconds()
		n++
		start = time.Now()
		err := run(root, filepath.Join(journals, fmt.Sprint(n)), steps)
		return floor, time.Since(start).Seconds(), err
	}, func(f, o float64) {
		fmt.Printf("figure run-%d-steps %.3f s floor %.3f ratio %.2f\n", len(steps), o, f, o/f)
	})
}

// states returns every path as a step from its present state, in the order of a walk.
func states(root string) (out []plan.Step, err error) {
	spool, err := spool.New(os.TempDir())
	if err != nil {
		return nil, err
	}
	defer spool.Close()
	ctx := context.Background()
	forest, _, err := scan.Scan(ctx, []string{root}, scan.Options{}, spool)
	if err != nil {
		return nil, err
	}
	err = tree.Walk(ctx, spool, forest, func(path string, e tree.Entry) error {
		out = append(out, plan.Step{Path: path, Kind: e.Kind, Before: e.Set})
		return nil
	})
	return out, err
}

func run(root, journal string, steps []plan.Step) error {
	var chunks change.Memory
	for c := range slices.Chunk(steps, plan.StepsPerChunk) {
		chunks = append(chunks, c)
	}

	j, err := change.OpenJournal(journal, change.Head{Run: "bench", Steps: len(steps)})
	if err != nil {
		return err
	}
	defer j.Close()

	r := &change.Runner{Journal: j, Roots: []string{root}, Allowed: []string{root}, Chunks: chunks}
	if err := r.Run(context.Background()); err != nil {
		return err
	}

	for _, x := range j.Results() {
		if x.Outcome != plan.Done {
			return fmt.Errorf("step %d is %s: %s", x.Step, x.Outcome, x.Reason)
		}
	}

	return os.Remove(journal)
}
