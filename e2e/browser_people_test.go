//go:build linux

package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idletally/demo"
	"idletally/internal/wire"
)

// In the console somebody is asked again who they are where that is wanted, says what is to hold for people, and sets up the second factor
// that their roles need.
func TestConsolePeople(t *testing.T) {
	t.Parallel()
	s, _, change := crewedOn(t)
	b := open(t, s, 1280, 800, false)
	must(t, b.Go("/"))
	must(t, b.SignIn("admin", demo.Password))
	change(`UPDATE session SET shown = shown - INTERVAL 601 SECOND`)
	must(t, b.Go("/settings?tab=policy"))
	must(t, b.See("Sessions that nobody uses end after"))
	axe(t, b, "policy")
	must(t, b.Do(chromedp.Click(`//label[contains(., "reviewer")]/input[@type="checkbox"]`, chromedp.BySearch)))
	must(t, b.Press("Set it"))
	must(t, b.See("Is it still you?"))
	typed := func(text string) {
		t.Helper()
		const box = `//*[@role="dialog"]//label[starts-with(., "Your password")]/input`
		must(t, b.Do(chromedp.SendKeys(box, strings.Repeat(kb.Backspace, 40)+text, chromedp.BySearch)))
	}
	axe(t, b, "show again who you are")
	typed("low tide at one")
	must(t, b.Press("Go on"))
	must(t, b.See("your password is another one"))
	typed(demo.Password)
	must(t, b.Press("Go on"))
	must(t, b.See("It holds from now on."))
	if p, err := as(t, s, "lookout").Policy(t.Context()); err != nil || len(p.SecondFactor) != 1 || p.SecondFactor[0] != wire.Reviewer {
		t.Errorf("%+v, %v", p, err)
	}
	// The same from within a dialog, which stays as it was.
	change(`UPDATE session SET shown = shown - INTERVAL 601 SECOND`)
	must(t, b.Go("/settings?tab=tokens"))
	must(t, b.Press("Make a token…"))
	must(t, b.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "What it is for")]/input`, "tide gauge\r", chromedp.BySearch)))
	must(t, b.See("Is it still you?"))
	typed(demo.Password)
	must(t, b.Press("Go on"))
	must(t, b.See("It is not shown again"))
	time.Sleep(3 * time.Second) // what the service remembers of it
	r := open(t, s, 1280, 800, true)
	must(t, r.Go("/"))
	must(t, r.Do(chromedp.SendKeys(`input[autocomplete="username"]`, "harbourmaster", chromedp.ByQuery), chromedp.SendKeys(`input[autocomplete="current-password"]`, demo.Password+"\r", chromedp.ByQuery)))
	must(t, r.See("A second factor first"))
	axe(t, r, "a second factor first")
	for _, f := range append(b.Faults(), r.Faults()...) {
		t.Error(f)
	}
}
