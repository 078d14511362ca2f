package tree

import (
	"context"
	"fmt"
	"runtime"
	"sync"

	"idletally/internal/core/perm"
)

// A Source gives encoded nodes by hash, several at once: wherever they are stored, one question
// for a folder's subfolders is cheaper than one for each.
type Source interface {
	Nodes(ctx context.Context, hashes []Hash) ([][]byte, error)
}

// Memory is a Source held in a map.
type Memory map[Hash][]byte

// Nodes returns the nodes asked for.
func (m Memory) Nodes(_ context.Context, hashes []Hash) ([][]byte, error) {
	out := make([][]byte, len(hashes))
	for i, h := range hashes {
		b, ok := m[h]
		if !ok {
			return nil, fmt.Errorf("node %s is not there", h)
		}
		out[i] = b
	}
	return out, nil
}

// Add stores a node.
func (m Memory) Add(n Node) Hash {
	b := Encode(n)
	h := Sum(b)
	m[h] = b
	return h
}

// Load fetches, verifies and decodes nodes.
func Load(ctx context.Context, src Source, hashes ...Hash) ([]Node, error) {
	return NewReader(src).Load(ctx, hashes...)
}

// A Reader loads many nodes of one source. Permission sets that it has checked once it knows
// again, since few sets serve many paths; where several nodes are loaded at once, all processors
// take part. It may be used by one goroutine at a time.
type Reader struct {
	src   Source
	known []map[string]perm.Set // one for each processor
}

// NewReader makes a reader.
func NewReader(src Source) *Reader { return &Reader{src: src} }

const (
	maxKnown = 50_000
	// Below so many bytes starting another goroutine costs more than it brings.
	shareFrom = 2 << 10
)

// Load fetches, verifies and decodes nodes.
func (r *Reader) Load(ctx context.Context, hashes ...Hash) ([]Node, error) {
	if len(hashes) == 0 {
		return nil, nil
	}
	raw, err := r.src.Nodes(ctx, hashes)
	if err != nil {
		return nil, err
	}

	size := 0
	for _, b := range raw {
		size += len(b)
	}

	workers := 1
	if size >= shareFrom {
		workers = min(runtime.GOMAXPROCS(0), len(raw))
	}

	for len(r.known) < workers {
		r.known = append(r.known, map[string]perm.Set{})
	}

	out := make([]Node, len(raw))
	errs := make([]error, workers)
	part := func(w int) {
		from, to := len(raw)*w/workers, len(raw)*(w+1)/workers
		if len(r.known[w]) > maxKnown {
			clear(r.known[w])
		}

		for i := from; i < to; i++ {
			if got := Sum(raw[i]); got != hashes[i] {
				errs[w] = fmt.Errorf("node %s is damaged: its bytes hash to %s", hashes[i], got)
				return
			}
			out[i], errs[w] = decode(raw[i], r.known[w])
			if errs[w] != nil {
				errs[w] = fmt.Errorf("node %s: %w", hashes[i], errs[w])
				return
			}
		}
	}

	var wg sync.WaitGroup
	for w := 1; w < workers; w++ {
		wg.Go(func() { part(w) })
	}

	part(0)
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, err
		}
	}

	return out, nil
}

const batch = 256

// Children loads the nodes of a folder's subfolders in batches, ahead of their turn.
type Children struct {
	Reader *Reader
	Of     *Node
	To     int               // entries from here on are not asked for; 0: all are
	Wanted func(*Entry) bool // nil wants all

	index []int // of the entries that were loaded
	nodes []Node
	next  int
}

// At returns the node of the entry with an index. Indexes only grow from call to call.
func (c *Children) At(ctx context.Context, i int) (*Node, error) {
	for c.next < len(c.index) && c.index[c.next] < i {
		c.next++
	}

	if c.next == len(c.index) || c.index[c.next] != i {
		c.index, c.next = c.index[:0], 0
		var want []Hash
		to := len(c.Of.Entries)
		if c.To > 0 {
			to = c.To
		}

		for j := i; j < to && len(want) < batch; j++ {
			if e := &c.Of.Entries[j]; e.HasChild() && (j == i || c.Wanted == nil || c.Wanted(e)) {
				want, c.index = append(want, e.Child), append(c.index, j)
			}
		}

		var err error
		if c.nodes, err = c.Reader.Load(ctx, want...); err != nil {
			return nil, err
		}
	}

	n := &c.nodes[c.next]
	if n.Forest {
		return nil, fmt.Errorf("node %s stands below a folder but holds roots", c.Of.Entries[i].Child)
	}

	return n, nil
}
