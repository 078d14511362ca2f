package drift

import (
	"slices"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
)

func TestBetween(t *testing.T) {
	m := tree.Memory{}
	file := func(name string, md mode.Mode) tree.Entry {
		return tree.Entry{Name: name, Kind: perm.File, Set: posix.State{UID: 1, GID: 1, Mode: md}.Set()}
	}
	world := func(entries ...tree.Entry) tree.Hash {
		child := m.Add(tree.Node{Entries: entries})
		return m.Add(tree.Node{
			Forest:  true,
			Entries: []tree.Entry{{Name: "/srv", Kind: perm.Folder, Set: posix.State{Mode: 0o755}.Set(), Child: child}},
		})
	}

	a, b := world(file("a", 0o640), file("b", 0o640), file("gone", 0o600), file("same", 0o600)),
		world(file("a", 0o644), file("b", 0o644), file("new", 0o600), file("same", 0o600))
	dir := (&perm.Directory{}).Index()
	var paths []string
	turn, groups, err := DiffSnapshots(t.Context(), m, a, b, dir, func(c Change) error {
		paths = append(paths, c.Path)
		return nil
	})
	if err != nil || turn != (DiffSummary{Added: 1, Gone: 1, Changed: 2}) ||
		!slices.Equal(paths, []string{"/srv/a", "/srv/b", "/srv/gone", "/srv/new"}) {
		t.Errorf("%+v, %q, %v", turn, paths, err)
	}

	if len(groups) != 3 || groups[0].Count != 2 || groups[0].Effect.String() != "opens for everyone: read" ||
		groups[1].After.Kind != 0 || groups[2].Before.Kind != 0 {
		t.Errorf("%+v", groups)
	}

	turn, groups, err = DiffSnapshots(t.Context(), m, a, a, dir, func(Change) error { return nil })
	if err != nil || turn != (DiffSummary{}) || len(groups) != 0 {
		t.Errorf("the same twice: %+v, %v", turn, err)
	}
}
