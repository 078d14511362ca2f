//go:build linux

package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/wire"
)

// Nights pass: new files come out wrong where the folders do not see to it, and the service says
// why; what was mended and is wrong again keeps its identity.
func tryNights(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	api := as(t, s, "quartermaster")
	last := func() wire.TrendPoint {
		t.Helper()
		all, err := api.Trend(ctx, "ticketing", "slip-north", 1)
		if err != nil || len(all) != 1 || len(all[0].Points) == 0 {
			t.Fatalf("%+v, %v", all, err)
		}

		return all[0].Points[len(all[0].Points)-1]
	}

	look := func() wire.TrendPoint {
		t.Helper()
		snapshot(t, api, "ticketing", "slip-north")
		return last()
	}
	look() // whatever went before
	for n := range 2 {
		if err := demo.Night(s.Root("slip-north"), n+1); err != nil {
			t.Fatal(err)
		}
		if p := look(); p.Fresh < 30 || p.Gone != 0 || p.Returned != 0 {
			t.Errorf("night %d: %+v", n+1, p)
		}
	}

	causes, err := api.Causes(ctx, "ticketing", "slip-north", 1)
	if err != nil {
		t.Fatal(err)
	}

	cause := func(folder, aspect string) wire.Cause {
		i := slices.IndexFunc(causes, func(c wire.Cause) bool {
			return c.Folder == "/srv/ticketing/"+folder && c.Aspect == aspect
		})
		if i < 0 {
			t.Errorf("no cause for %s of %s in %+v", aspect, folder, causes)
			return wire.Cause{}
		}
		return causes[i]
	}

	if c := cause("logs", "mode"); c.Paths != 6 || c.Times != 2 || !strings.Contains(c.Why, "umask 000") ||
		!strings.Contains(c.Instead, "UMask=0027") {
		t.Errorf("%+v", c)
	}

	if c := cause("data/quarter-4", "owner"); !strings.Contains(c.Why, "root makes them") {
		t.Errorf("%+v", c)
	}

	if n := behind(t, api, "/srv/ticketing/data/quarter-4", "root makes them"); n == 0 {
		t.Error("no group of what is found there has its cause")
	}

	// The log of the second night is mended and set wrong again, and with it one that was right.
	log := filepath.Join(s.Root("slip-north"), "srv/ticketing/releases/2026-01/lib/night-1-0")
	set := func(m os.FileMode) wire.TrendPoint {
		t.Helper()
		if err := os.Chmod(log, m); err != nil {
			t.Fatal(err)
		}
		return look()
	}

	if p := set(0o666); p.Fresh != 1 || p.Returned+p.Gone != 0 {
		t.Errorf("wrong: %+v", p)
	}

	if p := set(0o640); p.Gone != 1 || p.Returned+p.Fresh != 0 {
		t.Errorf("mended: %+v", p)
	}

	back := set(0o666)
	if back.Returned != 1 || back.Fresh+back.Gone != 0 {
		t.Errorf("wrong again: %+v", back)
	}

	findings, err := api.Findings(ctx, back.Report, "", 5000)
	must(t, err)
	i := slices.IndexFunc(findings, func(f wire.Finding) bool { return strings.HasSuffix(f.Path, "/lib/night-1-0") })
	if i < 0 || findings[i].Spells != 2 || findings[i].Since == nil ||
		!findings[i].Since.After(*findings[i].FirstSeen) {
		t.Errorf("%d: %+v", i, findings[max(i, 0)])
	}

	c := command{t: t, s: s, person: "lookout"}
	c.login()
	for _, x := range []struct {
		argv []string
		says []string
	}{
		{[]string{"drift", "causes", "ticketing", "--host", "slip-north"},
			[]string{
				"likely cause: it was as declared, and is wrong again", "6 new files in /srv/ticketing/logs",
				"instead: umask 027",
			}},
		{[]string{"drift", "causes", "ticketing", "--output", "csv"}, []string{"slip-north,6,2,"}},
		{[]string{"drift", "causes", "tideboard"}, []string{`feeds/new\x0aline; seen 1 time`, "umask 077"}},
		{[]string{"drift", "trend", "ticketing", "--host", "slip-north", "--days", "1"}, []string{"RETURNED"}},
		{[]string{"drift", "findings", "ticketing", "--host", "slip-north", "--most", "5000"}, []string{"(2nd time)"}},
	} {
		t.Run(fmt.Sprint(x.argv), func(t *testing.T) {
			out, errs, code := c.run("", x.argv...)
			for _, w := range x.says {
				if code != 0 || !strings.Contains(out, w) {
					t.Errorf("%v: %d, %q is not in\n%s%s", x.argv, code, w, out, errs)
				}
			}
		})
	}
}

// behind counts the findings of groups in a folder that have a likely cause.
func behind(t *testing.T, api *client.Client, folder, why string) (n int) {
	t.Helper()
	d, err := api.Drift(t.Context(), "ticketing", "slip-north")
	must(t, err)
	for _, g := range d.Groups {
		for _, o := range g.Causes {
			if g.Folder == folder && strings.Contains(o.What, why) {
				n += o.Findings
			}
		}
	}
	return n
}
