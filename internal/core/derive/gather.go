package derive

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// What a statement costs: a rule or an exception, and a penalty for leaving something free, since a baseline should
// be as strict as it can.
const (
	costRule  = 100
	costLoose = 350
	costFree  = 1500
)

// freePenalty is the cost of leaving a path undeclared although it could have a rule of its own. The strictest comes
// first: hosts that get too many rules by it are drafted more freely.
var freePenalty = []int{costRule / 10, costRule / 100, 0}

// A choice is a value that a folder can stand under, and what exceptions it then costs.
type choice struct {
	label label
	cost  int
}

// A tally is what is known of one key in a folder and all below it.
type tally struct {
	said    bool // something is to be declared
	rule    int  // cost of a rule for the folder
	best    label
	choices []choice // values to stand under that cost less than a rule, by label
}

// under returns what it costs to stand under a value; never more than a rule of its own.
func (t *tally) under(l label) (cost int, own bool) {
	i, ok := slices.BinarySearchFunc(t.choices, l, func(c choice, l label) int { return cmp.Compare(c.label, l) })
	if ok {
		return t.choices[i].cost, false
	}
	return t.rule, true
}

// A bunch is the entries directly in a folder that one pattern names.
type bunch struct {
	name   string // a pattern part
	kind   perm.Kind
	many   bool // it stands for all of its kind and ending
	cost   int  // of an exception
	leaves []leaf
}

// costMany is the most that a bunch costs as an exception. It is one rule; but what most files of a folder have
// should be the folder's rule.
const costMany = 3 * costRule

// A branch is a folder. Where one rule says it all, what is in it is not kept.
type branch struct {
	name    string
	path    string
	kind    perm.Kind // 0 where hosts differ
	own     []leaf
	bunches []bunch
	below   []*branch
	tallies []tally
}

type gatherer struct {
	w       *words
	readers []*tree.Reader
}

// gather merges the snapshots into one tree of what is to be declared.
func gather(ctx context.Context, w *words, hosts []Seen) (*branch, error) {
	g := &gatherer{w: w}
	nodes := make([]*tree.Node, len(hosts))
	for i, h := range hosts {
		g.readers = append(g.readers, tree.NewReader(h.Source))
		n, err := g.readers[i].Load(ctx, h.Forest)
		if err != nil {
			return nil, err
		}
		nodes[i] = &n[0]
	}
	top := &branch{}
	return top, g.folder(ctx, top, nodes, make([]perm.Set, len(hosts)))
}

// folder reads what is in a folder on all hosts that have it; sets are how it is there.
func (g *gatherer) folder(ctx context.Context, b *branch, nodes []*tree.Node, sets []perm.Set) error {
	if err := ctx.Err(); err != nil {
		return err
	}

	children := make([]tree.Children, len(nodes))
	next := make([]int, len(nodes))
	for i, n := range nodes {
		if n != nil {
			children[i] = tree.Children{Reader: g.readers[i], Of: n}
		}
	}

	bunches := map[string]*gathered{}
	for {
		name, some := "", false
		for i, n := range nodes {
			if n != nil && next[i] < len(n.Entries) && (!some || n.Entries[next[i]].Name < name) {
				name, some = n.Entries[next[i]].Name, true
			}
		}

		if !some {
			break
		}

		var states []state
		var kind perm.Kind
		mixed := false
		inside, own := make([]*tree.Node, len(nodes)), make([]perm.Set, len(nodes))
		deeper := false

		for i, n := range nodes {
			if n == nil || next[i] == len(n.Entries) || n.Entries[next[i]].Name != name {
				continue
			}

			e := &n.Entries[next[i]]
			if e.HasChild() {
				child, err := children[i].At(ctx, next[i])
				if err != nil {
					return err
				}

				inside[i] = child
				own[i] = e.Set
				deeper = true
			}

			next[i]++
			if e.Set.IsZero() || e.Gap == tree.Mount { // these are not judged
				continue
			}

			mixed = mixed || kind != 0 && kind != e.Kind
			kind = e.Kind
			states = append(states, state{i, perm.In(sets[i], e.Kind, e.Set)})
		}

		asks := g.w.asks(states)
		if mixed {
			kind = 0
		}

		if !deeper {
			add(bunches, name, kind, asks)
			continue
		}

		c := &branch{name: name, path: pathname.Join(b.path, name), kind: kind, own: asks}
		if b.path == "" {
			c.path = name // a root
		}

		if err := g.folder(ctx, c, inside, own); err != nil {
			return err
		}

		b.below = append(b.below, c)
	}

	b.bunches = split(bunches)
	if b.path != "" { // the roots stay, each for itself
		g.w.sum(b)
	}

	return nil
}

// gathered is the things of one ending while a folder is read.
type gathered struct {
	kind   perm.Kind
	ending string
	common []leaf // what all of them would take; a key without labels is one on which they differ
	single []bunch
}

// ending returns a name's ending with its dot; "" where there is none.
func ending(name string) string {
	if i := strings.LastIndexByte(name, '.'); i > 0 && i < len(name)-1 {
		return name[i:]
	}
	return ""
}

// maxSingle bounds the things of one ending that are kept one by one.
const maxSingle = 200_000

func add(to map[string]*gathered, name string, kind perm.Kind, asks []leaf) {
	if len(asks) == 0 {
		return
	}

	// files without an ending and folders that were not read stand for themselves
	end, key := ending(name), kind.String()+"/"+name
	switch {
	case kind == perm.File && end != "":
		key = kind.String() + end
	case kind > perm.Folder:
		end, key = "", kind.String()
	}

	g := to[key]
	if g == nil {
		g = &gathered{kind: kind, ending: end, common: slices.Clone(asks)}
		to[key] = g
	}

	for i := range g.common { // of one kind the keys are the same, in the same order
		if meet := both(g.common[i].labels, asks[i].labels); len(meet) < len(g.common[i].labels) {
			g.common[i].labels = meet
		}
	}

	if len(g.single) < maxSingle {
		g.single = append(g.single, bunch{name: baseline.Quote(name), kind: kind, cost: costRule, leaves: asks})
	}
}

// split makes bunches: key by key the things of one ending stand together where they agree.
func split(from map[string]*gathered) (out []bunch) {
	for _, k := range slices.Sorted(maps.Keys(from)) {
		g := from[k]
		if len(g.single) == 1 {
			out = append(out, g.single[0])
			continue
		}

		together := bunch{
			name: "*" + baseline.Quote(g.ending),
			kind: g.kind,
			many: true,
			cost: min(costRule*len(g.single), costMany),
		}

		agreed := map[int]bool{}
		for _, l := range g.common {
			if len(l.labels) > 0 {
				agreed[l.key] = true
				together.leaves = append(together.leaves, l)
			}
		}

		if len(together.leaves) > 0 {
			out = append(out, together)
		}

		for _, s := range g.single {
			s.leaves = slices.DeleteFunc(slices.Clone(s.leaves), func(l leaf) bool { return agreed[l.key] })
			if len(s.leaves) > 0 {
				out = append(out, s)
			}
		}
	}

	return out
}

// sum tells what rules and exceptions a folder costs, and forgets what one rule says.
func (w *words) sum(b *branch) {
	b.tallies = make([]tally, len(perm.TermKeys))
	base := make([]int, len(b.tallies))            // every child a rule of its own
	saved := make([]map[label]int, len(b.tallies)) // by standing under a value
	anyhow := make([]int, len(b.tallies))          // under a free value
	note := func(key int, l label, n int) {
		if saved[key] == nil {
			saved[key] = map[label]int{}
		}
		saved[key][l] += n
	}

	one := func(l leaf, cost int) {
		b.tallies[l.key].said = true
		base[l.key] += cost
		anyhow[l.key] += w.under
		for _, x := range l.labels {
			note(l.key, x, cost)
		}

		if len(l.labels) == 0 {
			anyhow[l.key] -= w.under
		}
	}

	for _, l := range b.own {
		one(l, costRule)
	}

	for i := range b.bunches {
		for _, l := range b.bunches[i].leaves {
			one(l, b.bunches[i].cost)
		}
	}

	for _, c := range b.below {
		for key := range c.tallies {
			t := &c.tallies[key]
			if !t.said {
				continue
			}

			b.tallies[key].said = true
			base[key] += t.rule
			free, own := t.under(anything)
			anyhow[key] += free
			if own {
				anyhow[key] += costRule // what is free is to be as little as can be
			}

			for _, x := range t.choices {
				if x.label != anything {
					note(key, x.label, t.rule-x.cost)
				}
			}
		}
	}

	clean := b.kind != 0
	for key := range b.tallies {
		t := &b.tallies[key]
		if !t.said {
			continue
		}

		t.rule, t.best = anyhow[key]+costRule+costFree, anything
		for _, l := range slices.Sorted(maps.Keys(saved[key])) {
			cost := base[key] - saved[key][l] + costRule
			if w.values[key][l].loose {
				cost += costLoose
			}
			if cost < t.rule {
				t.rule, t.best = cost, l
			}
		}

		for l, n := range saved[key] {
			if cost := base[key] - n; cost < t.rule {
				t.choices = append(t.choices, choice{l, cost})
			}
		}

		if anyhow[key] < t.rule {
			t.choices = append(t.choices, choice{anything, anyhow[key]})
		}

		slices.SortFunc(t.choices, func(a, b choice) int { return cmp.Compare(a.label, b.label) })
		clean = clean && t.rule == costRule
	}

	if clean {
		b.own = nil
		b.bunches = nil
		b.below = nil
	}
}

// assign decides from the outer folder inwards what is said where. in holds the values that the
// folder above gives.
func (w *words) assign(
	b *branch, in []label, say func(pattern string, below, many bool, kind perm.Kind, key int, l label),
) {
	in = slices.Clone(in)
	for key := range b.tallies {
		if t := &b.tallies[key]; t.said {
			if _, own := t.under(in[key]); own {
				in[key] = t.best
				say(patternOf(b.path), true, false, perm.Folder, key, t.best)
			}
		}
	}

	except := func(pattern string, many bool, kind perm.Kind, l leaf) {
		switch {
		case kind == 0: // a file here and a folder there: what is said of all files may not hold, so its own is said
			say(pattern, false, false, kind, l.key, append(slices.Clone(l.labels), anything)[0])
		case slices.Contains(l.labels, in[l.key]) || in[l.key] == anything:
		case len(l.labels) == 0:
			say(pattern, false, many, kind, l.key, anything)
		default:
			say(pattern, false, many, kind, l.key, l.labels[0])
		}
	}

	for _, l := range b.own {
		except(patternOf(b.path), false, b.kind, l)
	}

	for _, x := range b.bunches {
		for _, l := range x.leaves {
			except(patternOf(b.path)+"/"+x.name, x.many, x.kind, l)
		}
	}

	for _, c := range b.below {
		w.assign(c, in, say)
	}
}

// patternOf quotes a path for a pattern.
func patternOf(path string) string {
	if path == "/" {
		return ""
	}
	return baseline.Quote(path)
}
