//go:build linux

package smb

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/plan"
	"idletally/internal/host/change"
	"idletally/internal/host/fileserver"
)

// A run on a share does what a run on a host does: as reviewed, with originals first, and past what is no longer so.
func TestRunOnShare(t *testing.T) {
	_, tokens, _ := people(t)
	keeper := dial(t, "keeper", "charts")
	must(t, keeper.s.MkdirAll(`runs\folder`, 0o777))
	at := func(name string) string { return `runs\folder\` + name }
	for _, n := range []string{"fine", "changed", "gone", "already", "owner", "outside"} {
		must(t, keeper.s.WriteFile(at(n), nil, 0o666))
		set(t, keeper, at(n), "D:PAI(A;;FA;;;WD)", fileserver.SetList)
	}

	state := func(name string) perm.Set {
		t.Helper()
		seen, err := keeper.Look(at(name))
		must(t, err)
		s, err := nt.SetOf(seen.Descriptor)
		must(t, err)
		return s
	}

	with := func(s perm.Set, sddl string, owner ntsd.SID) perm.Set {
		t.Helper()
		d, ok := nt.Of(s)
		to, err := ntsd.ParseSDDL(sddl)
		must(t, err)
		d.Control, d.Entries = to.Control, to.Entries
		if !ok {
			t.Fatal("no descriptor")
		}

		if !owner.IsZero() {
			d.Owner = owner
		}

		s, err = nt.SetOf(d)
		must(t, err)
		return s
	}

	var list []plan.Step
	for _, n := range []string{"already", "changed", "fine", "gone", "outside", "owner"} {
		before, owner := state(n), ntsd.SID{}
		if n == "owner" {
			owner = tokens[1].User
		}
		list = append(list, plan.Step{
			Path:   "/charts/runs/folder/" + n,
			Kind:   perm.File,
			Before: before,
			After:  with(before, "D:PAI(D;;0x2;;;AN)(A;;FR;;;AU)(A;;FA;;;BA)", owner),
		})
	}

	set(t, keeper, at("already"), "D:PAI(D;;0x2;;;AN)(A;;FR;;;AU)(A;;FA;;;BA)", fileserver.SetList)
	set(t, keeper, at("changed"), "D:PAI(A;;FR;;;WD)", fileserver.SetList)
	must(t, keeper.s.Remove(at("gone")))
	list[4].Path = "/crewdocs/outside"

	for _, p := range []string{`/charts/runs/..\..\elsewhere`, "/charts/runs/fine:stream", "/charts/ru*s"} {
		if _, _, err := fileserver.Split(p); err == nil || !strings.Contains(err.Error(), "no name on a share holds") {
			t.Errorf("%s: %v", p, err)
		}
	}

	if share, below, err := fileserver.Split("/charts/a b/c"); share != "charts" || below != `a b\c` || err != nil {
		t.Errorf("%s, %s, %v", share, below, err)
	}

	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "keeper", Password: password})
	must(t, err)
	defer s.Close()

	file := filepath.Join(t.TempDir(), "journal")
	run := func() (*change.Runner, *change.Journal) {
		j, err := change.OpenJournal(file, change.Head{Run: "r", Steps: len(list)})
		must(t, err)
		r := &change.Runner{
			Journal: j,
			Roots:   []string{"/charts/runs"},
			Allowed: []string{"/charts", "/crewdocs"},
			Chunks:  change.Memory{list},
			Files:   fileserver.FileSystem(context.Background(), s),
		}

		must(t, r.Run(t.Context()))
		return r, j
	}

	r, j := run()
	var got []string
	for i, res := range j.Results() {
		got = append(got, fmt.Sprintf("%s %s %.40s", filepath.Base(list[i].Path), res.Outcome, res.Reason))
	}

	want := []string{
		"already already it is already as planned", "changed skipped no longer as reviewed: reviewed as S-1-",
		"fine done ",
		"gone skipped it is not there", "outside refused the path lies under none of the plan's", "owner done ",
	}
	for i := range want {
		if !strings.HasPrefix(got[i], strings.TrimSpace(want[i])) {
			t.Errorf("%q, want %q", got[i], want[i])
		}
	}

	if wrong, err := r.Verify(t.Context()); err != nil || len(wrong) > 0 {
		t.Errorf("%+v, %v", wrong, err)
	}

	if seen, err := keeper.Look(at("owner")); err != nil || seen.Descriptor.Owner != tokens[1].User {
		t.Errorf("the owner is %s, %v", seen.Descriptor.Owner, err)
	}

	must(t, j.Close())

	// Put back from the journal, owner and all.
	for i := range list {
		if o, ok := j.Original(i); ok {
			list[i].Before, list[i].After = list[i].After, o.Set
		}
	}

	list = []plan.Step{list[2], list[5]}
	file = filepath.Join(t.TempDir(), "journal")
	_, j = run()
	defer j.Close()

	for i, res := range j.Results() {
		if res.Outcome != plan.Done {
			t.Errorf("%s back: %s %s", list[i].Path, res.Outcome, res.Reason)
		}
	}

	if state("owner") != list[1].After || state("fine") != list[0].After {
		t.Error("they are not as they were")
	}
}
