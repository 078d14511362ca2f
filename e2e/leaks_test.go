//go:build linux

package e2e

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/wire"
)

// What is a secret is told to nobody who need not know it, and what people write stays what it is: it makes
// no lines of its own, steers no terminal, and is not without bound.
func TestSecretsAndText(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	admin := as(t, s, "admin")
	author := as(t, s, "quartermaster")
	operator := as(t, s, "bosun")
	viewer := as(t, s, "lookout")

	t.Run("addresses of hooks", func(t *testing.T) {
		const secret = "T000SECRET"
		h, err := admin.AddHook(ctx, wire.NewHook{
			URL:   "https://chat.saltmarsh.example/hook/" + secret + "?key=" + secret,
			Kinds: []string{wire.NoticeRun},
		})
		must(t, err)
		if list, err := operator.Hooks(ctx); err != nil || len(list) != 1 ||
			list[0].URL != "https://chat.saltmarsh.example/…" {
			t.Errorf("an operator sees %+v, %v", list, err)
		}

		if list, err := admin.Hooks(ctx); err != nil || len(list) != 1 || !strings.Contains(list[0].URL, secret) {
			t.Errorf("an admin sees %+v, %v", list, err)
		}

		must(t, admin.RemoveHook(ctx, h.ID))
		list, err := viewer.History(ctx, pastOf("hook"), 10)
		if b, _ := json.Marshal(list); err != nil || len(list) != 2 || bytes.Contains(b, []byte(secret)) {
			t.Errorf("the history tells %s, %v", b, err)
		}
	})

	t.Run("answers", func(t *testing.T) {
		_, _, h := post(t, s, author, "/baselines/check", `{"text":"x"}`)
		if h.Get("Cache-Control") != "no-store" {
			t.Errorf("an answer may be kept: %v", h)
		}

		status, b, h := post(t, s, &client.Client{HTTP: admin.HTTP}, "/sign-in",
			`{"name":"lookout","password":"`+demo.Password+`"}`, "X-Idletally-Console", "1")
		cookie := h.Get("Set-Cookie")
		if status != 200 || strings.Contains(b, "its_") ||
			!strings.HasPrefix(cookie, "__Host-idletally_session=its_") || !strings.Contains(cookie, "Path=/;") ||
			!strings.Contains(cookie, "Secure") || strings.Contains(cookie, "Domain") {
			t.Errorf("a browser is given %d %s, cookie %s", status, b, cookie)
		}
	})

	t.Run("lines", func(t *testing.T) {
		const forged = "Mend\n2026-11-28 20:58:01  harbourmaster  plan approved  06h27wfznhn85qas"
		_, err := author.DraftPlan(ctx, wire.Draft{Application: "ticketing", All: true, Title: forged})
		fails(t, "a title of two lines", err, 422, "control characters")
		_, err = author.AddToken(ctx, wire.NewToken{Name: "a\x1b[31mb", Roles: []string{wire.Viewer}, Days: 1})
		fails(t, "a name that colours", err, 422, "control characters")
		_, err = as(t, s, "harbourmaster").Waive(ctx, wire.NewWaiver{
			Application: "ticketing",
			Paths:       "/srv/ticketing/**",
			Reason:      forged,
			Ends:        time.Now().Add(time.Hour),
		})

		fails(t, "a reason of two lines", err, 422, "control characters")
		p, err := author.DraftPlan(ctx, wire.Draft{Application: "ticketing", All: true})
		must(t, err)
		_, err = author.Submit(ctx, p.ID)
		must(t, err)
		_, err = as(t, s, "harbourmaster").Decide(ctx, p.ID, false, wire.Decision{Digest: p.Digest, Remark: forged})
		must(t, err)
		c := command{t: t, s: s, person: "lookout"}
		c.login()
		out, errs, code := c.run("", "history", "--what", "plan declined")
		lines := strings.Split(strings.TrimSpace(out), "\n")
		if code != 0 || len(lines) != 2 || !strings.Contains(out, `Mend\x0a2026`) {
			t.Errorf("%d %s %s", code, out, errs)
		}
	})

	t.Run("tokens in review", func(t *testing.T) {
		p, err := author.DraftPlan(ctx, wire.Draft{Application: "ticketing", All: true})
		must(t, err)
		_, err = author.Submit(ctx, p.ID)
		must(t, err)
		by := func(role string) *client.Client {
			made, err := author.AddToken(ctx, wire.NewToken{Name: "as " + role, Roles: []string{role}, Days: 1})
			must(t, err)
			api := *author
			api.Token = made.Secret
			return &api
		}

		_, err = by(wire.Author).Withdraw(ctx, p.ID)
		fails(t, "a token takes a plan out of review", err, 403, "sign in yourself")
		_, err = by(wire.Viewer).Remark(ctx, p.ID, wire.NewRemark{Body: "hm"})
		fails(t, "a token that views says something", err, 403, "only views")
		if _, err = by(wire.Author).Remark(ctx, p.ID, wire.NewRemark{Body: "checked by a program"}); err != nil {
			t.Errorf("a token of an author says something: %v", err)
		}

		said := 0
		for ; said < 200 && err == nil; said++ {
			_, err = viewer.Remark(ctx, p.ID, wire.NewRemark{Body: strings.Repeat("x", 1000)})
		}

		fails(t, "remarks without end", err, 429, "too much has been said")
		if said != 101 {
			t.Errorf("the remark that is refused is number %d", said)
		}
	})

	t.Run("replay after a demotion", func(t *testing.T) {
		one, err := admin.AddPerson(ctx, wire.NewPerson{Name: "stoker", Roles: []string{wire.Admin}})
		must(t, err)
		api := *admin
		api.Token = ""
		session, err := api.SignIn(ctx, wire.SignIn{Name: "stoker", Password: one.Password, NewPassword: demo.Password})
		must(t, err)
		api.Token = session.Token
		status, b, _ := post(t, s, &api, "/people", `{"name":"puppet","roles":["reviewer"]}`, "Idempotency-Key", "k-1")
		if status != 201 || !strings.Contains(b, "password") {
			t.Fatalf("%d %s", status, b)
		}

		_, err = admin.SetRoles(ctx, "stoker", []string{wire.Viewer})
		must(t, err)
		if status, b, _ := post(t, s, &api, "/people", `{"name":"puppet","roles":["reviewer"]}`, "Idempotency-Key",
			"k-1"); status < 400 || strings.Contains(b, `"password"`) {
			t.Errorf("when the role is gone the same call is answered with %d %s", status, b)
		}
	})
}
