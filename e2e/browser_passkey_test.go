//go:build linux

package e2e

import (
	"context"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/wire"
)

// authenticator returns a browser one that has no hardware: a passkey of the device, or a key that asks nobody
// who holds it.
func authenticator(t *testing.T, b *browser.Browser, verifies bool) {
	t.Helper()
	options := &webauthn.VirtualAuthenticatorOptions{
		Protocol:                    webauthn.AuthenticatorProtocolCtap2,
		Transport:                   webauthn.AuthenticatorTransportInternal,
		HasResidentKey:              true,
		HasUserVerification:         verifies,
		IsUserVerified:              verifies,
		AutomaticPresenceSimulation: true,
	}
	must(t, b.Do(webauthn.Enable(), chromedp.ActionFunc(func(ctx context.Context) error {
		_, err := webauthn.AddVirtualAuthenticator(options).Do(ctx)
		return err
	})))
}

// addPasskey signs somebody in, and adds a passkey of the browser's authenticator.
func addPasskey(t *testing.T, b *browser.Browser, person, name string) {
	t.Helper()
	must(t, b.SignIn(person, demo.Password))
	must(t, b.Go("/settings?tab=you"))
	must(t, b.Press("Add a passkey…"))
	must(t, b.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "What it is")]/following-sibling::input`,
		name+"\r", chromedp.BySearch)))
	must(t, b.See("Spare codes"))
	axe(t, b, "a passkey was added")
	must(t, b.Press("I have kept them"))
	must(t, b.See(name))
}

// Passkeys are a second factor and a first one: they are added in the console, sign in without a password
// where they ask who holds them, show again who somebody is, and satisfy a policy; what they answered counts
// once, and for nobody else.
func TestPasskeys(t *testing.T) {
	t.Parallel()
	s, admin, change := crewedOn(t)
	ctx := t.Context()
	at := "https://localhost" + s.Address[strings.LastIndex(s.Address, ":"):]
	window := func(verifies bool) *browser.Browser {
		t.Helper()
		b, err := browser.New(ctx, at, 1280, 800, false)
		must(t, err)
		t.Cleanup(b.Close)
		must(t, b.Go("/"))
		authenticator(t, b, verifies)
		return b
	}

	b := window(true)
	addPasskey(t, b, "quartermaster", "key on my ring")

	// The password alone is not enough any more, and the passkey is enough alone.
	api := *admin
	api.Token = ""
	_, err := api.SignIn(ctx, wire.SignIn{Name: "quartermaster", Password: demo.Password})
	fails(t, "the password alone", err, http.StatusForbidden, "second factor is missing")
	signOut := func(b *browser.Browser) {
		t.Helper()
		must(t,
			b.Do(chromedp.Evaluate(
				`fetch("/api/v1/sign-out", {method: "POST", headers: {"X-Idletally-Console": "1"}}).then(() => true)`,
				nil, awaitPromise)))
		must(t, b.Go("/"))
	}

	signOut(b)
	axe(t, b, "sign in, with passkeys")
	must(t, b.Press("Sign in with a passkey"))
	must(t, b.See("What needs somebody"))

	// Who comes by the provider is let in there alone: whoever is shut out there is shut out here.
	signOut(b)
	change(`UPDATE person SET provider = TRUE WHERE name = 'quartermaster'`)
	must(t, b.Press("Sign in with a passkey"))
	must(t, b.See("you sign in by way of the provider"))
	change(`UPDATE person SET provider = FALSE WHERE name = 'quartermaster'`)
	must(t, b.Press("Sign in with a passkey"))
	must(t, b.See("What needs somebody"))

	// To show again who one is.
	change(`UPDATE session SET shown = shown - INTERVAL 601 SECOND`)
	must(t, b.Go("/settings?tab=tokens"))
	must(t, b.Press("Make a token…"))
	must(t,
		b.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "What it is for")]/following-sibling::input`, "tide gauge\r",
			chromedp.BySearch)))
	must(t, b.See("Is it still you?"))
	must(t, b.Press("Use a passkey"))
	must(t, b.See("It is not shown again"))

	// A key that asks nobody is a second factor alone; and roles that need one are content with it.
	ruled(t, admin, func(p *wire.Policy) { p.SecondFactor = []string{wire.Reviewer} })
	r := window(false)
	must(t,
		r.Do(chromedp.SendKeys(`input[autocomplete="username"]`, "harbourmaster", chromedp.ByQuery),
			chromedp.SendKeys(`input[autocomplete="current-password"]`, demo.Password+"\r", chromedp.ByQuery)))
	must(t, r.See("A second factor first"))
	must(t, r.Press("Add a passkey…"))
	must(t,
		r.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "What it is")]/following-sibling::input`, "bare key\r",
			chromedp.BySearch)))
	must(t, r.See("Spare codes"))
	must(t, r.Press("I have kept them"))
	must(t, r.Press("Go on"))
	must(t, r.See("What needs somebody"))
	signOut(r)
	must(t, r.Press("Sign in with a passkey"))
	must(t, r.See("No passkey was given")) // the browser has none that says who holds it
	must(t,
		r.Do(chromedp.SendKeys(`input[autocomplete="username"]`, "harbourmaster", chromedp.ByQuery),
			chromedp.SendKeys(`input[autocomplete="current-password"]`, demo.Password+"\r", chromedp.ByQuery)))
	must(t, r.See("second factor is missing"))
	must(t, r.Press("Use a passkey"))
	must(t, r.See("What needs somebody"))

	// What it answers counts once, for what it was asked, and for its own person.
	shows := func(path, body string) string {
		t.Helper()
		var out string
		must(t, r.Do(chromedp.Evaluate(`(async () => {
			const asked = await (await fetch("/api/v1`+path+`", {method: "POST", body: '`+body+
			`', headers: {"X-Idletally-Console": "1", "Content-Type": "application/json"}})).json();
			const c = await navigator.credentials.get({publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(JSON.parse(asked.options))});
			return JSON.stringify({answer: JSON.stringify(c.toJSON()), state: asked.state});
		})()`, &out, awaitPromise)))

		return out
	}

	sign := func(name, shown string) int {
		t.Helper()
		status, _, _ := post(t, s, &api, "/sign-in",
			`{"name":"`+name+`","password":"`+demo.Password+`","passkey":`+shown+`}`)
		return status
	}

	const own = `{"name":"harbourmaster","password":"` + demo.Password + `"}`
	shown := shows("/sign-in/passkey", own)
	if got := sign("quartermaster", shown); got != http.StatusUnprocessableEntity {
		t.Errorf("with somebody else's key: %d", got)
	}

	shown = shows("/sign-in/passkey", own)
	if got := sign("harbourmaster", shown); got != http.StatusOK {
		t.Errorf("with one's own: %d", got)
	}

	if got := sign("harbourmaster", shown); got != http.StatusUnprocessableEntity {
		t.Errorf("the same answer again: %d", got)
	}

	if got := sign("harbourmaster", shows("/me/passkeys/ask", "{}")); got != http.StatusUnprocessableEntity {
		t.Errorf("an answer to another question: %d", got)
	}

	// A row of the database is of use for nobody else.
	if one, err := admin.ResetPassword(ctx, "quartermaster"); err != nil || one.Passkeys != 1 {
		t.Errorf("what goes on counting after a reset: %+v, %v", one, err)
	}

	change(`UPDATE passkey SET person = 'bosun' WHERE person = 'harbourmaster'`)
	if status, b, _ := post(t, s, &api, "/sign-in/passkey",
		`{"name":"bosun","password":"`+demo.Password+`"}`); status == http.StatusOK {
		t.Errorf("somebody else's row opens for another: %s", b)
	}

	if status, _, _ := post(t, s, &api, "/sign-in/passkey",
		`{"name":"bosun","password":"low tide at one"}`); status != http.StatusUnauthorized {
		t.Errorf("which passkeys somebody has, without their password: %d", status)
	}

	change(`UPDATE passkey SET person = 'harbourmaster' WHERE person = 'bosun'`)
	must(t, admin.RemoveSecondOf(ctx, "harbourmaster"))
	if _, err := api.SignIn(ctx, wire.SignIn{Name: "harbourmaster", Password: demo.Password}); err != nil {
		// which is enough to set up another one
		t.Errorf("after an admin took it away: %v", err)
	}

	if list, err := admin.History(ctx, pastOf("passkey added"), 20); err != nil || len(list) != 2 {
		t.Errorf("%+v, %v", list, err)
	}
}
