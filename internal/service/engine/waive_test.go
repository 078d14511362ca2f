package engine

import (
	"context"
	"testing"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

const owned = `idletally: 1
application: boats
hosts: {tags: [boats]}
roots: [/srv]
rules:
  - {rule: all, paths: /srv/**, owner: root}
`

// What a waiver accepts stays accepted when an account gets another name: it is known by what was found, and not by
// the words for it. So it is with waivers from before there were values, once they accepted something.
func TestWaiversOutliveNames(t *testing.T) {
	ctx := t.Context()
	d := withBoats(t, owned)
	st := d.Store

	m := tree.Memory{}
	entry := func(name string, kind perm.Kind, uid uint32) tree.Entry {
		return tree.Entry{Name: name, Kind: kind, Set: posix.State{UID: uid, Mode: 0o755}.Set()}
	}
	top := entry("/srv", perm.Folder, 0)
	top.Child = m.Add(tree.Node{Entries: []tree.Entry{
		entry("by-group", perm.File, 1), entry("from-before", perm.File, 2), entry("open", perm.File, 3),
	}})
	forest := m.Add(tree.Node{Forest: true, Entries: []tree.Entry{top}})
	must(t, tree.Each(ctx, m, forest, func(_ tree.Hash, b []byte) error { return st.PutNodes(ctx, [][]byte{b}) }))

	// look compares a snapshot in which accounts have some names, and returns its groups by what was found.
	look := func(names ...string) map[string]store.Group {
		t.Helper()
		dir := &perm.Directory{Accounts: []perm.Account{{ID: unixid.UID(0), Name: "root"}}}
		for i, name := range names {
			dir.Accounts = append(dir.Accounts, perm.Account{ID: unixid.UID(uint32(i + 1)), Name: name})
		}
		time.Sleep(2 * time.Millisecond) // they sort by time
		id, err := st.AddHeard(ctx, "boats", "dory", []string{"/srv"}, false,
			wire.SnapshotDone{Forest: forest, Directory: dir})
		must(t, err)
		c, err := st.ClaimComparison(ctx, shares)
		must(t, err)
		d.settle(context.WithoutCancel(ctx), *c)
		r, err := st.ReportOf(ctx, id)
		must(t, err)
		groups, err := st.Groups(ctx, r.ID, 10)
		must(t, err)
		out := map[string]store.Group{}
		for _, g := range groups {
			out[g.Found] = g
		}
		return out
	}

	before := look("bob", "eve", "ann")
	if len(before) != 3 {
		t.Fatalf("groups %+v", before)
	}
	ends := time.Now().Add(time.Hour)
	_, err := st.AddWaiver(ctx, store.Waiver{
		Application: "boats", Host: "dory", Pattern: "/srv/**", Aspect: "owner", Found: "eve", Author: "bosun",
		Ends: ends,
	})
	must(t, err)
	_, err = st.AddWaiver(ctx, store.Waiver{
		Application: "boats", Pattern: "/srv/nothing", Aspect: "owner", Found: "ann", Author: "bosun", Ends: ends,
	})
	must(t, err)
	byGroup, err := d.Waive(ctx, wire.NewWaiver{Application: "boats", Group: before["bob"].ID, Ends: ends}, "bosun")
	must(t, err)
	if byGroup.FoundValue != "u1" {
		t.Errorf("the waiver of a group accepts %q", byGroup.FoundValue)
	}

	accepted := look("bob", "eve", "ann")
	if accepted["bob"].Waiver != byGroup.ID || accepted["eve"].Waiver == "" || accepted["ann"].Waiver != "" {
		t.Errorf("accepted are %+v", accepted)
	}
	rows, err := st.CountingWaivers(ctx, "boats")
	must(t, err)
	for _, w := range rows {
		if want := map[string]string{"bob": "u1", "eve": "u2", "ann": ""}[w.Found]; w.FoundValue != want {
			t.Errorf("what %q stands for is %q, want %q", w.Found, w.FoundValue, want)
		}
	}

	after := look("robert", "eva", "anna")
	if after["robert"].Waiver != byGroup.ID || after["eva"].Waiver != accepted["eve"].Waiver {
		t.Errorf("with other names accepted are %+v", after)
	}
	if after["anna"].ID != before["ann"].ID {
		t.Errorf("the group %s is called %s when its account has another name", before["ann"].ID, after["anna"].ID)
	}
}
