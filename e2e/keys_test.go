//go:build linux

package e2e

import (
	"bytes"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/testkit/cable"
)

// A call that comes again with its key is carried out once, and gets the answer that it got; so do ten at once.
func TestCallsWithKeys(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	admin := as(t, s, "admin")
	call := func(key, body string) (int, string, http.Header) {
		t.Helper()
		return post(t, s, admin, "/tokens", body, "Idempotency-Key", key)
	}
	const body = `{"name":"tide gauge","roles":["viewer"],"days":7}`
	var mu sync.Mutex
	answers := map[string]int{}
	var all sync.WaitGroup

	for range 10 {
		all.Go(func() {
			for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
				status, b, h := call("one", body)
				if status == http.StatusConflict && h.Get("Retry-After") != "" {
					continue
				}

				mu.Lock()
				answers[b]++
				mu.Unlock()
				return
			}
		})
	}

	all.Wait()
	if len(answers) != 1 {
		t.Errorf("ten calls with one key: %v", answers)
	}

	for b := range answers {
		if !strings.Contains(b, `"secret"`) && !strings.Contains(b, `"token"`) {
			t.Errorf("no token in %s", b)
		}
	}

	list, err := admin.Tokens(t.Context())
	if err != nil || len(list) != 1 {
		t.Errorf("%+v, %v", list, err)
	}

	status, b, _ := call("one", strings.Replace(body, "gauge", "table", 1))
	if status != http.StatusUnprocessableEntity ||
		!strings.Contains(b, "another call had this key") {
		t.Errorf("another call with this key: %d %s", status, b)
	}

	if status, b, _ := call(strings.Repeat("k", 200), body); status != http.StatusBadRequest {
		t.Errorf("a long key: %d %s", status, b)
	}

	other := as(t, s, "quartermaster") // a key is its maker's own
	admin.Token, other.Token = other.Token, admin.Token
	if status, b, _ := call("one", body); status != http.StatusCreated && status != http.StatusOK || answers[b] != 0 {
		t.Errorf("somebody else's call with this key: %d %s", status, b)
	}
}

// A connection that breaks again and again is no reason for a change to be made twice, or not at all.
func TestConnectionThatBreaks(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	line, err := cable.New(strings.TrimPrefix(s.Address, "https://"))
	must(t, err)
	defer line.Close()

	api := as(t, s, "quartermaster")
	far := *api
	far.Address = "https://" + line.Address
	stop := make(chan struct{})
	var cutting sync.WaitGroup
	cutting.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(rand.N(300 * time.Millisecond)):
				line.Cut()
			}
		}
	})

	const uploads = 25
	for n := range uploads {
		if _, err := far.UploadBaseline(t.Context(),
			demo.Baseline("tideboard")+"# "+string(rune('a'+n))+"\n"); err != nil {
			t.Errorf("upload %d: %v", n, err)
		}
	}

	close(stop)
	cutting.Wait()
	editions, err := api.Editions(t.Context(), "tideboard")
	if err != nil || len(editions) != uploads+1 {
		t.Errorf("%d editions after %d uploads, %v", len(editions)-1, uploads, err)
	}
}

// A body that never ends is cut off, and so is one that is too large; the service stays up.
func TestBodiesWithoutEnd(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	api := as(t, s, "quartermaster")

	for _, c := range []struct {
		path string
		most int64
	}{
		{"/api/v1/baselines/check", 4 << 20},
		{"/api/v1/plans", 4 << 20},
		{"/api/v1/sign-in", 4 << 20},
		{"/agent/v1/enrol", 1 << 20},
	} {
		t.Run(c.path, func(t *testing.T) {
			sent := &counted{}
			req, err := http.NewRequestWithContext(t.Context(), "POST", s.Address+c.path, sent)
			must(t, err)
			req.Header.Set("Content-Type", "application/json")
			req.Header.Set("Authorization", "Bearer "+api.Token)
			req.Header.Set("Idempotency-Key", "endless")
			resp, err := api.HTTP.Do(req)
			if err == nil {
				resp.Body.Close()
				if resp.StatusCode < 400 || resp.StatusCode >= 500 {
					t.Errorf("%s: %d", c.path, resp.StatusCode)
				}
			}

			if n := sent.n(); n > c.most+8<<20 { // and what was under way
				t.Errorf("%s took %d bytes", c.path, n)
			}
		})
	}

	if _, err := api.Me(t.Context()); err != nil {
		t.Error(err)
	}
}

// counted gives bytes for ever.
type counted struct {
	mu  sync.Mutex
	all int64
}

func (c *counted) Read(b []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all == 0 {
		c.all++
		return copy(b, `"`), nil
	}
	n := copy(b, bytes.Repeat([]byte("a"), len(b)))
	c.all += int64(n)
	return n, nil
}

func (c *counted) n() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.all
}
