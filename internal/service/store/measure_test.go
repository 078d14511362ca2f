package store

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/testkit/seeded"
	"idletally/internal/wire"
)

// What a snapshot has is counted, whatever is said of it, also where its nodes were stored before they were measured.
func TestMeasuredWhateverIsSaid(t *testing.T) {
	s, r := apart(t), seeded.Rand(t)
	for i := range 20 {
		m, forest := wood(r)
		want := int64(0)
		must(t, tree.Walk(t.Context(), m, forest, func(string, tree.Entry) error { want++; return nil }))
		must(t, putAll(t, s, m, forest))
		if i%2 == 0 {
			_, err := s.exec(t.Context(), `UPDATE node SET paths = 7, gaps = 7, depth = 0, below = 0, way = NULL`)
			must(t, err)
		}

		id, err := s.ImportSnapshot(t.Context(), "billing", "pontoon", []string{"/srv"}, time.Now(),
			wire.SnapshotDone{Forest: forest, Directory: &perm.Directory{}, Paths: 1 << 40, Gaps: 9}, "bosun")
		must(t, err)
		snap, err := s.Snapshot(t.Context(), id)
		if err != nil || snap.Paths != want || snap.Gaps != 0 {
			t.Fatalf("%d paths and %d gaps, there are %d and none, %v", snap.Paths, snap.Gaps, want, err)
		}
	}
}

func putAll(t *testing.T, s *Store, m tree.Memory, forest tree.Hash) error {
	var nodes [][]byte
	must(t, tree.Each(t.Context(), m, forest, func(_ tree.Hash, b []byte) error {
		nodes = append(nodes, b)
		return nil
	}))
	return s.PutNodes(t.Context(), nodes)
}

// Nodes that come to too much together are refused, in one pack or in many.
func TestNodesThatComeToTooMuch(t *testing.T) {
	s := apart(t)
	bomb := func(levels int, names ...string) (m tree.Memory, top tree.Hash) {
		m = tree.Memory{}
		top = m.Add(tree.Node{
			Entries: []tree.Entry{{Name: fmt.Sprint(levels), Kind: perm.File, Set: posix.State{}.Set()}},
		})
		for range levels {
			var n tree.Node
			for _, name := range names {
				n.Entries = append(n.Entries, tree.Entry{
					Name:  name,
					Kind:  perm.Folder,
					Set:   posix.State{}.Set(),
					Child: top,
				})
			}
			top = m.Add(n)
		}

		return m, top
	}

	for what, c := range map[string]struct {
		levels int
		names  []string
	}{"paths": {40, []string{"a", "b"}}, "depth": {tree.MaxDepth + 5, []string{"d"}}} {
		t.Run(what, func(t *testing.T) {
			m, top := bomb(c.levels, c.names...)
			if err := putAll(t, s, m, top); !errors.Is(err, ErrBadNode) || !errors.Is(err, tree.ErrTooLarge) {
				t.Errorf("%s at once: %v", what, err)
			}

			var refused error
			must(t, tree.Each(t.Context(), m, top, func(_ tree.Hash, b []byte) error {
				if refused == nil {
					refused = s.PutNodes(t.Context(), [][]byte{b})
				}
				return nil
			}))

			if !errors.Is(refused, tree.ErrTooLarge) {
				t.Errorf("%s one by one: %v", what, refused)
			}
		})
	}
}
