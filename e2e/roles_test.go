//go:build linux

package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/core/wish"
	"idletally/internal/wire"
)

var (
	rolesRow  = regexp.MustCompile("(?m)^\\| .* \\| `([A-Z]+) (/\\S+)` \\| (.+) \\|$")
	parameter = regexp.MustCompile(`\{[^}]+\}`)
)

// Every operation of the service answers nobody, and somebody with each single role, as the table in
// docs/roles.md says; and the table holds every operation.
func TestRoles(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	admin := as(t, s, "admin")
	text, err := os.ReadFile("../docs/roles.md")
	must(t, err)
	table := map[string]string{}
	operations, _, _ := strings.Cut(string(text), "## Besides") // the rest is held in the service's own tests
	for _, m := range rolesRow.FindAllStringSubmatch(operations, -1) {
		table[m[1]+" "+m[2]] = m[3]
	}

	web := trusting(t, s)
	call := func(method, path, token string) int {
		t.Helper()
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()

		req, err := http.NewRequestWithContext(ctx, method, s.Address+path, bytes.NewReader([]byte(`{}`)))
		must(t, err)
		req.Header.Set("Content-Type", "application/json")
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}

		resp, err := web.Do(req)
		must(t, err)
		defer resp.Body.Close() // a stream goes on for ever, and its head is all that is wanted

		return resp.StatusCode
	}

	var doc struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	must(t, json.Unmarshal(document(t, s, as(t, s, "lookout")), &doc))
	tokens := map[string]string{}
	for _, role := range wire.Roles {
		tokens[role] = newcomer(t, s, "only-"+role, role).Token
	}

	one := newcomer(t, s, "only-one-application", "author@ticketing", "reviewer@ticketing", "operator@ticketing").Token
	seen, tried := 0, 0
	for path, methods := range doc.Paths {
		for method := range methods {
			method = strings.ToUpper(method)
			short := strings.TrimPrefix(path, "/api/v1")
			who, ok := table[method+" "+short]
			if !ok {
				t.Errorf("docs/roles.md says nothing of %s %s", method, short)
				continue
			}

			seen++
			if short == "/sign-out" { // it ends what the others are called with
				continue
			}

			at := parameter.ReplaceAllString(path, "nothing-here") // so that nothing is changed by whoever may
			anybody := who == "nobody in particular"
			if (call(method, at, "") == http.StatusUnauthorized) == anybody && short != "/sign-in" {
				t.Errorf("%s %s is for %s, and answers whoever has not signed in otherwise", method, short, who)
			}

			needs, ofOne := strings.CutSuffix(who, " of the application")
			open := who == "nobody in particular" || who == "anybody signed in"
			if got := call(method, at, one); (got != http.StatusForbidden) != (open || ofOne || who == "viewer") &&
				short != "/sign-in" && !slices.Contains(named, method+" "+short) {
				t.Errorf("%s %s is for %s, and answers a person who has roles of one application alone with %d", method,
					short, who, got)
			}

			for role, token := range tokens {
				may := open || who == "viewer" || needs == role
				if got := call(method, at, token); (got != http.StatusForbidden &&
					got != http.StatusUnauthorized) != may &&
					short != "/sign-in" {
					t.Errorf("%s %s is for %s, and answers a person who is only %s with %d", method, short, who,
						role,
						got)
				}
				tried++
			}
		}
	}

	past, err := admin.History(ctx, client.HistoryQuery{What: "refused", Who: "only-viewer"}, 200)
	if err != nil || len(past) < 20 || !slices.ContainsFunc(past, func(h wire.History) bool {
		return h.Subject == "add-person" && strings.Contains(h.Detail, "role admin")
	}) {
		t.Errorf("the history tells of %d refusals, %v", len(past), err)
	}

	if seen != len(table) || tried < 5*80 {
		t.Errorf("%d operations, %d in the table, %d calls", seen, len(table), tried)
	}

	if !slices.Equal(wire.Roles, []string{"viewer", "author", "reviewer", "operator", "admin"}) {
		t.Errorf("the roles are %v: the table speaks of others", wire.Roles)
	}

	var ofOne []string
	for what, who := range table {
		if strings.HasSuffix(who, " of the application") {
			ofOne = append(ofOne, what)
		}
	}

	// what it is of stands in the report: see TestCarried
	ofOne = slices.DeleteFunc(ofOne, func(what string) bool { return what == "POST /runs/report" })
	slices.Sort(ofOne)
	rolesOfOne(t, s, ofOne)
}

// named are the operations whose application stands in the body or the question, where the table's test gives none.
var named = []string{
	"POST /plans", "POST /plans/foreseen", "POST /baselines", "POST /baselines/effect", "POST /baselines/derive",
	"POST /baselines/{name}/{number}/publish", "POST /snapshots", "POST /applications/{name}/snapshots",
	"POST /snapshots/import", "POST /waivers", "POST /schedules", "POST /runs/report",
}

// privateLogs asks what it would come to if nobody else saw the logs.
var privateLogs = wire.Foresee{
	Application: "ticketing",
	Hosts:       []string{"slip-north"},
	Wishes:      []wish.Wish{{Paths: []string{"/srv/ticketing/logs"}, Form: "private"}},
}

// newcomer adds a person and signs them in.
func newcomer(t *testing.T, s *demo.Stage, name string, roles ...string) *client.Client {
	t.Helper()
	admin := as(t, s, "admin")
	one, err := admin.AddPerson(t.Context(), wire.NewPerson{Name: name, Roles: roles})
	must(t, err)
	_, err = admin.SignIn(t.Context(), wire.SignIn{Name: name, Password: one.Password, NewPassword: demo.Password})
	must(t, err)
	return as(t, s, name)
}

// Who has a role for one application may do there what the role allows, and nothing of that with what belongs
// to another one.
func rolesOfOne(t *testing.T, s *demo.Stage, operations []string) {
	ctx := t.Context()
	here := newcomer(t, s, "here", "author@ticketing", "reviewer@ticketing", "operator@ticketing")
	elsewhere := newcomer(t, s, "elsewhere", "author@tideboard", "reviewer@tideboard", "operator@tideboard", "viewer")
	author := as(t, s, "quartermaster")
	snap := snapshot(t, author, "ticketing", "slip-north")
	drift, err := author.Drift(ctx, "ticketing", "slip-north")
	must(t, err)
	e, err := author.Edition(ctx, "ticketing", 0)
	must(t, err)
	group := drift.Groups[0]
	waiver := wire.NewWaiver{
		Application: "ticketing",
		Host:        "slip-north",
		Paths:       "/srv/ticketing/logs/**",
		Rule:        group.Rule,
		Reason:      "for a test of roles",
		Ends:        time.Now().Add(48 * time.Hour),
	}

	draft := wire.Draft{Groups: []wire.GroupRef{{Report: group.Report, Group: group.ID}}}
	plan := func() wire.Plan {
		p, err := author.DraftPlan(ctx, draft)
		must(t, err)
		return p
	}
	submitted := func() wire.Plan {
		p, err := author.Submit(ctx, plan().ID)
		must(t, err)
		return p
	}

	// another one, so that the first stays as it is
	ready, err := author.DraftPlan(ctx, wire.Draft{
		Groups: []wire.GroupRef{{Report: group.Report, Group: drift.Groups[1].ID}},
	})
	must(t, err)
	approved(t, s, ready)
	run, err := author.StartRun(ctx, ready.ID)
	must(t, err)
	run = ended(t, author, run.ID)
	kept, err := as(t, s, "harbourmaster").Waive(ctx, waiver)
	must(t, err)
	schedule := wire.NewSchedule{Application: "ticketing", Cron: "5 4 * * *"}
	set, err := author.AddSchedule(ctx, schedule)
	must(t, err)
	approve := submitted()
	decline := submitted()
	fresh := plan()
	next := plan()
	approved(t, s, next)
	failing := func(_ any, err error) error { return err }
	tries := map[string][]func(c *client.Client) error{
		"POST /plans": {
			func(c *client.Client) error { return failing(c.DraftPlan(ctx, draft)) },
			func(c *client.Client) error {
				return failing(c.DraftPlan(ctx, wire.Draft{Application: "tideboard", Groups: draft.Groups}))
			},
			func(c *client.Client) error {
				return failing(c.DraftPlan(ctx, wire.Draft{Findings: []wire.Ref{{Report: group.Report, Seq: 1}}}))
			},
			func(c *client.Client) error {
				return failing(c.DraftPlan(ctx, wire.Draft{Application: "ticketing", All: true}))
			},
			func(c *client.Client) error {
				return failing(c.DraftPlan(ctx, wire.Draft{Application: "tideboard", Run: run.ID}))
			},
			func(c *client.Client) error {
				return failing(c.DraftPlan(ctx, wire.Draft{Application: "tideboard", Snapshot: snap.ID}))
			},
			func(c *client.Client) error {
				return failing(c.DraftPlan(ctx, wire.Draft{
					Application: "ticketing",
					Hosts:       []string{"slip-north"},
					Changes:     "changes: [{paths: /srv/ticketing/site, set: {owner: root}}]",
				}))
			},
		},
		"POST /plans/{id}/submit": {func(c *client.Client) error { return failing(c.Submit(ctx, fresh.ID)) }},
		"POST /plans/{id}/approve": {func(c *client.Client) error {
			d := wire.Decision{Digest: approve.Digest, Words: words(approve)}
			return failing(c.Decide(ctx, approve.ID, true, d))
		}},
		"POST /plans/{id}/alone": { // whom the roster lets is TestRoster's
			func(c *client.Client) error { return failing(c.ApproveAlone(ctx, approve.ID, wire.Decision{})) }},
		"POST /plans/{id}/decline": {func(c *client.Client) error {
			return failing(c.Decide(ctx, decline.ID, false, wire.Decision{Digest: decline.Digest, Remark: "no"}))
		}},
		"POST /plans/{id}/run": {func(c *client.Client) error { return failing(c.StartRun(ctx, next.ID)) }},
		"POST /runs/{id}/carry": {
			func(c *client.Client) error { return c.WriteOrder(ctx, run.ID, "slip-north", io.Discard) },
		},
		"GET /runs/{id}/order": {func(c *client.Client) error {
			return c.Do(ctx, "GET", "/runs/"+run.ID+"/order?host=slip-north", nil, io.Discard)
		}},
		"POST /runs/{id}/halt":   {func(c *client.Client) error { return failing(c.Halt(ctx, run.ID)) }},
		"POST /runs/{id}/resume": {func(c *client.Client) error { return failing(c.Resume(ctx, run.ID)) }},
		"POST /baselines":        {func(c *client.Client) error { return failing(c.UploadBaseline(ctx, e.Text)) }},
		"POST /plans/foreseen":   {func(c *client.Client) error { return failing(c.Foresee(ctx, privateLogs)) }},
		"POST /baselines/effect": {func(c *client.Client) error { return failing(c.PreviewBaseline(ctx, e.Text)) }},
		"POST /baselines/derive": {func(c *client.Client) error {
			return failing(c.DeriveBaseline(ctx, wire.NewDerivation{
				Application: "ticketing", Hosts: []string{"slip-north"},
			}))
		}},
		"POST /baselines/{name}/{number}/publish": {
			func(c *client.Client) error { return failing(c.Publish(ctx, "ticketing", e.Number)) },
		},
		"POST /applications/{name}/snapshots": {func(c *client.Client) error {
			return failing(c.TakeSnapshots(ctx, "ticketing", wire.NewSnapshots{}))
		}},
		"POST /snapshots": {func(c *client.Client) error {
			return failing(c.TakeSnapshot(ctx, wire.NewSnapshot{Application: "ticketing", Host: "slip-north"}))
		}},
		"POST /snapshots/{id}/cancel": {
			func(c *client.Client) error { return failing(c.CancelSnapshot(ctx, snap.ID)) },
		},
		"POST /snapshots/import": {func(c *client.Client) error {
			return failing(c.ImportSnapshot(ctx, "ticketing", "slip-north", "", strings.NewReader("x")))
		}},
		"POST /waivers": {func(c *client.Client) error { return failing(c.Waive(ctx, waiver)) }},
		"POST /waivers/{id}/withdraw": {
			func(c *client.Client) error { return failing(c.WithdrawWaiver(ctx, kept.ID)) },
		},
		"POST /schedules":        {func(c *client.Client) error { return failing(c.AddSchedule(ctx, schedule)) }},
		"DELETE /schedules/{id}": {func(c *client.Client) error { return c.RemoveSchedule(ctx, set.ID) }},
	}

	if got := slices.Sorted(maps.Keys(tries)); !slices.Equal(got, operations) {
		t.Errorf("tried are %v, the table has %v", got, operations)
	}

	for what, list := range tries {
		for i, try := range list {
			err := try(elsewhere)
			if client.Status(err) != http.StatusForbidden || !strings.Contains(err.Error(), "@ticketing") {
				t.Errorf("%s, %d: who has roles for another application: %v", what, i, err)
			}
			if err := try(here); client.Status(err) == http.StatusForbidden {
				t.Errorf("%s, %d: who has the role for this one: %v", what, i, err)
			}
		}
	}

	ids := map[string]string{"/snapshots/{id}": snap.ID, "/plans/{id}": ready.ID, "/runs/{id}": run.ID,
		"/reports/{id}": group.Report, "/roster/{id}": nextRoster(t, s), "/requests/{id}": wanting(t, s, e.Number)}
	answersFit(t, s, as(t, s, "admin").Token, ids)

	past, err := as(t, s, "admin").History(ctx, client.HistoryQuery{What: "refused", Who: "elsewhere"}, 200)
	if err != nil || len(past) != len(tries)-1 { // one only asks
		t.Errorf("the history tells of %d refusals, want %d: %v", len(past), len(tries), err)
	}

	// A token of theirs reaches no further; and what is taken from the person is gone from the token.
	tok, err := here.AddToken(ctx, wire.NewToken{Name: "nightly", Roles: []string{"operator@ticketing"}, Days: 1})
	must(t, err)
	_, err = here.AddToken(ctx, wire.NewToken{Name: "more", Roles: []string{"operator"}, Days: 1})
	fails(t, "a token for more than its person may", err, http.StatusForbidden, "operator")
	program, err := client.New(s.Address, authorityOf(t, s), tok.Secret)
	must(t, err)
	_, err = program.AddSchedule(ctx, schedule)
	must(t, err)
	_, err = as(t, s, "admin").SetRoles(ctx, "here", []string{"operator@tideboard"})
	must(t, err)
	_, err = program.AddSchedule(ctx, schedule)
	fails(t, "a token of whom the role was taken from", err, http.StatusForbidden, "operator")
	for _, bad := range []string{"admin@ticketing", "viewer@ticketing", "author@", "captain", "author@a b"} {
		_, err = as(t, s, "admin").SetRoles(ctx, "here", []string{bad})
		fails(t, bad, err, http.StatusUnprocessableEntity, "role")
	}
}
