package store

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
)

// reported stores a report with findings of one group.
func reported(t *testing.T, app, host, group string, severity baseline.Severity, paths ...string) Report {
	t.Helper()
	w, err := st.NewReport(t.Context(), Report{Application: app, Edition: 1, Host: host, Snapshot: "s", Problems: "[]"})
	must(t, err)
	for _, p := range paths {
		must(t, w.Finding(t.Context(), drift.Finding{Path: p, Kind: perm.File, Aspect: perm.AspectMode, Group: group}))
	}

	var groups []drift.Group
	if len(paths) > 0 {
		groups = append(groups, drift.Group{
			ID:       group,
			Rule:     "r",
			Severity: severity,
			Aspect:   perm.AspectMode,
			Kind:     perm.File,
			Declared: "0640",
			Found:    "0644",
			Count:    len(paths),
			Folder:   "/srv",
			Example:  "/srv/x",
		})
	}

	r, err := w.End(t.Context(), drift.Summary{Paths: 10, Judged: 10, Findings: len(paths)}, groups)
	must(t, err)
	return r
}

// Of each application on each host the newest whole report counts, and none else; a path's findings and
// groups are found by it.
func TestCurrentReports(t *testing.T) {
	ctx := t.Context()
	app := name("app")
	reported(t, app, "north", "aaaaaaaaaaaa", baseline.Grave, "/srv/old")
	north := reported(t, app, "north", "aaaaaaaaaaaa", baseline.Grave, "/srv/a", "/srv/b")
	south := reported(t, app, "south", "bbbbbbbbbbbb", baseline.Minor)

	// not whole
	_, err := st.NewReport(ctx, Report{Application: app, Edition: 1, Host: "south", Snapshot: "s", Problems: "[]"})
	must(t, err)
	all, err := st.CurrentReports(ctx)
	must(t, err)
	var got []string

	for _, r := range all {
		if r.Application == app {
			got = append(got, fmt.Sprint(r.Host, " ", r.ID, " ", r.Findings, " ", r.Grave))
		}
	}

	if want := []string{"north " + north.ID + " 2 2", "south " + south.ID + " 0 0"}; !slices.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}

	found, err := st.FindingsAt(ctx, north, []string{"/srv/b", "/srv/none", "/srv/a"})
	must(t, err)
	if len(found) != 2 || string(found[0].Path) != "/srv/a" || found[1].Group != "aaaaaaaaaaaa" {
		t.Errorf("%+v", found)
	}

	groups, err := st.GroupsOf(ctx, north.ID, []string{"aaaaaaaaaaaa", "cccccccccccc"})
	if err != nil || len(groups) != 1 || groups["aaaaaaaaaaaa"].Found != "0644" {
		t.Errorf("%+v, %v", groups, err)
	}

	n := 0
	must(t, st.GroupsOn(ctx, []string{north.ID, south.ID}, func(report string, g Group) error {
		n++
		if report != north.ID || g.Count != 2 || g.Since == nil {
			t.Errorf("%s: %+v", report, g)
		}
		return nil
	}))

	if n != 1 {
		t.Errorf("%d groups", n)
	}

	days, err := st.Days(ctx, time.Now().AddDate(0, 0, -1))
	must(t, err)
	i := slices.IndexFunc(days, func(d Day) bool { return d.Application == app && d.Host == "north" })
	if i < 0 || days[i].Findings != 2 {
		t.Errorf("%+v", days)
	}

	must(t, st.ForgetDays(ctx, time.Now().AddDate(0, 0, -700)))
}
