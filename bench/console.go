//go:build linux

package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"idletally/demo"
	"idletally/e2e/browser"
)

// The marks of the console: usable within a second, no request over 300 ms (95 of 100), nothing in the page
// over 100 ms.
const (
	asksEach = 40
	p95      = 95
)

// console measures pages and requests against a service with 1,000 hosts, a million paths and 100,000 findings.
func console(dir string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Minute)
	defer cancel()

	at, program, err := workplace(dir)
	if err != nil {
		return err
	}
	defer os.RemoveAll(at)

	b, err := demo.BeginBig(ctx, at, program, "127.0.0.1:0", io.Discard)
	if err != nil {
		return err
	}
	defer func() { _ = b.End() }() // what was measured is told by then

	if err := requests(ctx, b); err != nil {
		return err
	}

	return pages(ctx, b)
}

// requests asks what the pages ask, one after the other.
func requests(ctx context.Context, b *demo.Big) error {
	c, err := b.As(ctx, "quartermaster")
	if err != nil {
		return err
	}
	snaps, err := c.Snapshots(ctx, "fleet", demo.BigHost, 1)
	if err != nil || len(snaps) == 0 {
		return fmt.Errorf("no snapshot of %s: %w", demo.BigHost, err)
	}
	d, err := c.Drift(ctx, "fleet", demo.BigHost)
	if err != nil {
		return err
	}

	report, group := d.Reports[0].ID, d.Groups[0].ID
	snap := url.QueryEscape(snaps[0].ID)
	var worst time.Duration

	for _, ask := range []struct{ name, path string }{
		{"overview", "/overview"}, {"applications", "/applications"}, {"hosts", "/hosts?limit=1000"},
		{"drift-of-a-host", "/drift?application=fleet&host=" + demo.BigHost},
		{"equal-findings", "/drift/equal?application=fleet"},
		{"findings-of-a-group", "/reports/" + report + "/findings?limit=500&group=" + group},
		{"findings-below", "/reports/" + report + "/findings?limit=100&under=/srv/fleet/depot-01"},
		{"places", "/reports/" + report + "/places?path=/srv/fleet"},
		{"folder-of-100000", "/paths?limit=1000&path=" + url.QueryEscape(demo.BigFolder) + "&snapshot=" + snap},
		{"folder-of-100000-as-somebody",
			"/paths?limit=1000&account=hand-007&path=" + url.QueryEscape(demo.BigFolder) + "&snapshot=" + snap},
		{"path", "/path?path=" + url.QueryEscape(demo.BigFolder+"/paper-000007.log") + "&snapshot=" + snap},
		{"who-can", "/access/matrix?path=" + url.QueryEscape(demo.BigFolder+"/paper-000007.log") + "&snapshot=" + snap},
		{"search-host", "/search?q=ship-09"}, {"search-account", "/search?q=hand-4"},
		{"search-path", "/search?q=" + url.QueryEscape(demo.BigFolder+"/paper-0999")},
		{"history", "/history?limit=200"}, {"history-of-one", "/history?limit=200&who=bosun&what=plan"},
		{"plans", "/plans"}, {"snapshots", "/snapshots"},
		{"trend", "/drift/trend?application=fleet&host=" + demo.BigHost + "&days=90"},
	} {
		var took []time.Duration
		for range asksEach {
			start := time.Now()
			if err := c.Do(ctx, http.MethodGet, ask.path, nil, io.Discard); err != nil {
				return fmt.Errorf("%s: %w", ask.name, err)
			}
			took = append(took, time.Since(start))
		}

		slices.Sort(took)
		at := took[len(took)*p95/100]
		worst = max(worst, at)
		fmt.Printf("figure request-%s-p95 %.1f ms floor 0 ratio 0\n", ask.name, ms(at))
	}

	// the floor is the mark
	fmt.Printf("figure request-worst-p95 %.1f ms floor 300.0 ratio %.2f\n", ms(worst), ms(worst)/300)

	// A walk over all of a million paths is an operation of its own, and not in this figure.
	start := time.Now()
	if err := c.Do(ctx, http.MethodGet,
		"/access/below?weigh=true&limit=0&operation=read&account=hand-007&snapshot="+snap, nil,
		io.Discard); err != nil {
		return err
	}

	fmt.Printf("figure request-account-over-1000000-paths %.1f ms floor 0 ratio 0\n", ms(time.Since(start)))
	return nil
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// longest watches for what keeps a page from responding: tasks of more than 50 ms (Long Tasks API).
const longest = `(() => { window.longest = 0; new PerformanceObserver((l) => { for (const e of l.getEntries()) window.longest = Math.max(window.longest, e.duration); }).observe({ type: "longtask", buffered: true }); })()`

// pages opens pages in a browser, and works with them.
func pages(ctx context.Context, b *demo.Big) error {
	c, err := b.As(ctx, "quartermaster")
	if err != nil {
		return err
	}
	snaps, err := c.Snapshots(ctx, "fleet", demo.BigHost, 1)
	if err != nil {
		return err
	}
	w, err := browser.New(ctx, b.Address, 1280, 800, false)
	if err != nil {
		return err
	}
	defer w.Close()

	if err := w.SignIn("quartermaster", demo.Password); err != nil {
		return err
	}

	var script float64
	worst := 0.0
	for _, p := range []struct {
		name, path, shows string
		work              []chromedp.Action
	}{
		{"overview", "/", "279,", nil},
		{"drift-of-the-fleet", "/drift/fleet", "Equal findings",
			[]chromedp.Action{scroll(`[aria-label="Equal findings"]`)}},
		{"drift-of-a-host", "/drift/fleet?host=" + demo.BigHost, "100,000 files",
			[]chromedp.Action{
				chromedp.Click(`//button[starts-with(normalize-space(.), "100,000 files")]`, chromedp.BySearch),
				chromedp.Sleep(time.Second),
			}},
		{"folder-of-100000", "/look?snapshot=" + snaps[0].ID + "&path=" + demo.BigFolder, "paper-000000.log",
			[]chromedp.Action{
				scroll(`[aria-label="Content of the folder"]`), scroll(`[aria-label="Content of the folder"]`),
			}},
		{"history", "/history", "quartermaster", []chromedp.Action{scroll(`[aria-label="History"]`)}},
		{"hosts", "/settings", "ship-0001",
			[]chromedp.Action{
				chromedp.SendKeys(`//label[starts-with(., "Name or tag")]/input`, "ship-09", chromedp.BySearch),
			}},
		{"find-anything", "/plans", "Close the logs",
			[]chromedp.Action{
				chromedp.KeyEvent("k", chromedp.KeyModifiers(2)),
				chromedp.WaitVisible(`[role="combobox"]`, chromedp.ByQuery),
				chromedp.SendKeys(`[role="combobox"]`, "ship-0", chromedp.ByQuery),
				chromedp.WaitVisible(`[role="option"]`, chromedp.ByQuery),
				chromedp.SendKeys(`[role="combobox"]`, kb.Escape, chromedp.ByQuery),
			}},
	} {
		start := time.Now()
		if err := w.Do(chromedp.Navigate(b.Address+p.path),
			chromedp.WaitVisible(fmt.Sprintf(`//main//*[contains(., "%s")]`, p.shows), chromedp.BySearch)); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}

		usable := time.Since(start)

		// the floor is the mark
		fmt.Printf("figure page-%s-usable %.0f ms floor 1000 ratio %.2f\n", p.name, ms(usable), ms(usable)/1000)
		if p.name == "overview" {
			if err := w.Do(chromedp.Evaluate(
				`performance.getEntriesByType("resource").filter(e => e.initiatorType === "script" || e.name.endsWith(".js")).reduce((n, e) => n + e.encodedBodySize, 0) / 1024`,
				&script)); err != nil {
				return err
			}
		}

		if err := w.Do(chromedp.Evaluate(longest, nil), chromedp.Sleep(300*time.Millisecond),
			chromedp.Evaluate(`window.longest = 0`, nil)); err != nil {
			return err
		}
		if err := w.Do(p.work...); err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
		var took float64
		if err := w.Do(chromedp.Sleep(500*time.Millisecond), chromedp.Evaluate(`window.longest`, &took)); err != nil {
			return err
		}

		worst = max(worst, took)
		if len(p.work) > 0 {
			// tasks below 50 ms count as 0
			fmt.Printf("figure page-%s-longest-task %.0f ms floor 100 ratio %.2f\n", p.name, took, took/100)
		}
	}

	fmt.Printf("figure page-script-of-the-first-load %.1f KiB floor 300 ratio %.2f\n", script, script/300)
	fmt.Printf("figure page-worst-task %.0f ms floor 100 ratio %.2f\n", worst, worst/100)
	return nil
}

// scroll scrolls down a list as fast as a wheel does.
func scroll(list string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for range 20 {
			err := chromedp.Run(ctx,
				chromedp.Evaluate(fmt.Sprintf(`document.querySelector(%q).scrollBy(0, 900)`, list), nil),
				chromedp.Sleep(40*time.Millisecond))
			if err != nil {
				return err
			}
		}
		return nil
	})
}
