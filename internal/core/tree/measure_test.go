package tree

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"idletally/internal/core/perm"
	"idletally/internal/testkit/seeded"
)

// measured measures a whole tree, children first.
func measured(t *testing.T, m Memory, forest Hash) (Measure, error) {
	t.Helper()
	known := map[Hash]Measure{}
	var last Measure
	err := Each(t.Context(), m, forest, func(h Hash, b []byte) error {
		n, err := Decode(b)
		if err != nil {
			return err
		}

		own, branches := n.Measure()
		below := make([]Measure, len(branches))
		for i, c := range branches {
			below[i] = known[c.Child]
		}

		last, err = own.Grow(branches, below)
		known[h] = last
		return err
	})

	return last, err
}

// A measure is what a walk meets.
func TestMeasure(t *testing.T) {
	r := seeded.Rand(t)
	for range 200 {
		m := Memory{}
		h, all := forest(r, m)
		var want Measure

		for path, e := range all {
			want.Paths++
			if e.Gap != NoGap {
				want.Gaps++
			}

			below := strings.TrimPrefix(path, "/srv/app")
			want.Below = max(want.Below, len(below))
			if e.HasChild() {
				want.Depth = max(want.Depth, 1+strings.Count(below, "/"))
			}
		}

		got, err := measured(t, m, h)
		want.Way = got.Way
		if err != nil || got != want || got.Way < 97 {
			t.Fatalf("measured %+v, walked %+v, %v", got, want, err)
		}
	}
}

// in makes a folder that has some others in it.
func in(names ...string) func(child Hash) Node {
	return func(child Hash) (n Node) {
		for _, name := range names {
			n.Entries = append(n.Entries, Entry{Name: name, Kind: perm.Folder, Set: set(0, 0o755), Child: child})
		}
		return n
	}
}

// What would be too large to be walked is told of when the node comes that makes it so.
func TestGrowRefuses(t *testing.T) {
	long := strings.Repeat("n", 255)
	heavy := func(child Hash) Node {
		n := in("!")(child)
		for i := range 60_000 {
			n.Entries = append(n.Entries, Entry{Name: fmt.Sprintf("n%0200d", i), Kind: perm.File, Set: set(0, 0o644)})
		}
		return n
	}

	for name, c := range map[string]struct {
		level  func(child Hash) Node
		levels int
		says   string // "" where it is sound
	}{
		"2^26 paths of 27 nodes":     {in("a", "b"), 25, ""},
		"2^27 paths of 28 nodes":     {in("a", "b"), 27, "paths below"},
		"as deep as may be":          {in("d"), MaxDepth - 1, ""},
		"deeper":                     {in("d"), MaxDepth, "deep"},
		"paths as long as may be":    {in(long), MaxBelow / 256, ""},
		"longer paths":               {in(long), MaxBelow/256 + 1, "bytes"},
		"folders that are not light": {heavy, 3, ""},
		"heavier together":           {heavy, 4, "together"},
	} {
		t.Run(name, func(t *testing.T) {
			m := Memory{}
			h := m.Add(Node{})
			for range c.levels {
				h = m.Add(c.level(h))
			}

			_, err := measured(t, m, h)
			if c.says == "" && err != nil ||
				c.says != "" && (!errors.Is(err, ErrTooLarge) || !strings.Contains(err.Error(), c.says)) {
				t.Errorf("%s: %v, want %q", name, err, c.says)
			}
		})
	}
}
