//go:build linux

package e2e

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	permissions "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/core/wish"
)

// lookPage is the address of a path on the page that looks.
func lookPage(host, path, more string) string {
	return "/look?host=" + host + "&path=" + url.QueryEscape(path) + more
}

// Looking is whole: hosts and snapshots in one field, a tree beside the listing, two of anything beside each other,
// what a path was, the way back where it is looked at, and what is taken along.
func TestConsoleLook(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	api := as(t, s, "quartermaster")
	const conf = "/srv/ticketing/conf/service-07.conf"
	must(t, os.Chmod(filepath.Join(s.Root("slip-south"), conf), 0o604))
	snapshot(t, api, "ticketing", "slip-south")
	_, p := foreseen(t, s, "ticketing", "slip-north", wish.Wish{Paths: []string{conf}, Set: wish.Basics{Files: "0600"}})
	agreed(t, s, p)
	snapshot(t, api, "ticketing", "slip-north")

	b := open(t, s, 1280, 800, false)
	must(t, b.SignIn("quartermaster", demo.Password))
	for _, part := range []struct {
		name string
		try  func(*testing.T, *browser.Browser)
	}{
		{"chooser", tryChooser}, {"tree", tryTree}, {"comparing", tryComparing}, {"over time", tryOverTime},
		{"nobody else", tryNobodyElse}, {"taken along", tryTakenAlong}, {"headings", tryHeadings},
	} {
		t.Run(part.name, func(t *testing.T) { part.try(t, b) })
	}
	for _, f := range b.Faults() {
		t.Errorf("the browser complains: %s", f)
	}
}

// says waits until the page says something where it can be read, and not in the words for a picture alone.
func says(t *testing.T, b *browser.Browser, text string) {
	t.Helper()
	must(t, b.Do(chromedp.Poll(fmt.Sprintf(`document.querySelector("main").innerText.includes(%q)`, text), nil, chromedp.WithPollingTimeout(0))))
}

func tryChooser(t *testing.T, b *browser.Browser) {
	must(t, b.Go("/look"))
	c := changer{t: t, b: b}
	c.fill("Where", "slip-north ticketing") // its snapshots
	must(t, b.See("slip-north, "))
	axe(t, b, "choosing where")
	c.pick("Where", "slip-south now")
	must(t, b.See("Known roots of slip-south"))
	axe(t, b, "chosen")
}

func tryTree(t *testing.T, b *browser.Browser) {
	must(t, b.Go(lookPage("slip-north", "/srv/ticketing/conf/service-07.conf", "")))
	const at = `//li[@role="treeitem"][@aria-selected="true"][contains(., "conf")]`
	must(t, b.Do(chromedp.WaitVisible(at, chromedp.BySearch), chromedp.Focus(at, chromedp.BySearch)))
	axe(t, b, "tree")
	said := func(keys ...string) (text string) {
		t.Helper()
		for _, k := range keys {
			must(t, b.Do(chromedp.KeyEvent(k)))
		}
		must(t, b.Do(chromedp.Evaluate(`document.activeElement.querySelector("code").innerText`, &text)))
		return text
	}
	if got := said(kb.ArrowDown); got != "data" {
		t.Errorf("below conf is %q", got)
	}
	said(kb.ArrowRight)
	must(t, b.Do(chromedp.WaitVisible(`//li[@role="treeitem"]//code[.="quarter-2"]`, chromedp.BySearch)))
	if got := said(kb.ArrowRight, kb.ArrowLeft, kb.ArrowLeft); got != "data" {
		t.Errorf("back from what is in it is %q", got)
	}
	if got := said(kb.ArrowLeft, kb.ArrowUp, kb.ArrowLeft, kb.ArrowLeft, kb.Home); got != "/srv/ticketing" {
		t.Errorf("the first is %q", got)
	}
	must(t, b.Do(chromedp.KeyEvent(kb.Enter)))
	must(t, b.Do(chromedp.WaitVisible(`//h2[contains(., "In /srv/ticketing")]`, chromedp.BySearch)))
	must(t, b.Press("Hide the tree of folders"))
	must(t, b.See("Show the tree of folders"))
	must(t, b.Press("Show the tree of folders"))
}

func tryComparing(t *testing.T, b *browser.Browser) {
	must(t, b.Go("/compare?a-host=slip-north&a-path=/srv/ticketing/conf&b-host=slip-south&b-path=/srv/ticketing/conf"))
	must(t, b.See("1 of 40 names differ"))
	axe(t, b, "folders compared")
	must(t, b.Press("service-07.conf"))
	must(t, b.See("They differ: mode"))
	says(t, b, "0600")
	says(t, b, "0604")
	must(t, b.Press("Change sides"))
	must(t, b.See("file on slip-south, now"))
	axe(t, b, "files compared")

	must(t, b.Go(lookPage("slip-north", "/srv/ticketing/conf/service-07.conf", "")))
	must(t, b.Press("Compare…"))
	must(t, b.See("They are alike, and so is the way there."))
}

func tryOverTime(t *testing.T, b *browser.Browser) {
	must(t, b.Go(lookPage("slip-north", "/srv/ticketing/conf/service-07.conf", "")))
	must(t, b.See("As the run"))
	must(t, b.Press("Over time"))
	must(t, b.See("Changed by runs"))
	must(t, b.See("Put it back to this…"))
	axe(t, b, "over time")
	must(t, b.Press("Undo it here…"))
	must(t, b.See("service-07.conf: 1 path"))
	must(t, b.Press("Draft it"))
	must(t, b.See("Put in review"))
	says(t, b, "0640")

	must(t, b.Go(lookPage("slip-north", "/srv/ticketing/conf/service-07.conf", "&tab=times")))
	must(t, b.Press("Put it back to this…"))
	must(t, b.Press("Draft it"))
	must(t, b.See("Put in review"))
	says(t, b, "0640")
}

func tryTakenAlong(t *testing.T, b *browser.Browser) {
	must(t, b.Do(chromedp.ActionFunc(func(ctx context.Context) error {
		return permissions.GrantPermissions([]permissions.PermissionType{
			permissions.PermissionTypeClipboardReadWrite, permissions.PermissionTypeClipboardSanitizedWrite,
		}).Do(cdp.WithExecutor(ctx, chromedp.FromContext(ctx).Browser))
	})))
	must(t, b.Go(lookPage("slip-north", "/srv/ticketing/conf/service-07.conf", "")))
	must(t, b.Press("Copy as text"))
	must(t, b.See("The text is in the clipboard."))
	var text string
	must(t, b.Do(chromedp.Evaluate(`navigator.clipboard.readText()`, &text, awaitPromise)))
	for _, w := range []string{
		"/srv/ticketing/conf/service-07.conf\nfile on slip-north", "mode 0600", "user::rw-", "/look?",
	} {
		if !strings.Contains(text, w) {
			t.Errorf("%q is not in\n%s", w, text)
		}
	}

	must(t, b.Press("Copy as a picture"))
	must(t, b.See("The picture is in the clipboard."))
	var size []int
	must(t, b.Do(chromedp.Evaluate(`navigator.clipboard.read().then((l) => l[0].getType("image/png"))
		.then((p) => createImageBitmap(p)).then((p) => [p.width, p.height])`, &size, awaitPromise)))
	if len(size) != 2 || size[0] < 200 || size[1] < 100 {
		t.Errorf("the picture is %v", size)
	}
}

// Every page says in a sentence what can be done there.
func tryHeadings(t *testing.T, b *browser.Browser) {
	for _, page := range []string{
		"/", "/look", "/compare", "/change", "/baselines", "/baselines/ticketing", "/baselines/ticketing/edit",
		"/plans", "/runs", "/put-back", "/snapshots", "/hosts/slip-north", "/accounts/purser?host=slip-north",
		"/history", "/settings", "/calculate", "/drift/ticketing", "/nowhere",
	} {
		t.Run(page, func(t *testing.T) {
			must(t, b.Go(page))
			must(t, b.Do(chromedp.WaitVisible("h1 + p", chromedp.ByQuery)))
			var says string
			must(t, b.Do(chromedp.Text("h1 + p", &says, chromedp.ByQuery)))
			if len(strings.Fields(says)) < 5 || !strings.HasSuffix(says, ".") {
				t.Errorf("%s says %q", page, says)
			}
		})
	}
}

// Nobody else should: what it would take is shown, and made a plan.
func tryNobodyElse(t *testing.T, b *browser.Browser) {
	must(t, b.Go(lookPage("slip-north", "/srv/ticketing/shared", "&tab=who&operation=create")))
	must(t, b.Press("Nobody else should create"))
	c := changer{t: t, b: b}
	c.fill("Who alone should create", "purser, clerk-east\r")
	must(t, b.See("Cannot any more: clerk-west"))
	must(t, b.See("--only purser --only clerk-east"))
	axe(t, b, "nobody else")
	must(t, b.Press("Draft a plan of it"))
	must(t, b.See("Put in review"))
	must(t, b.See("clerk-east"))
}
