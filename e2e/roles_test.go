//go:build linux

package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/client"
	"idletally/internal/wire"
)

var (
	rolesRow  = regexp.MustCompile("(?m)^\\| .* \\| `([A-Z]+) (/\\S+)` \\| (.+) \\|$")
	parameter = regexp.MustCompile(`\{[^}]+\}`)
)

// Every operation of the service answers nobody, and somebody with each single role, as the table in docs/roles.md says; and the table
// holds every operation.
func TestRoles(t *testing.T) {
	s := begin(t, "")
	ctx := t.Context()
	admin := as(t, s, "admin")
	text, err := os.ReadFile("../docs/roles.md")
	must(t, err)
	table := map[string]string{}
	for _, m := range rolesRow.FindAllStringSubmatch(string(text), -1) {
		table[m[1]+" "+m[2]] = m[3]
	}
	ca := x509.NewCertPool()
	ca.AppendCertsFromPEM(authorityOf(t, s))
	web := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: ca}}, Timeout: 20 * time.Second}
	call := func(method, path, token string) int {
		t.Helper()
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		req, err := http.NewRequestWithContext(ctx, method, s.Address+path, bytes.NewReader([]byte(`{}`)))
		must(t, err)
		req.Header.Set("Content-Type", "application/json")
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		resp, err := web.Do(req)
		must(t, err)
		defer resp.Body.Close() // a stream goes on for ever, and its head is all that is wanted
		return resp.StatusCode
	}
	resp, err := web.Get(s.Address + "/api/openapi.json")
	must(t, err)
	var doc struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	must(t, json.NewDecoder(io.LimitReader(resp.Body, 10<<20)).Decode(&doc))
	must(t, resp.Body.Close())
	tokens := map[string]string{}
	for _, role := range wire.Roles {
		name := "only-" + role
		one, err := admin.AddPerson(ctx, wire.NewPerson{Name: name, Roles: []string{role}})
		must(t, err)
		session, err := admin.SignIn(ctx, wire.SignIn{Name: name, Password: one.Password, NewPassword: "high tide at eleven"})
		must(t, err)
		tokens[role] = session.Token
	}
	seen, tried := 0, 0
	for path, methods := range doc.Paths {
		for method := range methods {
			method = strings.ToUpper(method)
			short := strings.TrimPrefix(path, "/api/v1")
			who, ok := table[method+" "+short]
			if !ok {
				t.Errorf("docs/roles.md says nothing of %s %s", method, short)
				continue
			}
			seen++
			if short == "/sign-out" { // it ends what the others are called with
				continue
			}
			at := parameter.ReplaceAllString(path, "nothing-here") // so that nothing is changed by whoever may
			if open := who == "nobody in particular"; (call(method, at, "") == http.StatusUnauthorized) == open && short != "/sign-in" {
				t.Errorf("%s %s is for %s, and answers whoever has not signed in otherwise", method, short, who)
			}
			for role, token := range tokens {
				may := who == "nobody in particular" || who == "anybody signed in" || who == "viewer" || who == role
				if got := call(method, at, token); (got != http.StatusForbidden && got != http.StatusUnauthorized) != may && short != "/sign-in" {
					t.Errorf("%s %s is for %s, and answers a person who is only %s with %d", method, short, who, role, got)
				}
				tried++
			}
		}
	}
	past, err := admin.History(ctx, client.Past{What: "refused", Who: "only-viewer"}, 200)
	if err != nil || len(past) < 20 || !slices.ContainsFunc(past, func(h wire.History) bool {
		return h.Subject == "add-person" && strings.Contains(h.Detail, "role admin")
	}) {
		t.Errorf("the history tells of %d refusals, %v", len(past), err)
	}
	if seen != len(table) || tried < 5*80 {
		t.Errorf("%d operations, %d in the table, %d calls", seen, len(table), tried)
	}
	if !slices.Equal(wire.Roles, []string{"viewer", "author", "reviewer", "operator", "admin"}) {
		t.Errorf("the roles are %v: the table speaks of others", wire.Roles)
	}
}
