//go:build linux

package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/client"
	"idletally/internal/core/roster"
	"idletally/internal/pen"
	"idletally/internal/testkit/pens"
	"idletally/internal/testkit/sshkeys"
	"idletally/internal/wire"
)

// officer makes another admin, and signs them in.
func officer(t *testing.T, s *demo.Stage, admin *client.Client, name string) *client.Client {
	t.Helper()
	one, err := admin.AddPerson(t.Context(), wire.NewPerson{Name: name, Roles: []string{wire.Viewer, wire.Admin}})
	must(t, err)
	fresh := *admin
	fresh.Token = ""
	_, err = fresh.SignIn(t.Context(), wire.SignIn{Name: name, Password: one.Password, NewPassword: demo.Password})
	must(t, err)
	return as(t, s, name)
}

// waiting returns the one request that somebody sees.
func waiting(t *testing.T, c *client.Client) wire.Request {
	t.Helper()
	all, err := c.Requests(t.Context())
	must(t, err)
	if len(all) != 1 {
		t.Fatalf("%d requests are seen: %+v", len(all), all)
	}
	return all[0]
}

// ownOf returns the request of somebody that waits, as another sees it.
func ownOf(t *testing.T, c *client.Client, by string) string {
	t.Helper()
	all, err := c.Requests(t.Context())
	must(t, err)
	for _, r := range all {
		if r.AskedBy == by && r.State == "waiting" {
			return r.ID
		}
	}
	t.Fatalf("nothing of %s waits: %+v", by, all)
	return ""
}

// wanting has an admin want an edition published that others are to agree to, and returns the request.
func wanting(t *testing.T, s *demo.Stage, edition int) string {
	t.Helper()
	admin, none, one := as(t, s, "admin"), 0, 1
	must(t, admin.SetReviewRule(t.Context(), "ticketing", wire.ReviewRule{Reviewers: 1, Editions: &one}))
	_, err := admin.Publish(t.Context(), "ticketing", edition)
	fails(t, "an edition, alone", err, http.StatusConflict, "to agree to this")
	must(t, admin.SetReviewRule(t.Context(), "ticketing", wire.ReviewRule{Reviewers: 1, Editions: &none}))
	return ownOf(t, admin, "admin")
}

// Where the policy says so nobody changes alone who may do what: others agree to exactly that call, which then is made
// once. Nobody agrees to what they asked for, and what takes the policy back waits like anything else.
func TestRequests(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, admin, change := crewedOn(t)
	second := officer(t, s, admin, "master")
	third := officer(t, s, admin, "mate")
	officer(t, s, admin, "pilot")
	ruled(t, admin, func(p *wire.Policy) { p.Agree = 2 })

	roles := []string{wire.Viewer, wire.Operator}
	ask := func(c *client.Client) error {
		_, err := c.SetRoles(ctx, "lookout", roles)
		return err
	}
	fails(t, "roles, alone", ask(admin), http.StatusConflict, "2 other admins have to agree")
	fails(t, "the same again", ask(admin), http.StatusConflict, "2 other admins have to agree")
	q := waiting(t, second)
	if q.AskedBy != "admin" || q.Operation != "set-roles" || !strings.Contains(q.Says, "lookout") ||
		q.State != "waiting" {
		t.Errorf("%+v", q)
	}
	_, err := admin.AgreeToRequest(ctx, q.ID, wire.Agreement{})
	fails(t, "one's own", err, http.StatusForbidden, "asked for themselves")
	_, err = as(t, s, "quartermaster").AgreeToRequest(ctx, q.ID, wire.Agreement{})
	fails(t, "by somebody else", err, http.StatusForbidden, "needs the role admin")
	if all, err := as(t, s, "quartermaster").Requests(ctx); err != nil || len(all) != 0 {
		t.Errorf("somebody who cannot agree sees %+v, %v", all, err)
	}

	for range 2 { // once is enough, and twice is once
		q, err = second.AgreeToRequest(ctx, q.ID, wire.Agreement{})
		must(t, err)
	}
	fails(t, "with one of two", ask(admin), http.StatusConflict, "another admin has to agree")
	q, err = third.AgreeToRequest(ctx, q.ID, wire.Agreement{})
	if err != nil || q.State != "agreed" || len(q.Agreed) != 2 {
		t.Fatalf("%+v, %v", q, err)
	}
	roles = append(roles, wire.Admin)
	fails(t, "something more than was agreed to", ask(admin), http.StatusConflict, "2 other admins have to agree")
	roles = roles[:2]
	fails(t, "what somebody else was allowed", ask(second), http.StatusConflict, "2 other admins have to agree")
	must(t, ask(admin))
	fails(t, "a second time", ask(admin), http.StatusConflict, "2 other admins have to agree")

	// What somebody agreed to who has lost the role since, or whose sign-in was reset, is asked for anew.
	since := map[string][2]string{
		"lost the role":     {`roles = 'viewer'`, `roles = 'viewer,admin'`},
		"sign-in was reset": {`counts_from = UTC_TIMESTAMP() + INTERVAL 1 DAY`, `counts_from = NULL`},
	}
	for what, set := range since {
		fails(t, "roles, alone", ask(second), http.StatusConflict, "2 other admins have to agree")
		for _, c := range []*client.Client{admin, third} {
			_, err := c.AgreeToRequest(ctx, ownOf(t, c, "master"), wire.Agreement{})
			must(t, err)
		}
		change(`UPDATE person SET ` + set[0] + ` WHERE name = 'mate'`)
		fails(t, what, ask(second), http.StatusConflict, "2 other admins have to agree")
		change(`UPDATE person SET ` + set[1] + ` WHERE name = 'mate'`)
		fails(t, what+", which is over for good", ask(second), http.StatusConflict, "2 other admins have to agree")
	}

	// Whatever else is of this kind waits, too, and so does taking the policy back.
	_, err = admin.AddPerson(ctx, wire.NewPerson{Name: "stowaway", Roles: []string{wire.Viewer}})
	fails(t, "another person", err, http.StatusConflict, "have to agree")
	_, err = admin.ResetPassword(ctx, "lookout")
	fails(t, "a password", err, http.StatusConflict, "have to agree")
	fails(t, "a second factor", admin.RemoveSecondOf(ctx, "lookout"), http.StatusConflict, "have to agree")
	fails(t, "a removal", admin.RemovePerson(ctx, "lookout"), http.StatusConflict, "have to agree")
	fails(t, "reviewers", admin.SetReviewers(ctx, "ticketing", 3), http.StatusConflict, "have to agree")
	now, err := admin.Policy(ctx)
	must(t, err)
	now.Agree = 0
	_, err = admin.SetPolicy(ctx, now.Policy)
	fails(t, "the policy", err, http.StatusConflict, "have to agree")

	// The command line: list, decline, and what was declined is over.
	op := command{t: t, s: s, person: "master"}
	op.login()
	op.want(0, "set-policy", "request", "list")
	all, err := second.Requests(ctx)
	must(t, err)
	for _, r := range all {
		if r.AskedBy == "admin" {
			op.want(0, "declined", "request", "decline", r.ID)
			op.want(1, "declined already", "request", "decline", r.ID)
			op.want(1, "does not wait any more", "request", "agree", r.ID)
		}
	}
	if list, err := admin.History(ctx, pastOf("request agreed to"), 20); err != nil || len(list) == 0 {
		t.Errorf("%+v, %v", list, err)
	}

	signedAgreements(t, s, admin, map[string]*client.Client{"master": second, "mate": third}, change)
}

// signedAgreements has whoever agrees sign it by a key of their own: neither a session nor a row is enough then.
func signedAgreements(
	t *testing.T, s *demo.Stage, admin *client.Client, others map[string]*client.Client,
	change func(q string, args ...any),
) {
	t.Helper()
	ctx := t.Context()
	signs := func() error {
		now, err := admin.Policy(ctx)
		must(t, err)
		now.AgreeSigned = true
		_, err = admin.SetPolicy(ctx, now.Policy)
		return err
	}
	fails(t, "the policy", signs(), http.StatusConflict, "2 other admins have to agree")
	for _, c := range others {
		_, err := c.AgreeToRequest(ctx, ownOf(t, c, "admin"), wire.Agreement{})
		must(t, err)
	}
	fails(t, "without a roster nobody could agree", signs(), http.StatusConflict, "no roster")

	now := time.Now().UTC().Truncate(time.Second)
	r := roster.Roster{Edition: 1, Made: now, Until: now.AddDate(1, 0, 0), Threshold: 2,
		Approvals: []roster.Approvals{{Application: roster.Everything, People: 1}}}
	for name := range others {
		must(t, os.MkdirAll(filepath.Dir(s.KeyFile(name)), 0o700))
		sshkeys.New(t, s.KeyFile(name), "ed25519", "")
		key, err := pen.Public(s.KeyFile(name) + ".pub")
		must(t, err)
		r.People = append(r.People, roster.Person{Name: name, Keys: []roster.NamedKey{{Name: "tide", Key: key}}})
	}
	r.Sort()
	document, err := r.Bytes()
	must(t, err)
	_, err = admin.ProposeRoster(ctx, string(document))
	must(t, err)
	must(t, signs())
	time.Sleep(3 * time.Second) // until each part of the service knows

	ask := func() error {
		_, err := admin.SetRoles(ctx, "lookout", []string{wire.Viewer, wire.Author})
		return err
	}

	// An admin who has no host yet that acts by the roster puts another in its place, with nobody who could agree.
	strangers := r
	strangers.People = nil
	for i, name := range []string{"admin", "nobody-known"} {
		key := roster.NamedKey{Name: "tide", Key: pens.New(t, uint64(i)).Key}
		strangers.People = append(strangers.People, roster.Person{Name: name, Keys: []roster.NamedKey{key}})
	}
	for _, other := range []roster.Roster{strangers, r} {
		other.Made = other.Made.Add(-time.Second)
		text, err := other.Bytes()
		must(t, err)
		_, err = admin.ProposeRoster(ctx, string(text))
		must(t, err)
		fails(t, "roles, alone", ask(), http.StatusConflict, "2 other admins have to agree")
	}
	id := ownOf(t, others["mate"], "admin")
	_, err = others["mate"].AgreeToRequest(ctx, id, wire.Agreement{})
	fails(t, "without a signature", err, http.StatusUnprocessableEntity, "keys of their own")
	by := map[string]command{}
	for name := range others {
		by[name] = command{t: t, s: s, person: name}
		c := by[name]
		c.login()
	}
	by["mate"].want(0, "who agrees signs it", "request", "show", id)
	by["mate"].want(1, "as a key of yours", "request", "agree", id, "--key", s.KeyFile("master"))
	for name, c := range by {
		c.want(0, `asks: set-roles by admin: {`, "request", "agree", id, "--key", s.KeyFile(name))
	}

	// A row that nobody signed, or that was signed for something else, is no agreement.
	change(`UPDATE request_agreed SET signed = '' WHERE who = 'mate' AND request = ?`, id)
	fails(t, "with a signature that is gone", ask(), http.StatusConflict, "2 other admins have to agree")
	again := ownOf(t, others["mate"], "admin")
	by["master"].want(0, "1 of 2", "request", "agree", again, "--key", s.KeyFile("master"))
	change(`INSERT INTO request_agreed (request, who, at, signed) SELECT ?, 'mate', UTC_TIMESTAMP(), signed
		FROM request_agreed WHERE request = ? AND who = 'master'`, again, again)
	change(`UPDATE request SET state = 'agreed' WHERE id = ?`, again)
	fails(t, "with somebody else's signature", ask(), http.StatusConflict, "2 other admins have to agree")
	last := ownOf(t, others["mate"], "admin")
	for name, c := range by {
		c.want(0, "of 2", "request", "agree", last, "--key", s.KeyFile(name))
	}
	must(t, ask())
}

// Where an application says so its editions are published when reviewers have agreed: not by whoever wrote one, nor by
// whoever wants it published.
func TestEditionsAreReviewed(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, admin, change := crewedOn(t)
	author, reviewer := as(t, s, "quartermaster"), as(t, s, "harbourmaster")
	one := 1
	must(t, admin.SetReviewRule(ctx, "ticketing", wire.ReviewRule{Reviewers: 1, Editions: &one}))
	must(t, admin.SetReviewers(ctx, "ticketing", 2)) // says nothing of editions: they stay reviewed
	e, err := author.UploadBaseline(ctx, demo.Baseline("ticketing"))
	must(t, err)
	_, err = author.Publish(ctx, "ticketing", e.Number)
	fails(t, "alone", err, http.StatusConflict, "another reviewer has to agree")
	_, err = admin.Publish(ctx, "ticketing", e.Number)
	fails(t, "by somebody else, alone", err, http.StatusConflict, "another reviewer has to agree")

	all, err := author.Requests(ctx)
	must(t, err)
	for _, r := range all { // the author is a reviewer as well
		if r.AskedBy != "quartermaster" {
			_, err := author.AgreeToRequest(ctx, r.ID, wire.Agreement{})
			fails(t, "what the author wrote", err, http.StatusForbidden, "wrote themselves")
			continue
		}
		r, err := reviewer.AgreeToRequest(ctx, r.ID, wire.Agreement{})
		if err != nil || r.State != "agreed" || r.Application != "ticketing" {
			t.Errorf("%+v, %v", r, err)
		}
	}

	// What they agreed to is that text: another one of that number is another edition.
	change(`UPDATE edition SET text = CONCAT(text, '\n# more') WHERE application = 'ticketing'`)
	_, err = author.Publish(ctx, "ticketing", e.Number)
	fails(t, "another text", err, http.StatusConflict, "another reviewer has to agree")
	change(`UPDATE edition SET text = ? WHERE application = 'ticketing'`, demo.Baseline("ticketing"))

	on := command{t: t, s: s, person: "harbourmaster"}
	on.login()
	on.want(0, "Compared with the published edition", "request", "show", ownOf(t, reviewer, "quartermaster"))
	_, err = author.Publish(ctx, "ticketing", e.Number)
	must(t, err)
	_, err = author.UploadBaseline(ctx, demo.Baseline("tideboard"))
	must(t, err)
	_, err = author.Publish(ctx, "tideboard", 1) // which does not ask for it
	must(t, err)
}

// In the console another admin sees what is asked for, and agrees with a word of who they are.
func TestBrowserAgrees(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, admin := crewed(t)
	officer(t, s, admin, "master")
	ruled(t, admin, func(p *wire.Policy) { p.Agree = 1 })
	_, err := admin.SetRoles(ctx, "lookout", []string{wire.Viewer, wire.Operator})
	fails(t, "roles, alone", err, http.StatusConflict, "another admin has to agree")

	b, err := browser.New(ctx, s.Address, 1280, 800, false)
	must(t, err)
	t.Cleanup(b.Close)
	must(t, b.SignIn("master", demo.Password))
	must(t, b.Go("/settings?tab=requests"))
	must(t, b.See("Say what a person may do"))
	axe(t, b, "a request")
	must(t, b.Press("Agree to set-roles of admin"))
	must(t, b.See("1 of 1: master"))
	_, err = admin.SetRoles(ctx, "lookout", []string{wire.Viewer, wire.Operator})
	must(t, err)
}
