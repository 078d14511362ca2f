//go:build linux

package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idletally/demo"
	"idletally/e2e/browser"
)

// inEditor evaluates something of the editor, which lives in a shadow root.
func inEditor(t *testing.T, b *browser.Browser, expression string) (out string) {
	t.Helper()
	must(t,
		b.Do(chromedp.Evaluate(`(() => { const at = [...document.querySelectorAll("div")].find(d => d.shadowRoot); if (!at) return ""; const root = at.shadowRoot; return String(`+
			expression+`) })()`,
			&out)))
	return out
}

// inside waits until the editor holds a text.
func inside(t *testing.T, b *browser.Browser, text string) {
	t.Helper()
	await(t, b, `root.textContent`, text)
}

// taken waits until the editor offers something, and takes it; the editor heeds nothing that is
// typed sooner than a person could after it has been offered, or taken.
func taken(t *testing.T, b *browser.Browser, text string) {
	t.Helper()
	await(t, b, `[...root.querySelectorAll(".cm-tooltip")].map(e => e.textContent).join()`, text)
	must(t,
		b.Do(chromedp.Sleep(200*time.Millisecond),
			input.DispatchKeyEvent(input.KeyRawDown).WithKey("Enter").WithCode("Enter").WithWindowsVirtualKeyCode(13),
			chromedp.Sleep(300*time.Millisecond)))
}

func await(t *testing.T, b *browser.Browser, what, text string) {
	t.Helper()
	got := ""
	for range 60 {
		got = inEditor(t, b, what)
		if strings.Contains(got, text) {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	t.Fatalf("%q is not in the editor: %q; it ends with %q", text, got,
		inEditor(t, b, `[...root.querySelectorAll(".cm-line")].slice(-4).map(l => l.textContent).join("|")`))
}

// Somebody derives a baseline, writes on with completion, sees errors in place and the effect beside,
// keeps it, compares editions and publishes it: in the browser alone.
func TestConsoleDeclare(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	b := open(t, s, 1280, 800, false)
	must(t, b.SignIn("quartermaster", demo.Password))
	must(t, b.Press("Baselines"))
	must(t, b.See("Ticket sales at the landing stages"))
	axe(t, b, "baselines")
	must(t, b.Press("ticketing"))
	must(t, b.See("Editions"))
	must(t, b.Press("Edit the text"))
	inside(t, b, "leave-alone")
	must(t, b.See("A sound baseline of ticketing: 10 rules"))
	must(t, b.See("Nothing would be judged otherwise."))
	axe(t, b, "editor")

	// At the end a rule: keys, accounts and paths are offered.
	write := func(text string) { must(t, b.Do(input.InsertText(text))) }
	must(t,
		b.Do(chromedp.Evaluate(
			`[...document.querySelectorAll("div")].find(d => d.shadowRoot).shadowRoot.querySelector(".cm-content").focus()`,
			nil),
			chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(input.ModifierCtrl)))) // Ctrl-End
	write("\n  - rule: late\n    paths: /srv/ticketing/rel")
	taken(t, b, "releases")
	write("/**\n    own")
	taken(t, b, "Name or bare number")
	write("tick")
	taken(t, b, "ticket-svc")
	got := inEditor(t, b, `[...root.querySelectorAll(".cm-line")].slice(-3).map(l => l.textContent).join("|")`)
	if got != "  - rule: late|    paths: /srv/ticketing/releases/**|    owner: ticket-svc" {
		t.Errorf("written: %q", got)
	}

	must(t, b.See("would be new"))
	must(t, b.See("A sound baseline of ticketing: 11 rules"))
	axe(t, b, "editor, effect")
	write("\n    folder: 0750")
	must(t, b.See(`a rule has no key`))
	inside(t, b, "folder: 0750")
	if n := inEditor(t, b, `root.querySelectorAll(".cm-lintRange-error").length`); n != "1" {
		t.Errorf("%s errors in place", n)
	}

	axe(t, b, "editor, an error")

	// A reload loses nothing.
	must(t, b.Go("/baselines/ticketing/edit"))
	must(t, b.See(`a rule has no key`))
	must(t, b.Press("Take changes back"))
	must(t, b.See("A sound baseline of ticketing: 10 rules"))

	// From hosts that are right.
	must(t, b.Press("From hosts that are right"))
	must(t, b.See("It declares what is there"))
	must(t,
		b.Do(chromedp.WaitEnabled(`//label[contains(., "slip-north")]/input`, chromedp.BySearch),
			chromedp.Click(`//label[contains(., "slip-north")]/input`, chromedp.BySearch)))
	axe(t, b, "deriving")
	must(t, b.Press("Draft it"))
	inside(t, b, "Derived from host slip-north")
	must(t, b.See("438 → 0 findings"))

	// Somebody else keeps one meanwhile: it is not passed over unseen.
	_, err := as(t, s, "admin").UploadBaseline(t.Context(), demo.Baseline("ticketing")+"# by somebody else\n")
	must(t, err)
	must(t, b.See("Edition 2 was kept after this was begun."))
	axe(t, b, "editor, somebody else was faster")
	must(t, b.Press("keep mine after it"))
	must(t, b.See("What would it change?"))
	must(t, b.Press("What would it change? Edition 3"))
	must(t, b.See("Edition 3 in place of 1, on the last snapshots"))
	must(t, b.See("438 gone"))
	axe(t, b, "editions, an effect")
	must(t, b.Press("Publish edition 3"))
	must(t, b.Press("its drift"))
	must(t, b.See("The host has paths that could not be read."))
	must(t, b.Go("/baselines/ticketing?tab=explain&host=slip-north&path=/srv/ticketing/bin/tool-03"))
	must(t, b.See("bin-tool-03"))
	axe(t, b, "explain")
	for _, f := range b.Faults() {
		t.Errorf("the browser complains: %s", f)
	}
}

// Where drift is, how it went, and why it comes back; in the dark, and on a telephone.
func TestConsoleDrift(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	api := as(t, s, "quartermaster")
	must(t, demo.Night(s.Root("slip-north"), 1))
	snapshot(t, api, "ticketing", "slip-north")

	for name, b := range map[string]*browser.Browser{
		"dark":   open(t, s, 1280, 800, true),
		"narrow": open(t, s, 390, 844, false),
	} {
		t.Run(name, func(t *testing.T) {
			must(t, b.SignIn("quartermaster", demo.Password))
			must(t, b.Go("/drift/ticketing?host=slip-north"))
			must(t, b.See("3 new"))
			must(t, b.See("let somebody do more than intended"))
			must(t, b.Go("/drift/ticketing?host=slip-north&age=new&sort=folder"))
			must(t, b.See("are new"))
			must(t, b.Press("Show all"))
			axe(t, b, name+": groups")
			must(t, b.Press("By folder"))
			must(t, b.Press("Open /srv/ticketing/data"))
			must(t, b.Press("quarter-4"))
			must(t, b.See("sales-night-1-0.db"))
			must(t, b.See("declared"))
			axe(t, b, name+": by folder")

			// the address names what is shown
			must(t, b.Do(chromedp.Reload(), chromedp.WaitVisible("h1", chromedp.ByQuery)))
			must(t, b.See("sales-night-1-0.db"))
			must(t, b.Press("Over time"))
			must(t, b.Press("In figures"))
			must(t, b.See("Came back"))
			axe(t, b, name+": over time")
			must(t, b.Press("Coming back"))
			must(t, b.See("the process that makes them has umask 000"))
			axe(t, b, name+": coming back")
			must(t, b.Press("Accepted"))
			must(t, b.See("Nothing is accepted."))
			axe(t, b, name+": accepted")
			wide := false
			must(t, b.Do(chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`, &wide)))
			if wide {
				t.Errorf("%s: the page is wider than the window", name)
			}

			for _, f := range b.Faults() {
				t.Errorf("%s: the browser complains: %s", name, f)
			}
		})
	}
}
