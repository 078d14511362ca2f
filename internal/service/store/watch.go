package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/wire"
)

// SetWatching notes how a host's agent watches.
func (s *Store) SetWatching(ctx context.Context, host string, state wire.WatchState) error {
	notes := clip(strings.Join(state.Notes, "\n"), 16_000)
	_, err := s.exec(ctx,
		`UPDATE host SET watching = ?, watch_notes = ? WHERE name = ? AND NOT (watching <=> ? AND watch_notes = ?)`,
		state.Watching, notes, host, state.Watching, notes)
	return err
}

// PublishedMark is another one whenever something was published.
func (s *Store) PublishedMark(ctx context.Context) (mark string, err error) {
	err = s.db.GetContext(ctx, &mark,
		`SELECT CONCAT(COUNT(*), ' ', COALESCE(MAX(published), '')) FROM edition WHERE state = 'published'`)
	return mark, err
}

// AddHeard stores a snapshot that nobody asked for, and has it compared.
func (s *Store) AddHeard(
	ctx context.Context, application, host string, roots []string, crossing bool, d wire.SnapshotDone,
) (id string, err error) {
	return s.addSnapshot(ctx, application, host, roots, NewID(), now(), d, "", true, crossing)
}

// KeepActs stores what processes did.
func (s *Store) KeepActs(ctx context.Context, application, host string, acts []wire.Act) error {
	return batches(ctx, s, `INSERT IGNORE INTO act (application, host, identity, at, path, body)`, 6, acts,
		func(a wire.Act) []any {
			body, _ := json.Marshal(a) // plain values only
			return []any{
				application, host, actOn(string(a.Path)), a.At.UTC().Truncate(time.Millisecond), []byte(a.Path), body,
			}
		})
}

func actOn(path string) []byte { return identity(path, "by") }

// maxOthers bounds who else is listed for one path.
const maxOthers = 5

// Acts returns, for each of some paths, the last act on it between two times, and who else did something.
func (s *Store) Acts(
	ctx context.Context, application, host string, paths []string, from, to time.Time,
) (map[string]wire.Act, error) {
	out := map[string]wire.Act{}
	for len(paths) > 0 {
		n := min(len(paths), 500)
		args := []any{application, host, from.UTC(), to.UTC()}
		for _, p := range paths[:n] {
			args = append(args, actOn(p))
		}

		var rows [][]byte
		if err := s.db.SelectContext(ctx, &rows,
			`SELECT body FROM act WHERE application = ? AND host = ? AND at BETWEEN ? AND ? AND identity IN `+in(n)+
				` ORDER BY at`,
			args...); err != nil {
			return nil, err
		}

		for _, b := range rows {
			var a wire.Act
			if err := json.Unmarshal(b, &a); err != nil {
				return nil, fmt.Errorf("what was done on %s is damaged: %w", host, err)
			}

			a.Others = nil
			if before, ok := out[string(a.Path)]; ok {
				a.Others = others(before, a)
			}

			out[string(a.Path)] = a
		}

		paths = paths[n:]
	}

	return out, nil
}

// actsLast goes by a key of its own: TestLastActs.
const actsLast = `SELECT body FROM act WHERE application = ? AND host = ? AND at <= ? ORDER BY at DESC LIMIT ?`

// LastActs returns what was done last in an application on a host until a time, the newest first.
func (s *Store) LastActs(
	ctx context.Context, application, host string, until time.Time, limit int,
) ([]wire.Act, error) {
	var rows [][]byte
	if err := s.db.SelectContext(ctx, &rows,
		actsLast, application, host, until.UTC(), limit); err != nil {
		return nil, err
	}

	out := make([]wire.Act, len(rows))
	for i, b := range rows {
		if err := json.Unmarshal(b, &out[i]); err != nil {
			return nil, fmt.Errorf("what was done on %s is damaged: %w", host, err)
		}
	}
	return out, nil
}

// others are those who touched a path before the last act.
func others(before, last wire.Act) []string {
	list := before.Others
	if who := before.Who(); len(list) < maxOthers && !slices.Contains(list, who) {
		list = append(list, who)
	}
	return slices.DeleteFunc(slices.Clone(list), func(who string) bool { return who == last.Who() })
}

// Happening is something that just happened.
type Happening struct {
	ID          string `db:"id"`
	Kind        string `db:"kind"`
	Application string `db:"application"`
	Host        string `db:"host"`
	Subject     string `db:"subject"`
}

// happenedWithin is how late an event may become visible: clocks differ, and transactions take a while.
const happenedWithin = 10 * time.Second

// Happen tells the pages that are open.
func (s *Store) Happen(ctx context.Context, h Happening) error {
	_, err := s.exec(ctx, `INSERT INTO happening (id, kind, application, host, subject) VALUES (?,?,?,?,?)`, NewID(),
		h.Kind, h.Application, h.Host, h.Subject)
	return err
}

// Happened returns recent events, the oldest first: possibly some that were returned before.
func (s *Store) Happened(ctx context.Context) (out []Happening, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT id, kind, application, host, subject FROM happening WHERE id > ? ORDER BY id LIMIT 2000`,
		idAt(time.Now().Add(-happenedWithin)))
	return out, err
}

// ForgetHeard removes what is of no use any more: events, and acts from before a time.
func (s *Store) ForgetHeard(ctx context.Context, before time.Time) error {
	err := s.inPieces(ctx, `DELETE FROM happening WHERE id < ? LIMIT 5000`, idAt(time.Now().Add(-time.Minute)))
	if err != nil {
		return err
	}
	return s.inPieces(ctx, `DELETE FROM act WHERE at < ? LIMIT 5000`, before.UTC())
}

// inPieces repeats a statement that changes at most 5,000 rows until it changes fewer.
func (s *Store) inPieces(ctx context.Context, query string, args ...any) error {
	for n := int64(5000); n == 5000; {
		var err error
		if n, err = s.exec(ctx, query, args...); err != nil {
			return err
		}
	}
	return nil
}

// TrimReports removes the findings of a snapshot's reports; their figures stay.
func (s *Store) TrimReports(ctx context.Context, snapshot string) error {
	var reports []string
	if err := s.db.SelectContext(ctx, &reports, `SELECT id FROM report WHERE snapshot = ?
		AND NOT trimmed`, snapshot); err != nil {
		return err
	}
	for _, r := range reports {
		if _, err := s.exec(ctx, `UPDATE report SET trimmed = TRUE WHERE id = ?`, r); err != nil {
			return err
		}
		if err := s.dropFindings(ctx, r); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) dropFindings(ctx context.Context, report string) error {
	for _, table := range []string{"finding", "finding_group", "place", "unread"} {
		if err := s.inPieces(ctx, `DELETE FROM `+table+` WHERE report = ? LIMIT 5000`, report); err != nil {
			return err
		}
	}
	return nil
}

// DropUnfinished removes reports that were begun before a time and never came to their end: the comparison was
// interrupted, or killed.
func (s *Store) DropUnfinished(ctx context.Context, before time.Time) error {
	for {
		var reports []string
		if err := s.db.SelectContext(ctx, &reports,
			`SELECT id FROM report WHERE ready = FALSE AND created < ? LIMIT 100`,
			before.UTC()); err != nil || len(reports) == 0 {
			return err
		}
		for _, r := range reports {
			if err := s.dropFindings(ctx, r); err != nil {
				return err
			}
			if _, err := s.exec(ctx, `DELETE FROM report WHERE id = ? AND ready = FALSE`, r); err != nil {
				return err
			}
		}
	}
}

// addSnapshot stores a snapshot that no work was for; its nodes are there already.
func (s *Store) addSnapshot(
	ctx context.Context, application, host string, roots []string, id string, taken time.Time, d wire.SnapshotDone,
	by string, heard, crossing bool,
) (string, error) {
	names, err := json.Marshal(asPaths(roots))
	if err != nil {
		return "", err
	}

	return id, s.keep(ctx, &d, func(tx *sqlx.Tx, dirHash, denied, ways []byte) error {
		if heard {
			if err := dropStaleHeard(ctx, tx, application, host); err != nil {
				return err
			}
		}

		_, err := tx.ExecContext(ctx,
			`INSERT INTO snapshot (id, host, application, state, roots, whole, heard, crossing, forest, directory,
				paths, gaps, denied, message, requested_by, created, taken, ways, looked)
			VALUES (?,?,?,'waiting',?,?,?,?,?,?,?,?,?,'',?,?,?,?,?)`, id, host, application, names, !heard, heard,
			crossing, d.Forest[:], dirHash, d.Paths, d.Gaps, denied, by, now(), taken.UTC(), ways, id)
		if err != nil || !heard {
			return err
		}

		return queueComparison(ctx, tx, id)
	})
}
