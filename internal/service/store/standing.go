package store

import (
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"time"

	"idletally/internal/core/pathname"
)

// A finding is the same one over time where path and aspect are, whatever edition and value. The
// table standing holds since when; of it only what comes or goes is written, so that a report that
// says the same as the one before costs no more than reading.
//
// The lifecycle of a finding:
//
//	      fresh                gone
//	(none) ────▶ standing ───────────▶ gone
//	                ▲                   │
//	                └───────────────────┘
//	                      returned: spells is one more, and since is now
//
// A finding at a path that could not be read is neither fresh nor gone: it stands.

// identity names a finding of an application on a host.
func identity(path, aspect string) []byte {
	sum := sha256.Sum256([]byte(path + "\x00" + aspect))
	return sum[:16]
}

// atOnce bounds what one statement changes.
const atOnce = 2000

// The statements of the lifecycle. The order of each join and its key are said, since the tables have just grown: by
// what the server knows of them it may choose to read all for each row. TestLifecycleUsesKeys holds their query plans.
const (
	findingsReturn = `UPDATE finding f FORCE INDEX (PRIMARY) STRAIGHT_JOIN standing s
		ON s.application = ? AND s.host = ? AND s.identity = f.identity
		SET s.gone = NULL, s.since = ?, s.spells = s.spells + 1
		WHERE f.report = ? AND f.seq BETWEEN ? AND ? AND s.gone IS NOT NULL`
	// IGNORE, since another instance may compare another edition with the same snapshot just now.
	findingsCome = `INSERT IGNORE INTO standing (application, host, identity, path, first_seen, since, spells)
		SELECT ?, ?, f.identity, f.path, ?, ?, 1 FROM finding f FORCE INDEX (PRIMARY)
		LEFT JOIN standing s ON s.application = ? AND s.host = ? AND s.identity = f.identity
		WHERE f.report = ? AND f.seq BETWEEN ? AND ? AND s.identity IS NULL`
	findingsMissing = `SELECT s.identity, s.path FROM standing s FORCE INDEX (PRIMARY)
		LEFT JOIN finding f FORCE INDEX (by_identity) ON f.report = ? AND f.identity = s.identity
		WHERE s.application = ? AND s.host = ? AND s.identity > ? AND s.gone IS NULL AND f.report IS NULL
		ORDER BY s.identity LIMIT ?`
	findingsGo = `UPDATE standing SET gone = ?, last_seen = ? WHERE application = ? AND host = ? AND identity IN `
)

// stand records what came, came back, and went.
func (w *ReportWriter) stand(ctx context.Context) error {
	r := &w.r
	change := func(to *int64, query string, args ...any) error {
		n, err := w.s.exec(ctx, query, args...)
		*to += n
		return err
	}
	for from := 1; from <= w.nf; from += atOnce {
		to := from + atOnce - 1
		err := change(&r.Returned,
			findingsReturn,
			r.Application, r.Host, r.Created, r.ID, from, to)
		if err != nil {
			return err
		}

		err = change(&r.Fresh,
			findingsCome,
			r.Application, r.Host, r.Created, r.Created, r.Application, r.Host, r.ID, from, to)

		if err != nil {
			return err
		}
	}

	before := r.Created
	if last, err := w.s.CurrentReport(ctx, r.Application, r.Host); err == nil {
		before = last.Created
	}

	slices.Sort(w.gaps)
	for after := []byte{}; ; {
		var rows []struct {
			Identity []byte `db:"identity"`
			Path     []byte `db:"path"`
		}
		if err := w.s.db.SelectContext(ctx, &rows,
			findingsMissing,
			r.ID, r.Application, r.Host, after, atOnce); err != nil {
			return err
		}

		args := []any{r.Created, before, r.Application, r.Host}
		for _, x := range rows {
			after = x.Identity
			if !w.unseen(string(x.Path)) {
				args = append(args, x.Identity)
			}
		}

		if n := len(args) - 4; n > 0 {
			if err := change(&r.Gone,
				findingsGo+in(n),
				args...); err != nil {
				return err
			}
		}

		if len(rows) < atOnce {
			return nil
		}
	}
}

// unseen reports whether a path lies where nothing could be read: it cannot be known that it is mended.
func (w *ReportWriter) unseen(path string) bool {
	for at := path; ; at = pathname.Folder(at) {
		if _, found := slices.BinarySearch(w.gaps, at); found {
			return true
		}
		if at == "/" || at == "" {
			return false
		}
	}
}

// ages returns for each group since when its findings are there.
func (w *ReportWriter) ages(ctx context.Context) (map[string]Age, error) {
	var rows []struct {
		Group string `db:"group_id"`
		Age
	}
	err := w.s.db.SelectContext(ctx, &rows,
		`SELECT f.group_id, MIN(s.since) AS since, SUM(s.first_seen = ?) AS fresh, SUM(s.spells > 1) AS returned
		FROM finding f STRAIGHT_JOIN standing s ON s.application = ? AND s.host = ? AND s.identity = f.identity
		WHERE f.report = ? GROUP BY f.group_id`, w.r.Created,
		w.r.Application, w.r.Host, w.r.ID)
	out := make(map[string]Age, len(rows))
	for _, r := range rows {
		out[r.Group] = r.Age
	}
	return out, err
}

// Trend returns the reports of an application on a host since a time, oldest first, thinned to so many.
func (s *Store) Trend(ctx context.Context, application, host string, since time.Time, most int) ([]Report, error) {
	var rows []Report
	const limit = 20_000
	err := s.db.SelectContext(ctx, &rows,
		`SELECT `+reportColumns+
			` FROM report WHERE application = ? AND host = ? AND ready = TRUE AND created >= ? ORDER BY id DESC
				LIMIT ?`,
		application, host, since, limit)
	if err != nil {
		return nil, fmt.Errorf("trend of %s on %s: %w", application, host, err)
	}
	slices.Reverse(rows)
	if len(rows) <= most {
		return rows, nil
	}

	out := make([]Report, 0, most)
	for i := range most { // the last of each stretch, the newest of all among them
		out = append(out, rows[(i+1)*len(rows)/most-1])
	}

	return out, nil
}

// Cause is why new paths in a folder come out otherwise than declared.
type Cause struct {
	Folder    []byte    `db:"folder"`
	Kind      uint8     `db:"kind"`
	Aspect    string    `db:"aspect"`
	Again     bool      `db:"again"` // not new, but mended before
	Paths     int       `db:"paths"` // that came out so, all together
	Times     int       `db:"times"` // snapshots that showed new ones
	FirstSeen time.Time `db:"first_seen"`
	LastSeen  time.Time `db:"last_seen"`
	Example   []byte    `db:"example"`
	Declared  string    `db:"declared"`
	Found     string    `db:"found"`
	Why       string    `db:"why"`
	Instead   string    `db:"instead"`
}

func (c Cause) identity() []byte {
	return identity(string(c.Folder), fmt.Sprint(c.Kind, c.Aspect, c.Again))
}

// NoteCauses adds to what is known of an application on a host, and drops what is no longer so.
func (s *Store) NoteCauses(ctx context.Context, application, host string, at time.Time, causes, mended []Cause) error {
	err := batches(ctx, s,
		`INSERT INTO cause (application, host, identity, folder, kind, aspect, again, paths, times, first_seen,
			last_seen, example, declared, found, why, instead)`,
		16, causes, func(c Cause) []any {
			return []any{
				application, host, c.identity(), c.Folder, c.Kind, c.Aspect, c.Again, c.Paths, 1, at, at, c.Example,
				c.Declared, c.Found, c.Why, c.Instead,
			}
		}, `ON DUPLICATE KEY UPDATE paths = paths + VALUES(paths), times = times + 1, last_seen = VALUES(last_seen),
			example = VALUES(example), declared = VALUES(declared), found = VALUES(found), why = VALUES(why),
			instead = VALUES(instead)`)

	if err != nil || len(mended) == 0 {
		return err
	}

	args := []any{application, host}
	for _, c := range mended {
		args = append(args, c.identity())
	}

	_, err = s.exec(ctx, `DELETE FROM cause WHERE application = ? AND host = ?
		AND identity IN `+in(len(mended)), args...)
	return err
}

// MaxCauses bounds the causes that are looked at for one host.
const MaxCauses = 500

// Causes lists them, the latest first.
func (s *Store) Causes(
	ctx context.Context, application, host string, since time.Time, skip, limit int,
) (out []Cause, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT folder, kind, aspect, again, paths, times, first_seen, last_seen, example, declared, found, why,
			instead FROM cause
		WHERE application = ? AND host = ? AND last_seen >= ? ORDER BY last_seen DESC, folder, kind, aspect, again
		LIMIT ?, ?`, application,
		host, since, skip, limit)
	return out, err
}

// Before finds the whole snapshot of the same place before another one.
func (s *Store) Before(ctx context.Context, snap Snapshot) (v Snapshot, err error) {
	err = s.db.GetContext(ctx, &v,
		`SELECT `+snapshotColumns+
			` FROM snapshot WHERE application = ? AND host = ? AND state = 'ready' AND looked < ? ORDER BY looked DESC
				LIMIT 1`,
		snap.Application, snap.Host, snap.Looked)
	return v, one(err, "a snapshot before "+snap.ID)
}

// Returned lists the findings of a report that were gone before.
func (s *Store) Returned(ctx context.Context, r Report, limit int) (out []Finding, err error) {
	err = s.db.SelectContext(ctx, &out, findingColumns+`AND s.spells > 1 AND s.since = ? ORDER BY f.seq LIMIT ?`,
		r.Application, r.Host, r.ID, r.Created, limit)
	return out, err
}
