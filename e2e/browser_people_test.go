//go:build linux

package e2e

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idletally/demo"
	"idletally/internal/wire"
)

// In the console somebody is asked again who they are where that is wanted, says what is to hold for people,
// and sets up the second factor that their roles need.
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
		const box = `//*[@role="dialog"]//label[starts-with(., "Your password")]/following-sibling::input`
		must(t, b.Do(chromedp.SendKeys(box, strings.Repeat(kb.Backspace, 40)+text, chromedp.BySearch)))
	}
	axe(t, b, "show again who you are")
	typed("low tide at one")
	must(t, b.Press("Go on"))
	must(t, b.See("your password is another one"))
	typed(demo.Password)
	must(t, b.Press("Go on"))
	must(t, b.See("It holds from now on."))
	if p, err := as(t, s, "lookout").Policy(t.Context()); err != nil || len(p.SecondFactor) != 1 ||
		p.SecondFactor[0] != wire.Reviewer {
		t.Errorf("%+v, %v", p, err)
	}

	// The same from within a dialog, which stays as it was.
	change(`UPDATE session SET shown = shown - INTERVAL 601 SECOND`)
	must(t, b.Go("/settings?tab=tokens"))
	must(t, b.Press("Make a token…"))
	must(t,
		b.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "What it is for")]/following-sibling::input`, "tide gauge\r",
			chromedp.BySearch)))
	must(t, b.See("Is it still you?"))
	typed(demo.Password)
	must(t, b.Press("Go on"))
	must(t, b.See("It is not shown again"))
	time.Sleep(3 * time.Second) // what the service remembers of it
	r := open(t, s, 1280, 800, true)
	must(t, r.Go("/"))
	must(t,
		r.Do(chromedp.SendKeys(`input[autocomplete="username"]`, "harbourmaster", chromedp.ByQuery),
			chromedp.SendKeys(`input[autocomplete="current-password"]`, demo.Password+"\r", chromedp.ByQuery)))
	must(t, r.See("A second factor first"))
	axe(t, r, "a second factor first")

	// Somebody with a one-time password is told how well the one withstands that they think of, while they type.
	one, err := as(t, s, "admin").AddPerson(t.Context(), wire.NewPerson{Name: "stoker", Roles: []string{wire.Viewer}})
	must(t, err)
	n := open(t, s, 1280, 800, false)
	must(t, n.Go("/"))
	must(t,
		n.Do(chromedp.SendKeys(`input[autocomplete="username"]`, "stoker", chromedp.ByQuery),
			chromedp.SendKeys(`input[autocomplete="current-password"]`, one.Password+"\r", chromedp.ByQuery)))
	must(t, n.See("New password, at least 12 characters"))
	const fresh = `input[autocomplete="new-password"]`

	for _, x := range [][2]string{
		{"pier", "too short"},
		{"password1234", "among those that are guessed first"},
		{"the stoker sleeps", "holds your name"},
		{"gullfeather7", "It will just do"},
		{"high water at noon", "Strong"},
	} {
		must(t, n.Do(chromedp.SendKeys(fresh, strings.Repeat(kb.Backspace, 40)+x[0], chromedp.ByQuery)))
		must(t, n.See(x[1]))
	}

	axe(t, n, "a new password")
	must(t, n.Do(chromedp.SendKeys(fresh, "\r", chromedp.ByQuery)))
	must(t, n.See("Overview"))
	for _, f := range slices.Concat(b.Faults(), r.Faults(), n.Faults()) {
		t.Error(f)
	}
}
