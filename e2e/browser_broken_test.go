package e2e

import (
	"encoding/base64"
	"net/http"
	"testing"

	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/chromedp"

	"idletally/demo"
)

// A page that cannot be drawn says so, and the frame around it stays: another page is one press away.
func TestBrokenPage(t *testing.T) {
	t.Parallel()
	s, _ := crewed(t)
	b := open(t, s, 1280, 800, false)
	must(t, b.SignIn("quartermaster", demo.Password))

	// The service answers what no version of it does.
	chromedp.ListenTarget(b.Ctx, func(ev any) {
		paused, ok := ev.(*fetch.EventRequestPaused)
		if !ok {
			return
		}
		go func() {
			answer := fetch.FulfillRequest(paused.RequestID, http.StatusOK).
				WithResponseHeaders([]*fetch.HeaderEntry{{Name: "Content-Type", Value: "application/json"}}).
				WithBody(base64.StdEncoding.EncodeToString([]byte(`{"items": [null], "total": 1}`)))
			if err := chromedp.Run(b.Ctx, answer); err != nil && t.Context().Err() == nil {
				t.Error(err)
			}
		}()
	})
	must(t, b.Do(fetch.Enable().WithPatterns([]*fetch.RequestPattern{{URLPattern: "*/api/v1/plans*"}})))

	must(t, b.Do(chromedp.Click(`//nav//a[text()="Plans"]`, chromedp.BySearch)))
	must(t, b.See("This page cannot be shown"))
	axe(t, b, "a page that cannot be shown")
	must(t, b.Do(chromedp.Click(`//nav//a[text()="Runs"]`, chromedp.BySearch)))
	must(t, b.See("Nothing has run yet"))
}
