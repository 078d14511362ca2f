package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// A Comparison is a snapshot that is to be compared with what is published. Nobody sees the snapshot before that.
type Comparison struct {
	Snapshot    string `db:"snapshot"`
	Application string `db:"application"`
	Host        string `db:"host"`
	Tries       int    `db:"tries"` // this one included
}

// queueComparison asks for a snapshot's comparison, in the transaction that stores the snapshot.
func queueComparison(ctx context.Context, tx *sqlx.Tx, snapshot string) error {
	_, err := tx.ExecContext(ctx,
		`INSERT INTO comparison (snapshot, application, host, heard, created) SELECT id, application, host, heard, ?
			FROM snapshot WHERE id = ?`,
		now(), snapshot)
	return err
}

// dropStaleHeard removes what was reported of a place and nobody has looked at yet: a later look at the same place
// replaces it. However often a host reports something, one snapshot of each of its places waits.
func dropStaleHeard(ctx context.Context, tx *sqlx.Tx, application, host string) error {
	_, err := tx.ExecContext(ctx,
		`DELETE s FROM snapshot s JOIN comparison c ON c.snapshot = s.id WHERE c.application = ? AND c.host = ?
			AND c.heard AND c.lease_until IS NULL`,
		application, host)
	return err
}

// Shares bounds how many comparisons go on at once, in all instances, of one application and of one host: something
// slow of one leaves room for the others. Of one place there is never more than one.
type Shares struct{ Application, Host int }

// ClaimComparison returns the comparison that has waited longest, to be done within the lease that KeepComparison
// renews; nil if there is none, or none that its share allows. One whose lease ran out is given again.
func (s *Store) ClaimComparison(ctx context.Context, most Shares) (*Comparison, error) {
	var held []Comparison
	if err := s.db.SelectContext(ctx, &held,
		`SELECT snapshot, application, host, tries FROM comparison WHERE lease_until >= ?`, now()); err != nil {
		return nil, err
	}

	query, args :=
		`SELECT snapshot, application, host, tries FROM comparison FORCE INDEX (by_created) WHERE (lease_until IS NULL
			OR lease_until < ?)`,
		[]any{now()}
	applications, hosts := map[string]int{}, map[string]int{}
	for _, h := range held {
		query, args = query+` AND NOT (application = ? AND host = ?)`, append(args, h.Application, h.Host)
		applications[h.Application]++
		if applications[h.Application] == most.Application {
			query, args = query+` AND application <> ?`, append(args, h.Application)
		}

		hosts[h.Host]++
		if hosts[h.Host] == most.Host {
			query, args = query+` AND host <> ?`, append(args, h.Host)
		}
	}

	var next []Comparison
	if err := s.db.SelectContext(ctx, &next, query+` ORDER BY created, snapshot LIMIT 1`, args...); err != nil ||
		len(next) == 0 {
		return nil, err
	}

	c := next[0]
	n, err := s.exec(ctx, `UPDATE comparison SET lease_until = ?, tries = tries + 1 WHERE snapshot = ? AND tries = ?`,
		now().Add(lease), c.Snapshot, c.Tries)
	if err != nil || n == 0 {
		return nil, err // another one was faster
	}

	c.Tries++
	return &c, nil
}

// KeepComparison renews the lease. ErrConflict says that somebody else has the comparison by now.
func (s *Store) KeepComparison(ctx context.Context, c Comparison) error {
	return s.holdComparison(ctx, c, now().Add(lease))
}

// RetryComparison lets a comparison be done anew after a pause.
func (s *Store) RetryComparison(ctx context.Context, c Comparison, pause time.Duration) error {
	return s.holdComparison(ctx, c, now().Add(pause))
}

// ReturnComparison leaves a comparison to others, as if it had not been begun.
func (s *Store) ReturnComparison(ctx context.Context, c Comparison) error {
	r, err := s.db.ExecContext(ctx,
		`UPDATE comparison SET lease_until = NULL, tries = tries - 1 WHERE snapshot = ? AND tries = ?`, c.Snapshot,
		c.Tries)
	return changed(r, err, "comparison of snapshot "+c.Snapshot)
}

func (s *Store) holdComparison(ctx context.Context, c Comparison, until time.Time) error {
	r, err := s.db.ExecContext(ctx, `UPDATE comparison SET lease_until = ? WHERE snapshot = ? AND tries = ?`, until,
		c.Snapshot, c.Tries)
	return changed(r, err, "comparison of snapshot "+c.Snapshot)
}

// EndComparison shows the snapshot, with what there is to say of it. ErrConflict says that somebody else has the
// comparison by now.
func (s *Store) EndComparison(ctx context.Context, c Comparison, message string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM comparison WHERE snapshot = ? AND tries = ?`, c.Snapshot, c.Tries)
		if err := changed(r, err, "comparison of snapshot "+c.Snapshot); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx,
			`UPDATE snapshot SET state = 'ready', message = ? WHERE id = ? AND state = 'waiting'`, clip(message, 4000),
			c.Snapshot)
		return err
	})
}

// Latest finds the newest snapshot of an application on a host, including one that nobody sees yet.
func (s *Store) Latest(ctx context.Context, application, host string) (v Snapshot, err error) {
	err = s.db.GetContext(ctx, &v,
		`SELECT `+snapshotColumns+
			` FROM snapshot WHERE application = ? AND host = ? AND state IN ('ready', 'waiting') AND forest IS NOT NULL
		ORDER BY looked DESC LIMIT 1`, application, host)
	return v, one(err, "a snapshot of "+application+" on "+host)
}
