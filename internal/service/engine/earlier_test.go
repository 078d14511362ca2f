package engine

import (
	"context"
	"crypto/sha256"
	"log/slog"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

const deep = `idletally: 1
application: boats
hosts: {tags: [boats]}
roots: [/srv]
rules:
  - {rule: all, paths: /srv/**, files: 0640}
  - {rule: must, paths: /srv/deep/in/must, exists: yes}
`

// withBoats returns an engine with one host, dory, and a published baseline of the application boats.
func withBoats(t *testing.T, text string) *Engine {
	t.Helper()
	ctx := t.Context()
	d := &Engine{Store: ownStore(t), Log: slog.New(slog.DiscardHandler)}
	must(t, d.Store.Invite(ctx, "dory", []string{"boats"}, sha256.Sum256([]byte("x")), time.Now().Add(time.Hour)))
	n, err := d.Store.AddEdition(ctx, store.Edition{Application: "boats", Text: text, Author: "quartermaster"}, nil)
	must(t, err)
	must(t, d.Store.Publish(ctx, "boats", n, "quartermaster"))
	return d
}

// A folder that cannot be read any more takes nothing of what was found in it along: it stands in the
// reports, counts as neither mended nor new, and is in no plan. The same where something was mounted over it;
// not where mounts are not to be entered any more.
func TestUnreadFindingsStand(t *testing.T) {
	ctx := t.Context()
	d := withBoats(t, deep)
	st := d.Store
	m := tree.Memory{}
	file := func(name string, md mode.Mode) tree.Entry {
		return tree.Entry{Name: name, Kind: perm.File, Set: posix.State{Mode: md}.Set()}
	}
	folder := func(name string, gap tree.Gap, in ...tree.Entry) tree.Entry {
		e := tree.Entry{Name: name, Kind: perm.Folder, Set: posix.State{Mode: 0o755}.Set(), Gap: gap}
		if gap == tree.NoGap {
			e.Child = m.Add(tree.Node{Entries: in})
		}
		return e
	}

	look := func(crossing bool, deep tree.Entry) (store.Report, map[string]bool) {
		t.Helper()
		forest := m.Add(tree.Node{
			Forest:  true,
			Entries: []tree.Entry{folder("/srv", tree.NoGap, deep, file("log", 0o666))},
		})
		must(t, tree.Each(ctx, m, forest, func(_ tree.Hash, b []byte) error { return st.PutNodes(ctx, [][]byte{b}) }))
		time.Sleep(2 * time.Millisecond) // they sort by time
		id, err := st.AddHeard(ctx, "boats", "dory", []string{"/srv"}, crossing, wire.SnapshotDone{
			Forest:    forest,
			Directory: &perm.Directory{},
		})
		must(t, err)
		c, err := st.ClaimComparison(ctx, shares)
		must(t, err)
		d.settle(context.WithoutCancel(ctx), *c)
		r, err := st.ReportOf(ctx, id)
		must(t, err)
		rows, err := st.Findings(ctx, r, "", 0, 100)
		must(t, err)
		unread := map[string]bool{}
		for _, f := range rows {
			unread[strings.TrimPrefix(string(f.Path), "/srv/")+" "+f.Aspect] = f.Unread
		}

		return r, unread
	}

	whole := folder("deep", tree.NoGap, file("a", 0o666), file("b", 0o640), folder("in", tree.NoGap, file("c", 0o600)))
	is := func(what string, r store.Report, got map[string]bool, gone, unread int, paths string) {
		t.Helper()
		n := 0
		for _, u := range got {
			if u {
				n++
			}
		}

		var missing []string
		for _, p := range strings.Fields(paths) {
			if _, ok := got[strings.ReplaceAll(p, ",", " ")]; !ok {
				missing = append(missing, p)
			}
		}

		if len(missing) > 0 || len(got) != len(strings.Fields(paths)) || n != unread || int(r.Gone) != gone ||
			r.Returned != 0 || int(r.Findings) != len(got) {
			t.Errorf("%s: %v, of which %d unread; report %+v; missing %q", what, got, n, r, missing)
		}
	}

	const all = "log,mode deep/a,mode deep/in/c,mode deep/in/must,presence"
	first, got := look(false, whole)
	is("at first", first, got, 0, 0, all)

	for _, gap := range []tree.Gap{tree.Refused, tree.Mount, tree.Silent} {
		r, got := look(true, folder("deep", gap))
		is(gap.String(), r, got, 0, 3, all)
		if r.Fresh != 0 || r.Unread != 1 {
			t.Errorf("%s: %+v", gap, r)
		}

		since, err := st.Findings(ctx, r, "", 0, 1)
		must(t, err)
		if !since[0].Since.Equal(first.Created) {
			t.Errorf("%s: there since %s, not %s", gap, since[0].Since, first.Created)
		}
	}

	id, err := d.DraftRemediation(ctx, wire.Draft{Application: "boats", All: true}, "quartermaster")
	must(t, err)
	p, err := st.Plan(ctx, id)
	must(t, err)
	if got := strings.Count(p.Source, "nobody knows how it is now"); got != 3 || !strings.Contains(p.Title, "1 step") {
		t.Errorf("a plan of all: %s, leaving %s", p.Title, p.Source)
	}

	r, got := look(true,
		folder("deep", tree.NoGap, file("a", 0o640), folder("in", tree.NoGap, file("c", 0o600), file("must", 0o640))))
	is("read again", r, got, 2, 0, "log,mode deep/in/c,mode")
	r, got = look(false, folder("deep", tree.Mount))
	is("not to be entered any more", r, got, 0, 0, "log,mode")
}
