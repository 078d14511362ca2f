//go:build linux

package e2e

import (
	"database/sql"
	"errors"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/wire"
)

// crewedOn is crewed with a database of the test's own, in which it changes rows by hand.
func crewedOn(t *testing.T) (s *demo.Stage, admin *client.Client, change func(q string, args ...any)) {
	t.Helper()
	db, _ := database(t)
	t.Cleanup(db.Stop)
	s, _ = bare(t, "127.0.0.1:0", db.DSN)
	admin, err := s.Crew(t.Context())
	must(t, err)
	return s, admin, changing(t, db.DSN)
}

// changing changes rows of a database by hand.
func changing(t *testing.T, dsn string) func(q string, args ...any) {
	t.Helper()
	rows, err := sql.Open("mysql", dsn)
	must(t, err)
	t.Cleanup(func() { rows.Close() })
	return func(q string, args ...any) {
		t.Helper()
		changed(t, rows, q, args...)
	}
}

// changed changes rows by hand while a service works with them, and gives how many. Where both were in each
// other's way, and the database gave up this one, it is done again.
func changed(t *testing.T, rows *sql.DB, q string, args ...any) int64 {
	t.Helper()
	for {
		r, err := rows.ExecContext(t.Context(), q, args...)
		var e *mysql.MySQLError
		if errors.As(err, &e) && (e.Number == 1213 || e.Number == 1205) { // a deadlock, or a lock waited for too long
			continue
		}
		must(t, err)
		n, err := r.RowsAffected()
		must(t, err)
		return n
	}
}

// ruled changes the installation's policy and waits until no instance remembers the one before.
func ruled(t *testing.T, admin *client.Client, change func(p *wire.Policy)) {
	t.Helper()
	p, err := admin.Policy(t.Context())
	must(t, err)
	change(&p.Policy)
	_, err = admin.SetPolicy(t.Context(), p.Policy)
	must(t, err)
	time.Sleep(3 * time.Second)
}

// A session that somebody finds open, or steals, makes no tokens, people or hooks after ten minutes, and ends
// when nobody uses it; what lasts ends with whoever follows it.
func TestSessionsThatAreFound(t *testing.T) {
	t.Parallel()
	s, admin, change := crewedOn(t)
	ctx := t.Context()
	found := as(t, s, "quartermaster")
	found.Confirming = nil
	token := func() error {
		_, err := found.AddToken(ctx, wire.NewToken{Name: "nightly", Roles: []string{wire.Viewer}, Days: 1})
		return err
	}
	must(t, token())
	change(`UPDATE session SET shown = shown - INTERVAL 601 SECOND`)
	fails(t, "a token after ten minutes", token(), http.StatusUnauthorized,
		"password, or a code of your second factor, again")
	if _, err := found.Hosts(ctx); err != nil {
		t.Errorf("looking on: %v", err)
	}

	fails(t, "a wrong password", found.Confirm(ctx, wire.Confirm{Password: "low tide at one"}), http.StatusForbidden,
		"another one")
	fails(t, "a code of nobody's factor", found.Confirm(ctx, wire.Confirm{Code: "123456"}), http.StatusConflict,
		"no second factor")
	fails(t, "neither", found.Confirm(ctx, wire.Confirm{}), http.StatusUnprocessableEntity, "one of them")
	must(t, found.Confirm(ctx, wire.Confirm{Password: demo.Password}))
	must(t, token())

	c := command{t: t, s: s, person: "admin"}
	c.login()
	change(`UPDATE session SET shown = shown - INTERVAL 601 SECOND`)
	c.want(1, "idletally sign-in confirm", "person", "add", "purser", "--role", "viewer")
	c.want(1, "idletally sign-in confirm", "hook", "add", "https://127.0.0.1:9/x")
	out, errs, code := c.run(demo.Password+"\n", "sign-in", "confirm", "--password-stdin")
	if code != 0 || !strings.Contains(out, "good for ten minutes") {
		t.Errorf("%d %s%s", code, out, errs)
	}

	c.want(0, "one-time password", "person", "add", "purser", "--role", "viewer")

	// Of no use for half an hour.
	change(`UPDATE session SET used = used - INTERVAL 29 MINUTE WHERE person = 'quartermaster'`)
	if _, err := found.Hosts(ctx); err != nil {
		t.Errorf("after 29 minutes: %v", err)
	}

	change(`UPDATE session SET used = used - INTERVAL 31 MINUTE WHERE person = 'quartermaster'`)
	_, err := found.Hosts(ctx)
	fails(t, "after 31 minutes", err, http.StatusUnauthorized, "sign in first")
	ruled(t, admin, func(p *wire.Policy) { p.Idle = 720 })
	_, err = found.Hosts(ctx)
	fails(t, "it has ended, whatever the policy says later", err, http.StatusUnauthorized, "sign in first")
	ruled(t, admin, func(p *wire.Policy) { p.Idle = 30 })

	// A page that nobody touches does not keep its session.
	page := as(t, s, "lookout")
	change(`UPDATE session SET used = used - INTERVAL 29 MINUTE WHERE person = 'lookout'`)
	ask := func(header string) int {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Address+"/api/v1/hosts", nil)
		must(t, err)
		req.AddCookie(&http.Cookie{Name: "__Host-idletally_session", Value: page.Token})
		req.Header.Set("X-Idletally-Console", header)
		resp, err := page.HTTP.Do(req)
		must(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}

	if got := ask("alone"); got != http.StatusOK {
		t.Errorf("%d", got)
	}

	change(`UPDATE session SET used = used - INTERVAL 2 MINUTE WHERE person = 'lookout'`)
	if got := ask("1"); got != http.StatusUnauthorized {
		t.Errorf("what the page asked by itself counted as use: %d", got)
	}

	// Somebody is removed who follows what happens.
	follower := newcomer(t, s, "follower", wire.Viewer)
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.Address+"/api/v1/happenings", nil)
	must(t, err)
	req.Header.Set("Authorization", "Bearer "+follower.Token)
	resp, err := (&http.Client{Transport: follower.HTTP.Transport}).Do(req)
	must(t, err)
	defer resp.Body.Close()

	must(t, admin.RemovePerson(ctx, "follower"))
	begun := time.Now()
	if _, err := io.Copy(io.Discard, resp.Body); err != nil {
		t.Error(err)
	}

	if took := time.Since(begun); took > 4*time.Minute { // it would end by itself after five
		t.Errorf("it went on for %s", took)
	}
}

// It takes two, and both have to be reviewers when it counts: no puppet of an admin, nobody who was removed,
// demoted or reset meanwhile; and no admin changes that alone within a day.
func TestWhoApproves(t *testing.T) {
	t.Parallel()
	db, _ := database(t)
	defer db.Stop()

	s := world(t, db.DSN, true)
	change := changing(t, db.DSN)
	ctx := t.Context()
	admin, author := as(t, s, "admin"), as(t, s, "quartermaster")
	snapshot(t, author, "ticketing", "slip-north")
	draft := func(host string) wire.Plan {
		t.Helper()
		p, err := author.DraftPlan(ctx, wire.Draft{Application: "ticketing", Hosts: []string{host}, All: true})
		must(t, err)
		_, err = author.Submit(ctx, p.ID)
		must(t, err)
		return p
	}

	approve := func(who *client.Client, p wire.Plan) error {
		_, err := who.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest, Words: words(p)})
		return err
	}
	run := func(p wire.Plan) error {
		_, err := author.StartRun(ctx, p.ID)
		return err
	}
	pilot := newcomer(t, s, "pilot", wire.Reviewer)
	_, err := admin.SetRoles(ctx, "pilot", []string{wire.Reviewer, wire.Admin})
	fails(t, "manager and reviewer in one", err, http.StatusUnprocessableEntity, "two people")
	_, err = admin.AddPerson(ctx, wire.NewPerson{Name: "both", Roles: []string{wire.Admin, "reviewer@ticketing"}})
	fails(t, "a new one of both", err, http.StatusUnprocessableEntity, "two people")

	p := draft("slip-north")
	must(t, approve(pilot, p))
	must(t, admin.RemovePerson(ctx, "pilot"))
	fails(t, "approved by somebody who was removed", run(p), http.StatusConflict,
		"pilot: nobody has this name any more")

	// The day of founding is over.
	change(`UPDATE policy SET began = began - INTERVAL 25 HOUR`)
	puppet := newcomer(t, s, "pilot", wire.Reviewer)
	fails(t, "the same name again", run(p), http.StatusConflict, "pilot: counts as a reviewer only from")
	p = draft("slip-north")
	fails(t, "a puppet approves", approve(puppet, p), http.StatusForbidden, "your approvals count from")
	if me, err := puppet.Me(ctx); err != nil || me.CountsFrom == nil || time.Until(*me.CountsFrom) < 23*time.Hour {
		t.Errorf("%+v, %v", me, err)
	}

	harbourmaster := as(t, s, "harbourmaster")
	must(t, approve(harbourmaster, p))
	_, err = admin.SetRoles(ctx, "harbourmaster", []string{wire.Viewer})
	must(t, err)
	fails(t, "approved by somebody who was demoted", run(p), http.StatusConflict,
		"harbourmaster: may not approve it any more")
	if got, err := author.Plan(ctx, p.ID); err != nil || len(got.Approvals) != 1 || got.Approvals[0].Void == "" {
		t.Errorf("%+v, %v", got.Approvals, err)
	}

	_, err = admin.SetRoles(ctx, "harbourmaster", []string{wire.Reviewer})
	must(t, err)
	fails(t, "approved by somebody who is a reviewer again", run(p), http.StatusConflict,
		"counts as a reviewer only from")
	change(`UPDATE person SET counts_from = NULL WHERE name = 'harbourmaster'`)
	one, err := admin.ResetPassword(ctx, "harbourmaster")
	must(t, err)
	_, err = admin.SignIn(ctx, wire.SignIn{
		Name:        "harbourmaster",
		Password:    one.Password,
		NewPassword: "slack water at nine",
	})
	must(t, err)
	fails(t, "approved by somebody whose password an admin has", run(p), http.StatusConflict,
		"counts as a reviewer only from")
	change(`UPDATE person SET counts_from = NULL WHERE name = 'harbourmaster'`)
	change(`UPDATE person SET roles = CONCAT(roles, ',reviewer') WHERE name = 'admin'`)
	fails(t, "who manages people", approve(admin, draft("slip-south")), http.StatusForbidden, "approves no plans")

	// No admin gets around it by the policy.
	now, err := admin.Policy(ctx)
	must(t, err)
	loose := now.Policy
	loose.ManagersApprove, loose.ReviewerAfter = true, 0
	got, err := admin.SetPolicy(ctx, loose)
	if err != nil || got.ManagersApprove || got.ReviewerAfter != 24 || got.Next == nil || got.From == nil ||
		time.Until(*got.From) < 23*time.Hour || got.By != "admin" {
		t.Errorf("%+v, %v", got, err)
	}

	fails(t, "who manages people, with a looser policy to come", approve(admin, draft("slip-south")),
		http.StatusForbidden, "approves no plans")
	if got, err = admin.KeepPolicy(ctx); err != nil || got.Next != nil || got.ReviewerAfter != 24 {
		t.Errorf("%+v, %v", got, err)
	}

	_, err = admin.SetPolicy(ctx, loose)
	must(t, err)
	change(`UPDATE policy SET next_from = UTC_TIMESTAMP(3) - INTERVAL 1 SECOND`)
	if got, err = admin.Policy(ctx); err != nil || !got.ManagersApprove || got.ReviewerAfter != 0 || got.Next != nil {
		t.Errorf("a day later: %+v, %v", got, err)
	}

	strict := now.Policy
	strict.ReviewerAfter = 48
	got, err = admin.SetPolicy(ctx, strict)
	if err != nil || got.ReviewerAfter != 48 || got.ManagersApprove || got.Next != nil {
		t.Errorf("a stricter policy waits: %+v, %v", got, err)
	}

	must(t, run(p)) // harbourmaster's approval counts again
	list, err := admin.History(ctx, client.HistoryQuery{What: "policy"}, 10)
	if err != nil || len(list) != 4 ||
		!strings.Contains(list[0].Detail, "managers approve nothing; new reviewers count after 48 h") {
		t.Errorf("%+v, %v", list, err)
	}
}

// Roles that need a second factor are of no use without.
func TestRolesThatNeedASecondFactor(t *testing.T) {
	t.Parallel()
	s, admin := crewed(t)
	ctx := t.Context()
	c := command{t: t, s: s, person: "admin"}
	c.login()
	c.want(1, "you have no second factor yourself", "policy", "set", "--second-factor", "admin")
	c.want(2, "in minutes", "policy", "set", "--idle", "90s")
	c.want(1, "is no role", "policy", "set", "--second-factor", "captain")
	c.want(0, "is needed by reviewer", "policy", "set", "--second-factor", "reviewer", "--idle", "45m")
	c.want(0, "end after 45 min", "policy", "show")
	_, err := as(t, s, "lookout").SetPolicy(ctx, wire.Policy{Idle: 5})
	fails(t, "by a viewer", err, http.StatusForbidden, "admin")
	time.Sleep(3 * time.Second) // what an instance remembers of it
	who := as(t, s, "harbourmaster")
	me, err := who.Me(ctx)
	if err != nil || !me.WantsTwoFactor {
		t.Errorf("%+v, %v", me, err)
	}

	_, err = who.Plans(ctx, "", 1)
	fails(t, "looking at plans", err, http.StatusForbidden, "your roles need a second factor")
	h := command{t: t, s: s, person: "harbourmaster"}
	h.login()
	h.want(1, "your roles need a second factor", "host", "list")
	p, err := who.ProposeSecond(ctx)
	must(t, err)
	_, err = who.ConfirmSecond(ctx, codeOf(t, p.Secret, time.Now().Unix()/30))
	must(t, err)
	if _, err = who.Plans(ctx, "", 1); err != nil {
		t.Errorf("with a second factor: %v", err)
	}

	if _, err := as(t, s, "lookout").Plans(ctx, "", 1); err != nil {
		t.Errorf("who needs none: %v", err)
	}

	if list, err := admin.People(ctx); err != nil || len(list) < 5 {
		t.Errorf("%+v, %v", list, err)
	}
}
