//go:build linux

package e2e

import (
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base32"
	"encoding/binary"
	"fmt"
	"net"
	"net/http"
	"os"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/wire"
)

// Somebody signs in by password and code, each code once; a lost authenticator is got over by spare codes
// or an admin; sessions are listed and ended.
func TestSecondFactorAndSessions(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	here, other := as(t, s, "harbourmaster"), as(t, s, "harbourmaster")
	list, err := here.SignedIn(ctx)
	if err != nil || len(list) < 2 {
		t.Fatalf("%+v, %v", list, err)
	}

	_, err = here.ConfirmSecond(ctx, "123456")
	fails(t, "confirm nothing", err, http.StatusConflict, "begin one first")
	p, err := here.ProposeSecond(ctx)
	must(t, err)
	if me, err := here.Me(ctx); err != nil || me.Second {
		t.Errorf("it counts before it is confirmed: %+v, %v", me, err)
	}

	_, err = here.ConfirmSecond(ctx, "000000")
	fails(t, "a wrong code", err, http.StatusUnprocessableEntity, "does not fit")
	code := func(step int64) string { return codeOf(t, p.Secret, step) }
	now := time.Now().Unix() / 30
	spare, err := here.ConfirmSecond(ctx, code(now))
	if err != nil || len(spare) != 8 {
		t.Fatalf("%v, %v", spare, err)
	}

	_, err = other.Me(ctx)
	fails(t, "a session from before", err, http.StatusUnauthorized, "sign in first")
	sign := func(code string) (wire.Session, error) {
		api := *here
		api.Token = ""
		return api.SignIn(ctx, wire.SignIn{Name: "harbourmaster", Password: demo.Password, Code: code})
	}
	_, err = sign("")
	fails(t, "no code", err, http.StatusForbidden, "second factor is missing")
	_, err = sign(code(now))
	fails(t, "the code that confirmed it", err, http.StatusUnauthorized, "used before")

	// Ten try the next code at once, of whom one gets in.
	var in atomic.Int64
	var all sync.WaitGroup
	next := code(now + 1)

	for range 10 {
		all.Go(func() {
			if _, err := sign(next); err == nil {
				in.Add(1)
			}
		})
	}

	all.Wait()
	if in.Load() != 1 {
		t.Errorf("one code let %d in", in.Load())
	}

	far, err := sign(" " + strings.ToUpper(spare[3]) + " ")
	must(t, err)
	_, err = sign(spare[3])
	fails(t, "a spare code twice", err, http.StatusUnauthorized, "used before")
	away := *here
	away.Token = far.Token
	if list, err = here.SignedIn(ctx); err != nil || len(list) < 3 {
		t.Fatalf("%+v, %v", list, err)
	}

	for _, x := range list {
		if x.Here {
			continue
		}
		must(t, here.EndSession(ctx, x.ID))
		fails(t, "the same again", here.EndSession(ctx, x.ID), http.StatusNotFound, "no session")
	}

	_, err = away.Me(ctx)
	fails(t, "an ended session", err, http.StatusUnauthorized, "sign in first")
	fails(t, "by somebody who may not", here.RemoveSecondOf(ctx, "bosun"), http.StatusForbidden, "admin")
	must(t, here.RemoveSecond(ctx, spare[0]))
	if _, err := sign(""); err != nil {
		t.Errorf("by password alone: %v", err)
	}

	// The same by command, and an admin helps out.
	c := command{t: t, s: s, person: "bosun"}
	c.login()
	c.want(0, "this one", "sign-in", "list")
	api := as(t, s, "bosun")
	if p, err = api.ProposeSecond(ctx); err != nil {
		t.Fatal(err)
	}

	out, errs, exit := c.run("000000\n", "sign-in", "second-factor", "--code-stdin")
	secret := regexp.MustCompile(`secret  ([A-Z2-7]{32})`).FindStringSubmatch(out)
	if exit == 0 || !strings.Contains(errs, "does not fit") || secret == nil {
		t.Errorf("%d: %s%s", exit, out, errs)
	}

	if p, err = api.ProposeSecond(ctx); err != nil { // the last one counts
		t.Fatal(err)
	}

	_, err = api.ConfirmSecond(ctx, codeOf(t, p.Secret, time.Now().Unix()/30))
	must(t, err)
	_, errs, exit = c.run(demo.Password+"\n", "login", s.Address, "--authority", s.Authority(), "--name", "bosun",
		"--password-stdin")
	if exit == 0 {
		t.Errorf("signed in without a code: %s", errs)
	}

	_, errs, exit = c.run(demo.Password+"\n"+codeOf(t, p.Secret, time.Now().Unix()/30+1)+"\n", "login", s.Address,
		"--authority", s.Authority(), "--name", "bosun", "--password-stdin")
	if exit != 0 {
		t.Errorf("with a code: %s", errs)
	}

	admin := command{t: t, s: s, person: "admin"}
	admin.login()
	admin.want(0, "by password alone", "person", "reset", "bosun", "--second-factor")
	c.login()
	admin.want(0, "signed out everywhere", "person", "reset", "bosun", "--sessions")
	c.want(1, "sign in first", "host", "list")
	past, err := as(t, s, "admin").History(ctx, client.HistoryQuery{What: "second factor"}, 20)
	if err != nil || len(past) < 3 {
		t.Errorf("%+v, %v", past, err)
	}
}

// codeOf is what an authenticator shows for a secret at a step of time (RFC 6238 section 4, RFC 4226 section 5.3).
func codeOf(t *testing.T, secret string, step int64) string {
	t.Helper()
	key, err := base32.StdEncoding.WithPadding(base32.NoPadding).DecodeString(secret)
	must(t, err)
	mac := hmac.New(sha1.New, key)
	mac.Write(binary.BigEndian.AppendUint64(nil, uint64(step)))
	sum := mac.Sum(nil)
	at := sum[len(sum)-1] & 15
	return fmt.Sprintf("%06d", binary.BigEndian.Uint32(sum[at:])&0x7fffffff%1_000_000)
}

// A thousand wrong sign-ins at once neither get in, nor lock anybody else out, nor take the service's memory.
func TestThousandWrongSignIns(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	api := as(t, s, "bosun")
	before := s.Service.Resident()
	var most atomic.Int64
	counts := map[int]int{}
	var mu sync.Mutex
	gate := make(chan struct{}, 100)
	var all sync.WaitGroup

	for i := range 1000 {
		all.Go(func() {
			gate <- struct{}{}
			defer func() { <-gate }()

			wrong := *api
			wrong.Token = ""
			_, err := wrong.SignIn(t.Context(), wire.SignIn{Name: "harbourmaster", Password: "low tide at one"})
			mu.Lock()
			counts[client.Status(err)]++
			mu.Unlock()
			if i%50 == 0 {
				most.Store(max(most.Load(), s.Service.Resident()))
			}
		})
	}

	all.Wait()
	if counts[401] == 0 || counts[429] < 900 || counts[401]+counts[429] != 1000 {
		t.Errorf("answers %v", counts)
	}

	if grown := most.Load() - before; grown > 300<<20 {
		t.Errorf("the service grew by %d MiB", grown>>20)
	}

	if _, err := api.Me(t.Context()); err != nil {
		t.Errorf("somebody who is signed in: %v", err)
	}

	t.Logf("answers %v, grown by %d MiB", counts, (most.Load()-before)>>20)
}

// People change their own passwords: it takes the old one, ends their other sessions, and their tokens unless
// they keep them. What an admin gives counts once, for a day, and not as the new one.
func TestPasswords(t *testing.T) {
	t.Parallel()
	s, admin := crewed(t)
	ctx := t.Context()
	here, other := as(t, s, "quartermaster"), as(t, s, "quartermaster")
	token := func() *client.Client {
		t.Helper()
		made, err := here.AddToken(ctx, wire.NewToken{Name: "nightly", Roles: []string{wire.Viewer}, Days: 30})
		must(t, err)
		api := *here
		api.Token = made.Secret
		_, err = api.Me(ctx)
		must(t, err)
		return &api
	}

	sign := func(password, fresh string) error {
		api := *here
		api.Token = ""
		_, err := api.SignIn(ctx, wire.SignIn{Name: "quartermaster", Password: password, NewPassword: fresh})
		return err
	}

	const second, third = "slack water at nine", "spring tide at ten"
	program := token()
	fails(t, "a wrong password",
		here.ChangePassword(ctx, wire.NewPassword{Password: "not this one", NewPassword: second}), http.StatusForbidden,
		"another one")
	fails(t, "the same again",
		here.ChangePassword(ctx, wire.NewPassword{Password: demo.Password, NewPassword: demo.Password}),
		http.StatusUnprocessableEntity, "the old one")
	fails(t, "a common one",
		here.ChangePassword(ctx, wire.NewPassword{Password: demo.Password, NewPassword: "password1234"}),
		http.StatusUnprocessableEntity, "guessed first")
	fails(t, "by a token", program.ChangePassword(ctx, wire.NewPassword{Password: demo.Password, NewPassword: second}),
		http.StatusForbidden, "sign in yourself")
	fails(t, "while signing in", sign(demo.Password, second), http.StatusUnprocessableEntity,
		"goes with a one-time password")
	must(t, here.ChangePassword(ctx, wire.NewPassword{Password: demo.Password, NewPassword: second}))
	if _, err := here.Me(ctx); err != nil {
		t.Errorf("one's own session: %v", err)
	}

	_, err := other.Me(ctx)
	fails(t, "another session", err, http.StatusUnauthorized, "sign in first")
	_, err = program.Me(ctx)
	fails(t, "a token from before", err, http.StatusUnauthorized, "sign in first")
	fails(t, "the old password", sign(demo.Password, ""), http.StatusUnauthorized, "wrong")
	must(t, sign(second, ""))

	program = token()
	c := command{t: t, s: s, person: "quartermaster"}
	if _, errs, code := c.run(second+"\n", "login", s.Address, "--authority", s.Authority(), "--name", "quartermaster",
		"--password-stdin"); code != 0 {
		t.Fatal(errs)
	}

	out, errs, code := c.run(second+"\n"+third+"\n", "sign-in", "password", "--keep-tokens", "--password-stdin")
	if code != 0 || !strings.Contains(out, "your tokens stay good") {
		t.Errorf("%d %s %s", code, out, errs)
	}

	if _, err := program.Me(ctx); err != nil {
		t.Errorf("a token that was kept: %v", err)
	}

	_, err = here.Me(ctx)
	fails(t, "the session before", err, http.StatusUnauthorized, "sign in first")

	one, err := admin.ResetPassword(ctx, "quartermaster")
	must(t, err)
	_, err = program.Me(ctx)
	fails(t, "a token after an admin's reset", err, http.StatusUnauthorized, "sign in first")
	fails(t, "the one-time password as the new one", sign(one.Password, one.Password), http.StatusUnprocessableEntity,
		"the old one")
	must(t, sign(one.Password, second))
	fails(t, "the one-time password again", sign(one.Password, third), http.StatusUnauthorized, "wrong")
}

// Whoever guesses waits longer and longer, and keeps nobody else out: not whom they guess at, who signed in
// before, nor who comes from elsewhere. What anybody can cause without signing in neither fills the history
// nor makes the database look.
func TestGuesses(t *testing.T) {
	t.Parallel()
	s, admin := crewed(t)
	ctx := t.Context()
	stranger := *admin
	stranger.Token = ""
	sign := func(api *client.Client, in wire.SignIn) (wire.Session, error) {
		in.Name = "harbourmaster"
		one := *api
		return one.SignIn(ctx, in)
	}
	before, err := sign(&stranger, wire.SignIn{Password: demo.Password})
	must(t, err)
	if before.Device == "" {
		t.Fatal("no device to come back with")
	}

	until := func(what string, most int, try func() error, wrong int) {
		t.Helper()
		for n := 0; ; n++ {
			err := try()
			if client.Status(err) == http.StatusTooManyRequests &&
				strings.Contains(err.Error(), "too many wrong tries: try again in ") {
				if n < 5 {
					t.Errorf("%s: refused after %d", what, n)
				}
				return
			}

			fails(t, what, err, wrong, "")
			if n == most {
				t.Fatalf("%s: %d tries were allowed", what, n)
			}
		}
	}

	until("guesses", 60, func() error {
		_, err := sign(&stranger, wire.SignIn{Password: "low tide at one"})
		return err
	}, http.StatusUnauthorized)
	_, err = sign(&stranger, wire.SignIn{Password: demo.Password, Device: before.Device})
	if err != nil {
		t.Errorf("who signed in before is kept out from the same address: %v", err)
	}

	bosun := as(t, s, "bosun")
	own, err := stranger.SignIn(ctx, wire.SignIn{Name: "bosun", Password: demo.Password})
	must(t, err)
	other := 0
	for ; other < 9 && client.Status(err) != http.StatusTooManyRequests; other++ { // a device's own first tries are ten
		_, err = sign(&stranger, wire.SignIn{Password: "low tide at one", Device: own.Device})
	}

	if other == 9 {
		t.Error("somebody else's device counts as one's own")
	}

	ca, err := os.ReadFile(s.Authority())
	must(t, err)
	elsewhere, err := client.New(s.Address, ca, "")
	must(t, err)
	elsewhere.HTTP.Transport.(*http.Transport).DialContext = (&net.Dialer{
		LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 2)},
	}).DialContext
	if _, err = sign(elsewhere, wire.SignIn{Password: demo.Password}); err != nil {
		t.Errorf("from elsewhere: %v", err)
	}

	// Codes of a second factor, by who has the password.
	me := as(t, s, "bosun")
	p, err := me.ProposeSecond(ctx)
	must(t, err)
	_, err = me.ConfirmSecond(ctx, codeOf(t, p.Secret, time.Now().Unix()/30))
	must(t, err)
	until("codes", 40, func() error {
		_, err := stranger.SignIn(ctx, wire.SignIn{Name: "bosun", Password: demo.Password, Code: "000000"})
		return err
	}, http.StatusUnauthorized)
	_, err = stranger.SignIn(ctx, wire.SignIn{
		Name:     "bosun",
		Password: demo.Password,
		Code:     codeOf(t, p.Secret, time.Now().Unix()/30+1),
		Device:   own.Device,
	})

	if err != nil {
		t.Errorf("who signed in before is kept out by guesses at their codes: %v", err)
	}

	// Tokens and enrolment codes that are made up.
	calls := map[int]int{}
	for n := range 800 {
		made := stranger
		made.Token = fmt.Sprint("its_made_up_", n)
		status, _, _ := post(t, s, &made, "/baselines/check", "{}")
		calls[status]++
		if n < 300 {
			status, _, _ := postTo(t, s, &stranger, "/agent/v1/enrol",
				`{"code":"aaaaa-bbbbb","request":"AAAA","version":"1"}`)
			calls[status]++
		}
	}

	if calls[401] < 300 || calls[429] < 100 || calls[403] < 200 || calls[401]+calls[403]+calls[429] != 1100 {
		t.Errorf("answers %v", calls)
	}

	_, err = bosun.Me(ctx)
	fails(t, "a session that a second factor ended", err, http.StatusUnauthorized, "")
	if _, err := admin.Me(ctx); err != nil {
		t.Errorf("a token that is known: %v", err)
	}

	if _, err := as(t, s, "lookout").Me(ctx); err != nil {
		t.Errorf("who signs in at the same address meanwhile: %v", err)
	}

	for _, what := range []string{"sign-in refused", "enrolment refused"} {
		list, err := admin.History(ctx, client.HistoryQuery{What: what}, 100)
		if err != nil || len(list) == 0 || len(list) > 3 {
			t.Errorf("%d lines say %s, %v", len(list), what, err)
		}
	}
}

// How the service fares, and what its API is like, is told to who is signed in, or to everybody where it is told so.
func TestOpen(t *testing.T) {
	t.Parallel()
	s, _ := bare(t, "127.0.0.1:0", "", "IDLETALLY_OPEN=metrics")
	nobody := as(t, s, "admin")
	nobody.Token = ""
	if b := get(t, s, nobody, "/metrics"); !strings.Contains(string(b), "idletally_request_seconds_bucket") {
		t.Errorf("%.200s", b)
	}
	if b := get(t, s, nobody, "/api/openapi.json"); !strings.Contains(string(b), "sign in first") {
		t.Errorf("%.200s", b)
	}
	command{t: t, s: s, person: "nobody"}.want(2, "want some of metrics, documents", "serve", "--check", "--open",
		"everything")
}

// A service behind a proxy that it knows tells callers apart by what the proxy says, and believes nobody else.
func TestBehindAProxy(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		proxies string
		apart   bool
	}{{"127.0.0.0/8", true}, {"192.0.2.0/24", false}} {
		t.Run(c.proxies, func(t *testing.T) {
			s, _ := bare(t, "127.0.0.1:0", "", "IDLETALLY_PROXIES="+c.proxies)
			api := as(t, s, "admin")
			api.Token = ""
			last := map[string]int{}
			try := func(from string) {
				last[from], _, _ = post(t, s, api, "/sign-in", `{"name":"admin","password":"low tide at one"}`,
					"X-Forwarded-For", from)
			}
			for n := range 15 {
				try("203.0.113.1")
				try(fmt.Sprint("198.51.100.", n))
			}

			for range 10 { // on a slow machine tries are further apart than the first waits, which double
				if last["203.0.113.1"] != http.StatusTooManyRequests {
					try("203.0.113.1")
				}
			}

			if last["203.0.113.1"] != http.StatusTooManyRequests ||
				(last["198.51.100.14"] == http.StatusUnauthorized) != c.apart {
				t.Errorf("proxies %s: answers %v", c.proxies, last)
			}
		})
	}
}
