//go:build linux

package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/wire"
)

// Somebody writes a baseline: it is warned of, its effect is known before it counts, editions are
// compared by effect, and single paths are explained.
func tryDeclaring(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := command{t: t, s: s, person: "quartermaster"}
	c.login()
	file := filepath.Join(t.TempDir(), "ticketing.yaml")
	text := demo.Baseline("ticketing") + `
  - rule: old-reports
    paths: /srv/ticketing/reports/**
    files: 0640
  - rule: logs
    paths: /srv/ticketing/logs/**
    files: 0666
  - rule: run-everything
    paths: /srv/ticketing/releases/**
    files: 0750
  - rule: outside
    paths: /srv/ticketing/releases/elsewhere
    entries: ["user:web:rX"]
  - rule: manual
    paths: /srv/ticketing/manual.txt
    exists: yes
`

	must(t, os.WriteFile(file, []byte(text), 0o600))

	for _, x := range []struct {
		argv []string
		code int
		says []string
	}{
		{[]string{"baseline", "check", file}, 0,
			[]string{
				"rule old-reports: no path of the last snapshot matches", "rule logs: everybody on the host can write",
				"such as /srv/ticketing/releases/2026-01/lang/part-00",
				"rule outside: this path is a link", "write instead: ", "15 rules; applies to slip-north, slip-south",
			}},
		{[]string{"baseline", "check", file, "--strict"}, 4, []string{"warning"}},
		{[]string{"baseline", "check", file, "--local"}, 0, []string{"everybody on the host can write"}},
		{[]string{"baseline", "check", file, "--output", "json"}, 0,
			[]string{`"about": "execute on data"`, `"hosts": [`}},
		{[]string{"baseline", "effect", file}, 0,
			[]string{"slip-north: 438 findings now", "1440   new", "file presence  missing", "THEN", "▲ opens"}},
		{
			[]string{
				"baseline", "explain", "ticketing", "/srv/ticketing/site/route-07/page-03.html", "--host",
				"slip-north",
			},
			0, []string{"entries  site        user:www-tickets:r--  none         everything"},
		},
		{[]string{"baseline", "explain", "ticketing", "/srv/ticketing/spool/job-001", "--host", "slip-north"}, 0,
			[]string{"leaves this path alone"}},
		{[]string{"baseline", "explain", "ticketing", "/srv/ticketing/bin/new", "--host", "slip-north"}, 0,
			[]string{"not in its last snapshot: taken for a file", "programs"}},
		{[]string{"baseline", "explain", "ticketing", "/srv/ticketing/bin/new"}, 2, []string{"--host HOST"}},
		{[]string{"baseline", "explain", "ticketing", "/srv/ticketing", "--host", "dinghy"}, 1,
			[]string{"has no snapshot of ticketing yet"}},
		{[]string{"baseline", "upload", file}, 0, []string{"edition      2"}},
		{[]string{"baseline", "compare", "ticketing", "1", "2"}, 0, []string{"slip-south", "1380   new"}},
		{[]string{"baseline", "compare", "ticketing", "2", "2"}, 0, []string{"No path is judged differently."}},
		{[]string{"baseline", "compare", "ticketing", "1", "9"}, 1, []string{"not found"}},
	} {
		t.Run(fmt.Sprint(x.argv), func(t *testing.T) {
			out, errs, code := c.run("", x.argv...)
			if code != x.code {
				t.Errorf("%v: exit code %d, want %d\n%s%s", x.argv, code, x.code, out, errs)
			}
			for _, w := range x.says {
				if !strings.Contains(out+errs, w) {
					t.Errorf("%v: %q is not in\n%s%s", x.argv, w, out, errs)
				}
			}
		})
	}

	api := as(t, s, "quartermaster")

	// Includes are what another application has published; what differs from host to host is read for each.
	shared := "idletally: 1\napplication: standards\nhosts: {names: [slip-north]}\nroots: [/srv/standards]\nforms: " +
		"{open-book: {files: 0644}}\nvariables: {top: {default: /srv/ticketing, slip-south: /srv/elsewhere}}\n" +
		"rules:\n  - {rule: all, paths: /srv/standards/**, files: 0640}\n"
	e, err := api.UploadBaseline(ctx, shared)
	must(t, err)

	using := "idletally: 1\napplication: reading\ninclude: standards\nhosts: {tags: [ticketing]}\nroots: " +
		"[\"${top}\"]\nrules:\n  - {rule: all, paths: \"${top}/**\", form: open-book}\n"
	if k, err := api.CheckBaseline(ctx, using); err != nil || k.OK ||
		!strings.Contains(k.Errors[0].Message, "no baseline of standards is published") {
		t.Errorf("before it is published: %+v, %v", k, err)
	}

	if _, err := api.Publish(ctx, "standards", e.Number); err != nil {
		t.Fatal(err)
	}

	if k, err := api.CheckBaseline(ctx, using); err != nil || !k.OK {
		t.Errorf("%+v, %v", k, err)
	}

	u, err := api.UploadBaseline(ctx, using)
	must(t, err)

	if _, err := api.Publish(ctx, "reading", u.Number); err != nil {
		t.Fatal(err)
	}

	for host, paths := range map[string]bool{"slip-north": true, "slip-south": false} {
		t.Run(host, func(t *testing.T) {
			snap := snapshot(t, api, "reading", host)
			if (snap.Paths > 3000) != paths {
				t.Errorf("%s: %d paths of %v", host, snap.Paths, snap.Roots)
			}
		})
	}

	takenOver(t, api, strings.Replace(shared, "0644", "0444", 1))
	_, err = as(t, s, "lookout").PreviewBaseline(ctx, using)
	fails(t, "a viewer previews", err, 403, "needs the role author")
}

// takenOver has standards published anew, which is said to change what includes it, and counts there at once.
func takenOver(t *testing.T, api *client.Client, shared string) {
	t.Helper()
	ctx := t.Context()
	before, err := api.Drift(ctx, "reading", "slip-north")
	must(t, err)

	e, err := api.UploadBaseline(ctx, shared)
	must(t, err)
	if effect, err := api.CompareEditions(ctx, "standards", 0, e.Number); err != nil ||
		!slices.Equal(effect.Including, []string{"reading"}) {
		t.Errorf("what includes it: %+v, %v", effect.Including, err)
	}
	_, err = api.Publish(ctx, "standards", e.Number)
	must(t, err)

	if after, err := api.Drift(ctx, "reading", "slip-north"); err != nil ||
		after.Reports[0].ID == before.Reports[0].ID || after.Reports[0].Findings <= before.Reports[0].Findings {
		t.Errorf("%+v, before %+v, %v", after.Reports, before.Reports, err)
	}
}

// What changed between two snapshots, and for whom.
func tryChanges(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	before := snapshot(t, c, "tideboard", "slip-north")
	token := filepath.Join(s.Root("slip-north"), "srv/tideboard/feeds/gauge-11.token")

	for _, err := range []error{
		os.Chmod(token, 0o666),
		os.WriteFile(filepath.Join(s.Root("slip-north"), "srv/tideboard/feeds/new\nline"), nil, 0o600),
		os.Remove(filepath.Join(s.Root("slip-north"), "srv/tideboard/cache/tile-0399")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}

	after := snapshot(t, c, "tideboard", "slip-north")
	d, err := c.Changes(ctx, before.ID, after.ID, "", 2)
	if err != nil || d.Changed != 1 || d.Added != 1 || d.Gone != 1 || len(d.Groups) != 3 || len(d.Items) != 2 ||
		d.Next == "" {
		t.Fatalf("%+v, %v", d, err)
	}

	if rest, err := c.Changes(ctx, before.ID, after.ID, d.Next, 5); err != nil || len(rest.Items) != 1 ||
		rest.Items[0].Path != `/srv/tideboard/feeds/new\x0aline` {
		t.Errorf("%+v, %v", rest, err)
	}

	cmd := command{t: t, s: s, person: "quartermaster"}
	out, errs, code := cmd.run("", "snapshot", "changes", before.ID, after.ID)
	for _, w := range []string{
		"1 changed, 1 added, 1 gone", "▲ opens    file  0640                   0666", "–",
		"/srv/tideboard/feeds/gauge-11.token",
	} {
		t.Run(w, func(t *testing.T) {
			if code != 0 || !strings.Contains(out, w) {
				t.Errorf("%q is not in (%d)\n%s%s", w, code, out, errs)
			}
		})
	}

	if d, err := c.Changes(ctx, after.ID, after.ID, "", 2); err != nil || len(d.Groups) != 0 {
		t.Errorf("with itself: %+v, %v", d, err)
	}

	_, err = c.Changes(ctx, "nope", after.ID, "", 2)
	fails(t, "no such snapshot", err, 404, "nope")
}

// Accepted findings stand apart, are not mended along, and come back when they are accepted no more.
func tryWaivers(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := command{t: t, s: s, person: "quartermaster"}
	api := as(t, s, "quartermaster")
	state := func() (counts, waived int64) {
		d, err := api.Drift(ctx, "tideboard", "slip-north")
		if err != nil || len(d.Reports) != 1 {
			t.Fatalf("%+v, %v", d, err)
		}
		return d.Reports[0].Findings, d.Reports[0].Waived
	}

	before, none := state()
	group := ""
	d, err := api.Drift(ctx, "tideboard", "slip-north")
	if err != nil {
		t.Fatal(err)
	}

	for _, g := range d.Groups {
		if g.Rule == "everything" && g.Aspect == "mode" && g.Found == "0600" {
			group = g.ID
		}
	}

	until := time.Now().AddDate(0, 0, 20).Format(time.DateOnly)
	for _, x := range []struct {
		argv []string
		code int
		says string
	}{
		{
			[]string{
				"waiver", "add", "tideboard", "--group", group, "--until", until, "--reason",
				"The display reads them by another way",
			},
			0, "host slip-north, rule everything, file, mode, found 0600",
		},
		{[]string{"waiver", "list", "tideboard"}, 0, "The display reads them by another way"},
		{[]string{"drift", "show", "tideboard"}, 0, "25 findings more are waived"},
		{[]string{"drift", "show", "tideboard", "--waived"}, 0, "closes (waived)"},
		{[]string{"waiver", "add", "tideboard", "/srv/tideboard/**", "--until", "2020-01-01", "--reason", "late"}, 1,
			"would end before it begins"},
		{[]string{"waiver", "add", "tideboard", "/srv/tideboard/**", "--until", "2099-01-01", "--reason", "for ever"},
			1, "a waiver lasts a year at most"},
		{
			[]string{
				"waiver", "add", "tideboard", "/srv/tideboard/**", "--until", until, "--reason", "why not", "--rule",
				"none",
			},
			1, `has no rule "none"`,
		},
		{[]string{"waiver", "add", "tideboard", "/srv/a**b", "--until", until, "--reason", "why not"}, 1,
			"must be a part of its own"},
		{[]string{"waiver", "add", "tideboard", "/srv/tideboard/**", "--until", "soon", "--reason", "why not"}, 2,
			"want a date"},
		{[]string{"waiver", "add", "tideboard", "--until", until, "--reason", "why not"}, 2, "say which findings"},
	} {
		c.want(x.code, x.says, x.argv...)
	}

	if counts, waived := state(); none != 0 || waived != 25 || counts != before-25 {
		t.Errorf("%d findings and %d waived, %d before", counts, waived, before)
	}

	for format, says := range map[string]string{
		"html": "Accepted by quartermaster until", "csv": "The display reads them by another way",
		"junit":       `changes nobody&#39;s access&#xA;25 × file mode: declared 0644, found 0600`,
		"openmetrics": `idletally_drift_waived{application="tideboard",host="slip-north"} 25`,
	} {
		t.Run(format, func(t *testing.T) {
			out, errs, code := c.run("", "drift", "report", "tideboard", "--format", format, "--fail")
			if code != 4 || !strings.Contains(out, says) {
				t.Errorf("report as %s: exit code %d, %q is not in\n%.2000s%s", format, code, says, out, errs)
			}
		})
	}

	if _, errs, code := c.run("", "drift", "report", "tideboard", "--format", "pdf"); code != 2 ||
		!strings.Contains(errs, "want one of html") {
		t.Errorf("an unknown format: %d %s", code, errs)
	}

	p, err := api.DraftPlan(ctx, wire.Draft{Application: "tideboard", All: true})
	if err != nil || int64(p.Steps) > before-25 {
		t.Errorf("the plan has %d steps, %v", p.Steps, err)
	}

	rows, err := api.Waivers(ctx, "tideboard", false)
	if err != nil || len(rows) != 1 {
		t.Fatalf("%+v, %v", rows, err)
	}

	_, err = as(t, s, "lookout").WithdrawWaiver(ctx, rows[0].ID)
	fails(t, "a viewer withdraws", err, 403, "needs the role reviewer")
	if _, err := api.WithdrawWaiver(ctx, rows[0].ID); err != nil {
		t.Error(err)
	}

	if counts, waived := state(); waived != 0 || counts != before {
		t.Errorf("%d findings and %d waived after it was withdrawn", counts, waived)
	}

	if all, err := api.Waivers(ctx, "tideboard", true); err != nil || len(all) != 1 ||
		all[0].WithdrawnBy != "quartermaster" || all[0].Counts {
		t.Errorf("%+v, %v", all, err)
	}
}
