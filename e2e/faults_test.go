//go:build linux

package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/klauspost/compress/zstd"

	"idletally/internal/client"
	"idletally/internal/core/chain"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/service/mariadb"
	"idletally/internal/wire"
)

func compress(t *testing.T, b []byte) []byte {
	t.Helper()
	z, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	return z.EncodeAll(b, nil)
}

// database starts one of a test's own, which outlives the service; its folder goes with the test.
func database(t *testing.T) (*mariadb.Server, string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "idletally-db-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o711); err != nil { // the database's own account goes through it
		t.Fatal(err)
	}
	db, err := mariadb.Start(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	return db, dir
}

// databaseRows are what TestDatabase tries.
var databaseRows = []string{
	`DELETE FROM audit WHERE seq > (SELECT seq FROM chain_then)`, `DELETE FROM chain`,
	`INSERT INTO chain SELECT * FROM chain_then`,
}

// A database that goes away: clear errors, nothing lost, all well when it is back. Rows changed by
// hand in it: nobody acts on them.
func TestDatabase(t *testing.T) {
	t.Parallel()
	db, dir := database(t)
	defer func() { db.Stop() }()

	var err error
	s := world(t, db.DSN, false)
	c, reviewer := as(t, s, "quartermaster"), as(t, s, "harbourmaster")
	ctx := t.Context()
	soon(t, "it is noted where the history ends", func() bool {
		_, err := os.Stat(filepath.Join(s.Dir, "service", "keys", "history.head"))
		return err == nil
	})

	t.Run("goes away", func(t *testing.T) {
		db.Kill()
		_, err := c.Hosts(ctx)
		fails(t, "with the database gone", err, 503, "the database does not answer")
		cmd := command{t: t, s: s, person: "lookout"}
		_, errs, code := cmd.run("x\n", "login", s.Address, "--authority", s.Authority(), "--name", "lookout",
			"--password-stdin")
		if code != 3 || !strings.Contains(errs, "the database does not answer") {
			t.Errorf("the command says %d %s", code, errs)
		}

		for path, want := range map[string]int{"/readyz": 503, "/healthz": 200} {
			t.Run(path, func(t *testing.T) {
				resp, err := c.HTTP.Get(s.Address + path)
				if err != nil {
					t.Fatal(err)
				}

				resp.Body.Close()
				if resp.StatusCode != want {
					t.Errorf("%s: %d, want %d", path, resp.StatusCode, want)
				}
			})
		}

		if db, err = mariadb.Start(ctx, dir); err != nil {
			t.Fatal(err)
		}

		if err := awaitAnswer(t, 30*time.Second, func(ctx context.Context) error {
			_, err := c.Hosts(ctx)
			return err
		}); err != nil {
			t.Fatalf("after the database came back: %v", err)
		}

		snapshot(t, c, "ticketing", "slip-north")
	})

	rows, err := sql.Open("mysql", db.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()

	change := func(t *testing.T, q string, args ...any) {
		t.Helper()
		if changed(t, rows, q, args...) == 0 {
			t.Fatalf("%s changed nothing", q)
		}
	}

	draft := func(t *testing.T) wire.Plan {
		t.Helper()
		p, err := c.DraftPlan(ctx, wire.Draft{Application: "tideboard", All: true})
		if err != nil {
			t.Fatal(err)
		}

		if _, err := c.Submit(ctx, p.ID); err != nil {
			t.Fatal(err)
		}

		return p
	}

	// evil would open the feed's tokens to everyone.
	encoder, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}

	evil := encoder.EncodeAll(plan.EncodeChunk([]plan.Step{
		{Path: "/srv/tideboard/feeds/gauge-07.token", Kind: perm.File,
			Before: posix.State{UID: 2004, GID: 3004, Mode: 0o640}.Set(),
			After:  posix.State{UID: 2004, GID: 3004, Mode: mode.Mode(0o666)}.Set()},
	}), nil)
	untouched := func(t *testing.T) {
		t.Helper()
		st, err := os.Stat(filepath.Join(s.Root("slip-north"), "srv/tideboard/feeds/gauge-07.token"))
		if err != nil || st.Mode().Perm() != 0o640 {
			t.Errorf("the file was changed to %v, %v", st.Mode(), err)
		}
	}

	// waits runs a plan whose records are wrong when the agent asks for its order, and put right later.
	waits := func(t *testing.T, p wire.Plan, wrong, right func()) {
		t.Helper()
		s.Agents["slip-north"].Kill()
		r, err := c.StartRun(ctx, p.ID)
		if err != nil {
			t.Fatal(err)
		}

		wrong()
		must(t, s.StartAgent("slip-north"))
		time.Sleep(3 * time.Second) // the agent asks and is given nothing
		got, err := c.Run(ctx, r.ID)
		if err != nil || got.State != "running" || got.Hosts[0].Progress != 0 {
			t.Errorf("run %+v, %v", got, err)
		}

		right()
		if got := ended(t, c, r.ID); got.State != "finished" {
			t.Errorf("put right again, the run ends as %+v", got)
		}
	}

	t.Run("steps changed before approval", func(t *testing.T) {
		p := draft(t)
		change(t, "UPDATE plan_chunk SET data = ? WHERE plan = ?", evil, p.ID)
		_, err := reviewer.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest, Words: words(p)})
		if err == nil {
			t.Error("a plan whose stored steps do not fit its digest was approved")
		}

		untouched(t)
	})

	t.Run("steps changed after approval", func(t *testing.T) {
		p := draft(t)
		if _, err := reviewer.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest, Words: words(p)}); err != nil {
			t.Fatal(err)
		}

		change(t, "UPDATE plan_chunk SET data = ? WHERE plan = ?", evil, p.ID)
		r, err := c.StartRun(ctx, p.ID)
		if err != nil {
			t.Fatal(err)
		}

		got := ended(t, c, r.ID)
		if h := got.Hosts[0]; got.State != "halted" || h.State != "failed" ||
			!strings.Contains(h.Message, "not the one that was approved") {
			t.Errorf("run %+v", got)
		}

		untouched(t)
	})

	t.Run("manifest changed after approval", func(t *testing.T) {
		p := draft(t)
		if _, err := reviewer.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest, Words: words(p)}); err != nil {
			t.Fatal(err)
		}

		wrong := `UPDATE plan SET manifest = REPLACE(manifest, '/srv/tideboard', '/srv/tideboarx') WHERE id = ?`
		right := `UPDATE plan SET manifest = REPLACE(manifest, '/srv/tideboarx', '/srv/tideboard') WHERE id = ?`
		change(t, wrong, p.ID)
		_, err := c.StartRun(ctx, p.ID)
		fails(t, "starting another plan", err, 409, "the history does not say that harbourmaster approved plan")
		change(t, right, p.ID)
		waits(t, p, func() { change(t, wrong, p.ID) }, func() { change(t, right, p.ID) })
		untouched(t)
	})

	t.Run("approval changed", func(t *testing.T) {
		must(t, os.Chmod(filepath.Join(s.Root("slip-north"), "srv/tideboard/feeds/gauge-07.token"), 0o600))
		snapshot(t, c, "tideboard", "slip-north")
		p := draft(t)
		change(t,
			`INSERT INTO plan_approval (plan, reviewer, at, remark, words)
				VALUES (?, 'harbourmaster', UTC_TIMESTAMP(3), '', '{}')`,
			p.ID)
		change(t,
			`UPDATE plan SET state = 'approved', decided_by = 'harbourmaster', decided = UTC_TIMESTAMP(3),
				expires = DATE_ADD(UTC_TIMESTAMP(3), INTERVAL 71 HOUR) WHERE id = ?`,
			p.ID)
		_, err := c.StartRun(ctx, p.ID)
		fails(t, "starting what nobody approved", err, 409, "the history does not say that harbourmaster approved plan")

		// With the line and a head that somebody else wrote, who has no key.
		forge := func() {
			var h chain.Head
			var hash []byte
			must(t, rows.QueryRowContext(ctx, `SELECT seq, hash FROM chain WHERE name = 'history'`).Scan(&h.Seq, &hash))
			copy(h.Hash[:], hash)
			l := chain.Line{
				Seq:     h.Seq + 1,
				ID:      p.ID,
				At:      time.Now().UTC().Truncate(time.Millisecond),
				Who:     "harbourmaster",
				What:    "plan approved",
				Subject: p.ID,
				Detail:  p.Digest,
			}

			l.Hash = l.After(h.Hash)
			change(t, `INSERT INTO audit (id, at, who, what, subject, detail, seq, hash) VALUES (?,?,?,?,?,?,?,?)`,
				l.ID, l.At, l.Who, l.What, l.Subject, l.Detail, l.Seq, l.Hash[:])
			change(t, `UPDATE chain SET seq = ?, hash = ? WHERE name = 'history'`, l.Seq, l.Hash[:])
		}

		forge()
		_, err = c.StartRun(ctx, p.ID)
		fails(t, "starting it with a line of history", err, 409, "its head is not signed by the service's key")
		other := draft(t) // which the service writes into the history
		_, err = c.StartRun(ctx, p.ID)
		fails(t, "starting it when the service went on from that line", err, 409,
			"the history does not say that harbourmaster approved plan")
		check, err := c.CheckHistory(ctx)
		if err != nil || check.Fault != "" {
			t.Errorf("%+v, %v", check, err)
		}

		if list, err := c.History(ctx, pastOf("history"), 10); err != nil || len(list) != 1 ||
			list[0].What != "history taken over" {
			t.Errorf("the history tells %+v, %v", list, err)
		}

		// What people approve after that counts.
		if _, err := reviewer.Decide(ctx, other.ID, true, wire.Decision{
			Digest: strings.ToUpper(other.Digest),
			Words:  words(other),
		}); err != nil {
			t.Fatal(err)
		}

		waits(t, other,
			func() { change(t, `UPDATE plan_approval SET reviewer = 'nobody-known' WHERE plan = ?`, other.ID) },
			func() { change(t, `UPDATE plan_approval SET reviewer = 'harbourmaster' WHERE plan = ?`, other.ID) })
	})

	// faulty waits until everybody is told what is wrong with the history.
	faulty := func(t *testing.T, says string) {
		t.Helper()
		var o wire.Overview
		var err error
		defer func() {
			if t.Failed() {
				t.Logf("what needs somebody: %+v, %v", o.Needs, err)
			}
		}()
		soon(t, says, func() bool {
			time.Sleep(300 * time.Millisecond)
			o, err = c.Overview(ctx)
			return err == nil &&
				slices.ContainsFunc(o.Needs, func(n wire.Need) bool {
					return n.Kind == "history" && strings.Contains(n.Detail, says)
				})
		})
	}

	t.Run("history written by somebody else", func(t *testing.T) {
		faulty(t, "an end that it had not signed")
	})
	t.Run("history set back, and what was kept of it with it", func(t *testing.T) {
		const keepHead = `CREATE TABLE chain_then AS SELECT * FROM chain`
		changed(t, rows, keepHead)
		var then int64
		must(t, rows.QueryRowContext(ctx, `SELECT seq FROM chain_then`).Scan(&then))
		s.Agents["slip-north"].Stop()
		_ = as(t, s, "lookout") // which the history tells
		must(t, s.StartAgent("slip-north"))
		own := filepath.Join(s.Root("slip-north"), "var/lib/idletally-agent/history.json")
		soon(t, "the agent keeps the end", func() bool {
			var kept chain.Head
			b, err := os.ReadFile(own)
			return err == nil && json.Unmarshal(b, &kept) == nil && kept.Seq > then
		})
		s.Agents["slip-north"].Stop()
		s.Service.Stop()

		for _, q := range databaseRows {
			change(t, q)
		}

		must(t, os.Remove(filepath.Join(s.Dir, "service", "keys", "history.head")))
		must(t, s.Serve(ctx, strings.TrimPrefix(s.Address, "https://"), db.DSN))
		must(t, s.StartAgent("slip-north"))
		faulty(t, "host slip-north was shown another one")
	})

	t.Run("a one-time password that has ended", func(t *testing.T) {
		admin := as(t, s, "admin")
		one, err := admin.ResetPassword(ctx, "lookout")
		must(t, err)
		change(t,
			`UPDATE person SET password_until = UTC_TIMESTAMP(3) - INTERVAL 1 SECOND WHERE name = 'lookout'
				AND password_until > UTC_TIMESTAMP(3) + INTERVAL 23 HOUR`)
		_, err = admin.SignIn(ctx, wire.SignIn{
			Name:        "lookout",
			Password:    one.Password,
			NewPassword: "high water at noon",
		})
		fails(t, "a day later", err, 401, "have an admin give you another one")
	})

	t.Run("reports cannot be written", func(t *testing.T) {
		must(t, os.Chmod(filepath.Join(s.Root("slip-north"), "srv/tideboard/feeds/gauge-07.token"), 0o600))
		snapshot(t, c, "tideboard", "slip-north")
		p := draft(t)
		if _, err := reviewer.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest, Words: words(p)}); err != nil {
			t.Fatal(err)
		}

		hold, err := rows.Conn(ctx)
		must(t, err)
		defer hold.Close()

		_, err = hold.ExecContext(ctx, `LOCK TABLES report READ`) // until then every comparison is stuck
		must(t, err)
		snap, err := c.TakeSnapshot(ctx, wire.NewSnapshot{Application: "ticketing", Host: "slip-north"})
		must(t, err)
		r, err := c.StartRun(ctx, p.ID)
		must(t, err)
		if got := ended(t, c, r.ID); got.State != "finished" {
			t.Errorf("while a comparison is stuck a run ends as %+v", got)
		}

		snap, err = c.Snapshot(ctx, snap.ID)
		if err != nil || snap.Taken == nil || snap.State != "waiting" {
			t.Errorf("the snapshot before it: %+v, %v", snap, err)
		}

		_, err = hold.ExecContext(ctx, `UNLOCK TABLES`)
		must(t, err)
		for end := time.Now().Add(patience); snap.State == "waiting" &&
			time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
			snap, err = c.Snapshot(ctx, snap.ID)
			must(t, err)
		}

		if got, err := c.Drift(ctx, "ticketing", "slip-north"); err != nil || len(got.Reports) != 1 ||
			got.Reports[0].Snapshot != snap.ID || snap.State != "ready" || snap.Message != "" {
			t.Errorf("snapshot %+v, %v", snap, err)
		}
	})
}

// An agent is killed in mid-run, again and again: the run ends as planned, and can be put back to
// the byte.
func TestAgentKilledInRun(t *testing.T) {
	t.Parallel()
	s := world(t, "", false)
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	logs := filepath.Join(s.Root("slip-south"), "srv/ticketing/releases/many")

	for d := range 40 {
		at := filepath.Join(logs, fmt.Sprintf("d%02d", d))
		if err := os.MkdirAll(at, 0o777); err != nil {
			t.Fatal(err)
		}
		for f := range 500 {
			if err := os.WriteFile(filepath.Join(at, fmt.Sprintf("f%03d", f)), nil, 0o666); err != nil {
				t.Fatal(err)
			}
		}
	}

	before := snapshot(t, c, "ticketing", "slip-south").Root
	d, err := c.Drift(ctx, "ticketing", "slip-south")
	if err != nil {
		t.Fatal(err)
	}

	var groups []wire.GroupRef
	for _, g := range d.Groups {
		groups = append(groups, wire.GroupRef{Report: g.Report, Group: g.ID})
	}

	p, err := c.DraftPlan(ctx, wire.Draft{Groups: groups})
	if err != nil {
		t.Fatal(err)
	}

	approved(t, s, p)
	r, err := c.StartRun(ctx, p.ID)
	if err != nil {
		t.Fatal(err)
	}

	journal := filepath.Join(s.Root("slip-south"), "var/lib/idletally-agent/runs", r.ID, "journal")
	kills, size := 0, int64(0)
	for range 400 {
		if st, err := os.Stat(journal); err == nil && st.Size() > size+200_000 && kills < 5 {
			s.Agents["slip-south"].Kill()
			kills++
			st, _ = os.Stat(journal)
			size = st.Size()
			if err := s.StartAgent("slip-south"); err != nil {
				t.Fatal(err)
			}
		}
		if got, err := c.Run(ctx, r.ID); err != nil {
			t.Fatal(err)
		} else if got.State != "running" {
			break
		}
		time.Sleep(2 * time.Millisecond)
	}

	got := ended(t, c, r.ID)
	t.Logf("killed %d times; %+v", kills, got.Hosts[0])
	h := got.Hosts[0]
	if got.State != "finished" || h.Done != h.Total || h.Refused != 0 || h.Wrong != 0 || h.Total < 20_000 {
		t.Errorf("run %+v", got)
	}

	if kills < 2 {
		t.Errorf("the agent was killed only %d times", kills)
	}

	quiet(t, c)
	d, err = c.Drift(ctx, "ticketing", "slip-south")
	if err != nil || len(d.Groups) != 1 {
		t.Errorf("after the run there are %d groups, %v", len(d.Groups), err)
	}

	back, err := c.DraftPlan(ctx, wire.Draft{Run: r.ID})
	if err != nil {
		t.Fatal(err)
	}

	if got := agreed(t, s, back); got.State != "finished" {
		t.Errorf("restore %+v", got)
	}

	quiet(t, c)
	if after := snapshot(t, c, "ticketing", "slip-south").Root; after != before {
		t.Errorf("root hash %s, was %s before", after, before)
	}
}

// A run is halted at a step boundary, and goes on later.
func TestHaltAndResume(t *testing.T) {
	t.Parallel()
	s := world(t, "", false)
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	p, err := c.DraftPlan(ctx, wire.Draft{Application: "ticketing", All: true})
	if err != nil {
		t.Fatal(err)
	}

	approved(t, s, p)
	s.Agents["slip-south"].Stop()
	r, err := c.StartRun(ctx, p.ID)
	if err != nil {
		t.Fatal(err)
	}

	_, err = c.DraftPlan(ctx, wire.Draft{Run: r.ID})
	fails(t, "put back while it runs", err, http.StatusUnprocessableEntity, "still running")
	if _, err := c.Halt(ctx, r.ID); err != nil {
		t.Fatal(err)
	}

	got := ended(t, c, r.ID) // it does not wait for the one that is away
	if err := s.StartAgent("slip-south"); err != nil {
		t.Fatal(err)
	}

	halted := 0
	for _, h := range got.Hosts {
		if h.State == "halted" {
			halted++
		}
	}

	if got.State != "halted" || halted == 0 {
		t.Fatalf("halted run %+v", got)
	}

	if _, err := c.Resume(ctx, r.ID); err != nil {
		t.Fatal(err)
	}

	got = ended(t, c, r.ID)
	for _, h := range got.Hosts {
		if h.State != "finished" || h.Done != h.Total {
			t.Errorf("resumed host %+v", h)
		}
	}

	_, err = c.Resume(ctx, r.ID)
	if client.Status(err) != http.StatusConflict {
		t.Errorf("resume again: %v", err)
	}
}
