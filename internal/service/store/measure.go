package store

import (
	"context"
	"fmt"
	"slices"

	"idletally/internal/core/tree"
)

// measures returns what stored nodes come to, each with all that is below it. What is not stored is not in the
// answer.
func (s *Store) measures(ctx context.Context, hashes []tree.Hash) (map[tree.Hash]tree.Measure, error) {
	known := make(map[tree.Hash]tree.Measure, len(hashes))
	unknown, err := s.storedMeasures(ctx, hashes, known)
	if err != nil || len(unknown) == 0 {
		return known, err
	}
	return known, s.measureAnew(ctx, unknown, known)
}

// storedMeasures adds to known what is stored beside the nodes, and returns the nodes of which nothing is.
func (s *Store) storedMeasures(
	ctx context.Context, hashes []tree.Hash, known map[tree.Hash]tree.Measure,
) (unknown []tree.Hash, err error) {
	for some := range slices.Chunk(hashes, gcPage) {
		var rows []struct {
			Hash  []byte `db:"hash"`
			Paths int64  `db:"paths"`
			Gaps  int64  `db:"gaps"`
			Depth int    `db:"depth"`
			Below int    `db:"below"`
			Way   *int   `db:"way"`
		}

		q := `SELECT hash, paths, gaps, depth, below, way FROM node WHERE hash IN ` + in(len(some))
		if err := s.db.SelectContext(ctx, &rows, q, hashArgs(some)...); err != nil {
			return nil, err
		}

		for _, r := range rows {
			h := tree.Hash(r.Hash)
			if r.Way == nil {
				unknown = append(unknown, h)
				continue
			}
			known[h] = tree.Measure{Paths: r.Paths, Gaps: r.Gaps, Depth: r.Depth, Below: r.Below, Way: *r.Way}
		}
	}

	return unknown, nil
}

// measureAnew measures nodes that an earlier version stored, and stores it beside them, children before parents.
func (s *Store) measureAnew(ctx context.Context, hashes []tree.Hash, known map[tree.Hash]tree.Measure) error {
	type folder struct {
		hash     tree.Hash
		own      tree.Measure
		branches []tree.Branch
		unknown  []tree.Hash // of the branches
	}

	way := []folder{{unknown: hashes}} // to where the walk is
	for {
		at := &way[len(way)-1]
		if len(at.unknown) > 0 {
			next := at.unknown[0]
			at.unknown = at.unknown[1:]
			if _, ok := known[next]; ok { // it was in another place, too
				continue
			}
			n, err := tree.Load(ctx, s, next)
			if err != nil {
				return err
			}

			f := folder{hash: next}
			f.own, f.branches = n[0].Measure()
			var ask []tree.Hash

			for _, b := range f.branches {
				if _, ok := known[b.Child]; !ok {
					ask = append(ask, b.Child)
				}
			}

			if f.unknown, err = s.storedMeasures(ctx, ask, known); err != nil {
				return err
			}

			way = append(way, f)
			continue
		}

		if len(way) == 1 {
			return nil
		}

		below := make([]tree.Measure, len(at.branches))
		for i, b := range at.branches {
			below[i] = known[b.Child]
		}

		m, err := at.own.Grow(at.branches, below)
		if err != nil {
			return fmt.Errorf("%w: node %s, which was stored before: %w", ErrBadNode, at.hash, err)
		}
		if _, err := s.exec(ctx, `UPDATE node SET paths = ?, gaps = ?, depth = ?, below = ?, way = ? WHERE hash = ?`,
			m.Paths, m.Gaps, m.Depth, m.Below, m.Way, at.hash[:]); err != nil {
			return err
		}

		known[at.hash] = m
		way = way[:len(way)-1]
	}
}
