//go:build linux

package e2e

import (
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/wire"
)

// A file server as the demo has it: looked at through its agent, held against its baselines, with who can do what and why.
func TestShares(t *testing.T) {
	s := begin(t, "")
	ctx := t.Context()
	must(t, s.OpenChartroom(ctx))
	author := as(t, s, "quartermaster")
	quiet(t, author)
	d, err := author.Drift(ctx, "charts", "")
	if err != nil || len(d.Reports) != 1 || d.Reports[0].Unread != 0 || d.Reports[0].Paths != 122 {
		t.Fatalf("%+v, %v", d.Reports, err)
	}
	find := func(where string, aspect string) wire.Group {
		t.Helper()
		i := slices.IndexFunc(d.Groups, func(g wire.Group) bool {
			return g.Aspect == aspect && (g.Folder == where || g.Example == where)
		})
		if i < 0 {
			t.Fatalf("no %s finding in %s: %+v", aspect, where, d.Groups)
		}
		return d.Groups[i]
	}
	if g := find("/charts/saltmarsh/soundings", "grants"); g.Found != "allow everyone: full" || g.Declared != "none" || g.Word != "opens" || !strings.Contains(g.Meaning, "everyone") {
		t.Errorf("%+v", g)
	}
	if g := find("/charts/north sound", "owner"); g.Count != 3 || g.Found != "deckhand" || g.Declared != "keeper" {
		t.Errorf("%+v", g)
	}
	if g := find("/charts/north sound/soundings", "inheritance"); g.Found != "stopped" || g.Declared != "from above" {
		t.Errorf("%+v", g)
	}
	// A deny that catches those who are in both groups.
	if g := find("/charts/south channel", "grants"); !strings.Contains(g.Found, "deny crew") || !strings.Contains(g.Meaning, "surveyor") {
		t.Errorf("%+v", g)
	}
	snap := d.Reports[0].Snapshot
	c := command{t, s, "quartermaster"}
	c.login()
	c.want(0, "allow surveyors: modify; inherited  — from /charts", "path", "show", "/charts/saltmarsh/sheet 00.chart", "--snapshot", snap)
	j, err := client.Looker{Client: author, Snapshot: snap}.Decide(ctx, "surveyor", "/charts/south channel/sheet 00.chart", access.Write, wire.Supposed{})
	if err != nil || len(j.Answers) != 1 || !j.Answers[0].Allowed || j.Answers[0].Cause != access.ByAllow {
		t.Errorf("%+v, %v", j, err)
	}
	runOnShares(t, s)
	// Somebody opens it to all, and the next snapshot says so.
	was := snapshot(t, author, "crewdocs", demo.Chartroom)
	must(t, s.Permit(ctx, "crewdocs", "/rota", "D:AI(A;OICI;FA;;;WD)"))
	if now := snapshot(t, author, "crewdocs", demo.Chartroom); now.Root == was.Root {
		t.Error("a change of a share is not seen")
	}
	if d, err = author.Drift(ctx, "crewdocs", ""); err != nil {
		t.Fatal(err)
	}
	if g := find("/crewdocs/rota", "grants"); g.Found != "allow everyone: full" {
		t.Errorf("%+v", g)
	}
	// As it is now, too.
	live := client.Looker{Client: author, Host: demo.Chartroom}
	v, err := live.Sight(ctx, "/crewdocs/rota/week-00.ods")
	if err != nil || len(v.Entries) != 4 || v.Entries[0].Origin != "from /crewdocs" || v.Access.Owner != "keeper" {
		t.Errorf("%+v, %v", v, err)
	}
	if top, err := live.List(ctx, "/", "", "", 100); err != nil || len(top.Items) != 2 || top.Items[0].Path != "/charts" {
		t.Errorf("the shares: %+v, %v", top, err)
	}
	l, err := live.List(ctx, "/crewdocs/rota", "office-boy", "", 100)
	fails(t, "an account that is not there", err, http.StatusUnprocessableEntity, "office-boy")
	if l, err = live.List(ctx, "/crewdocs/rota", "wages", "", 7); err != nil || len(l.Items) != 7 || l.Next == "" || !slices.Contains(l.Items[0].May, "write") {
		t.Errorf("%+v, %v", l, err)
	}
	_, err = live.Sight(ctx, "/crewdocs/none")
	fails(t, "a path that is not there", err, http.StatusUnprocessableEntity, "not there")
	_, err = live.Sight(ctx, "/ipc$/x")
	fails(t, "outside of the roots", err, http.StatusUnprocessableEntity, "own list of roots")
	_, err = live.Probe(ctx, "wages", "/crewdocs/rota")
	fails(t, "trying as an account", err, http.StatusUnprocessableEntity, "asked about paths and folders only")
}

// What drifted on a share is mended as it was approved, with what comes down of it, and put back to the same root hash.
func runOnShares(t *testing.T, s *demo.Stage) {
	t.Helper()
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	was := snapshot(t, author, "charts", demo.Chartroom)
	p, err := author.DraftPlan(ctx, wire.Draft{Application: "charts", All: true})
	if err != nil {
		t.Fatal(err)
	}
	fails(t, "a shell script for a share", author.Script(ctx, p.ID, demo.Chartroom, io.Discard), http.StatusUnprocessableEntity, "is a file server")
	r := agreed(t, s, p)
	if r.State != "finished" || r.Hosts[0].Done != p.Steps || r.Hosts[0].Skipped+r.Hosts[0].Refused+r.Hosts[0].Wrong != 0 {
		res, _ := author.Results(ctx, r.ID, 20)
		t.Fatalf("%+v, %+v", r, res)
	}
	quiet(t, author)
	mended := snapshot(t, author, "charts", demo.Chartroom)
	d, err := author.Drift(ctx, "charts", "")
	if err != nil || len(d.Groups) != 0 || mended.Root == was.Root {
		t.Errorf("afterwards there is %+v, %v", d.Groups, err)
	}
	c := client.Looker{Client: author, Snapshot: mended.ID}
	v, err := c.Sight(ctx, "/charts/north sound/soundings/2026-00.xyz")
	if err != nil || !slices.Contains(v.Access.Entries, "allow surveyors: modify; inherited") {
		t.Errorf("what comes down: %+v, %v", v.Access, err)
	}
	back, err := author.DraftPlan(ctx, wire.Draft{Run: r.ID})
	if err != nil || back.Steps != p.Steps {
		t.Fatalf("%+v, %v", back, err)
	}
	agreed(t, s, back)
	quiet(t, author)
	if now := snapshot(t, author, "charts", demo.Chartroom); now.Root != was.Root {
		t.Errorf("root hash %s, before %s", now.Root, was.Root)
	}
}
