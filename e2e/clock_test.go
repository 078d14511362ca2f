//go:build linux

package e2e

import (
	"database/sql"
	"fmt"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"idletally/internal/wire"
)

// shifted has all that is stored have been stored by a clock that was so much ahead of the service's: to the
// service that is the same as if its own clock were set back by as much. The history stays: its lines are
// tied together as they were written.
func shifted(t *testing.T, db *sql.DB, by time.Duration) {
	t.Helper()
	rows, err := db.QueryContext(t.Context(), `SELECT table_name, column_name FROM information_schema.columns
		WHERE table_schema = DATABASE() AND data_type = 'datetime' AND table_name NOT IN ('audit', 'goose_db_version')`)
	must(t, err)
	var all [][2]string

	for rows.Next() {
		var c [2]string
		must(t, rows.Scan(&c[0], &c[1]))
		all = append(all, c)
	}

	must(t, rows.Err())
	must(t, rows.Close())
	if len(all) < 30 {
		t.Fatalf("only %d times are stored", len(all))
	}

	for _, c := range all {
		changed(t, db,
			fmt.Sprintf("UPDATE `%s` SET `%s` = `%s` + INTERVAL ? SECOND WHERE `%s` IS NOT NULL", c[0], c[1], c[1],
				c[1]),
			int(by/time.Second))
	}
}

// The service's clock is set back by ninety minutes, and on by four hours, or agents are cut off for as long,
// in the middle of everything: what was begun comes to its end, what is asked for is done, nobody is thrown
// out, and nothing that was acknowledged is lost.
func TestClockSteps(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	server, _ := database(t)
	defer server.Stop()

	s, cable := behindCable(t, server.DSN)
	db, err := sql.Open("mysql", server.DSN)
	must(t, err)
	defer db.Close()

	// To a service whose clock is set on nobody has used a session for as long: that is for the policy to
	// say, and here allowed.
	ruled(t, as(t, s, "admin"), func(p *wire.Policy) { p.Idle = 720 })
	c := as(t, s, "quartermaster")
	for _, step := range []time.Duration{90 * time.Minute, -4 * time.Hour, 20 * time.Second, 90 * time.Minute} {
		// In the middle of a snapshot, whose agent is killed besides: the lease of its work ends an hour and
		// a half later than it should.
		snap, err := c.TakeSnapshot(ctx, wire.NewSnapshot{Application: "ticketing", Host: "slip-south", Whole: true})
		must(t, err)
		eventually(t, "the snapshot is begun", func() bool {
			var n int
			err := db.QueryRowContext(ctx, `SELECT COUNT(*) FROM work WHERE subject = ?
				AND state <> 'waiting'`, snap.ID).Scan(&n)
			return err == nil && n == 1
		})

		s.Agents["slip-south"].Kill()
		shifted(t, db, step)
		must(t, s.StartAgent("slip-south"))
		awaitSnapshot(t, c, snap.ID)

		// In the middle of a run.
		quiet(t, c)
		p, err := c.DraftPlan(ctx, wire.Draft{Application: "ticketing", Hosts: []string{"slip-north"},
			Changes: "changes: [{paths: /srv/ticketing/logs/**, set: {files: 0600}}]"})
		must(t, err)
		approved(t, s, p)
		r, err := c.StartRun(ctx, p.ID)
		must(t, err)
		if step < 0 { // and for these hours nobody reached anybody
			cable.Pull()
		}

		shifted(t, db, step)
		cable.Plug()
		r = ended(t, c, r.ID)
		if r.State != "finished" || r.Hosts[0].Done < 100 {
			t.Errorf("%s: %+v", step, r)
		}

		back, err := c.DraftPlan(ctx, wire.Draft{Run: r.ID})
		must(t, err)
		if rb := agreed(t, s, back); rb.State != "finished" || rb.Hosts[0].Done != r.Hosts[0].Done {
			t.Errorf("%s, and back: %+v after %+v", step, rb, r)
		}

		// An approval that is given by a clock that is ahead counts from then.
		shifted(t, db, -2*step)
		if _, err := c.Me(ctx); err != nil {
			t.Errorf("%s: who had signed in is thrown out: %v", step, err)
		}

		as(t, s, "harbourmaster")
	}

	if check, err := c.CheckHistory(ctx); err != nil || check.Fault != "" {
		t.Errorf("the history: %+v, %v", check, err)
	}
}
