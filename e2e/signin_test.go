//go:build linux

package e2e

import (
	"net/http"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/service/auth"
	"idletally/internal/wire"
)

// Somebody signs in by password and code, each code once; a lost authenticator is got over by codes to spare or an admin; sessions are
// listed and ended.
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
	fails(t, "a code to spare twice", err, http.StatusUnauthorized, "used before")
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
	c := command{t, s, "bosun"}
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
	_, errs, exit = c.run(demo.Password+"\n", "login", s.Address, "--authority", s.Authority(), "--name", "bosun", "--password-stdin")
	if exit == 0 {
		t.Errorf("signed in without a code: %s", errs)
	}
	if _, errs, exit = c.run(demo.Password+"\n"+codeOf(t, p.Secret, time.Now().Unix()/30+1)+"\n", "login", s.Address, "--authority", s.Authority(), "--name", "bosun", "--password-stdin"); exit != 0 {
		t.Errorf("with a code: %s", errs)
	}
	admin := command{t, s, "admin"}
	admin.login()
	admin.want(0, "by password alone", "person", "reset", "bosun", "--second-factor")
	c.login()
	admin.want(0, "signed out everywhere", "person", "reset", "bosun", "--sessions")
	c.want(1, "sign in first", "host", "list")
	past, err := as(t, s, "admin").History(ctx, client.Past{What: "second factor"}, 20)
	if err != nil || len(past) < 3 {
		t.Errorf("%+v, %v", past, err)
	}
}

func codeOf(t *testing.T, secret string, step int64) string {
	t.Helper()
	return auth.CodeFor(secret, step)
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
