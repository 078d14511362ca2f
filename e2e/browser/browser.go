// Package browser drives Debian's headless Chromium the way a person uses the console: things
// are found by their roles and labels.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// A Browser is one window.
type Browser struct {
	Ctx     context.Context
	Address string
	profile string // a folder that goes with it
	cancel  []context.CancelFunc
	mu      sync.Mutex
	faults  []string
}

// shell is Debian's headless Chromium itself: the script in its place in /usr/bin waits for it, and would
// leave it behind when it is ended.
const shell = "/usr/lib/chromium/chromium-headless-shell"

// New opens a window of a size. It trusts the service's own authority blindly: the address is
// on loopback and ours.
func New(ctx context.Context, address string, width, height int, dark bool) (*Browser, error) {
	profile, err := os.MkdirTemp("", "idletally-browser-")
	if err != nil {
		return nil, err
	}

	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(shell), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(profile),
		chromedp.Flag("ignore-certificate-errors", true), chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("no-first-run", true),
		chromedp.Flag("disable-dev-shm-usage", true), chromedp.WindowSize(width, height),
		chromedp.WSURLReadTimeout(60*time.Second))

	actx, c1 := chromedp.NewExecAllocator(ctx, opts...)
	bctx, c2 := chromedp.NewContext(actx)
	b := &Browser{
		Ctx:     bctx,
		Address: address,
		profile: profile,
		cancel:  []context.CancelFunc{c2, c1, func() { os.RemoveAll(profile) }},
	}

	chromedp.ListenTarget(bctx, b.listen)
	scheme := "light"
	if dark {
		scheme = "dark"
	}

	err = chromedp.Run(bctx, log.Enable(), runtime.Enable(),
		emulation.SetDeviceMetricsOverride(int64(width), int64(height), 1, width < 500),
		emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{
			{Name: "prefers-color-scheme", Value: scheme},
			{Name: "prefers-reduced-motion", Value: "reduce"},
		}))

	if err != nil {
		b.Close()
		return nil, fmt.Errorf("start Chromium: %w", err)
	}

	return b, nil
}

func (b *Browser) listen(ev any) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch e := ev.(type) {
	case *runtime.EventExceptionThrown:
		b.faults = append(b.faults, e.ExceptionDetails.Error())
	case *log.EventEntryAdded:
		// Not being signed in yet is an answer, not a fault.
		if e.Entry.Level == log.LevelError && !strings.Contains(e.Entry.Text, "401") &&
			!strings.Contains(e.Entry.Text, "status of 403") {
			b.faults = append(b.faults, e.Entry.Text+" "+e.Entry.URL)
		}
	}
}

// Faults returns what the console of the browser complained of since the last call.
func (b *Browser) Faults() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	f := b.faults
	b.faults = nil
	return f
}

// Close closes the window.
func (b *Browser) Close() {
	for _, c := range b.cancel {
		c()
	}
}

// patience is how long anything on a page is waited for: far longer than it takes, since the machine may be busy.
const patience = 4 * time.Minute

// Do runs actions. If one waits in vain, the error says what is on the page instead.
func (b *Browser) Do(actions ...chromedp.Action) error {
	ctx, cancel := context.WithTimeout(b.Ctx, patience)
	defer cancel()
	err := chromedp.Run(ctx, actions...)
	if !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return fmt.Errorf("%w; the page is %s", err, b.page())
}

// page returns the page's address and the beginning of its text.
func (b *Browser) page() string {
	ctx, cancel := context.WithTimeout(b.Ctx, time.Minute)
	defer cancel()
	var says string
	err := chromedp.Run(ctx, chromedp.Evaluate(`location.href + ": " + document.body.innerText.slice(0, 2000)`, &says))
	if err != nil {
		return "not to be read: " + err.Error()
	}
	return says
}

// Go opens a page of the console and waits for its heading. Selectors are always ByQuery: otherwise the driver
// searches the text of the page as well, ids and addresses included.
func (b *Browser) Go(path string) error {
	if err := b.Do(chromedp.Navigate(b.Address+path), chromedp.WaitVisible("h1", chromedp.ByQuery)); err != nil {
		return fmt.Errorf("open %s: %w", path, err)
	}
	return b.settle()
}

// settle waits a moment for the page to be drawn.
func (b *Browser) settle() error {
	return b.Do(chromedp.Sleep(400 * time.Millisecond))
}

// SignIn signs a person in.
func (b *Browser) SignIn(name, password string) error {
	if err := b.Go("/"); err != nil {
		return err
	}
	err := b.Do(chromedp.SendKeys(`input[autocomplete="username"]`, name, chromedp.ByQuery),
		chromedp.SendKeys(`input[autocomplete="current-password"]`, password+"\r", chromedp.ByQuery),
		chromedp.WaitVisible("nav", chromedp.ByQuery))
	if err != nil {
		return fmt.Errorf("sign in as %s: %w", name, err)
	}
	return b.settle()
}

// Press presses the button, or follows the link, of some name.
func (b *Browser) Press(name string) error {
	xpath := fmt.Sprintf(
		`//*[self::button or self::a or self::summary or self::input][normalize-space(.)="%[1]s" or @aria-label="%[1]s" or @title="%[1]s" or starts-with(normalize-space(.), "%[1]s")]`,
		name)
	err := b.Do(chromedp.WaitVisible(xpath, chromedp.BySearch), chromedp.WaitEnabled(xpath, chromedp.BySearch),
		chromedp.Click(xpath, chromedp.BySearch))
	if err != nil {
		return fmt.Errorf("press %q: %w", name, err)
	}
	return b.settle()
}

// See waits until a text is on the page.
func (b *Browser) See(text string) error {
	xpath := fmt.Sprintf(`//body//*[contains(normalize-space(.), "%s")]`, text) // XPath has no escapes
	if err := b.Do(chromedp.WaitVisible(xpath, chromedp.BySearch)); err != nil {
		return fmt.Errorf("see %q: %w", text, err)
	}
	return nil
}

// Shot takes a picture of the window.
func (b *Browser) Shot(file string) error {
	var png []byte
	if err := b.Do(chromedp.CaptureScreenshot(&png)); err != nil {
		return err
	}
	return os.WriteFile(file, png, 0o644)
}
