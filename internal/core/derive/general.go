package derive

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// An item is one pattern and what holds there.
type item struct {
	parts []string // of the pattern, ** left out
	from  int      // parts of the root that it lies in
	below bool     // all below, too
	many  bool     // the last part is a wildcard
	only  string
	set   map[int]label
	last  bool    // it stands at the end, and has ** after its root
	was   []*item // what it was made of
}

func (i *item) pattern() string {
	parts := i.parts
	if i.last {
		parts = slices.Insert(slices.Clone(parts), i.from, "**")
	}
	if i.below {
		parts = append(slices.Clone(parts), "**")
	}
	return "/" + strings.Join(parts, "/")
}

// effect names what holds, and for which kinds.
func (i *item) effect() string {
	var b strings.Builder
	for _, key := range slices.Sorted(maps.Keys(i.set)) {
		fmt.Fprintf(&b, "%d=%d,", key, i.set[key])
	}
	return b.String() + i.only
}

// order says where an item stands: outer before inner, folders with all below before what is in
// them, patterns before single names; a later one wins.
func order(a, b *item) int {
	number := func(x bool) int {
		if x {
			return 1
		}
		return 0
	}
	return cmp.Or(number(a.last)-number(b.last), len(a.parts)-len(b.parts), number(b.below)-number(a.below),
		b.width()-a.width(), cmp.Compare(a.pattern(), b.pattern()), cmp.Compare(a.only, b.only))
}

// width tells how much a pattern leaves open: wildcards, and most the last part's.
func (i *item) width() (n int) {
	for k, part := range i.parts {
		if baseline.Wild(part) {
			n += 2
		}
		if k == len(i.parts)-1 && baseline.Wild(part) {
			n++
		}
	}
	return n
}

// A block is items that one rule says.
type block struct{ items []*item }

// general makes rules of what was decided.
type general struct {
	w           *words
	application string
	hosts       []Seen
	roots       []string
	items       map[string]*item
	rules       []*block
}

// note takes one decision.
func (g *general) note(pattern string, below, many bool, kind perm.Kind, key int, l label) {
	if v := g.w.values[key]; l != anything && v[l].text == "no" && len(v) == int(firstOwn)+1 {
		return // no path has the flag: it goes without saying
	}

	it := &item{below: below, many: many, set: map[int]label{}}
	if p := strings.Trim(pattern, "/"); p != "" {
		it.parts = strings.Split(p, "/")
	}

	if many {
		it.only = kind.String()
		if kind != perm.File && kind != perm.Link {
			it.only = "other"
		}
	}

	for _, root := range g.roots {
		n := len(strings.Split(strings.Trim(root, "/"), "/"))
		if pattern == patternOf(root) || strings.HasPrefix(pattern, patternOf(root)+"/") {
			it.from = n
			if root == "/" {
				it.from = 0
			}
		}
	}

	id := it.pattern() + "\x00" + it.only
	if g.items[id] == nil {
		g.items[id] = it
	}

	g.items[id].set[key] = l
}

// manyItems is more than anybody reads; maxItems bounds how many items mergers are tried for.
const (
	manyItems = 1_000
	maxItems  = 200_000
)

func varied(n int) error {
	return fmt.Errorf("%w: a draft would have %d rules and exceptions; take the hosts one by one, or fewer folders",
		ErrVaried, n)
}

func (g *general) list() []*item { return slices.SortedFunc(maps.Values(g.items), order) }

// rounds bounds how often one kind of merger is held against the snapshots.
const rounds = 4

// settle merges what says the same, as long as everything stays as it was seen.
func (g *general) settle(ctx context.Context) error {
	if len(g.items) == 0 {
		return fmt.Errorf("%w: no path could be looked at", ErrVaried)
	}
	if len(g.items) > maxItems {
		return varied(len(g.items))
	}

	list := g.list()
	for _, merge := range []func([]*item) []*item{siblings, anywhere} {
		var err error
		if list, err = g.try(ctx, list, merge(list)); err != nil {
			return err
		}
	}

	if len(list) > baseline.MaxRules {
		return varied(len(list))
	}
	g.rules = together(list, func(string) bool { return false })
	if err := g.limit(ctx); err != nil {
		return err
	}

	apart := map[string]bool{} // effects that have to be said in several places
	for round := 0; ; round++ {
		g.rules = together(list, func(effect string) bool { return round < rounds && !apart[effect] })
		faults, err := hold(ctx, g.text(nil, 0), g.hosts)
		switch {
		case err != nil:
			return err
		case len(faults) == 0:
			return nil
		case round == rounds:
			return fmt.Errorf("%w: the draft does not come out as host %s is, at %s", ErrVaried,
				g.hosts[faults[0].at.host].Host, pathname.Escape(faults[0].path))
		}

		for _, f := range faults {
			apart[g.rules[f.rule].items[0].effect()] = true
		}
	}
}

// try takes a merged list for another, less the mergers that make a path come out wrong.
func (g *general) try(ctx context.Context, list, merged []*item) ([]*item, error) {
	for range rounds {
		if len(merged) == len(list) {
			return list, nil
		}

		g.rules = together(merged, func(string) bool { return false })
		faults, err := hold(ctx, g.text(nil, 0), g.hosts)
		if err != nil {
			return nil, err
		}

		wrong := map[*item]bool{}
		for _, f := range faults {
			for _, it := range g.rules[f.rule].items {
				wrong[it] = it.was != nil
			}
		}

		var kept []*item
		undone := false
		for _, it := range merged {
			if wrong[it] {
				kept, undone = append(kept, it.was...), true
			} else {
				kept = append(kept, it)
			}
		}

		slices.SortFunc(kept, order)
		switch {
		case len(faults) == 0:
			return merged, nil
		case !undone: // they come out wrong for want of an order that suits all
			return list, nil
		}

		merged = kept
	}

	return list, nil
}

// siblings uses a wildcard where the same is declared in several folders beside each other.
func siblings(list []*item) []*item {
	return merge(list, 3, func(it *item) (out []item) {
		for i := it.from; i < len(it.parts); i++ {
			if baseline.Wild(it.parts[i]) {
				continue
			}

			c := *it
			c.parts = slices.Clone(it.parts)
			c.parts[i] = "*"
			c.many = c.many || i == len(it.parts)-1
			if c.many && !c.below && c.only == "" {
				continue // what single names are is not known here
			}

			out = append(out, c)
		}

		return out
	})
}

// anywhere uses ** between a root and a name that has the same rule wherever it lies.
func anywhere(list []*item) []*item {
	return merge(list, 3, func(it *item) []item {
		if len(it.parts)-it.from < 2 || it.last ||
			baseline.Wild(it.parts[len(it.parts)-1]) && ending(it.parts[len(it.parts)-1]) == "" {
			return nil
		}
		c := *it
		c.parts = append(slices.Clone(it.parts[:it.from]), it.parts[len(it.parts)-1])
		c.last = true
		return []item{c}
	})
}

// merge puts items into wider ones that at least so many have in common, the one with most first.
func merge(list []*item, least int, wider func(*item) []item) []*item {
	type candidate struct {
		it  item
		was []*item
	}
	byID := map[string]*candidate{}
	var ids []string

	for _, it := range list {
		for _, c := range wider(it) {
			id := c.pattern() + "\x00" + c.effect()
			if byID[id] == nil {
				byID[id] = &candidate{it: c}
				ids = append(ids, id)
			}
			byID[id].was = append(byID[id].was, it)
		}
	}

	slices.SortStableFunc(ids, func(a, b string) int { return len(byID[b].was) - len(byID[a].was) })
	gone := map[*item]bool{}
	var out []*item

	for _, id := range ids {
		c := byID[id]
		was := slices.DeleteFunc(c.was, func(it *item) bool { return gone[it] })
		if len(was) < least {
			continue
		}

		for _, it := range was {
			gone[it] = true
		}

		it := c.it
		it.was, it.set = was, maps.Clone(it.set)
		out = append(out, &it)
	}

	for _, it := range list {
		if !gone[it] {
			out = append(out, it)
		}
	}

	slices.SortFunc(out, order)
	return out
}

// together makes rules of items: those with the same effect that lie at the same depth, or wherever
// they lie.
func together(list []*item, wherever func(effect string) bool) (out []*block) {
	by := map[string]*block{}
	for _, it := range list {
		id := it.effect()
		if !wherever(id) {
			id += fmt.Sprintf(" %d %t %d %t", len(it.parts), it.below, it.width(), it.last)
		}
		if by[id] == nil {
			by[id] = &block{}
			out = append(out, by[id])
		}
		by[id].items = append(by[id].items, it)
	}
	// A rule stands where its last item has to.
	slices.SortStableFunc(out, func(a, b *block) int { return order(a.items[len(a.items)-1], b.items[len(b.items)-1]) })
	return out
}
