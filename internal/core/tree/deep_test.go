package tree

import (
	"runtime/debug"
	"testing"

	"idletally/internal/core/perm"
)

// However deep folders lie within each other, a walk takes no stack for it: here two snapshots of 20,000
// levels that differ at the bottom.
func TestDeepWalksTakeNoStack(t *testing.T) {
	defer debug.SetMaxStack(debug.SetMaxStack(512 << 10)) // whoever goes deeper ends the test's process
	const levels = 20_000
	m := Memory{}
	deep := func(bottom Entry) Hash {
		h := m.Add(Node{Entries: []Entry{bottom}})
		for range levels {
			h = m.Add(in("d")(h))
		}

		n := in("/srv")(h)
		n.Forest = true
		return m.Add(n)
	}

	a := deep(Entry{Name: "f", Kind: perm.File, Set: set(0, 0o600)})
	b := deep(Entry{Name: "f", Kind: perm.File, Set: set(0, 0o644)})
	seen := 0
	if err := Walk(t.Context(), m, a, func(string, Entry) error {
		seen++
		return nil
	}); err != nil || seen != levels+2 {
		t.Errorf("%d paths, %v", seen, err)
	}

	differ := 0
	if err := Diff(t.Context(), m, a, b, func(_ string, x, y *Entry) error { differ++; return nil }); err != nil ||
		differ != 1 {
		t.Errorf("%d differ, %v", differ, err)
	}
}
