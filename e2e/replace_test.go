//go:build linux

package e2e

import (
	"context"
	"crypto/tls"
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/agent"
	"idletally/internal/client"
	"idletally/internal/core/chain"
	"idletally/internal/service/authority"
	"idletally/internal/wire"
)

// The service's authority and the key that signs its orders are replaced while one host works and another is
// away: both follow, what was begun goes on, and whoever knows the ended ones alone, or has them, gets
// nowhere.
func TestKeysAreReplaced(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	db, _ := database(t)
	t.Cleanup(db.Stop)
	s := begin(t, db.DSN)
	rows, err := sql.Open("mysql", db.DSN)
	must(t, err)
	t.Cleanup(func() { rows.Close() })
	data, listen := filepath.Join(s.Dir, "service"), strings.TrimPrefix(s.Address, "https://")
	known := authorityOf(t, s)
	formerKey, err := os.ReadFile(filepath.Join(data, "keys", "orders.key"))
	must(t, err)
	former, err := authority.OrderKey(formerKey)
	must(t, err)
	here := command{t: t, s: s, person: "admin"}
	again := func() {
		t.Helper()
		s.Service.Stop()
		must(t, s.Serve(ctx, listen, db.DSN))
	}
	behind := func(api *client.Client) (hosts []string) {
		t.Helper()
		k, err := api.Keys(ctx)
		must(t, err)
		for _, h := range k.Behind {
			hosts = append(hosts, h.Host)
		}

		return hosts
	}

	changes := func(host, mode string) {
		t.Helper()
		p, err := as(t, s, "quartermaster").DraftPlan(ctx, wire.Draft{Application: "ticketing", Hosts: []string{host},
			Changes: "changes: [{paths: /srv/ticketing/logs/**, set: {files: " + mode + "}}]"})
		must(t, err)
		if r := agreed(t, s, p); r.State != "finished" || r.Hosts[0].Done < 100 {
			t.Errorf("%s: %+v", host, r)
		}
	}

	lookout := as(t, s, "lookout")
	soon(t, "both tell by which keys they know the service", func() bool { return len(behind(lookout)) == 0 })

	s.Agents["slip-south"].Stop()
	settings := filepath.Join(s.Root("slip-south"), "var/lib/idletally-agent", agent.SettingsFile)
	b, err := os.ReadFile(settings)
	must(t, err)
	var away agent.Settings
	must(t, json.Unmarshal(b, &away))
	file := filepath.Join(s.Dir, "before.backup")
	here.want(0, "", "backup", "write", "--data", data, "--database", db.DSN, file)
	here.want(2, "neither authority nor orders", "keys", "replace", "everything", "--data", data)
	here.want(0, "Start the service again", "keys", "replace", "authority", "--data", data)
	here.want(1, "end the former one first", "keys", "replace", "authority", "--data", data)
	here.want(0, "Start the service again", "keys", "replace", "orders", "--data", data)
	here.want(0, "", "backup", "check", "--data", data, file) // the former key signed it
	again()

	soon(t, "who is there follows", func() bool { return slices.Equal(behind(lookout), []string{"slip-south"}) })
	here.login()
	here.want(0, "slip-south", "keys", "show")
	changes("slip-north", "0600")

	for what, trusted := range map[string][]byte{"the former": known, "the newest": authorityOf(t, s)} {
		c, err := client.New(s.Address, trusted, "")
		must(t, err)
		if err := c.Do(ctx, "GET", "/sign-in/ways", nil, nil); err != nil {
			t.Errorf("who trusts %s authority: %v", what, err)
		}
	}

	must(t, s.StartAgent("slip-south"))
	soon(t, "who was away follows", func() bool { return len(behind(lookout)) == 0 })
	changes("slip-south", "0600")

	here.want(1, "agents may still come", "keys", "end", "--data", data)
	here.want(0, "Start the service again", "keys", "end", "--now", "--data", data)
	again()
	changes("slip-north", "0640")
	changes("slip-south", "0640")
	c, err := client.New(s.Address, known, "")
	must(t, err)
	if err := c.Do(ctx, "GET", "/sign-in/ways", nil, nil); err == nil || !strings.Contains(err.Error(), "certificate") {
		t.Errorf("who trusts the ended authority alone: %v", err)
	}

	cert, err := tls.X509KeyPair(away.Certificate, away.Key)
	must(t, err)
	for what, trusted := range map[string][]byte{
		"the ended authority": away.Authority,
		"the newest":          authorityOf(t, s),
	} {
		api, err := client.NewAgent(s.Address, trusted, &cert)
		must(t, err)
		short, cancel := context.WithTimeout(ctx, 10*time.Second)
		if err := hello(short, api); err == nil {
			t.Errorf("a certificate of the ended authority counts with who trusts %s", what)
		}

		cancel()
	}

	// The history went over to the newest key once, and to who has the former one it never does again.
	admin := as(t, s, "admin")
	list, err := admin.History(ctx, client.HistoryQuery{What: "order key replaced"}, 10)
	if err != nil || len(list) != 1 {
		t.Errorf("%+v, %v", list, err)
	}

	faults := func() (detail string) {
		o, err := admin.Overview(ctx)
		must(t, err)
		for _, n := range o.Needs {
			if n.Kind == "history" {
				detail = n.Detail
			}
		}

		return detail
	}

	if check, err := admin.CheckHistory(ctx); err != nil || check.Fault != "" || faults() != "" {
		t.Errorf("the history: %+v, %v, %s", check, err, faults())
	}

	s.Agents["slip-north"].Stop()
	s.Agents["slip-south"].Stop()
	s.Service.Stop()
	var forged chain.Head
	var hash []byte
	must(t, rows.QueryRowContext(ctx, `SELECT seq, hash FROM chain`).Scan(&forged.Seq, &hash))
	copy(forged.Hash[:], hash)
	forged.Sign(former)
	changed(t, rows, `UPDATE chain SET signature = ?`, forged.Signature)
	must(t, s.Serve(ctx, listen, db.DSN))
	admin = as(t, s, "admin")
	soon(t, "an end that the former key signed is noticed", func() bool { return faults() != "" })
}
