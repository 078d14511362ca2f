package drift

import (
	"cmp"
	"context"
	"slices"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// A Change is one path that differs between two snapshots. A zero kind means that the path is not in that snapshot.
type Change struct {
	Path          string
	Before, After Side
}

// A Side is a path in one of two snapshots.
type Side struct {
	Kind perm.Kind
	Set  perm.Set
	Gap  tree.Gap
}

// Changes is paths with the same change.
type Changes struct {
	Before, After Side
	Effect        perm.Effect
	Count         int
	Folder        pathname.Path
	Example       pathname.Path
}

// A DiffSummary is what changed between two snapshots as a whole.
type DiffSummary struct{ Added, Gone, Changed int }

// DiffSnapshots returns what changed from one snapshot to another, equal changes together, and hands out each path in
// the order of a walk. It enters only folders that differ.
func DiffSnapshots(
	ctx context.Context, src tree.Source, a, b tree.Hash, d *perm.Directory, each func(Change) error,
) (DiffSummary, []Changes, error) {
	var t DiffSummary
	type key struct{ before, after Side }
	groups := map[key]*Changes{}
	err := tree.Diff(ctx, src, a, b, func(path string, x, y *tree.Entry) error {
		c := Change{Path: path}
		switch {
		case x == nil:
			t.Added++
		case y == nil:
			t.Gone++
		default:
			t.Changed++
		}

		if x != nil {
			c.Before = Side{x.Kind, x.Set, x.Gap}
		}

		if y != nil {
			c.After = Side{y.Kind, y.Set, y.Gap}
		}

		k := key{c.Before, c.After}
		g := groups[k]
		if g == nil {
			if len(groups) == maxShifts {
				return each(c)
			}

			g = &Changes{
				Before:  c.Before,
				After:   c.After,
				Folder:  pathname.Path(pathname.Folder(path)),
				Example: pathname.Path(path),
			}

			if x != nil && y != nil && x.Kind == y.Kind {
				g.Effect = perm.Between(x.Kind, x.Set, y.Set, d)
			}

			groups[k] = g
		}

		g.Count++
		g.Folder = pathname.Widen(g.Folder, path)
		return each(c)
	})

	if err != nil {
		return t, nil, err
	}

	out := make([]Changes, 0, len(groups))
	for _, g := range groups {
		out = append(out, *g)
	}

	slices.SortFunc(out, func(a, b Changes) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), pathname.Compare(string(a.Example), string(b.Example)))
	})
	return t, out, nil
}
