package tree

import (
	"errors"
	"fmt"

	"idletally/internal/core/pathname"
)

// Bounds of a snapshot. Trees are made by whoever has an account on a host, and nodes by whoever has an
// agent's key; what walks a tree holds the nodes from its root to where it is, so these bound what any walk
// takes.
const (
	MaxDepth = 1024      // folders within each other
	MaxBelow = 8 << 10   // bytes of a path below its root
	MaxWay   = 64 << 20  // weight of the nodes from a root to any folder, all together
	MaxPaths = 100 << 20 // below a root; a folder that is there in several places counts in each
)

// ErrTooLarge says that a folder, or what is below it, passes one of the bounds.
var ErrTooLarge = errors.New("too large")

// Weight is about how many bytes an entry takes in memory, as one of a node. before is the set of the entry
// before it in the node: neighbours are mostly alike, and share it.
func (e *Entry) Weight(before *Entry) int {
	n := 96 + len(e.Name)
	if before == nil || before.Set != e.Set {
		n += len(e.Set.Bytes())
	}
	return n
}

// Weight is about how many bytes a node takes in memory.
func (n *Node) Weight() int {
	sum := 0
	var before *Entry
	for i := range n.Entries {
		sum += n.Entries[i].Weight(before)
		before = &n.Entries[i]
	}
	return sum
}

// A Measure is what a folder, or a forest, comes to for whoever walks all that is below it.
type Measure struct {
	Paths int64 // below it
	Gaps  int64 // of them
	Depth int   // of folders within each other, itself the first; a forest is none
	Below int   // bytes of the longest path below it, from its own slash on; in a forest, below any root
	Way   int   // weight of the heaviest way down, its own node the first
}

// A Branch is a folder's subfolder.
type Branch struct {
	Child Hash
	name  int // bytes that a path takes until there
}

// Measure measures a node alone, and names its subfolders, which are to be added.
func (n *Node) Measure() (own Measure, branches []Branch) {
	own = Measure{Paths: int64(len(n.Entries)), Depth: 1, Way: n.Weight()}
	if n.Forest {
		own.Depth = 0
	}

	for i := range n.Entries {
		e := &n.Entries[i]
		name := 0
		if !n.Forest { // whose names are whole paths, with a bound of their own
			name = 1 + len(e.Name)
		}

		own.Below = max(own.Below, name)
		if e.Gap != NoGap {
			own.Gaps++
		}

		if e.HasChild() {
			branches = append(branches, Branch{e.Child, name})
		}
	}

	return own, branches
}

// Grow returns the measure of a folder from its own and those of its subfolders, in the order of its branches.
// ErrTooLarge says which bound it passes.
func (m Measure) Grow(branches []Branch, measures []Measure) (Measure, error) {
	var deepest, heaviest int
	for i, c := range measures {
		deepest, heaviest = max(deepest, c.Depth), max(heaviest, c.Way)
		m.Below = max(m.Below, branches[i].name+c.Below)
		m.Gaps += c.Gaps
		m.Paths += c.Paths
		if m.Paths > MaxPaths {
			return m, fmt.Errorf("%w: there are more than %d paths below it", ErrTooLarge, MaxPaths)
		}
	}
	m.Depth += deepest
	m.Way += heaviest
	return m, m.check()
}

func (m Measure) check() error {
	switch {
	case m.Depth > MaxDepth:
		return fmt.Errorf("%w: there are folders within each other more than %d deep", ErrTooLarge, MaxDepth)
	case m.Below > MaxBelow:
		return fmt.Errorf("%w: there are paths of more than %d bytes below it", ErrTooLarge, MaxBelow)
	case m.Way > MaxWay:
		return fmt.Errorf("%w: the folders on one way down have too many entries together", ErrTooLarge)
	}
	return nil
}

// A Way is how far down a scan is, and what the folders on the way there weigh.
type Way struct {
	Depth int // of folders; a root's content has 1
	Below int // bytes of the path from the root on
	Held  int // weight of their nodes
}

// Into is the way into a folder's subfolder. ErrTooLarge says that nothing there is to be looked at.
func (w Way) Into(name string) (Way, error) {
	w.Depth++
	w.Below += 1 + len(name)
	switch {
	case w.Depth > MaxDepth:
		return w, fmt.Errorf("%w: it lies more than %d folders deep", ErrTooLarge, MaxDepth)
	case w.Below+1+pathname.MaxName > MaxBelow: // whatever is in it
		return w, fmt.Errorf("%w: the paths in it have more than %d bytes", ErrTooLarge, MaxBelow)
	}
	return w, nil
}

// Hold adds what an entry weighs. ErrTooLarge says that the folder has too much, with what is on the way to it.
func (w *Way) Hold(e, before *Entry) error {
	w.Held += e.Weight(before)
	if w.Held > MaxWay {
		return fmt.Errorf("%w: it has too many entries, with those of the folders above it", ErrTooLarge)
	}
	return nil
}

// Fits reports whether a node can be encoded within the bounds of one. It is ErrTooLarge where not.
func (n *Node) Fits() error {
	if len(n.Entries) > MaxEntries {
		return fmt.Errorf("%w: it has more than %d entries", ErrTooLarge, MaxEntries)
	}

	// Few nodes come near the bounds, and those are counted exactly.
	most := 16
	for i := range n.Entries {
		e := &n.Entries[i]
		most += len(e.Name) + 60
		if i == 0 || n.Entries[i-1].Set != e.Set {
			most += len(e.Set.Bytes()) + 4
		}
	}

	if most <= MaxNode && len(n.Entries) <= MaxSets {
		return nil
	}

	sets := map[string]bool{}
	for i := range n.Entries {
		sets[n.Entries[i].Set.Bytes()] = true
	}

	if len(sets) > MaxSets {
		return fmt.Errorf("%w: it has more than %d different permissions", ErrTooLarge, MaxSets)
	}
	if most > MaxNode && len(Encode(*n)) > MaxNode {
		return fmt.Errorf("%w: its names and access lists take more than %d MiB", ErrTooLarge, MaxNode>>20)
	}

	return nil
}
