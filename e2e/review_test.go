package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"idletally/internal/core/plan"
	"idletally/internal/wire"
)

// Hand-written changes, what is warned of them, and how people agree on them; and back to how it was.
func TestReview(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	first := as(t, s, "harbourmaster")
	admin := as(t, s, "admin")
	second := newcomer(t, s, "pilot", wire.Reviewer)
	was := snapshot(t, author, "ticketing", "slip-north")
	_, err := author.DraftPlan(ctx, wire.Draft{
		Application: "ticketing",
		Hosts:       []string{"slip-north"},
		Changes:     "changes: [{paths: /srv/ticketing/site, set: {owner: nobody-there}}]",
	})
	fails(t, "an account that is not there", err, http.StatusUnprocessableEntity, "nobody-there")
	_, err = author.DraftPlan(ctx, wire.Draft{
		Application: "ticketing",
		Hosts:       []string{"slip-north"},
		Changes:     "changes: [{paths: /etc/**, set: {owner: root}}]",
	})
	fails(t, "outside the roots", err, http.StatusUnprocessableEntity, "lies under none of the roots")

	// The web server loses its way to the site: that needs a reviewer's word, and two of them.
	if err := admin.SetReviewers(ctx, "ticketing", 2); err != nil {
		t.Fatal(err)
	}

	fails(t, "the number of reviewers by an author", author.SetReviewers(ctx, "ticketing", 1), http.StatusForbidden,
		"admin")
	p, err := author.DraftPlan(ctx, wire.Draft{
		Application: "ticketing",
		Hosts:       []string{"slip-north"},
		Changes:     "changes:\n  - paths: /srv/ticketing/site\n    set: {folders: 0700, entries: none}\n",
	})
	if err != nil || p.Steps != 1 || p.Kind != "adjustment" || p.Needed != 2 {
		t.Fatalf("%+v, %v", p, err)
	}

	i := slices.IndexFunc(p.Cautions, func(c plan.Caution) bool {
		return c.Grave && c.Account == "www-tickets" && c.Example == "/srv/ticketing/site"
	})
	if i < 0 {
		t.Fatalf("no caution in %+v", p.Cautions)
	}

	_, err = author.Submit(ctx, p.ID)
	must(t, err)
	said := wire.Decision{Digest: p.Digest, Words: words(p)}
	_, err = first.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest})
	fails(t, "no word on a grave caution", err, http.StatusUnprocessableEntity, p.Cautions[i].ID)
	_, err = first.Decide(ctx, p.ID, true, wire.Decision{
		Digest: p.Digest,
		Words:  map[string]string{p.Cautions[i].ID: "ok"},
	})
	fails(t, "a tick for a word", err, http.StatusUnprocessableEntity, "say why it is meant")
	_, err = author.Decide(ctx, p.ID, true, said)
	fails(t, "the author's own", err, http.StatusForbidden, "nobody decides on their own plan")
	got, err := first.Decide(ctx, p.ID, true, said)
	if err != nil || got.State != "in review" || len(got.Approvals) != 1 ||
		got.Approvals[0].Words[p.Cautions[i].ID] == "" {
		t.Fatalf("one of two: %+v, %v", got, err)
	}

	if got, err = first.Decide(ctx, p.ID, true, said); err != nil || got.State != "in review" {
		t.Errorf("the same one twice: %s, %v", got.State, err)
	}

	_, err = author.StartRun(ctx, p.ID)
	fails(t, "run with one of two", err, http.StatusConflict, "only an approved plan runs")
	got, err = first.Remark(ctx, p.ID, wire.NewRemark{
		Host: "slip-north",
		Path: "/srv/ticketing/site",
		Body: "For the night only?",
	})
	if err != nil || len(got.Remarks) != 1 || got.Remarks[0].Author != "harbourmaster" {
		t.Errorf("%+v, %v", got.Remarks, err)
	}

	// Taken back, it counts no more; another reviewer is the second, and then the first again.
	if got, err = first.Withdraw(ctx, p.ID); err != nil || len(got.Approvals) != 0 {
		t.Errorf("%+v, %v", got.Approvals, err)
	}

	if got, err = second.Decide(ctx, p.ID, true, said); err != nil || got.State != "in review" {
		t.Errorf("%s, %v", got.State, err)
	}

	got, err = first.Decide(ctx, p.ID, true, said)
	if err != nil || got.State != "approved" || len(got.Approvals) != 2 {
		t.Fatalf("two of two: %+v, %v", got, err)
	}

	// Out of review by its author: nothing of it counts any more.
	if got, err = author.Withdraw(ctx, p.ID); err != nil || got.State != "draft" || len(got.Approvals) != 0 {
		t.Errorf("%+v, %v", got, err)
	}

	_, err = author.StartRun(ctx, p.ID)
	fails(t, "run what was withdrawn", err, http.StatusConflict, "only an approved plan runs")
	must(t, admin.SetReviewers(ctx, "ticketing", 1))
	r := agreed(t, s, p)
	if r.State != "finished" || r.Hosts[0].Done != 1 {
		t.Fatalf("%+v", r)
	}

	site := filepath.Join(s.Root("slip-north"), "srv/ticketing/site")
	if st, err := os.Stat(site); err != nil || st.Mode().Perm() != 0o700 {
		t.Errorf("%v, %v", st.Mode(), err)
	}

	// Back to the snapshot from before, in part and whole.
	late := filepath.Join(s.Root("slip-north"), "srv/ticketing/keys/tls.key")
	must(t, os.Chmod(late, 0o666))
	snapshot(t, author, "ticketing", "slip-north")
	part, err := author.DraftPlan(ctx, wire.Draft{Snapshot: was.ID, Paths: []string{"/srv/ticketing/keys/**"}})
	if err != nil || part.Steps != 1 || part.Kind != "restore" {
		t.Fatalf("%+v, %v", part, err)
	}

	whole, err := author.DraftPlan(ctx, wire.Draft{Snapshot: was.ID})
	if err != nil || whole.Steps != 2 {
		t.Fatalf("%+v, %v", whole, err)
	}

	agreed(t, s, whole)
	quiet(t, author)
	if now := snapshot(t, author, "ticketing", "slip-north"); now.Root != was.Root {
		t.Errorf("root hash %s, before %s", now.Root, was.Root)
	}

	if o, err := author.Originals(ctx, r.ID, "slip-north", "", 10); err != nil || len(o) != 1 ||
		o[0].Path != "/srv/ticketing/site" || o[0].Left.Mode != "0700" || o[0].Original.Mode == "0700" {
		t.Errorf("originals %+v, %v", o, err)
	}

	if o, err := author.Originals(ctx, r.ID, "slip-north", "/srv/ticketing/site/*", 10); err != nil || len(o) != 0 {
		t.Errorf("originals that no pattern fits: %+v, %v", o, err)
	}

	_, err = author.Originals(ctx, r.ID, "slip-north", "srv", 10)
	fails(t, "a pattern that is none", err, http.StatusUnprocessableEntity, "pattern")

	// What somebody changed since a run is told where it is to be put back.
	must(t, os.Chmod(site, 0o711))
	snapshot(t, author, "ticketing", "slip-north")
	_, err = author.DraftPlan(ctx, wire.Draft{Run: r.ID})
	fails(t, "a conflict", err, http.StatusUnprocessableEntity, "it was changed again since")

	// The host alone, without its agent or any service.
	s.Agents["slip-north"].Stop()
	c := command{t: t, s: s, person: "quartermaster"}
	c.login()
	folder := filepath.Join(s.Root("slip-north"), "var/lib/idletally-agent")
	c.want(0, r.ID, "agent", "runs", "--folder", folder)
	c.want(2, "say --yes", "agent", "put-back", r.ID, "--folder", folder)
}
