//go:build linux

package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/client"
	"idletally/internal/wire"
)

// A program works with a token as far as that goes, and not further; and the history tells of it, and can be
// verified here and elsewhere.
func TestTokensAndHistory(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	person := as(t, s, "quartermaster")
	_, err := person.AddToken(ctx, wire.NewToken{Name: "too much", Roles: []string{"reviewer"}, Days: 1})
	fails(t, "a token that approves", err, 422, "cannot have the role reviewer")
	_, err = as(t, s, "lookout").AddToken(ctx, wire.NewToken{
		Name:  "more than its person",
		Roles: []string{"operator"},
		Days:  1,
	})
	fails(t, "more than its person", err, 403, "you have not got the role operator yourself")
	made, err := person.AddToken(ctx, wire.NewToken{Name: "nightly look", Roles: []string{"operator"}, Days: 30})
	must(t, err)
	ca, err := os.ReadFile(s.Authority())
	must(t, err)
	program, err := client.New(s.Address, ca, made.Secret)
	must(t, err)
	snapshot(t, program, "ticketing", "slip-north")
	_, err = program.DraftPlan(ctx, wire.Draft{Application: "ticketing", All: true})
	fails(t, "drafting by a token that may not", err, 403, "needs the role author")
	_, err = program.AddToken(ctx, wire.NewToken{Name: "another", Roles: []string{"viewer"}, Days: 1})
	fails(t, "a token by a token", err, 403, "sign in yourself")
	fails(t, "ending a token by a token", program.RemoveToken(ctx, made.ID), 403, "sign in yourself")
	fails(t, "ending somebody else's", as(t, s, "lookout").RemoveToken(ctx, made.ID), 404, "not found")
	list, err := person.History(ctx, client.HistoryQuery{What: "snapshot", Who: "quartermaster"}, 10)
	if err != nil || len(list) == 0 || list[0].Token != "nightly look" ||
		!strings.Contains(list[0].Sentence, "quartermaster (token nightly look) ") ||
		strings.Contains(list[0].Detail, "nightly") {
		t.Errorf("%+v, %v", list, err)
	}

	must(t, person.RemoveToken(ctx, made.ID))
	_, err = program.Hosts(ctx)
	fails(t, "a token that was ended", err, 401, "sign in first")

	c := command{t: t, s: s, person: "quartermaster"}
	c.login()
	c.want(1, "never comes", "schedule", "add", "ticketing", "0 0 31 2 *")
	c.want(0, "30 2 * * *", "schedule", "add", "ticketing", "30 2 * * *", "--zone", "Europe/Lisbon", "--spread", "45m",
		"--tag", "ticketing")
	c.want(0, "with tag ticketing", "schedule", "list")
	_, err = as(t, s, "lookout").AddSchedule(ctx, wire.NewSchedule{Application: "ticketing", Cron: "@daily"})
	fails(t, "a schedule of a viewer", err, 403, "needs the role operator")
	schedules, err := person.Schedules(ctx)
	if err != nil || len(schedules) != 1 || schedules[0].Spread != 2700 {
		t.Fatalf("%+v, %v", schedules, err)
	}

	c.want(0, "fires no more", "schedule", "remove", schedules[0].ID)
	check, err := person.CheckHistory(ctx)
	if err != nil || check.Fault != "" || check.Lines < 10 {
		t.Fatalf("%+v, %v", check, err)
	}

	file := filepath.Join(t.TempDir(), "history")
	c.want(0, "head", "history", "verify")
	c.want(0, "", "history", "export", file)
	c.want(0, check.Head[:12], "history", "verify", file, "--head", check.Head)
	c.want(4, "does not go through the head", "history", "verify", file, "--head", strings.Repeat("0", 64))
	text, err := os.ReadFile(file)
	must(t, err)
	if !strings.Contains(string(text), `"who":"quartermaster"`) {
		t.Fatalf("%.300s", text)
	}

	must(t,
		os.WriteFile(file, []byte(strings.Replace(string(text), `"who":"quartermaster"`, `"who":"harbourmaster"`, 1)),
			0o600))
	c.want(4, "does not fit its hash", "history", "verify", file)
	must(t, os.WriteFile(file, []byte(text[:strings.LastIndex(strings.TrimSpace(string(text)), "\n")+1]), 0o600))
	c.want(4, "it has no head", "history", "verify", file)
}
