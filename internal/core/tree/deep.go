package tree

import (
	"context"
	"slices"
)

// Each hands out every node of a snapshot once, as it is encoded, children before parents: whoever
// keeps them in this order has, with each node, all that is below it.
func Each(ctx context.Context, src Source, forest Hash, visit func(h Hash, node []byte) error) error {
	e := each{ctx, src, visit, map[Hash]bool{}, map[Hash][]byte{}}
	return e.all([]Hash{forest})
}

type each struct {
	ctx   context.Context
	src   Source
	visit func(Hash, []byte) error
	done  map[Hash]bool
	held  map[Hash][]byte // loaded, and not yet handed out: of the folders on the way
}

func (e *each) all(hashes []Hash) error {
	for some := range slices.Chunk(hashes, batch) {
		var want []Hash
		for _, h := range some {
			if !e.done[h] && e.held[h] == nil {
				want = append(want, h)
			}
		}
		if len(want) > 0 {
			raw, err := e.src.Nodes(e.ctx, want)
			if err != nil {
				return err
			}
			for i, h := range want {
				e.held[h] = raw[i]
			}
		}
		for _, h := range some {
			if err := e.one(h); err != nil {
				return err
			}
		}
	}
	return nil
}

func (e *each) one(h Hash) error {
	if e.done[h] {
		return nil
	}
	b := e.held[h]
	n, err := Decode(b)
	if err != nil {
		return err
	}
	if err := e.all(n.Children()); err != nil {
		return err
	}
	e.done[h] = true
	delete(e.held, h)
	return e.visit(h, b)
}
