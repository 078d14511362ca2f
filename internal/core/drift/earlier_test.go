package drift

import (
	"context"
	"maps"
	"slices"
	"testing"

	"idletally/internal/core/baseline"
	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/testkit/seeded"
)

// recalled is what a comparison found, as the next one asks for it.
type recalled []Finding

func (r recalled) Below(_ context.Context, path string, _ tree.Gap, each func(Known) error) error {
	last := ""
	for _, f := range r {
		if f.FoundSet.IsZero() || f.Path == last || !pathname.Under(f.Path, path) {
			continue
		}
		last = f.Path
		if err := each(Known{f.Path, perm.Found{Kind: f.Kind, Set: f.FoundSet, Above: f.Above}}); err != nil {
			return err
		}
	}
	return nil
}

func (r recalled) Missing(_ context.Context, path string) (bool, error) {
	return slices.ContainsFunc(r, func(f Finding) bool { return f.Path == path && f.FoundSet.IsZero() }), nil
}

const watchful = `idletally: 1
application: app
hosts: {tags: [x]}
roots: [/srv/app]
rules:
  - {rule: all, paths: /srv/app/**, owner: purser, files: 0640, folders: 0750, entries: none}
  - {rule: must, paths: [/srv/app/a0/a0/a0, /srv/app/b1/none, /srv/app/none], exists: yes}
`

// Whatever path of a random tree cannot be read any more, as a whole or in part, and for whatever reason:
// what was found there stands on, marked as such, however often one looks. What can be read is told as it is,
// and when all can be read again nothing is left of it.
func TestEarlier(t *testing.T) {
	r := seeded.Rand(t)
	g := &grove{r: r, nodes: tree.Memory{}}
	for i, md := range []mode.Mode{0o640, 0o750, 0o644, 0o755, 0o600} {
		g.sets = append(g.sets, posix.State{UID: uint32(1 + i%2), GID: 1, Mode: md}.Set())
	}

	dir := (&perm.Directory{Accounts: []perm.Account{{ID: "u1", Name: "purser"}}}).Index()
	doc, err := baseline.Parse([]byte(watchful))
	if err != nil {
		t.Fatal(err)
	}

	m, problems := baseline.Compile(doc, dir)
	if len(problems) > 0 {
		t.Fatal(problems)
	}

	look := func(h tree.Hash, memo *Memo, before recalled) map[string]bool {
		t.Helper()
		out := map[string]bool{}
		unread := 0
		sum, groups, err := Compare(t.Context(), g.nodes, h, m, dir, memo, nil, Report{
			Earlier: before,
			Unread:  func(Unread) error { return nil },
			Finding: func(f Finding) error {
				key := f.Path + " " + string(f.Aspect)
				if _, twice := out[key]; twice {
					t.Errorf("%s is told twice", key)
				}

				out[key] = f.Unread
				if f.Unread {
					unread++
				}

				return nil
			},
		})

		if err != nil {
			t.Fatal(err)
		}

		for _, g := range groups {
			unread -= g.Unread
		}

		if sum.Findings != len(out) || unread != 0 {
			t.Errorf("%d findings are told and %d counted; %d more unread ones than the groups say", len(out),
				sum.Findings, unread)
		}

		return out
	}

	carried := 0
	for range 150 {
		world := g.seed(3)
		memo := NewMemo(300)
		before := g.forest(world)
		first := compared(t, g.nodes, before, m, dir, memo)

		hidden, path := world, "/srv/app"
		for {
			hidden = hidden.below[r.IntN(len(hidden.below))]
			path += "/" + hidden.entry.Name
			if len(hidden.below) == 0 || r.IntN(3) == 0 {
				break
			}
		}

		if hidden.entry.Gap != tree.NoGap {
			continue
		}

		was := hidden.entry
		hidden.entry.Gap = []tree.Gap{
			tree.Refused, tree.Vanished, tree.Mount, tree.Failed, tree.TooLarge, tree.Silent,
		}[r.IntN(6)]
		if r.IntN(2) == 0 {
			hidden.entry.Set = perm.Set{}
		}

		want := map[string]bool{}
		for _, f := range first.findings {
			lost := hidden.entry.Set.IsZero() || hidden.entry.Gap == tree.Mount
			want[f.Path+" "+string(f.Aspect)] = pathname.Under(f.Path, path) && (f.Path != path || lost)
		}

		now := g.forest(world)
		var chain recalled = first.findings
		for round := range 3 {
			if got := look(now, memo, chain); !maps.Equal(got, want) {
				t.Fatalf("round %d, %s is %s, set %v: found\n%v\nwant\n%v", round, path, hidden.entry.Gap,
					hidden.entry.Set, got, want)
			}
			memo = nil // and with nothing remembered
		}

		for _, unread := range want {
			if unread {
				carried++
			}
		}

		hidden.entry = was
		for what, unread := range look(before, nil, chain) {
			if unread {
				t.Errorf("%s is unread when all can be read again", what)
			}
		}
	}

	if carried < 100 {
		t.Errorf("only %d findings were hidden", carried)
	}
}
