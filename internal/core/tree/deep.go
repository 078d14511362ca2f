package tree

import (
	"context"
	"slices"
)

// Each hands out every node of a snapshot once, as it is encoded, children before parents: whoever
// keeps them in this order has, with each node, all that is below it.
func Each(ctx context.Context, src Source, forest Hash, visit func(h Hash, node []byte) error) error {
	e := each{src: src, done: map[Hash]bool{}, held: map[Hash][]byte{}}
	if err := e.enter(ctx, []Hash{forest}, forest); err != nil {
		return err
	}

	for len(e.way) > 0 {
		in := &e.way[len(e.way)-1]
		if in.next == len(in.children) {
			e.way = e.way[:len(e.way)-1]
			e.done[in.hash] = true
			delete(e.held, in.hash)
			if err := visit(in.hash, in.raw); err != nil {
				return err
			}

			continue
		}

		rest := in.children[in.next:]
		in.next++
		if err := e.enter(ctx, rest, rest[0]); err != nil {
			return err
		}
	}

	return nil
}

// each keeps the folders that it is in on a stack of its own: how deep they lie within each other others say.
type each struct {
	src  Source
	way  []inside
	done map[Hash]bool
	held map[Hash][]byte // loaded, and not yet handed out: of the folders on the way
}

// inside is a node whose children come first.
type inside struct {
	hash     Hash
	raw      []byte
	children []Hash
	next     int
}

// enter goes into a node that was not handed out. Where it is not loaded, those that come after it are loaded with it.
func (e *each) enter(ctx context.Context, siblings []Hash, h Hash) error {
	if e.done[h] {
		return nil
	}

	if e.held[h] == nil {
		var want []Hash
		for _, s := range siblings[:min(len(siblings), batch)] {
			if !e.done[s] && e.held[s] == nil && !slices.Contains(want, s) {
				want = append(want, s)
			}
		}

		raw, err := e.src.Nodes(ctx, want)
		if err != nil {
			return err
		}

		for i, s := range want {
			e.held[s] = raw[i]
		}
	}

	n, err := Decode(e.held[h])
	if err != nil {
		return err
	}

	e.way = append(e.way, inside{h, e.held[h], n.Children(), 0})
	return nil
}
