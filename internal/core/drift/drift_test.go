package drift

import (
	"context"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/baseline"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
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
		return tree.Entry{Name: name, Kind: perm.File, Set: perm.POSIX{UID: 1, GID: 1, Mode: md}.Set()}
	}
	folder := func(name string, md mode.Mode, child tree.Hash) tree.Entry {
		return tree.Entry{Name: name, Kind: perm.Folder, Set: perm.POSIX{UID: 1, GID: 1, Mode: md}.Set(), Child: child}
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
	sum, groups, err := Compare(context.Background(), m, h, matcher, dir, Report{
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
	if len(groups) != 4 || groups[0].Example != "/srv/tideboard/keys/x.key" || groups[1].Count != 2 || groups[1].Folder != "/srv/tideboard/data" {
		t.Errorf("groups %+v", groups)
	}
}
