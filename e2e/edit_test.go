//go:build linux

package e2e

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/wire"
)

// trusting is a client of any program's that knows the service's authority.
func trusting(t *testing.T, s *demo.Stage) *http.Client {
	t.Helper()
	ca := x509.NewCertPool()
	ca.AppendCertsFromPEM(authorityOf(t, s))
	return &http.Client{
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: ca}},
		Timeout:   30 * time.Second,
	}
}

// oneWins has eight callers try the same at once, of whom exactly one has to win.
func oneWins(t *testing.T, what string, try func(n int) (won bool)) {
	t.Helper()
	var won atomic.Int64
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			if try(n) {
				won.Add(1)
			}
		})
	}

	all.Wait()
	if won.Load() != 1 {
		t.Errorf("%s: of eight at once %d won", what, won.Load())
	}
}

// Two people edit the same thing: the second one changes what they saw, or nothing.
func TestEditing(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, admin := crewed(t)
	_, err := admin.Invite(ctx, wire.NewHost{Name: "pontoon"})
	must(t, err)
	web := trusting(t, s)
	call := func(method, path, match string, in any) (status int, tag string, said string) {
		var body io.Reader
		if in != nil {
			b, _ := json.Marshal(in)
			body = bytes.NewReader(b)
		}

		req, _ := http.NewRequestWithContext(ctx, method, s.Address+"/api/v1"+path, body)
		req.Header.Set("Authorization", "Bearer "+admin.Token)
		req.Header.Set("Content-Type", "application/json")
		if match != "" {
			req.Header.Set("If-Match", match)
		}

		resp, err := web.Do(req)
		if err != nil {
			return 0, "", err.Error()
		}
		defer resp.Body.Close()

		b, _ := io.ReadAll(resp.Body)
		return resp.StatusCode, resp.Header.Get("ETag"), string(b)
	}

	for _, c := range []struct {
		path string
		to   func(n int) any
	}{
		{"/hosts/pontoon/tags", func(n int) any { return wire.TagList{Tags: []string{"wet", fmt.Sprintf("n%d", n)}} }},
		{"/people/lookout/roles",
			func(n int) any { return wire.RoleList{Roles: []string{"viewer", fmt.Sprintf("author@a%d", n)}} }},
		{"/applications/billing/review", func(n int) any { return wire.ReviewRule{Reviewers: n%9 + 1} }},
	} {
		t.Run(c.path, func(t *testing.T) {
			status, first, said := call("GET", c.path, "", nil)
			if status != 200 || !strings.HasPrefix(first, `"`) {
				t.Fatalf("%s: %d %s %s", c.path, status, first, said)
			}

			status, second, said := call("PUT", c.path, first, c.to(1))
			if _, now, _ := call("GET", c.path, "", nil); status != 200 || second == first || second != now {
				t.Errorf("%s: %d %s, now %s: %s", c.path, status, second, now, said)
			}

			if status, _, said := call("PUT", c.path, first, c.to(2)); status != 412 ||
				!strings.Contains(said, "somebody else has changed this meanwhile") {
				t.Errorf("%s, with the tag of before: %d %s", c.path, status, said)
			}

			if status, _, said := call("PUT", c.path, "W/"+second, c.to(2)); status != 412 {
				t.Errorf("%s, with a weak tag: %d %s", c.path, status, said)
			}

			if _, now, _ := call("GET", c.path, "", nil); now != second {
				t.Errorf("%s was changed by a call that was refused", c.path)
			}

			if status, _, said := call("PUT", c.path, second, c.to(1)); status != 200 {
				t.Errorf("%s, the same again: %d %s", c.path, status, said)
			}

			for n, match := range []string{`"other", ` + second, "*", ""} {
				if status, _, said := call("PUT", c.path, match, c.to(3+n)); status != 200 {
					t.Errorf("%s with %s: %d %s", c.path, match, status, said)
				}
			}

			_, now, _ := call("PUT", c.path, "", c.to(8))
			oneWins(t, c.path, func(n int) bool {
				status, _, said := call("PUT", c.path, now, c.to(n))
				if status != 200 && status != 412 {
					t.Errorf("%s at once: %d %s", c.path, status, said)
				}
				return status == 200
			})
		})
	}

	text := demo.Baseline("tideboard")
	none := 0
	one := 1
	author := as(t, s, "quartermaster")
	_, err = author.UploadBaselineAfter(ctx, text, &one)
	fails(t, "after an edition that is not there", err, http.StatusConflict, "edition 0")
	_, err = author.UploadBaselineAfter(ctx, text, &none)
	must(t, err)
	_, err = author.UploadBaselineAfter(ctx, text, &none)
	fails(t, "somebody else was faster", err, http.StatusConflict, "edition 1 of tideboard is there meanwhile")
	oneWins(t, "uploads", func(int) bool {
		_, err := author.UploadBaselineAfter(ctx, text, &one)
		if err != nil {
			fails(t, "at once", err, http.StatusConflict, "meanwhile")
		}
		return err == nil
	})

	if _, err := author.UploadBaseline(ctx, text); err != nil {
		t.Error(err)
	}
}
