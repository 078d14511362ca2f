//go:build linux

package e2e

import (
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"idletally/demo"
	"idletally/internal/wire"
)

// Whatever changes in how somebody signs in, and whoever tries to with their name, is told to them, at every
// sign-in and on every page, until they have seen it: which a session that somebody finds does not do for
// them.
func TestSignInNews(t *testing.T) {
	t.Parallel()
	s, admin, change := crewedOn(t)
	ctx := t.Context()
	me := as(t, s, "lookout")
	news := func() (whats []string) {
		t.Helper()
		all, err := me.News(ctx)
		must(t, err)

		for _, n := range all.Items {
			if n.Times < 1 || n.First.After(n.Last) || n.Who == "" {
				t.Errorf("%+v", n)
			}
			whats = append(whats, n.What)
		}

		slices.Sort(whats)
		return slices.Compact(whats)
	}

	if got := news(); len(got) != 0 {
		t.Errorf("nothing has happened yet: %q", got)
	}

	nobody := *me
	nobody.Token = ""
	sign := func(password, fresh, code string) error {
		got, err := nobody.SignIn(ctx, wire.SignIn{Name: "lookout", Password: password, NewPassword: fresh, Code: code})
		if err == nil {
			me.Token = got.Token
		}
		return err
	}

	const second = "slack water at nine"
	fails(t, "a guess", sign("what might it be", "", ""), http.StatusUnauthorized, "wrong")
	fails(t, "in a session",
		me.ChangePassword(ctx, wire.NewPassword{Password: "what might it be", NewPassword: second}),
		http.StatusForbidden, "another one")
	must(t, me.ChangePassword(ctx, wire.NewPassword{Password: demo.Password, NewPassword: second}))
	proposed, err := me.ProposeSecond(ctx)
	must(t, err)
	now := time.Now().Unix() / 30
	spare, err := me.ConfirmSecond(ctx, codeOf(t, proposed.Secret, now))
	must(t, err)
	fails(t, "a code that was used", sign(second, "", codeOf(t, proposed.Secret, now)), http.StatusUnauthorized,
		"used before")
	must(t, sign(second, "", spare[0]))
	must(t, me.RemoveSecond(ctx, spare[1]))
	want := []string{
		"code used again", "password changed", "password wrong", "second factor removed", "second factor set",
		"sign-in refused", "spare code used",
	}
	if got := news(); !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}

	one, err := admin.ResetPassword(ctx, "lookout")
	must(t, err)
	must(t, sign(one.Password, demo.Password, ""))
	if got := news(); !slices.Contains(got, "password reset") {
		t.Errorf("%q: by an admin", got)
	}

	c := command{t: t, s: s, person: "lookout"}
	if _, errs, code := c.run(demo.Password+"\n", "login", s.Address, "--authority", s.Authority(), "--name", "lookout",
		"--password-stdin"); code != 0 || !strings.Contains(errs, "password reset, by admin") {
		t.Errorf("%d, %s", code, errs)
	}

	c.want(0, "spare code used", "sign-in", "news")
	b := open(t, s, 1280, 800, false)
	must(t, b.Go("/"))
	must(t, b.SignIn("lookout", demo.Password))
	must(t, b.See("things have changed in how you sign in"))
	must(t, b.Do(chromedp.Click(`//a[text()="Look at it"]`, chromedp.BySearch)))
	must(t, b.See("password reset"))
	axe(t, b, "what has changed in how one signs in")

	all, err := me.News(ctx)
	must(t, err)
	change(`UPDATE session SET shown = shown - INTERVAL 601 SECOND WHERE person = 'lookout'`)
	found := *me
	found.Confirming = nil
	fails(t, "by a session that was found", found.SeeNews(ctx, all.Until), http.StatusUnauthorized,
		"this takes your password")
	must(t, me.Confirm(ctx, wire.Confirm{Password: demo.Password}))
	must(t, me.SeeNews(ctx, "zzzzzzzzzzzzzzzz")) // and what is still to come
	if got := news(); len(got) != 0 {
		t.Errorf("%q are told again", got)
	}

	must(t, me.ChangePassword(ctx, wire.NewPassword{Password: demo.Password, NewPassword: second}))
	if got := news(); !slices.Equal(got, []string{"password changed"}) {
		t.Errorf("%q: what comes later is told", got)
	}

	must(t, b.Go("/"))
	must(t, b.SignIn("lookout", second))
	must(t, b.See("Something has changed in how you sign in, or somebody tried to."))
	for _, f := range b.Faults() {
		t.Error(f)
	}
}
