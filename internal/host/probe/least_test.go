//go:build linux

package probe

import (
	"slices"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/least"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/unixid"
	"idletally/internal/host/look"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
)

// TestLeast makes what package least proposes, on real trees, and then asks the kernel: whoever asked may do it, and
// nobody else can do more on any path, but for those of whom that was said.
func TestLeast(t *testing.T) {
	r := seeded.Rand(t)
	made := map[least.Means]int{}
	for total := 0; total < testkit.Rounds(80, 1500); {
		t.Run("", func(t *testing.T) {
			w := grow(t, r, 15+r.IntN(10))
			total += w.propose(people(r)[:len(uids)], made)
		})
		if t.Failed() {
			break
		}
	}
	t.Logf("proposals that were made and tried: %v", made)
	if len(made) < 5 { // no entry of a mode denies anybody
		t.Errorf("only %d means came up", len(made))
	}
}

// propose asks for proposals of what some of the crew may not do, and tries them.
func (w *world) propose(crew []identity, made map[least.Means]int) (total int) {
	names := &perm.Directory{}
	for _, g := range gids {
		names.Groups = append(names.Groups, perm.Account{ID: unixid.GID(g), Name: string(unixid.GID(g))})
	}
	var hands []*person
	for _, who := range crew {
		s := who.subject()
		names.Accounts = append(names.Accounts, perm.Account{ID: s.ID, Name: string(s.ID), Groups: s.Groups})
		hands = append(hands, start(w.t, who))
	}
	names.Index()
	defer func() {
		for _, p := range hands {
			p.end(w.t)
		}
	}()

	for range 12 {
		who, n := w.r.IntN(len(crew)), w.nodes[w.r.IntN(len(w.nodes))]
		op := []access.Operation{access.Read, access.Write, access.Execute, access.List, access.Enter}[w.r.IntN(5)]
		found, err := look.Path(n.path)
		w.must(err)
		if n.kind != perm.File && n.kind != perm.Folder || !slices.Contains(access.For(n.kind, posix.ID), op) {
			continue
		}

		if op != access.Enter {
			w.tryClosing(crew, hands, deed{Op: op, Path: n.path, Kind: n.kind}, found.Way, names)
		}
		list, err := least.Find(w.t.Context(), least.Ask{
			Way:       found.Way,
			Who:       crew[who].subject(),
			Operation: op,
			Names:     names,
		})
		w.must(err)
		w.r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		for _, p := range list[:min(len(list), 2)] {
			if w.reaches(found.Way, p) {
				w.tryProposal(crew, hands, who, deed{Op: op, Path: n.path, Kind: n.kind}, found.Way, p)
				made[p.Means]++
				total++
			}
		}
	}
	return total
}

// at returns the world's own path of a place.
func (w *world) at(p access.Place) *node {
	i := slices.IndexFunc(w.nodes, func(n *node) bool { return n.path == string(p.Path) })
	if i < 0 {
		return nil
	}
	return w.nodes[i]
}

// reaches reports whether a proposal changes nothing outside of the world.
func (w *world) reaches(way access.Way, p least.Proposal) bool {
	return !slices.ContainsFunc(p.Changes, func(c least.Change) bool { return w.at(way[c.Place]) == nil })
}

// become gives a place another state, and returns what takes it back.
func (w *world) become(p access.Place, to perm.Set) (back func()) {
	n := w.at(p)
	was := n.state
	state, err := posix.Of(to)
	w.must(err)
	n.state = state
	w.set(n)
	return func() { n.state = was; w.set(n) }
}

// tryProposal makes a proposal, asks the kernel, and takes it back.
func (w *world) tryProposal(
	crew []identity, hands []*person, who int, want deed, way access.Way, p least.Proposal,
) {
	w.t.Helper()
	before := make([]map[deed]bool, len(crew))
	for i := range crew {
		before[i] = w.can(hands[i])
	}
	for _, c := range p.Changes {
		defer w.become(way[c.Place], c.After)()
	}

	hand := hands[who]
	if p.Means == least.Join {
		joined := crew[who]
		g, _ := unixid.Number(p.Party)
		joined.Groups = append(slices.Clone(joined.Groups), g)
		hand = start(w.t, joined)
		defer hand.end(w.t)
	}
	if got := hand.do(w.t, want); !got.Allowed {
		w.t.Errorf("%s of %s by %+v: proposed is %+v, and the kernel says %s\nway %s", want.Op, want.Path, crew[who], p,
			got.Errno, describe(way))
	}

	for i, other := range crew {
		if i == who || slices.Contains(p.Others, unixid.UID(other.UID)) {
			continue
		}
		for d, allowed := range w.can(hands[i]) {
			if allowed && !before[i][d] {
				w.t.Errorf("%s of %s by %+v: proposed is %+v, and then %+v can %s %s", want.Op, want.Path, crew[who], p,
					other, d.Op, d.Path)
			}
		}
	}
}

// tryClosing shuts out all but some of the crew, asks the kernel, and takes it back.
func (w *world) tryClosing(
	crew []identity, hands []*person, op deed, way access.Way, names *perm.Directory,
) {
	w.t.Helper()
	o := least.Only{Way: way, Operation: op.Op, Names: names}
	kept := map[perm.Principal]bool{}
	for _, who := range crew {
		if w.r.IntN(2) == 0 {
			o.Keep = append(o.Keep, who.subject())
			kept[unixid.UID(who.UID)] = true
		}
	}
	got, err := o.Find(w.t.Context())
	w.must(err)
	if slices.ContainsFunc(got.Changes, func(c least.Taken) bool { return w.at(way[c.Place]) == nil }) {
		return
	}

	var before []bool
	for i := range crew {
		before = append(before, hands[i].do(w.t, op).Allowed)
	}
	for _, c := range got.Changes {
		defer w.become(way[c.Place], c.After)()
	}
	for i, who := range crew {
		id := unixid.UID(who.UID)
		can := hands[i].do(w.t, op).Allowed
		switch {
		case !kept[id] && can != slices.Contains(got.Left, id),
			kept[id] && before[i] && !can && !slices.Contains(got.Short, id):
			w.t.Errorf("%s of %s by %+v (kept: %v): the kernel says %v, and %+v\nway %s", op.Op, op.Path, who, kept[id],
				can, got, describe(way))
		}
	}
}

// can returns what somebody can do with each path of the world, of what leaves no trace.
func (w *world) can(p *person) map[deed]bool {
	w.t.Helper()
	out := map[deed]bool{}
	for _, n := range w.nodes {
		for _, op := range []access.Operation{access.Read, access.Write, access.List, access.Enter} {
			if (n.kind == perm.File || n.kind == perm.Folder) && slices.Contains(access.For(n.kind, posix.ID), op) {
				d := deed{Op: op, Path: n.path, Kind: n.kind}
				out[d] = p.do(w.t, d).Allowed
			}
		}
	}
	return out
}
