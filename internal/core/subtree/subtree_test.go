package subtree

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
	"idletally/internal/testkit/seeded"
)

var names = (&perm.Directory{
	Accounts: []perm.Account{
		{ID: unixid.UID(0), Name: "root", Groups: []perm.Principal{unixid.GID(0)}},
		{ID: unixid.UID(1), Name: "purser", Groups: []perm.Principal{unixid.GID(10)}},
		{ID: unixid.UID(2), Name: "clerk", Groups: []perm.Principal{unixid.GID(11), unixid.GID(10)}},
		{ID: unixid.UID(3), Name: "web", Groups: []perm.Principal{unixid.GID(12)}, Service: true},
	},
	Groups: []perm.Account{
		{ID: unixid.GID(0), Name: "root"},
		{ID: unixid.GID(10), Name: "crew"},
		{ID: unixid.GID(11), Name: "clerks"},
		{ID: unixid.GID(12), Name: "www"},
	},
}).Index()

func place(path string, k perm.Kind, p posix.State) access.Place {
	return access.Place{Path: pathname.Path(path), Kind: k, Set: p.Set()}
}

func listed(p posix.State, named posixacl.List) posix.State {
	p.Access = posixacl.Build(p.Mode.Owner(), p.Mode.Group(), p.Mode.Other(), named, nil)
	p.Mode = p.Access.Mode(p.Mode)
	return p
}

func someState(r *rand.Rand, k perm.Kind) posix.State {
	p := posix.State{UID: r.Uint32N(4), GID: 10 + r.Uint32N(3), Mode: mode.Mode(r.IntN(0o2000))}
	if k == perm.Folder && r.IntN(3) > 0 {
		p.Mode |= 0o111
	}
	if r.IntN(4) == 0 && k != perm.Link {
		p = listed(p, posixacl.List{{Tag: posixacl.User, ID: r.Uint32N(4), Perm: mode.Perm(r.IntN(8))}})
	}
	return p
}

// grown makes a random tree, and tells each of its paths with the way that leads there.
func grown(r *rand.Rand) (Snapshot, map[string]access.Way) {
	m := tree.Memory{}
	ways := map[string]access.Way{}
	var grow func(w access.Way, depth int) tree.Hash
	grow = func(w access.Way, depth int) tree.Hash {
		at := string(w[len(w)-1].Path)
		var n tree.Node
		for i := range 2 + r.IntN(9) {
			e := tree.Entry{Name: fmt.Sprintf("%c%d", 'a'+r.IntN(3), i), Kind: perm.Kind(1 + r.IntN(3))}
			e.Set = someState(r, e.Kind).Set()
			p := access.Place{Path: pathname.Path(pathname.Join(at, e.Name)), Kind: e.Kind, Set: e.Set}
			below := append(slices.Clone(w), p)
			if e.Kind == perm.Folder {
				switch {
				case depth == 0 || r.IntN(8) == 0:
					e.Gap = tree.Gap(1 + r.IntN(3))
					below[len(below)-1].Top = e.Gap == tree.Mount
				default:
					e.Child = grow(below, depth-1)
				}
			}

			ways[string(p.Path)] = below
			n.Entries = append(n.Entries, e)
		}

		slices.SortFunc(n.Entries, func(a, b tree.Entry) int { return strings.Compare(a.Name, b.Name) })
		return m.Add(n)
	}

	top := someState(r, perm.Folder)
	if r.IntN(4) > 0 {
		top.Mode |= 0o111
	}

	// a root may be a file system's own
	root := access.Place{Path: "/srv/app", Kind: perm.Folder, Set: top.Set(), Top: r.IntN(3) == 0}
	w := access.Way{
		place("/", perm.Folder, posix.State{Mode: 0o755}),
		place("/srv", perm.Folder, posix.State{Mode: 0o755}),
		root,
	}
	ways["/srv/app"] = w
	h := m.Add(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{{Name: "/srv/app", Kind: perm.Folder, Set: root.Set, Child: grow(w, 4)}},
	})
	return Snapshot{Source: m, Forest: h, Ways: []access.Way{w}}, ways
}

// The walk that goes only where a way leads finds exactly what asking each path by itself finds.
func TestAskIsAskingEachPath(t *testing.T) {
	r := seeded.Rand(t)
	ctx := context.Background()
	found := 0

	for range 150 {
		snap, ways := grown(r)
		who := access.SubjectOf(names,
			[]perm.Principal{unixid.UID(0), unixid.UID(1), unixid.UID(2), unixid.UID(3), perm.Everyone}[r.IntN(5)])
		q := Query{
			Operation: access.Operations[r.IntN(len(access.Operations))],
			Now:       access.NewAsker(who),
			Limit:     1 << 20,
			Names:     names,
			Behind:    r.IntN(4) == 0,
			Weigh:     true,
		}

		switch r.IntN(3) {
		case 1:
			q.Then = access.NewAsker(access.SubjectOf(names, who.ID, unixid.GID(12)))
		case 2:
			q.Then = access.NewAsker(who)
			q.Suppose = func(_ string, f perm.Found) perm.Set {
				p, err := posix.Of(f.Set)
				if err != nil || f.Kind == perm.Link {
					return f.Set
				}

				p.Mode |= 0o7
				if p.Access != nil {
					p.Access = p.Access.Chmod(p.Mode)
				}

				return p.Set()
			}
		}

		if r.IntN(3) == 0 {
			for path, w := range ways {
				if w[len(w)-1].Kind == perm.Folder {
					q.Under = path
					break
				}
			}
		}

		got, err := snap.Ask(ctx, q)
		if err != nil {
			t.Fatal(err)
		}

		want := map[string]Reached{}
		for path, w := range ways {
			if q.Under != "" && !pathname.Under(path, q.Under) {
				continue
			}

			can := func(a *access.Asker, w access.Way) bool {
				if q.Behind {
					last := len(w) - 1
					return a.Decide(w.FolderOf(last), &w[last], q.Operation).OK
				}
				return a.Can(w, q.Operation)
			}

			x := Reached{Path: pathname.Path(path), Kind: w[len(w)-1].Kind, Set: w[len(w)-1].Set, Was: can(q.Now, w)}
			x.Is = x.Was
			if q.Then != nil {
				x.Is = can(q.Then, q.Suppose.On(w))
			}

			if x.Was || x.Is {
				want[path] = x
			}
		}

		if len(got.Paths) != len(want) {
			t.Fatalf("%+v under %q: %d paths, want %d", who, q.Under, len(got.Paths), len(want))
		}

		found += len(want)
		var held, then, grouped int64
		for _, p := range got.Paths {
			if p != want[string(p.Path)] {
				t.Fatalf("%s %+v: %+v, want %+v", q.Operation, who, p, want[string(p.Path)])
			}
			if p.Was {
				held++
			}
			if p.Is {
				then++
			}
		}

		weights := map[string]int64{} // by the entry of the folder that was asked about; without one, by root
		for path, x := range want {
			entry := "/srv/app"
			if q.Under != "" {
				rest, below := strings.CutPrefix(path, q.Under+"/")
				if !below {
					continue
				}

				first, _, _ := strings.Cut(rest, "/")
				entry = pathname.Join(q.Under, first)
			}
			if x.Was {
				weights[entry]++
			}
		}

		for _, w := range got.Weights {
			if weights[string(w.Path)] != w.Held || w.Looked < w.Held ||
				w.Kind != ways[string(w.Path)][len(ways[string(w.Path)])-1].Kind {
				t.Fatalf("under %q: %+v, want %d", q.Under, w, weights[string(w.Path)])
			}
			delete(weights, string(w.Path))
		}

		if len(weights) > 0 {
			t.Fatalf("under %q nothing is said of %v", q.Under, weights)
		}

		for _, g := range got.Groups {
			grouped += g.Count
			if x, ok := want[string(g.Example)]; !ok || x.Set != g.Set ||
				!pathname.Under(string(g.Example), string(g.Folder)) {
				t.Fatalf("group %+v", g)
			}
		}

		if held != got.Held || then != got.Then || grouped != int64(len(want)) || got.Gained-got.Lost != then-held {
			t.Fatalf("held %d, then %d, grouped %d of %d: %+v", held, then, grouped, len(want), got)
		}

		// Pages put together are the whole.
		var paged []Reached
		for q.Limit = 3; ; {
			page, err := snap.Ask(ctx, q)
			if err != nil {
				t.Fatal(err)
			}

			paged = append(paged, page.Paths...)
			q.After = string(page.Next)
			if q.After == "" {
				break
			}
		}

		if !slices.Equal(paged, got.Paths) {
			t.Fatalf("pages have %d paths, the whole %d", len(paged), len(got.Paths))
		}
	}

	t.Logf("%d paths found", found)
	if found < 1000 {
		t.Errorf("only %d paths were found in all: the trees are too plain", found)
	}
}

func TestWayOfASnapshot(t *testing.T) {
	r := seeded.Rand(t)
	ctx := context.Background()
	for range 50 {
		snap, ways := grown(r)
		for path, want := range ways {
			got, c, err := snap.Way(ctx, path)
			if err != nil || !slices.Equal(got, want) {
				t.Fatalf("%s: %v, %v; want %v", path, got, err, want)
			}
			if last := want[len(want)-1]; (last.Kind == perm.Folder) != (c.Node != nil || c.Gap != "") {
				t.Fatalf("%s %s: content %+v", path, last.Kind, c)
			}
		}
	}

	snap, _ := grown(r)
	if w, c, err := snap.Way(ctx, "/srv"); err != nil || len(w) != 2 || c.Gap == "" {
		t.Errorf("above the roots: %v, %+v, %v", w, c, err)
	}

	if _, _, err := snap.Way(ctx, "/etc"); err == nil {
		t.Error("a path outside the roots was found")
	}

	// Where nobody told what lies above the roots nothing is promised.
	snap.Ways = nil
	w, _, err := snap.Way(ctx, "/srv/app")
	if err != nil || len(w) != 3 {
		t.Fatalf("%v, %v", w, err)
	}

	if a := access.NewAsker(access.SubjectOf(names, unixid.UID(1))).May(w, access.List, names); a.Allowed ||
		a.Cause != access.ByUnread {
		t.Errorf("%+v", a)
	}

	ctx, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := snap.Ask(ctx, Query{
		Operation: access.Read,
		Now:       access.NewAsker(access.SubjectOf(names, unixid.UID(0))),
		Behind:    true,
	}); err == nil {
		t.Error("a cancelled question was answered")
	}
}
