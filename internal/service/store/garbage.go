package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/core/tree"
)

// Nodes are taken away when no snapshot leads to them and nobody relies on them. Uploads go on
// meanwhile, at any instance and any node of a cluster, and rely on nodes by being told that these
// are stored, or by storing one that refers to them. So:
//
//   - whoever relies on a node has written that down in its row within the hour (used), before;
//   - a node is doomed only where nobody has for a day, in the same statement;
//   - nobody can rely on a doomed node: for uploads it is missing, and sending it again saves it;
//   - what leads from nodes that were relied on while dooming went on is saved before anything goes.
//
// A run that breaks off leaves doomed nodes, and the next one saves those that are needed.

// Trust is how long things count; tests shorten it.
type Trust struct {
	Relied time.Duration // longer than any upload
	Note   time.Duration // so that relying seldom writes; and more than clocks differ
}

var usualTrust = Trust{24 * time.Hour, time.Hour}

const gcPage = 1000

// Have returns which nodes are stored, and may be relied on for a day.
func (s *Store) Have(ctx context.Context, hashes []tree.Hash) (map[tree.Hash]bool, error) {
	have := make(map[tree.Hash]bool, len(hashes))
	for len(hashes) > 0 {
		n := min(len(hashes), gcPage)
		stale, err := s.sound(ctx, hashes[:n], have)
		if err == nil && len(stale) > 0 {
			_, err = s.exec(ctx, `UPDATE node SET used = ? WHERE NOT doomed AND hash IN `+in(len(stale)),
				append([]any{now()}, hashArgs(stale)...)...)
			for _, h := range stale {
				delete(have, h)
			}
			if err == nil { // one of them may have been doomed just before
				_, err = s.sound(ctx, stale, have)
			}
		}

		if err != nil {
			return nil, err
		}

		hashes = hashes[n:]
	}

	return have, nil
}

// sound returns which nodes are not doomed, and on which of them nobody has relied lately.
func (s *Store) sound(ctx context.Context, hashes []tree.Hash, have map[tree.Hash]bool) (stale []tree.Hash, err error) {
	var rows []struct {
		Hash []byte    `db:"hash"`
		Used time.Time `db:"used"`
	}
	err = s.db.SelectContext(ctx, &rows, `SELECT hash, used FROM node WHERE NOT doomed AND hash IN `+in(len(hashes)),
		hashArgs(hashes)...)
	for _, r := range rows {
		have[tree.Hash(r.Hash)] = true
		if time.Since(r.Used) > s.Trust.Note {
			stale = append(stale, tree.Hash(r.Hash))
		}
	}
	return stale, err
}

// Swept is the outcome of collecting garbage.
type Swept struct {
	Live  int64 // nodes that something leads to
	Taken int64 // nodes that went
}

// sweeper works on one connection, where it keeps what is reached in a table of its own: memory does not grow with
// what is stored.
type sweeper struct {
	s    *Store
	conn *sqlx.Conn
	live int64
}

// Sweep removes nodes that nothing leads to.
func (s *Store) Sweep(ctx context.Context) (out Swept, err error) {
	conn, err := s.db.Connx(ctx)
	if err != nil {
		return out, err
	}
	defer conn.Close()

	if _, err := conn.ExecContext(ctx, `CREATE TEMPORARY TABLE reached (hash BINARY(32) PRIMARY KEY)`); err != nil {
		return out, fmt.Errorf("make room for what is reached: %w", err)
	}
	defer func() {
		_, dropped := conn.ExecContext(context.WithoutCancel(ctx), `DROP TEMPORARY TABLE reached`)
		err = errors.Join(err, dropped)
	}()

	w := &sweeper{s: s, conn: conn}
	begun := now().Truncate(time.Second)
	cutoff := begun.Add(-s.Trust.Relied)
	if err := w.fromSnapshots(ctx); err != nil {
		return out, fmt.Errorf("follow snapshots: %w", err)
	}
	if err := w.fromUsed(ctx, cutoff); err != nil {
		return out, fmt.Errorf("follow what was sent lately: %w", err)
	}
	if err := w.doom(ctx, cutoff); err != nil {
		return out, fmt.Errorf("doom what nothing leads to: %w", err)
	}
	if err := w.fromUsed(ctx, begun.Add(-s.Trust.Note)); err != nil {
		return out, fmt.Errorf("save what was relied on meanwhile: %w", err)
	}

	out.Live = w.live
	out.Taken, err = w.take(ctx)
	return out, err
}

// fromSnapshots reaches all that snapshots lead to, whatever their state.
func (w *sweeper) fromSnapshots(ctx context.Context) error {
	for after := ""; ; {
		var rows []struct {
			ID     string `db:"id"`
			Forest []byte `db:"forest"`
		}
		if err := w.s.db.SelectContext(ctx, &rows,
			`SELECT id, forest FROM snapshot WHERE id > ? AND forest IS NOT NULL ORDER BY id LIMIT ?`, after,
			gcPage); err != nil {
			return err
		}

		var forests []tree.Hash
		for _, r := range rows {
			after = r.ID
			forests = append(forests, tree.Hash(r.Forest))
		}

		if err := w.mark(ctx, forests); err != nil {
			return err
		}
		if len(rows) < gcPage {
			return nil
		}
	}
}

// fromUsed reaches all that nodes lead to which somebody has relied on since a time.
func (w *sweeper) fromUsed(ctx context.Context, since time.Time) error {
	return w.pages(ctx, `SELECT hash FROM node WHERE used >= ? AND NOT doomed AND hash > ? ORDER BY hash LIMIT ?`, since,
		w.mark)
}

// pages hands out the hashes that a query returns, page by page. The page before may change the next.
func (w *sweeper) pages(
	ctx context.Context, query string, arg any, page func(context.Context, []tree.Hash) error,
) error {
	for after := []byte{}; ; {
		var rows [][]byte
		if err := w.conn.SelectContext(ctx, &rows, query, arg, after, gcPage); err != nil {
			return err
		}

		var hashes []tree.Hash
		for _, b := range rows {
			after = b
			hashes = append(hashes, tree.Hash(b))
		}

		if len(hashes) > 0 {
			if err := page(ctx, hashes); err != nil {
				return err
			}
		}

		if len(rows) < gcPage {
			return nil
		}
	}
}

// mark records nodes and all below them as reached, and saves those that are doomed.
func (w *sweeper) mark(ctx context.Context, hashes []tree.Hash) error {
	for len(hashes) > 0 {
		n := min(len(hashes), 256)
		some := hashes[len(hashes)-n:] // depth first: what waits is no more than the folders on the way
		hashes = hashes[:len(hashes)-n]
		var known [][]byte
		if err := w.conn.SelectContext(ctx, &known, `SELECT hash FROM reached
			WHERE hash IN `+in(n), hashArgs(some)...); err != nil {
			return err
		}

		seen := map[tree.Hash]bool{}
		for _, b := range known {
			seen[tree.Hash(b)] = true
		}

		var fresh []tree.Hash
		for _, h := range some {
			if !seen[h] {
				seen[h] = true
				fresh = append(fresh, h)
			}
		}

		if len(fresh) == 0 {
			continue
		}
		if _, err := w.conn.ExecContext(ctx, `INSERT INTO reached VALUES `+repeated("(?)", len(fresh)),
			hashArgs(fresh)...); err != nil {
			return err
		}

		w.live += int64(len(fresh))
		if _, err := w.s.exec(ctx, `UPDATE node SET doomed = FALSE WHERE doomed AND hash IN `+in(len(fresh)),
			hashArgs(fresh)...); err != nil {
			return err
		}

		raw, err := w.s.Nodes(ctx, fresh)
		if err != nil {
			return err
		}

		for _, b := range raw {
			node, err := tree.Decode(b)
			if err != nil {
				return err
			}
			hashes = append(hashes, node.Children()...)
		}
	}

	return nil
}

// doom marks what was not reached, so that nobody relies on it any more.
func (w *sweeper) doom(ctx context.Context, cutoff time.Time) error {
	return w.pages(ctx,
		`SELECT n.hash FROM node n LEFT JOIN reached r ON r.hash = n.hash WHERE n.used < ? AND NOT n.doomed
			AND r.hash IS NULL AND n.hash > ? ORDER BY n.hash LIMIT ?`,
		cutoff,
		func(ctx context.Context, hashes []tree.Hash) error {
			_, err := w.s.exec(ctx, `UPDATE node SET doomed = TRUE WHERE used < ? AND hash IN `+in(len(hashes)),
				append([]any{cutoff}, hashArgs(hashes)...)...)
			return err
		})
}

// take removes what is doomed.
func (w *sweeper) take(ctx context.Context) (taken int64, err error) {
	err = w.pages(ctx, `SELECT hash FROM node WHERE doomed = ? AND hash > ? ORDER BY hash LIMIT ?`, true,
		func(ctx context.Context, hashes []tree.Hash) error {
			n, err := w.s.exec(ctx, `DELETE FROM node WHERE doomed AND hash IN `+in(len(hashes)), hashArgs(hashes)...)
			taken += n
			return err
		})
	return taken, err
}

// SweepDirectories removes accounts that no snapshot goes with.
func (s *Store) SweepDirectories(ctx context.Context) (int64, error) {
	return s.exec(ctx,
		`DELETE FROM directory WHERE used < ? AND NOT EXISTS (SELECT 1 FROM snapshot
			WHERE snapshot.directory = directory.hash)`,
		now().Add(-s.Trust.Relied))
}

// Fault is something stored that is not as it should be.
type Fault struct {
	What string
	Why  string
}

// CheckNodes looks at stored nodes one by one, from a hash on: each has to be what its hash says, and
// all that it refers to has to be there. Next is nil behind the last one.
func (s *Store) CheckNodes(
	ctx context.Context, after []byte, limit int,
) (n int, faults []Fault, next []byte, err error) {
	var rows []struct {
		Hash []byte `db:"hash"`
		Data []byte `db:"data"`
	}
	if after == nil {
		after = []byte{}
	}

	if err := s.db.SelectContext(ctx, &rows,
		`SELECT hash, data FROM node WHERE hash > ? AND NOT doomed ORDER BY hash LIMIT ?`, after, limit); err != nil {
		return 0, nil, nil, err
	}

	from := map[tree.Hash]tree.Hash{}
	var children []tree.Hash
	for _, r := range rows {
		h := tree.Hash(r.Hash)
		bad := func(format string, args ...any) {
			faults = append(faults, Fault{"node " + h.String(), fmt.Sprintf(format, args...)})
		}
		b, err := decoder.DecodeAll(r.Data, nil)
		if err != nil {
			bad("it cannot be unpacked: %v", err)
			continue
		}

		if sum := tree.Sum(b); sum != h {
			bad("its bytes hash to %s", sum)
			continue
		}

		node, err := tree.Decode(b)
		if err != nil {
			bad("%v", err)
			continue
		}

		for _, c := range node.Children() {
			if _, seen := from[c]; !seen {
				from[c] = h
				children = append(children, c)
			}
		}
	}

	for len(children) > 0 {
		k := min(len(children), gcPage)
		var there [][]byte
		if err := s.db.SelectContext(ctx, &there, `SELECT hash FROM node WHERE hash IN `+in(k),
			hashArgs(children[:k])...); err != nil {
			return 0, nil, nil, err
		}

		found := map[tree.Hash]bool{}
		for _, b := range there {
			found[tree.Hash(b)] = true
		}

		for _, c := range children[:k] {
			if !found[c] {
				faults = append(faults, Fault{
					"node " + from[c].String(),
					"it refers to node " + c.String() + ", which is not there",
				})
			}
		}

		children = children[k:]
	}

	if len(rows) == limit {
		next = rows[len(rows)-1].Hash
	}

	return len(rows), faults, next, nil
}

// CheckSnapshots says which snapshots lack their forest or their accounts.
func (s *Store) CheckSnapshots(ctx context.Context) (n int, faults []Fault, err error) {
	if err := s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM snapshot WHERE state = 'ready'`); err != nil {
		return 0, nil, err
	}

	for what, query := range map[string]string{
		"its forest is not there": `SELECT s.id FROM snapshot s LEFT JOIN node n ON n.hash = s.forest
			AND NOT n.doomed WHERE s.state = 'ready' AND n.hash IS NULL LIMIT 1000`,
		"its accounts are not there": `SELECT s.id FROM snapshot s LEFT JOIN directory d ON d.hash = s.directory
			WHERE s.state = 'ready' AND d.hash IS NULL LIMIT 1000`,
	} {
		var ids []string
		if err := s.db.SelectContext(ctx, &ids, query); err != nil {
			return 0, nil, err
		}
		for _, id := range ids {
			faults = append(faults, Fault{"snapshot " + id, what})
		}
	}

	return n, faults, nil
}

// TakeDuty makes one instance do what only one is to do, until a time. It reports whether it is this one.
func (s *Store) TakeDuty(ctx context.Context, name, holder string, last time.Duration) (mine bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		at := now()
		if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO duty (name, holder, until) VALUES (?,?,?)`, name, "",
			at.Add(-time.Second)); err != nil {
			return err
		}

		r, err := tx.ExecContext(ctx,
			`UPDATE duty SET holder = ?, until = ? WHERE name = ? AND (until < ? OR holder = ?)`, holder, at.Add(last),
			name, at, holder)
		if err != nil {
			return err
		}

		n, err := r.RowsAffected()
		mine = n > 0
		return err
	})

	return mine, err
}

// PlaceTime is a finished snapshot, by its place and time.
type PlaceTime struct {
	ID          string    `db:"id"`
	Application string    `db:"application"`
	Host        string    `db:"host"`
	Taken       time.Time `db:"taken"`
	Heard       bool      `db:"heard"` // nobody asked for it
}

// EachPlace hands out the finished snapshots of each application on each host, oldest first.
func (s *Store) EachPlace(ctx context.Context, visit func([]PlaceTime) error) error {
	var places []PlaceTime
	if err := s.db.SelectContext(ctx, &places,
		`SELECT application, host FROM snapshot WHERE state = 'ready' GROUP BY application, host`); err != nil {
		return err
	}

	for _, p := range places {
		var rows []PlaceTime
		if err := s.db.SelectContext(ctx, &rows,
			`SELECT id, application, host, taken, heard FROM snapshot WHERE application = ? AND host = ?
				AND state = 'ready' ORDER BY looked LIMIT 100000`,
			p.Application, p.Host); err != nil {
			return err
		}
		if err := visit(rows); err != nil {
			return err
		}
	}

	return nil
}

// DropSnapshot removes a snapshot, and the findings of its reports; their figures stay.
func (s *Store) DropSnapshot(ctx context.Context, id string) error {
	if err := s.TrimReports(ctx, id); err != nil {
		return err
	}
	_, err := s.exec(ctx, `DELETE FROM snapshot WHERE id = ? AND state = 'ready'`, id)
	return err
}

// Storage is how much is stored.
type Storage struct {
	Nodes     int64 `db:"nodes"`
	Bytes     int64 `db:"bytes"`
	Snapshots int64 `db:"snapshots"`
	Reports   int64 `db:"reports"`
}

// Storage counts.
func (s *Store) Storage(ctx context.Context) (out Storage, err error) {
	err = s.db.GetContext(ctx, &out,
		`SELECT (SELECT COUNT(*) FROM node) AS nodes, (SELECT COALESCE(SUM(LENGTH(data)), 0) FROM node) AS bytes,
		(SELECT COUNT(*) FROM snapshot WHERE state = 'ready') AS snapshots, (SELECT COUNT(*) FROM report
		WHERE ready) AS reports`)
	return out, err
}
