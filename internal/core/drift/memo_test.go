package drift

import (
	"context"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/baseline"
	"idletally/internal/core/mode"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
	"idletally/internal/testkit/seeded"
)

// grove is a random tree that can be grown anew with a few paths changed.
type grove struct {
	r     *rand.Rand
	sets  []perm.Set
	nodes tree.Memory
}

type plant struct {
	entry tree.Entry
	below []*plant
}

func (g *grove) seed(depth int) *plant {
	p := &plant{entry: tree.Entry{Kind: perm.Folder, Set: g.sets[g.r.IntN(3)]}}
	for i := range 1 + g.r.IntN(6) {
		q := &plant{
			entry: tree.Entry{
				Name: fmt.Sprintf("%c%d", 'a'+g.r.IntN(2), i),
				Kind: perm.File,
				Set:  g.sets[g.r.IntN(len(g.sets))],
			},
		}
		switch x := g.r.IntN(10); {
		case x < 4 && depth > 0:
			name := q.entry.Name
			q = g.seed(depth - 1)
			q.entry.Name = name
		case x == 4:
			q.entry.Kind, q.entry.Gap = perm.Folder, tree.Gap(1+g.r.IntN(4))
		case x == 5:
			q.entry.Kind = perm.Link
		}
		p.below = append(p.below, q)
	}

	slices.SortFunc(p.below, func(a, b *plant) int { return strings.Compare(a.entry.Name, b.entry.Name) })
	return p
}

func (g *grove) grow(p *plant) tree.Hash {
	var n tree.Node
	for _, q := range p.below {
		e := q.entry
		if e.HasChild() {
			e.Child = g.grow(q)
		}
		n.Entries = append(n.Entries, e)
	}
	return g.nodes.Add(n)
}

func (g *grove) forest(p *plant) tree.Hash {
	root := p.entry
	root.Name, root.Child = "/srv/app", g.grow(p)
	return g.nodes.Add(tree.Node{Forest: true, Entries: []tree.Entry{root}})
}

func (g *grove) change(p *plant) {
	for len(p.below) > 0 && g.r.IntN(4) > 0 {
		p = p.below[g.r.IntN(len(p.below))]
	}
	p.entry.Set = g.sets[g.r.IntN(len(g.sets))]
}

type outcome struct {
	sum      Summary
	groups   []Group
	findings []Finding
	unread   []Unread
}

func compared(
	t *testing.T, src tree.Source, h tree.Hash, m *baseline.Matcher, d *perm.Directory, memo *Memo,
) (o outcome) {
	t.Helper()
	var err error
	o.sum, o.groups, err = Compare(t.Context(), src, h, m, d, memo, nil, Report{
		Finding: func(f Finding) error { o.findings = append(o.findings, f); return nil },
		Unread:  func(u Unread) error { o.unread = append(o.unread, u); return nil },
	})
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// slow compares one path after another, each from the root of the patterns on.
func slow(
	t *testing.T, src tree.Source, h tree.Hash, m *baseline.Matcher, d *perm.Directory,
) (paths []string, sum Summary) {
	t.Helper()
	missing := m.Required()
	var gaps []string
	err := tree.Fold(context.Background(), src, h, perm.Set{},
		func(path string, e tree.Entry, folder perm.Set) (perm.Set, error) {
			sum.Paths++
			if r, ok := missing[path]; ok && r.Admits(e.Kind) {
				delete(missing, path)
			}

			w := m.Desired(m.Root(path), e.Kind, e.Set)
			if w.Judges(e.Kind, e.Set) {
				sum.Judged++
			}

			if e.Gap != tree.NoGap && (w == nil || !w.LeaveAlone) {
				sum.Unread++
				gaps = append(gaps, path+"/")
			}

			if e.Set.IsZero() || e.Gap == tree.Mount {
				return e.Set, nil
			}

			for _, x := range w.Differences(perm.In(folder, e.Kind, e.Set), d) {
				sum.Findings++
				paths = append(paths, fmt.Sprint(path, x.Aspect, x.Declared, x.Found))
			}

			return e.Set, nil
		})

	if err != nil {
		t.Fatal(err)
	}

	for path := range missing {
		if !slices.ContainsFunc(gaps, func(g string) bool { return strings.HasPrefix(path, g) }) {
			sum.Findings++
		}
	}

	return paths, sum
}

// With a memo, without one, and one path after another: the findings are the same, over random
// trees, baselines, changes and hosts with other numbers for the same names.
func TestMemoChangesNothing(t *testing.T) {
	r := seeded.Rand(t)
	g := &grove{r: r, nodes: tree.Memory{}}
	for _, md := range []mode.Mode{0o640, 0o750, 0o640, 0o644, 0o755} {
		p := posix.State{UID: uint32(1 + r.IntN(2)), GID: 1, Mode: md}
		g.sets = append(g.sets, p.Set())
		p.Access = posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 4}}, nil)
		p.Mode = p.Access.Mode(p.Mode)
		g.sets = append(g.sets, p.Set())
	}

	shares := &grove{r: r, nodes: g.nodes}
	for _, list := range []string{
		"D:PAI(A;OICI;FA;;;WD)", "D:AI(A;OICIID;FA;;;WD)", "D:AI(A;OICI;FR;;;AU)(A;OICIID;FA;;;WD)",
		"D:AI(A;ID;FA;;;WD)", "D:AI(A;OICIID;FR;;;AU)", "D:AI",
	} {
		t.Run(list, func(t *testing.T) {
			d, err := ntsd.ParseSDDL("O:SYG:SY" + list)
			if err != nil {
				t.Fatal(err)
			}

			set, err := nt.SetOf(d)
			if err != nil {
				t.Fatal(err)
			}

			shares.sets = append(shares.sets, set)
		})
	}

	dirs := []*perm.Directory{}
	for _, n := range []uint32{1, 2} {
		dirs = append(dirs,
			(&perm.Directory{
				Accounts: []perm.Account{{ID: unixid.UID(n), Name: "purser"}, {ID: unixid.UID(3 - n), Name: "web"}},
				Groups:   []perm.Account{{ID: unixid.GID(n), Name: "crew"}},
			}).Index())
	}

	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	memo := NewMemo([]int{20, 300, 5000}[r.IntN(3)]) // a small one forgets what it is about to need
	hits, found := 0, 0

	for n := range 90 {
		g := g
		if n%3 == 0 {
			g = shares
		}

		var b strings.Builder
		b.WriteString("idletally: 1\napplication: app\nhosts: {tags: [x]}\nroots: [/srv/app]\n")
		if r.IntN(3) == 0 {
			b.WriteString("leave-alone: /srv/app/a1/**\n")
		}

		b.WriteString("rules:\n")
		for i := range 1 + r.IntN(4) {
			fmt.Fprintf(&b, "  - {rule: r%d, paths: %q, %s}\n", i,
				"/srv/app"+pick("/**", "/*/**", "/a*", "/b0", "/a0/**", "/**/b1"),
				pick("owner: purser", "group: crew", "files: g+r", "files: \"u+r,a-s\"", "folders: 0750",
					"entries: none", "entries: [\"user:web:r\"]", "entries: {at-least: [\"user:web:r\"]}",
					"files: 0640, only: not-executable", "inherits: from above", "inherits: stopped", "grants: none"))
		}

		if r.IntN(2) == 0 {
			fmt.Fprintf(&b, "  - {rule: must, paths: [/srv/app/a0/a0, /srv/app/b1], exists: yes}\n")
		}

		doc, err := baseline.Parse([]byte(b.String()))
		if err != nil {
			t.Fatal(err)
		}

		world := g.seed(4)
		for range 4 {
			h := g.forest(world)
			for _, d := range dirs {
				m, _ := baseline.Compile(doc, d)
				bare := compared(t, g.nodes, h, m, d, nil)
				m, _ = baseline.Compile(doc, d)
				before := len(memo.young) + len(memo.old)
				with := compared(t, g.nodes, h, m, d, memo)
				if len(memo.young)+len(memo.old) == before {
					hits++
				}

				if !reflect.DeepEqual(bare, with) {
					t.Fatalf("with a memo %+v\nwithout %+v\n%s", with, bare, b.String())
				}

				paths, sum := slow(t, g.nodes, h, m, d)
				var got []string
				for _, f := range bare.findings {
					if f.Aspect != perm.AspectPresence {
						got = append(got, fmt.Sprint(f.Path, f.Aspect, f.Declared, f.Found))
					}
				}

				if !slices.Equal(got, paths) || bare.sum != sum {
					t.Fatalf("%+v %q\nwant %+v %q\n%s", bare.sum, got, sum, paths, b.String())
				}

				found += sum.Findings
			}
			g.change(world)
		}
	}

	if hits == 0 || found < 500 {
		t.Errorf("%d comparisons added nothing to the memo, %d findings: too plain", hits, found)
	}
}

func TestMemoIsBounded(t *testing.T) {
	m := NewMemo(20)
	for i := range 1000 {
		m.put(spot{state: fmt.Sprint(i)}, &judged{sum: Summary{Paths: i}, items: make([]item, i%4)})
		weight := 0
		for _, held := range []map[spot]*judged{m.young, m.old} {
			for _, j := range held {
				weight += 1 + len(j.items)
			}
		}

		if weight > 20 {
			t.Fatalf("%d are held", weight)
		}
	}

	if j := m.get(spot{state: "999"}); j == nil || j.sum.Paths != 999 {
		t.Error("the newest is forgotten")
	}

	m.put(spot{state: "huge"}, &judged{items: make([]item, 100)})
	if m.get(spot{state: "huge"}) != nil || m.get(spot{state: "999"}) == nil {
		t.Error("one folder pushed out the others")
	}
}
