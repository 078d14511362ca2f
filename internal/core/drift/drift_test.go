package drift

import (
	"context"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/baseline"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
)

const text = `idletally: 1
application: tideboard
hosts: {tags: [boards]}
roots: [/srv/tideboard]
leave-alone: /srv/tideboard/cache/**
rules:
  - rule: all
    paths: /srv/tideboard/**
    owner: purser
    group: crew
    files: 0640
    folders: 0750
  - rule: keys
    paths: /srv/tideboard/keys/*
    severity: grave
    files: 0600
`

// Two baselines on one snapshot: what is new, what goes, what is declared otherwise.
func TestJudge(t *testing.T) {
	dir := (&perm.Directory{
		Accounts: []perm.Account{{ID: "u1", Name: "purser"}},
		Groups:   []perm.Account{{ID: "g1", Name: "crew"}},
	}).Index()
	m := tree.Memory{}
	file := func(name string, md mode.Mode) tree.Entry {
		return tree.Entry{Name: name, Kind: perm.File, Set: posix.State{UID: 1, GID: 1, Mode: md}.Set()}
	}
	keys := m.Add(tree.Node{Entries: []tree.Entry{file("a.key", 0o640), file("b.key", 0o640), file("c.key", 0o600)}})
	set := posix.State{UID: 1, GID: 1, Mode: 0o750}.Set()
	top := m.Add(tree.Node{
		Entries: []tree.Entry{{Name: "keys", Kind: perm.Folder, Set: set, Child: keys}, file("x", 0o644)},
	})
	h := m.Add(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{{Name: "/srv/tideboard", Kind: perm.Folder, Set: set, Child: top}},
	})
	compile := func(text string) *baseline.Matcher {
		d, err := baseline.Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}

		m, _ := baseline.Compile(d, dir)
		return m
	}

	old, fresh := compile(text),
		compile(strings.NewReplacer("files: 0600", "files: 0640", "files: 0640\n    folders",
			"files: 0600\n    folders").Replace(text)+
			"  - rule: there\n    paths: /srv/tideboard/conf\n    exists: yes\n")
	v, shifts, err := Judge(t.Context(), m, h, old, fresh, dir)
	if err != nil || v != (Verdict{Before: 3, After: 3, New: 2, Gone: 2, Changed: 1}) {
		t.Errorf("%+v, %v", v, err)
	}

	var got []string
	for _, s := range shifts {
		got = append(got,
			string(s.Aspect)+" "+s.Found+": "+s.Was+" by "+s.OldRule+" -> "+s.Is+" by "+s.NewRule+
				" at "+string(s.Example)+" "+s.Effect.Word())
	}

	want := []string{
		"mode 0640: 0600 by keys ->  by  at /srv/tideboard/keys/a.key opens",
		"presence missing:  by  -> there by there at /srv/tideboard/conf neither",
		"mode 0600:  by  -> 0640 by keys at /srv/tideboard/keys/c.key closes",
		"mode 0644: 0640 by all -> 0600 by all at /srv/tideboard/x opens",
	}

	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}

	if v, _, err = Judge(t.Context(), m, h, nil, old, dir); err != nil || v != (Verdict{After: 3, New: 3}) {
		t.Errorf("from nothing: %+v, %v", v, err)
	}

	v, shifts, err = Judge(t.Context(), m, h, old, compile(text), dir)
	if err != nil || v.New+v.Gone+v.Changed != 0 || len(shifts) != 0 {
		t.Errorf("the same twice: %+v, %v", v, err)
	}

	// What must be there and is not is a finding of a comparison as well.
	var missing []string
	if _, _, err := Compare(t.Context(), m, h, fresh, dir, nil, nil, Report{
		Unread: func(Unread) error { return nil },
		Finding: func(f Finding) error {
			if f.Aspect == perm.AspectPresence {
				missing = append(missing, f.Path+" "+f.Declared+" "+f.Found)
			}
			return nil
		},
	}); err != nil || !slices.Equal(missing, []string{"/srv/tideboard/conf there missing"}) {
		t.Errorf("%q, %v", missing, err)
	}
}

func TestCompare(t *testing.T) {
	doc, err := baseline.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}

	dir := (&perm.Directory{
		Accounts: []perm.Account{{ID: "u1", Name: "purser"}},
		Groups:   []perm.Account{{ID: "g1", Name: "crew"}},
	}).Index()
	m := tree.Memory{}
	node := func(entries ...tree.Entry) tree.Hash {
		slices.SortFunc(entries, func(a, b tree.Entry) int { return strings.Compare(a.Name, b.Name) })
		return m.Add(tree.Node{Entries: entries})
	}
	file := func(name string, md mode.Mode) tree.Entry {
		return tree.Entry{Name: name, Kind: perm.File, Set: posix.State{UID: 1, GID: 1, Mode: md}.Set()}
	}
	folder := func(name string, md mode.Mode, child tree.Hash) tree.Entry {
		return tree.Entry{Name: name, Kind: perm.Folder, Set: posix.State{UID: 1, GID: 1, Mode: md}.Set(), Child: child}
	}
	shut := folder("shut", 0o750, tree.Hash{})
	shut.Gap = tree.Refused
	top := node(
		folder("cache", 0o777, node(file("x", 0o666))),
		folder("data", 0o750, node(file("a", 0o644), file("b", 0o644), file("c", 0o600))),
		folder("keys", 0o750, node(file("tls.key", 0o640), file("x.key", 0o644))),
		shut,
	)

	root := folder("/srv/tideboard", 0o750, top)
	h := m.Add(tree.Node{Forest: true, Entries: []tree.Entry{root}})
	matcher, problems := baseline.Compile(doc, dir)
	if len(problems) > 0 {
		t.Fatal(problems)
	}

	var got, unread []string
	sum, groups, err := Compare(context.Background(), m, h, matcher, dir, nil, nil, Report{
		Finding: func(f Finding) error {
			got = append(got, f.Path+" "+f.Declared+" "+f.Found+" "+f.Effect.Word())
			return nil
		},
		Unread: func(u Unread) error { unread = append(unread, u.Path+" "+u.Why); return nil },
	})

	if err != nil {
		t.Fatal(err)
	}

	want := []string{
		"/srv/tideboard/data/a 0640 0644 opens",
		"/srv/tideboard/data/b 0640 0644 opens",
		"/srv/tideboard/data/c 0640 0600 closes",
		"/srv/tideboard/keys/tls.key 0600 0640 opens",
		"/srv/tideboard/keys/x.key 0600 0644 opens",
	}

	if !slices.Equal(got, want) {
		t.Errorf("findings %q", got)
	}

	if !slices.Equal(unread, []string{"/srv/tideboard/shut refused"}) {
		t.Errorf("unread %q", unread)
	}

	if sum != (Summary{Paths: 11, Judged: 9, Findings: 5, Unread: 1}) {
		t.Errorf("summary %+v", sum)
	}

	if len(groups) != 4 || groups[0].Example != "/srv/tideboard/keys/x.key" || groups[1].Count != 2 ||
		groups[1].Folder != "/srv/tideboard/data" {
		t.Errorf("groups %+v", groups)
	}
}

// Where nobody looked nothing is as declared, and nothing is missing.
func TestRootsNobodyLookedAt(t *testing.T) {
	d, err := baseline.Parse([]byte(strings.Replace(text, "roots: [/srv/tideboard]",
		"roots: [/srv/tideboard, /srv/tidebook, /srv/tides/north]", 1) +
		"  - rule: there\n    paths: [/srv/tidebook, /srv/tidebook/conf, /srv/tides/north/conf, " +
		"/srv/tideboard/conf]\n    exists: yes\n"))
	if err != nil {
		t.Fatal(err)
	}

	dir := (&perm.Directory{
		Accounts: []perm.Account{{ID: "u1", Name: "purser"}},
		Groups:   []perm.Account{{ID: "g1", Name: "crew"}},
	}).Index()
	src := tree.Memory{}
	set := posix.State{UID: 1, GID: 1, Mode: 0o750}.Set()
	empty := src.Add(tree.Node{})
	h := src.Add(tree.Node{
		Forest: true,
		Entries: []tree.Entry{
			{Name: "/srv/tideboard", Kind: perm.Folder, Set: set, Child: empty},
			{Name: "/srv/tides", Kind: perm.Folder, Set: set, Child: empty},
		},
	})

	m, _ := baseline.Compile(d, dir)
	var got []string
	sum, _, err := Compare(t.Context(), src, h, m, dir, nil, nil, Report{
		Unread:  func(u Unread) error { got = append(got, u.Path+" "+u.Why); return nil },
		Finding: func(f Finding) error { got = append(got, f.Path+" "+f.Found); return nil },
	})
	want := []string{"/srv/tidebook not looked at yet", "/srv/tideboard/conf missing", "/srv/tides/north/conf missing"}
	if err != nil || !slices.Equal(got, want) || sum.Unread != 1 || sum.Findings != 2 {
		t.Errorf("%q, %+v, %v", got, sum, err)
	}
}
