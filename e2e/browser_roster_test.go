//go:build linux

package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/client"
	"idletally/internal/core/roster"
	"idletally/internal/core/signature"
	"idletally/internal/wire"
)

// passkeyed is a window of somebody with a passkey of theirs, which the service knows; it returns the key as rosters
// have it.
func passkeyed(t *testing.T, s *demo.Stage, at, person string) (*browser.Browser, signature.Key) {
	t.Helper()
	b, err := browser.New(t.Context(), at, 1280, 800, false)
	must(t, err)
	t.Cleanup(b.Close)
	must(t, b.Go("/"))
	authenticator(t, b, true)
	addPasskey(t, b, person, "tide-key")

	keys, err := as(t, s, "admin").SigningKeys(t.Context())
	must(t, err)
	for _, k := range keys {
		if k.Person == person && k.Kind == signature.WebAuthn {
			key, err := signature.ParseKey(k.Text)
			must(t, err)
			return b, key
		}
	}
	t.Fatalf("the service does not list the passkey of %s: %+v", person, keys)
	return nil, signature.Key{}
}

// Two people sign a plan by passkeys in the browser: registered in two clicks, approved by one touch; hosts take what
// they signed, and an edition of the roster is enacted the same way.
func TestBrowserSigns(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	at := "https://localhost" + s.Address[strings.LastIndex(s.Address, ":"):]
	p, urgent := adjusted(t, s, "logs"), adjusted(t, s, "site") // a passkey is a second factor from now on
	e, err := as(t, s, "quartermaster").UploadBaseline(t.Context(), demo.Baseline("ticketing")+"\n# anew\n")
	must(t, err)
	author, first := passkeyed(t, s, at, "quartermaster")
	reviewer, second := passkeyed(t, s, at, "harbourmaster")

	everything := func(do string) []roster.Right {
		return []roster.Right{{Do: do, Application: roster.Everything, Host: roster.Everything}}
	}
	admin := as(t, s, "admin")
	now := time.Now().UTC().Truncate(time.Second)
	r := roster.Roster{
		Edition:   1,
		Made:      now,
		Until:     now.AddDate(1, 0, 0),
		Site:      "localhost",
		Origins:   []string{at},
		Threshold: 2,
		Approvals: []roster.Approvals{{Application: roster.Everything, People: 1}},
	}
	r.People = []roster.Person{
		{Name: "harbourmaster", Keys: []roster.NamedKey{{Name: "tide-key", Key: second}},
			Rights: everything(roster.Approve)},
		{Name: "quartermaster", Keys: []roster.NamedKey{{Name: "tide-key", Key: first}},
			Rights: append(everything(roster.Alone), everything(roster.Submit)...)},
	}
	document, err := r.Bytes()
	must(t, err)
	_, err = admin.ProposeRoster(t.Context(), string(document))
	must(t, err)
	for host := range demo.Hosts {
		must(t, s.PinRoster(host, document, r.Digest().String()))
	}

	must(t, author.Go("/plans/"+p.ID))
	must(t, author.Press("Put in review…"))
	must(t, author.See("says: submitted"))
	axe(t, author, "what is signed")
	must(t, author.Press("Sign and put in review"))
	must(t, author.See("Take it out of review"))

	must(t, reviewer.Go("/plans/"+p.ID))
	must(t, reviewer.Press("Approve…"))
	must(t, reviewer.Press("Go on to sign…"))
	must(t, reviewer.See("says: approved"))
	must(t, reviewer.Press("Sign and approve"))
	must(t, reviewer.See("Signed by people"))
	axe(t, reviewer, "a plan that people signed")
	must(t, author.Go("/plans/"+p.ID))
	must(t, author.Press("Run it now"))
	must(t, author.See("finished"))
	file := filepath.Join(t.TempDir(), "evidence")
	out, err := os.Create(file)
	must(t, err)
	must(t, admin.Evidence(t.Context(), p.ID, out))
	must(t, out.Close())
	trusted := filepath.Join(t.TempDir(), "roster.txt")
	must(t, os.WriteFile(trusted, document, 0o600))
	auditor := command{t: t, s: s, person: "auditor"}
	auditor.want(0, "yes: people of the roster", "plan", "verify", file, "--roster", trusted)

	aloneInBrowser(t, author, reviewer, urgent)

	// The next edition, by the same keys.
	next := r.Next()
	next.Until = next.Until.AddDate(1, 0, 0)
	document, err = next.Bytes()
	must(t, err)
	_, err = admin.ProposeRoster(t.Context(), string(document))
	must(t, err)
	for _, b := range []*browser.Browser{author, reviewer} {
		must(t, b.Go("/settings?tab=roster"))
		must(t, b.Press("Sign this edition…"))
		must(t, b.See("says: enacted"))
		must(t, b.Press("Sign it"))
	}
	must(t, reviewer.See("Edition 2, which counts until"))
	axe(t, reviewer, "the roster")

	agreedInBrowser(t, admin, reviewer, e.Number)
}

// aloneInBrowser approves a plan that nobody else looks at, as the roster lets the author, and no reviewer.
func aloneInBrowser(t *testing.T, author, reviewer *browser.Browser, urgent wire.Plan) {
	t.Helper()
	must(t, reviewer.Go("/plans/"+urgent.ID))
	must(t, reviewer.See(urgent.Digest))
	var page string
	must(t, reviewer.Do(chromedp.Text("main", &page)))
	if strings.Contains(page, "Approve alone") {
		t.Errorf("somebody is offered to act alone whom the roster does not let: %s", page)
	}
	must(t, author.Go("/plans/"+urgent.ID))
	must(t, author.Press("Approve alone…"))
	must(t, author.Do(chromedp.SendKeys(`[role="dialog"] textarea`,
		"The gate does not open, and the ferry is in.", chromedp.ByQuery)))
	axe(t, author, "acting alone")
	must(t, author.Press("Go on to sign…"))
	must(t, author.See("reason: The gate does not open"))
	must(t, author.Press("Sign and approve alone"))
	must(t, author.See("Nobody but quartermaster looked at this plan"))
	axe(t, author, "a plan that nobody else looked at")
	must(t, author.Press("Run it now"))
	must(t, author.See("finished"))
}

// agreedInBrowser has a reviewer sign that they agree to an edition of a baseline.
func agreedInBrowser(t *testing.T, admin *client.Client, reviewer *browser.Browser, edition int) {
	t.Helper()
	one := 1
	must(t, admin.SetReviewRule(t.Context(), "ticketing", wire.ReviewRule{Reviewers: 1, Editions: &one}))
	ruled(t, admin, func(p *wire.Policy) { p.AgreeSigned = true })
	_, err := admin.Publish(t.Context(), "ticketing", edition)
	fails(t, "an edition, alone", err, http.StatusConflict, "another reviewer has to agree")
	must(t, reviewer.Go("/settings?tab=requests"))
	must(t, reviewer.See("What edition 2 would change"))
	must(t, reviewer.Press("Agree to publish-edition of admin"))
	must(t, reviewer.See("says: agreed"))
	axe(t, reviewer, "agreeing by a key")
	must(t, reviewer.Press("Sign and agree"))
	must(t, reviewer.See("signed by harbourmaster, tide-key"))
	_, err = admin.Publish(t.Context(), "ticketing", edition)
	must(t, err)
}

// adjusted drafts a plan that has steps on both hosts, in a folder.
func adjusted(t *testing.T, s *demo.Stage, folder string) wire.Plan {
	t.Helper()
	p, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{
		Application: "ticketing",
		Hosts:       []string{"slip-north", "slip-south"},
		Changes:     "changes: [{paths: /srv/ticketing/" + folder + "/**, set: {files: 0600}}]",
	})
	must(t, err)
	return p
}
