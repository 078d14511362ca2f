//go:build linux

package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/wire"
)

// finder is the field of the palette; others that complete what is typed may be on the page.
const finder = `[role="dialog"] [role="combobox"]`

// find opens the palette by its key, types, and waits for a choice.
func find(t *testing.T, b *browser.Browser, text, choice string) {
	t.Helper()
	must(t,
		b.Do(chromedp.KeyEvent("k", chromedp.KeyModifiers(2)),
			chromedp.WaitVisible(finder, chromedp.ByQuery),
			chromedp.SendKeys(finder, text, chromedp.ByQuery)))
	must(t,
		b.Do(chromedp.WaitVisible(fmt.Sprintf(`//*[@role="option"][contains(normalize-space(.), "%s")]`, choice),
			chromedp.BySearch)))
}

// Whoever knows a part of a name gets to the thing, by keys alone; history, hosts, people and accounts have
// pages that lead on.
func TestConsoleFind(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	p, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{Application: "tideboard", All: true})
	must(t, err)
	b := open(t, s, 1280, 800, true)
	must(t, b.SignIn("admin", demo.Password))

	find(t, b, "slip-s", "slip-south")
	axe(t, b, "palette, dark")

	// What was found for less is not offered for more: Enter would open it before the answer is there.
	must(t, b.Do(fetch.Enable().WithPatterns([]*fetch.RequestPattern{{URLPattern: "*/search?*"}})))
	must(t,
		b.Do(chromedp.SendKeys(finder, "zz", chromedp.ByQuery),
			chromedp.WaitNotPresent(`[role="option"]`, chromedp.ByQuery)))
	must(t, b.Do(fetch.Disable(), chromedp.SendKeys(finder, kb.Backspace+kb.Backspace, chromedp.ByQuery)))
	must(t,
		b.Do(chromedp.WaitVisible(`//*[@role="option"][contains(normalize-space(.), "slip-south")]`,
			chromedp.BySearch)))
	must(t, b.Do(chromedp.SendKeys(finder, kb.Enter, chromedp.ByQuery)))
	must(t, b.See("Host slip-south"))
	must(t, b.See("What it looked like"))
	axe(t, b, "host, dark")
	find(t, b, "/srv/ticketing/logs/sales-00", "/srv/ticketing/logs/sales-000.log")
	must(t, b.Do(chromedp.SendKeys(finder, kb.Enter, chromedp.ByQuery)))
	must(t, b.See("Not as declared"))
	must(t, b.See("all like it, and a plan"))
	axe(t, b, "look at what a search found, dark")
	find(t, b, "remediation of tide", p.Title)
	must(t, b.Do(chromedp.SendKeys(finder, kb.Enter, chromedp.ByQuery)))
	must(t, b.See(p.Title))
	find(t, b, "www-tick", "www-tickets")
	must(t, b.Do(chromedp.Click(`//*[@role="option"][starts-with(normalize-space(.), "account")]`, chromedp.BySearch)))
	must(t, b.See("Rules that name it"))
	must(t, b.See("What it can"))
	must(t, b.Do(chromedp.SendKeys(`select[aria-label="Operation"]`, "read", chromedp.ByQuery)))
	axe(t, b, "account, dark")
	must(t,
		b.Do(chromedp.KeyEvent("k", chromedp.KeyModifiers(2)),
			chromedp.WaitVisible(finder, chromedp.ByQuery),
			chromedp.SendKeys(finder, "no such thing", chromedp.ByQuery)))
	must(t, b.See("Nothing has that in its name."))
	must(t, b.Do(chromedp.SendKeys(finder, kb.Escape, chromedp.ByQuery)))

	// Through time: the snapshot before, and what differs in it.
	snapshot(t, as(t, s, "quartermaster"), "ticketing", "slip-north")
	must(t, b.Go("/look?path=/srv/ticketing/logs&snapshot="+newest(t, s)))
	must(t, b.Press("The snapshot before"))
	must(t, b.See("of 2"))
	must(t, b.See("sales-000.log"))

	must(t, b.Go("/history"))
	must(t, b.See("drafted plan"))
	must(t, b.Do(chromedp.SendKeys(`//label[starts-with(., "Who")]/following-sibling::input`, "quartermaster", chromedp.BySearch)))
	must(t, b.Do(chromedp.WaitNotPresent(`//*[contains(., "agent slip-north enrolled")]`, chromedp.BySearch)))
	must(t, b.See("idletally history --who quartermaster"))
	must(t, b.Press("Verify all of it"))
	must(t, b.See("lines are as they were written"))
	axe(t, b, "history, dark")
	must(t, b.Press(p.ID))
	must(t, b.See(p.Title))

	must(t, b.Go("/settings"))
	must(t, b.Press("Tags of slip-north"))
	must(t, b.See("what this host is compared with may be another"))
	axe(t, b, "tags, dark")
	must(t, b.Press("Cancel"))
	must(t, b.Press("Add a host…"))
	must(t,
		b.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "Name")]/following-sibling::input`, "slip-west",
			chromedp.BySearch)))
	must(t, b.Press("Make a code"))
	must(t, b.See("idletally agent enrol --service"))
	axe(t, b, "a code, dark")
	must(t, b.Press("Done"))
	must(t, b.See("slip-west"))
	must(t, b.Press("People"))
	must(t, b.Press("Add a person…"))
	must(t,
		b.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "Name")]/following-sibling::input`, "stoker",
			chromedp.BySearch)))
	axe(t, b, "adding a person, dark")
	must(t, b.Do(chromedp.Click(`//*[@role="dialog"]//button[normalize-space(.)="Add"]`, chromedp.BySearch)))
	must(t, b.See("It is not shown again."))
	must(t, b.Press("Done"))
	must(t, b.Press("Change stoker"))
	must(t, b.Press("Remove…"))
	must(t, b.Press("Really remove stoker"))
	must(t, b.Do(chromedp.WaitNotPresent(`//td[.="stoker"]`, chromedp.BySearch)))
	must(t, b.Press("You"))
	must(t, b.Press("Add a second factor…"))
	must(t, b.Press("Begin"))
	must(t, b.See("Have your authenticator scan this"))
	axe(t, b, "a second factor, dark")
	must(t, b.Press("Cancel"))
	must(t, b.Press("Schedules"))
	must(t, b.See("No schedule yet."))
	must(t, b.Press("Add a schedule…"))
	must(t, b.See("minute hour day month weekday"))
	axe(t, b, "a schedule, dark")
	must(t, b.Press("Schedule it"))
	must(t, b.Do(chromedp.WaitNotPresent(`//*[@role="dialog"]`, chromedp.BySearch))) // which would take the next click
	must(t, b.See("30 2 * * *"))
	must(t, b.Press("Notices"))
	must(t, b.Press("Add a hook…"))
	must(t,
		b.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "Address")]/following-sibling::input`,
			"http://127.0.0.1:1/tally", chromedp.BySearch)))
	axe(t, b, "a hook, dark")
	must(t, b.Press("Add it"))
	must(t, b.See("signed with this secret"))
	must(t, b.Press("Done"))
	must(t, b.Press("Try http://127.0.0.1:1/tally"))
	must(t, b.See("connection refused"))
	axe(t, b, "hooks, dark")
	must(t, b.Press("Tokens"))
	must(t, b.Press("Make a token…"))
	must(t,
		b.Do(chromedp.SendKeys(`//*[@role="dialog"]//label[starts-with(., "What it is for")]/following-sibling::input`, "nightly",
			chromedp.BySearch)))
	axe(t, b, "a token, dark")
	must(t, b.Press("Make it"))
	must(t, b.See("its_"))
	must(t, b.Press("Done"))
	must(t, b.See("nightly"))
	axe(t, b, "tokens, dark")
	must(t, b.Press("Storage"))
	must(t, b.See("Folders, each stored once"))
	axe(t, b, "storage, dark")
	must(t, b.Press("Reviews"))
	must(t, b.Press("Set it"))
	must(t, b.See("It counts from now on."))
	axe(t, b, "reviews, dark")
	for _, f := range b.Faults() {
		t.Errorf("the browser complains: %s", f)
	}

	list, err := as(t, s, "admin").History(t.Context(), pastOf("person"), 10)
	if err != nil || len(list) < 2 || list[0].Sentence != "admin removed stoker" ||
		!strings.HasPrefix(list[1].Sentence, "admin added stoker") {
		t.Errorf("%+v, %v", list, err)
	}
}
