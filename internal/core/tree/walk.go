package tree

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"idletally/internal/core/pathname"
)

// A Source gives encoded nodes by hash, several at once: wherever they are stored, one question
// for a folder's subfolders is cheaper than one for each.
type Source interface {
	Nodes(ctx context.Context, hashes []Hash) ([][]byte, error)
}

// Memory is a Source held in a map.
type Memory map[Hash][]byte

// Nodes gives the nodes asked for.
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
	if len(hashes) == 0 {
		return nil, nil
	}
	raw, err := src.Nodes(ctx, hashes)
	if err != nil {
		return nil, err
	}
	out := make([]Node, len(raw))
	for i, b := range raw {
		if Sum(b) != hashes[i] {
			return nil, fmt.Errorf("node %s is damaged: its bytes hash to %s", hashes[i], Sum(b))
		}
		if out[i], err = Decode(b); err != nil {
			return nil, fmt.Errorf("node %s: %w", hashes[i], err)
		}
	}
	return out, nil
}

// ErrSkipFolder, returned by a visit, leaves a folder's content out.
var ErrSkipFolder = errors.New("skip this folder")

const batch = 256

// Walk visits every path of a snapshot, a folder before its content, names by bytes.
func Walk(ctx context.Context, src Source, forest Hash, visit func(path string, e Entry) error) error {
	return Fold(ctx, src, forest, struct{}{}, func(path string, e Entry, s struct{}) (struct{}, error) {
		return s, visit(path, e)
	})
}

// Fold walks like Walk and hands each folder's content a value that the visit of the folder gave.
func Fold[S any](ctx context.Context, src Source, forest Hash, start S, visit func(path string, e Entry, in S) (S, error)) error {
	roots, err := Load(ctx, src, forest)
	if err != nil {
		return err
	}
	if !roots[0].Forest {
		return fmt.Errorf("node %s is a folder, not the roots of a snapshot", forest)
	}
	return fold(ctx, src, "", roots[0], start, visit)
}

func fold[S any](ctx context.Context, src Source, at string, n Node, in S, visit func(string, Entry, S) (S, error)) error {
	full := func(e Entry) string {
		if n.Forest {
			return e.Name
		}
		return pathname.Join(at, e.Name)
	}
	// Everything before a subfolder is visited before it; nodes are fetched in batches ahead.
	var ahead []Node
	next := 0
	fetch := func(i int) error {
		var want []Hash
		for _, e := range n.Entries[i:] {
			if e.HasChild() {
				if want = append(want, e.Child); len(want) == batch {
					break
				}
			}
		}
		var err error
		ahead, err = Load(ctx, src, want...)
		next = 0
		return err
	}
	for i, e := range n.Entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		path := full(e)
		out, err := visit(path, e, in)
		skip := errors.Is(err, ErrSkipFolder)
		if err != nil && !skip {
			return err
		}
		if !e.HasChild() {
			continue
		}
		if next == len(ahead) {
			if err := fetch(i); err != nil {
				return err
			}
		}
		child := ahead[next]
		next++
		if skip {
			continue
		}
		if child.Forest {
			return fmt.Errorf("node %s stands below %s but holds roots", e.Child, pathname.Escape(path))
		}
		if err := fold(ctx, src, path, child, out, visit); err != nil {
			return err
		}
	}
	return nil
}

// ErrNoPath says that a snapshot does not hold a path.
var ErrNoPath = errors.New("path is not in the snapshot")

// Lookup finds one path; its node comes with it where it is a folder that was read.
func Lookup(ctx context.Context, src Source, forest Hash, path string) (Entry, *Node, error) {
	steps, node, err := Trace(ctx, src, forest, path)
	if err != nil {
		return Entry{}, nil, err
	}
	return steps[len(steps)-1], node, nil
}

// Trace finds one path and gives every entry on the way to it, from its root on.
func Trace(ctx context.Context, src Source, forest Hash, path string) ([]Entry, *Node, error) {
	nodes, err := Load(ctx, src, forest)
	if err != nil {
		return nil, nil, err
	}
	n := nodes[0]
	var at *Entry
	rest := ""
	for i := range n.Entries {
		if e := &n.Entries[i]; pathname.Under(path, e.Name) && (at == nil || len(e.Name) > len(at.Name)) {
			at = e
			rest = strings.Trim(path[len(e.Name):], "/")
		}
	}
	var steps []Entry
	for {
		if at == nil || !at.HasChild() && rest != "" {
			return nil, nil, fmt.Errorf("%w: %s", ErrNoPath, pathname.Escape(path))
		}
		steps = append(steps, *at)
		if !at.HasChild() {
			return steps, nil, nil
		}
		if nodes, err = Load(ctx, src, at.Child); err != nil {
			return nil, nil, err
		}
		if rest == "" {
			return steps, &nodes[0], nil
		}
		var part string
		part, rest, _ = strings.Cut(rest, "/")
		at = nodes[0].Find(part)
	}
}

// Find gives the entry of a name, nil where there is none.
func (n Node) Find(name string) *Entry {
	i := sort.Search(len(n.Entries), func(i int) bool { return n.Entries[i].Name >= name })
	if i < len(n.Entries) && n.Entries[i].Name == name {
		return &n.Entries[i]
	}
	return nil
}

// Diff visits every path that two snapshots do not have in common, descending only where hashes
// differ. The side on which a path is missing is nil.
func Diff(ctx context.Context, src Source, a, b Hash, visit func(path string, a, b *Entry) error) error {
	if a == b {
		return nil
	}
	nodes, err := Load(ctx, src, a, b)
	if err != nil {
		return err
	}
	return diff(ctx, src, "", &nodes[0], &nodes[1], visit)
}

func diff(ctx context.Context, src Source, at string, a, b *Node, visit func(string, *Entry, *Entry) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	names := map[string][2]*Entry{}
	forest := false
	for side, n := range []*Node{a, b} {
		if n == nil {
			continue
		}
		forest = forest || n.Forest
		for i := range n.Entries {
			pair := names[n.Entries[i].Name]
			pair[side] = &n.Entries[i]
			names[n.Entries[i].Name] = pair
		}
	}
	order := make([]string, 0, len(names))
	for name, p := range names {
		if p[0] == nil || p[1] == nil || *p[0] != *p[1] {
			order = append(order, name)
		}
	}
	slices.Sort(order)
	for _, name := range order {
		p := names[name]
		path := name
		if !forest {
			path = pathname.Join(at, name)
		}
		same := p[0] != nil && p[1] != nil && p[0].Kind == p[1].Kind && p[0].Set == p[1].Set && p[0].Gap == p[1].Gap
		if !same {
			if err := visit(path, p[0], p[1]); err != nil {
				return err
			}
		}
		var below [2]*Node
		for side, e := range p {
			if e != nil && e.HasChild() {
				nodes, err := Load(ctx, src, e.Child)
				if err != nil {
					return err
				}
				below[side] = &nodes[0]
			}
		}
		if below[0] != nil || below[1] != nil {
			if err := diff(ctx, src, path, below[0], below[1], visit); err != nil {
				return err
			}
		}
	}
	return nil
}
