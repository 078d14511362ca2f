package tree

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"

	"idletally/internal/core/pathname"
)

// ErrSkipFolder, returned by a visit, leaves a folder's content out.
var ErrSkipFolder = errors.New("skip this folder")

// Walk visits every path of a snapshot, a folder before its content, names by bytes.
func Walk(ctx context.Context, src Source, forest Hash, visit func(path string, e Entry) error) error {
	return Fold(ctx, src, forest, struct{}{}, func(path string, e Entry, s struct{}) (struct{}, error) {
		return s, visit(path, e)
	})
}

// WalkBelow visits what is in a folder, and all below it.
func WalkBelow(
	ctx context.Context, src Source, folder *Node, path string, visit func(path string, e Entry) error,
) error {
	return fold(ctx, NewReader(src), path, folder, struct{}{},
		func(path string, e Entry, s struct{}) (struct{}, error) {
			return s, visit(path, e)
		})
}

// Fold walks like Walk and hands each folder's content a value that the visit of the folder gave.
func Fold[S any](
	ctx context.Context, src Source, forest Hash, start S, visit func(path string, e Entry, in S) (S, error),
) error {
	r := NewReader(src)
	roots, err := r.Load(ctx, forest)
	if err != nil {
		return err
	}
	if !roots[0].Forest {
		return fmt.Errorf("node %s is a folder, not the roots of a snapshot", forest)
	}
	return fold(ctx, r, "", &roots[0], start, visit)
}

// A level is a folder that a walk is in.
type level[S any] struct {
	at    string
	of    *Node
	in    S
	below Children
	next  int // of its entries
}

// fold keeps the folders that it is in on a stack of its own: how deep they lie within each other others say.
func fold[S any](
	ctx context.Context, r *Reader, at string, n *Node, in S, visit func(string, Entry, S) (S, error),
) error {
	stack := []*level[S]{{at: at, of: n, in: in, below: Children{Reader: r, Of: n}}}
	for len(stack) > 0 {
		l := stack[len(stack)-1]
		if l.next == len(l.of.Entries) {
			stack = stack[:len(stack)-1]
			continue
		}

		if err := ctx.Err(); err != nil {
			return err
		}

		i, e := l.next, l.of.Entries[l.next]
		l.next++
		path := e.Name
		if !l.of.Forest {
			path = pathname.Join(l.at, e.Name)
		}

		out, err := visit(path, e, l.in)
		switch {
		case errors.Is(err, ErrSkipFolder):
			continue
		case err != nil:
			return err
		case !e.HasChild():
			continue
		}

		child, err := l.below.At(ctx, i)
		if err != nil {
			return err
		}

		stack = append(stack, &level[S]{at: path, of: child, in: out, below: Children{Reader: r, Of: child}})
	}

	return nil
}

// Order returns the order in which a walk of a forest with these roots meets paths: root by root, by their
// bytes, and below each as pathname.Compare has it. Those two differ: /srv/a-b comes before /srv/a/c as a
// root, and behind it as a path.
func Order(roots []string) func(a, b string) int {
	number := map[string]int{}
	for i, r := range slices.Sorted(slices.Values(roots)) {
		number[r] = i
	}
	rootOf := func(path string) int {
		for at := path; ; at = pathname.Folder(at) {
			if n, ok := number[at]; ok {
				return n
			}
			if at == "/" || at == "" {
				return -1
			}
		}
	}
	return func(a, b string) int { return cmp.Or(cmp.Compare(rootOf(a), rootOf(b)), pathname.Compare(a, b)) }
}

// ErrNoPath says that a snapshot does not hold a path.
var ErrNoPath = errors.New("path is not in the snapshot")

// An UnreadError says that a path lies in a folder whose content is not in a snapshot: nobody knows whether
// the path was there.
type UnreadError struct {
	Path, Folder string
	Gap          Gap // of the folder
}

func (e *UnreadError) Error() string {
	return fmt.Sprintf("%s: nobody could look: the content of %s is not in the snapshot: %s", pathname.Escape(e.Path),
		pathname.Escape(e.Folder), e.Gap)
}

// IsUnread reports whether an error is an UnreadError.
func IsUnread(err error) bool {
	var unread *UnreadError
	return errors.As(err, &unread)
}

// IsUntold reports whether an error is that a snapshot tells nothing of a path: it is not there, or nobody could look.
func IsUntold(err error) bool { return errors.Is(err, ErrNoPath) || IsUnread(err) }

// Lookup finds one path; its node comes with it where it is a folder that was read.
func Lookup(ctx context.Context, src Source, forest Hash, path string) (Entry, *Node, error) {
	steps, node, err := Trace(ctx, src, forest, path)
	if err != nil {
		return Entry{}, nil, err
	}
	return steps[len(steps)-1], node, nil
}

// Trace finds one path and gives every entry on the way to it, from its root on. ErrNoPath says that the path
// is not there, an UnreadError that nobody knows.
func Trace(ctx context.Context, src Source, forest Hash, path string) ([]Entry, *Node, error) {
	return trace(path, forest, func(_ int, h Hash) (*Node, error) {
		nodes, err := Load(ctx, src, h)
		if err != nil {
			return nil, err
		}
		return &nodes[0], nil
	})
}

// A Follower finds one path in snapshot after snapshot. What two of them have in common on the way is read once.
type Follower struct {
	Source Source
	Path   string

	last []reading // by depth
}

type reading struct {
	hash Hash
	node *Node
}

// At returns the path's entry in a snapshot; its errors are those of [Trace].
func (f *Follower) At(ctx context.Context, forest Hash) (Entry, error) {
	steps, _, err := trace(f.Path, forest, func(depth int, h Hash) (*Node, error) {
		if depth < len(f.last) && f.last[depth].hash == h {
			return f.last[depth].node, nil
		}
		nodes, err := Load(ctx, f.Source, h)
		if err != nil {
			return nil, err
		}
		f.last = append(f.last[:min(depth, len(f.last))], reading{h, &nodes[0]})
		return &nodes[0], nil
	})
	if err != nil {
		return Entry{}, err
	}
	return steps[len(steps)-1], nil
}

// trace is [Trace] with a way to load the node at a depth.
func trace(path string, forest Hash, load func(depth int, h Hash) (*Node, error)) ([]Entry, *Node, error) {
	n, err := load(0, forest)
	if err != nil {
		return nil, nil, err
	}

	at, rest := n.root(path)
	var steps []Entry
	for {
		if at != nil && at.Gap != NoGap && rest != "" {
			return nil, nil, &UnreadError{path, strings.TrimSuffix(path, "/"+rest), at.Gap}
		}
		if at == nil || !at.HasChild() && rest != "" {
			return nil, nil, fmt.Errorf("%w: %s", ErrNoPath, pathname.Escape(path))
		}
		steps = append(steps, *at)
		if !at.HasChild() {
			return steps, nil, nil
		}
		if n, err = load(len(steps), at.Child); err != nil {
			return nil, nil, err
		}
		if rest == "" {
			return steps, n, nil
		}

		var part string
		part, rest, _ = strings.Cut(rest, "/")
		at = n.Find(part)
	}
}

// root returns the deepest root of a forest that holds a path, and the rest of the path; nil where none does.
func (n Node) root(path string) (at *Entry, rest string) {
	for i := range n.Entries {
		if e := &n.Entries[i]; pathname.Under(path, e.Name) && (at == nil || len(e.Name) > len(at.Name)) {
			at, rest = e, strings.Trim(path[len(e.Name):], "/")
		}
	}
	return at, rest
}

// Find returns the entry of a name, nil where there is none.
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

	r := NewReader(src)
	nodes, err := r.Load(ctx, a, b)
	if err != nil {
		return err
	}

	stack := []*pairs{pair("", &nodes[0], &nodes[1])}
	for len(stack) > 0 {
		l := stack[len(stack)-1]
		if len(l.order) == 0 {
			stack = stack[:len(stack)-1]
			continue
		}

		if err := ctx.Err(); err != nil {
			return err
		}

		name := l.order[0]
		l.order = l.order[1:]
		p, path := l.of[name], name
		if !l.forest {
			path = pathname.Join(l.at, name)
		}

		same := p[0] != nil && p[1] != nil && p[0].Kind == p[1].Kind && p[0].Set == p[1].Set && p[0].Gap == p[1].Gap
		if !same {
			if err := visit(path, p[0], p[1]); err != nil {
				return err
			}
		}

		var below [2]*Node
		for side, e := range p {
			if e == nil || !e.HasChild() {
				continue
			}
			nodes, err := r.Load(ctx, e.Child)
			if err != nil {
				return err
			}

			below[side] = &nodes[0]
		}

		if below[0] != nil || below[1] != nil {
			stack = append(stack, pair(path, below[0], below[1]))
		}
	}

	return nil
}

// pairs are the entries of two folders of one path that differ, or of one where the other is missing, by name.
type pairs struct {
	at     string
	forest bool
	of     map[string][2]*Entry
	order  []string // of those that are left
}

func pair(at string, a, b *Node) *pairs {
	l := &pairs{at: at, of: map[string][2]*Entry{}}
	for side, n := range []*Node{a, b} {
		if n == nil {
			continue
		}
		l.forest = l.forest || n.Forest
		for i := range n.Entries {
			p := l.of[n.Entries[i].Name]
			p[side] = &n.Entries[i]
			l.of[n.Entries[i].Name] = p
		}
	}

	for name, p := range l.of {
		if p[0] == nil || p[1] == nil || *p[0] != *p[1] {
			l.order = append(l.order, name)
		}
	}

	slices.Sort(l.order)
	return l
}
