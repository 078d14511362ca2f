//go:build linux

package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/testkit"
	"idletally/internal/wire"
)

// axe looks for what keeps people from using a page (WCAG 2.2 A and AA).
func axe(t *testing.T, b *browser.Browser, page string) {
	t.Helper()
	src, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("axe-core is not installed: %v: run make build", err)
	}

	var found string
	run := `axe.run(document, {runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}).then(r => JSON.stringify(r.violations.map(v => ({id: v.id, impact: v.impact, help: v.help, nodes: v.nodes.slice(0, 3).map(n => n.html.slice(0, 160) + " " + n.failureSummary)}))))`
	err = b.Do(chromedp.Evaluate(string(src)+";0", nil), chromedp.Evaluate(run, &found, awaitPromise))
	if err != nil {
		t.Errorf("%s: axe: %v", page, err)
		return
	}

	var violations []struct {
		ID, Impact, Help string
		Nodes            []string
	}
	if err := json.Unmarshal([]byte(found), &violations); err != nil {
		t.Fatal(err)
	}

	for _, v := range violations {
		t.Errorf("%s: %s (%s): %s\n  %s", page, v.ID, v.Impact, v.Help, strings.Join(v.Nodes, "\n  "))
	}
}

func open(t *testing.T, s *demo.Stage, width, height int, dark bool) *browser.Browser {
	t.Helper()
	b, err := browser.New(t.Context(), s.Address, width, height, dark)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return b
}

var must = testkit.Must

// Two people take drift through plan, review and run to the restore, in the browser alone.
func TestConsole(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	author, reviewer := open(t, s, 1280, 800, false), open(t, s, 1280, 800, true)
	must(t, author.Go("/"))
	axe(t, author, "sign in")
	must(t,
		author.Do(chromedp.SendKeys(`input[autocomplete="username"]`, "quartermaster", chromedp.ByQuery),
			chromedp.SendKeys(`input[autocomplete="current-password"]`, "wrong\r", chromedp.ByQuery)))
	must(t, author.See("name or password is wrong"))
	must(t, author.SignIn("quartermaster", demo.Password))
	must(t, reviewer.SignIn("harbourmaster", demo.Password))
	must(t, author.See("What needs somebody"))
	axe(t, author, "overview")
	axe(t, reviewer, "overview, dark")

	must(t,
		author.Do(chromedp.Click(`//ul[@aria-label="ticketing on its hosts"]//a[contains(., "slip-south")]`,
			chromedp.BySearch)))
	must(t, author.See("Drift of ticketing"))
	must(t, author.Go("/hosts/slip-south"))
	must(t, author.Press("Look again at ticketing on slip-south"))
	must(t, author.See("Asked for"))
	axe(t, author, "host")
	must(t, author.Go("/drift/ticketing?host=slip-north"))
	must(t, author.See("Drift of ticketing"))
	must(t, author.See("opens for everyone: read, write, execute"))
	axe(t, author, "drift")
	must(t, author.Press("120 files"))
	must(t, author.See("/srv/ticketing/logs/sales-000.log"))
	axe(t, author, "drift, a line open")
	must(t, author.Press("Accept for a time"))
	must(t, author.See("They do not count until the date"))
	axe(t, author, "waiving")
	must(t,
		author.Do(chromedp.SendKeys("textarea", "Rewritten soon.", chromedp.ByQuery),
			chromedp.Click(`//*[@role="dialog"]//button[normalize-space(.)="Accept"]`, chromedp.BySearch)))
	must(t, author.See("by quartermaster until"))
	must(t, author.See("120 more waived"))
	axe(t, author, "drift, waived")
	must(t, author.Press("Withdraw"))
	must(t, author.Do(chromedp.WaitNotPresent(`//*[contains(., "more waived")]`, chromedp.BySearch)))
	must(t, author.Press("120 files"))

	// What is in the basket stays there while one looks around, single findings and whole groups.
	must(t, author.Press("Put /srv/ticketing/logs/sales-000.log in the basket"))
	must(t, author.See("1 finding in the basket: 1 by itself"))
	must(t, author.Press("By folder"))
	must(t, author.See("1 finding in the basket"))
	axe(t, author, "drift by folder, something in the basket")
	must(t, author.Go("/drift/ticketing"))
	must(t, author.Press("Choose all"))
	must(t, author.See("groups"))
	must(t, author.Press("Draft a plan"))
	must(t, author.See("somebody else looks at the plan first"))
	axe(t, author, "drafting")
	must(t, author.Press("Draft it"))
	must(t, author.See("Put in review"))
	axe(t, author, "plan")
	must(t, author.Press("Put in review"))
	must(t, author.See("nobody approves their own plan"))

	must(t, reviewer.Go("/"))
	must(t, reviewer.See("to review"))
	must(t, reviewer.Press("Remediation of ticketing"))
	must(t, reviewer.Press("file/srv/ticketing/bin/tool-03"))
	must(t,
		reviewer.Do(
			chromedp.SendKeys(`//label[.="Say something of this step"]/following-sibling::textarea`, "Was it meant?",
				chromedp.BySearch),
			chromedp.Click(`//label[.="Say something of this step"]/ancestor::form//button`, chromedp.BySearch)))
	must(t, reviewer.See("of slip-north /srv/ticketing/bin/tool-03"))
	axe(t, reviewer, "a step with a remark, dark")
	must(t, reviewer.Press("Approve…"))
	must(t, reviewer.See("What you approve is exactly these"))
	axe(t, reviewer, "approving, dark")
	must(t, reviewer.Do(chromedp.SendKeys(`[role="dialog"] textarea`, "Looked at every group.", chromedp.ByQuery)))
	must(t, reviewer.Do(chromedp.Click(`//*[@role="dialog"]//button[normalize-space(.)="Approve"]`, chromedp.BySearch)))
	must(t, reviewer.See("decided by harbourmaster"))
	axe(t, reviewer, "approved plan, dark")

	must(t, author.Go("/plans"))
	axe(t, author, "plans")
	must(t, author.Press("Remediation of ticketing"))
	linked(t, s, "slip-north", "slip-south")
	must(t, author.Press("Run it now"))
	must(t, author.See("What was not done"))
	must(t, author.See("the file has 2 hard links"))
	axe(t, author, "run")

	// What it found, a part of it, and that part back.
	must(t,
		author.Do(chromedp.SendKeys(`//label[starts-with(., "Paths")]/following-sibling::input`, "/srv/ticketing/logs/sales-01*",
			chromedp.BySearch)))
	must(t, author.Press("file/srv/ticketing/logs/sales-010.log"))
	must(t, author.See("left"))
	axe(t, author, "run, an original open")
	must(t, author.Press("Put these back…"))
	must(t, author.See("1. To what"))
	must(t, author.See("such as /srv/ticketing/logs/sales-010.log to purser:crew 0777"))
	axe(t, author, "put back")
	must(t, author.Press("Draft it"))
	must(t, author.See("Put back: Remediation of ticketing"))
	must(t, author.See("10 steps on slip-north"))
	c := as(t, s, "quartermaster")
	plans, err := c.Plans(t.Context(), "draft", 10)
	if err != nil || len(plans) != 1 || plans[0].Kind != "restore" {
		t.Errorf("plans %+v, %v", plans, err)
	}

	must(t, author.Go("/runs"))
	axe(t, author, "runs")
	quiet(t, c)
	must(t, author.Go("/snapshots"))
	axe(t, author, "snapshots")
	must(t, author.Go("/put-back?snapshot="+oldest(t, s)))
	must(t, author.See("were changed on slip-north"))
	axe(t, author, "back to a snapshot")
	must(t, author.Go(fmt.Sprintf("/look?snapshot=%s&path=/srv/ticketing/logs", newest(t, s))))
	must(t, author.See(`line\x0aend`))
	axe(t, author, "snapshot")
	tryLooking(t, s, author)
	must(t, author.Go("/nowhere"))
	must(t, author.See("There is nothing at this address."))

	for name, b := range map[string]*browser.Browser{"author": author, "reviewer": reviewer} {
		for _, f := range b.Faults() {
			t.Errorf("the browser of the %s complains: %s", name, f)
		}
	}
}

// Somebody finds out in the browser why the sales service cannot write, and what would help.
func tryLooking(t *testing.T, s *demo.Stage, b *browser.Browser) {
	must(t, b.Go("/look"))
	must(t, b.See("Choose a host to ask it as it is now"))
	axe(t, b, "look, nothing chosen")
	must(t, b.Go("/look?host=slip-south&path=/srv/ticketing/data/quarter-1/sales-000.db"))
	must(t, b.See("ticket-svc"))
	axe(t, b, "look, permissions")
	must(t, b.Do(chromedp.SendKeys(`input[list="accounts"]`, "ticket-svc\r", chromedp.ByQuery)))
	must(t, b.See("number 2101, in ticket-svc"))
	must(t, b.Press("Who can"))
	must(t, b.Press("Why ticket-svc can read"))
	must(t, b.See("ticket-svc owns the path, and the owner has r"))
	must(t, b.Press("All who can read here"))
	must(t, b.See("root: CAP_DAC_OVERRIDE passes over"))
	axe(t, b, "look, who can")
	must(t, b.Press("Try it"))
	must(t, b.Press("Try as ticket-svc"))
	must(t, b.See("Whatever was tried is as computed."))
	axe(t, b, "look, tried")
	must(t, b.Press("quarter-1"))
	must(t, b.Press("Below it"))
	must(t, b.See("40 paths"))
	axe(t, b, "look, below")

	// As somebody in no group the way stops, and joining the crew is what would help.
	must(t, b.Go("/look?host=slip-south&path=/srv/ticketing/releases/2026-01&tab=who"+
		"&for=nobody&operation=list&joining=crew"))
	must(t, b.See("the way stops at /srv/ticketing"))
	must(t, b.See("Then: the account joins crew"))
	axe(t, b, "look, supposed")
	proposedInBrowser(t, b)
	must(t, b.Go("/look?host=slip-south&path=/srv/ticketing/none"))
	must(t, b.See("it is not there, or has just vanished"))
	must(t, b.Go("/look?host=slip-south&path=/etc/passwd"))
	must(t, b.See("own list of roots does not hold it"))

	for _, f := range b.Faults() { // the browser itself remarks on the two refusals
		if !strings.Contains(f, "status of 422") {
			t.Errorf("the browser complains: %s", f)
		}
	}

	// The calculator needs nobody to be signed in.
	stranger := open(t, s, 1280, 800, false)
	must(t, stranger.Go("/"))
	must(t, stranger.Press("Explain and convert modes"))
	must(t, stranger.See("The group can list it and pass through."))
	axe(t, stranger, "calculator, signed out")
	must(t,
		stranger.Do(chromedp.Click(`button[aria-label="others: read"]`, chromedp.ByQuery),
			chromedp.WaitVisible(`//input[@value="rwxr-sr--"]`, chromedp.BySearch)))
	must(t,
		stranger.Do(chromedp.SendKeys(`//label[starts-with(., "Octal")]/following-sibling::input`,
			kb.End+strings.Repeat(kb.Backspace, 4)+"0849", chromedp.BySearch)))
	must(t, stranger.See("character 2 is '8', want an octal digit 0 to 7"))
}

// proposedInBrowser asks what it would take, from a no, and drafts a plan of the least.
func proposedInBrowser(t *testing.T, b *browser.Browser) {
	t.Helper()
	must(t, b.Go("/look?host=slip-south&path=/srv/ticketing/releases/2026-01&tab=who&for=nobody&operation=list"))
	must(t, b.Press("What would it take?"))
	must(t, b.See("an entry user:nobody:x on /srv/ticketing"))
	must(t, b.See("nobody else could do more"))
	must(t, b.See("and everyone else could, too"))
	axe(t, b, "look, what would it take")
	must(t, b.Press("Draft a plan of it"))
	must(t, b.See("Let nobody list /srv/ticketing/releases/2026-01"))
}

// On a telephone nothing is cut off, and the main pages stay sound.
func TestConsoleNarrow(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	p, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{Application: "tideboard", All: true})
	if err != nil {
		t.Fatal(err)
	}

	b := open(t, s, 360, 844, true)
	must(t, b.SignIn("lookout", demo.Password))
	for _, page := range []string{
		"/",
		"/drift/ticketing",
		"/plans",
		"/plans/" + p.ID,
		"/runs",
		"/snapshots",
		"/put-back",
		"/look?path=/srv/ticketing&tab=who&snapshot=" + newest(t, s),
		"/calculate",
		"/history",
		"/settings",
		"/settings?tab=people",
		"/settings?tab=reviews",
		"/settings?tab=schedules",
		"/settings?tab=notices",
		"/settings?tab=tokens",
		"/settings?tab=storage",
		"/settings?tab=roster",
		"/settings?tab=requests",
		"/hosts/slip-north",
		"/accounts/www-tickets?operation=read&snapshot=" + newest(t, s),
		"/baselines",
		"/baselines/ticketing",
	} {
		t.Run(page, func(t *testing.T) {
			must(t, b.Go(page))
			axe(t, b, page+", narrow")
			var wide int
			must(t, b.Do(chromedp.Evaluate(`document.documentElement.scrollWidth`, &wide)))
			if wide > 360 {
				var beyond string
				must(t,
					b.Do(chromedp.Evaluate(
						`[...document.querySelectorAll("main *")].filter(e => e.getBoundingClientRect().right > 360 && !e.closest("[role=region], pre")).map(e => e.outerHTML.slice(0, 120)).join("\n")`,
						&beyond)))
				t.Errorf("%s is %d pixels wide in a window of 360: %s", page, wide, beyond)
			}
		})
	}

	// A viewer is offered nothing that a viewer may not do.
	must(t, b.Go("/drift/ticketing"))
	var buttons int
	must(t,
		b.Do(chromedp.Evaluate(
			`[...document.querySelectorAll("button")].filter(b => /Draft|Choose/.test(b.textContent)).length`,
			&buttons)))
	if buttons > 0 {
		t.Errorf("a viewer is offered %d buttons for drafting", buttons)
	}

	for _, f := range b.Faults() {
		t.Errorf("the browser complains: %s", f)
	}
}

func awaitPromise(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }
