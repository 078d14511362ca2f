package store

import (
	"context"
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/wire"
)

// A Look is the newest look at an application on a host, whatever came of it.
type Look struct {
	Application string             `db:"application"`
	Host        string             `db:"host"`
	Snapshot    string             `db:"id"`
	State       lifecycle.Snapshot `db:"state"`
	Message     string             `db:"message"` // why it failed, or could not be compared
	Watched     *string            `db:"watched"` // the snapshot of which the agent says that it still is so
	WatchedAt   *time.Time         `db:"watched_at"`
}

// Looks returns the newest look at each place: of one application, and one host, if they are given.
func (s *Store) Looks(ctx context.Context, application, host string) ([]Look, error) {
	where, args := "", []any{}
	if application != "" {
		where, args = ` WHERE application = ?`, append(args, application)
	}

	if application != "" && host != "" {
		where, args = where+` AND host = ?`, append(args, host)
	}

	var rows []Look
	err := s.db.SelectContext(ctx, &rows,
		`SELECT s.application, s.host, s.id, s.state, s.message, w.snapshot AS watched, w.at AS watched_at FROM
		(SELECT MAX(looked) AS newest FROM snapshot`+where+` GROUP BY application, host, state) AS last
		STRAIGHT_JOIN snapshot s ON s.looked = last.newest
		LEFT JOIN watched w ON w.application = s.application
		AND w.host = s.host
		ORDER BY s.application, s.host, s.looked DESC LIMIT ?`, append(args, 3*maxCurrent)...)

	return slices.CompactFunc(rows, func(a, b Look) bool { return a.Application == b.Application && a.Host == b.Host }),
		err
}

// TakenAt returns when snapshots were taken, by id. Those that are not there are left out.
func (s *Store) TakenAt(ctx context.Context, ids []string) (map[string]time.Time, error) {
	out := make(map[string]time.Time, len(ids))
	for part := range slices.Chunk(ids, atOnce) {
		args := make([]any, len(part))
		for i, id := range part {
			args[i] = id
		}

		var rows []struct {
			ID    string    `db:"id"`
			Taken time.Time `db:"taken"`
		}
		err := s.db.SelectContext(ctx, &rows,
			`SELECT id, taken FROM snapshot WHERE id IN `+in(len(part))+` AND taken IS NOT NULL`, args...)
		if err != nil {
			return nil, err
		}

		for _, r := range rows {
			out[r.ID] = r.Taken
		}
	}

	return out, nil
}

// watchedEvery is how precisely it is stored until when something was still so: an agent tells it twice a minute.
const watchedEvery = time.Minute

// SetCurrent records that what a host's agent sent last of an application was still so at a time. That is for the
// snapshot that says the same, and only while it is the newest.
func (s *Store) SetCurrent(ctx context.Context, host string, c wire.CurrentPlace, at time.Time) error {
	accounts, err := hex.DecodeString(c.Accounts)
	if err != nil {
		return fmt.Errorf("the hash of the accounts of %s: %w", c.Application, err)
	}
	_, err = s.exec(ctx, `INSERT INTO watched (application, host, snapshot, at)
		SELECT application, host, id, ? FROM (SELECT application, host, id, forest, directory FROM snapshot
			WHERE application = ? AND host = ? AND state IN ('ready', 'waiting') AND forest IS NOT NULL
			ORDER BY looked DESC LIMIT 1) AS last
		WHERE forest = ? AND directory = ?
		ON DUPLICATE KEY UPDATE at = IF(snapshot <> VALUES(snapshot)
		OR at < VALUES(at) - INTERVAL ? SECOND, VALUES(at), at), snapshot = VALUES(snapshot)`,
		at.UTC().Truncate(time.Millisecond), c.Application, host, c.Forest[:], accounts, watchedEvery/time.Second)
	return err
}
