package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/zstd"

	"idletally/internal/core/access"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/wire"
)

var (
	encoder, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2))
	decoder, _ = zstd.NewReader(nil, zstd.WithDecoderMaxMemory(tree.MaxNode+1024), zstd.WithDecoderConcurrency(2))
)

func in(n int) string { return "(" + repeated("?", n) + ")" }

func hashArgs(hashes []tree.Hash) []any {
	args := make([]any, len(hashes))
	for i := range hashes {
		args[i] = hashes[i][:]
	}
	return args
}

// ErrBadNode says that a node from an agent cannot be accepted.
var ErrBadNode = errors.New("node refused")

// PutNodes stores nodes, children before parents: a node is accepted only when everything below it is there, so that
// whoever finds a node finds its whole subtree.
func (s *Store) PutNodes(ctx context.Context, nodes [][]byte) error {
	type row struct {
		hash     tree.Hash
		data     []byte
		measure  tree.Measure
		branches []tree.Branch
	}

	rows := make([]row, len(nodes))

	// Checking and packing take most of the time, and can be done for each node by itself.
	workers := min(runtime.GOMAXPROCS(0), len(nodes))
	errs := make([]error, workers)
	var wg sync.WaitGroup

	for w := range workers {
		wg.Go(func() {
			var d tree.Decoder
			for i := w; i < len(nodes); i += workers {
				n, err := d.Decode(nodes[i])
				if err != nil {
					errs[w] = fmt.Errorf("%w: %w", ErrBadNode, err)
					return
				}

				rows[i] = row{hash: tree.Sum(nodes[i]), data: encoder.EncodeAll(nodes[i], nil)}
				rows[i].measure, rows[i].branches = n.Measure()
			}
		})
	}

	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		return err
	}

	here := map[tree.Hash]bool{}
	var need []tree.Hash
	for _, r := range rows {
		for _, b := range r.branches {
			if !here[b.Child] {
				need = append(need, b.Child)
			}
		}
		here[r.hash] = true
	}

	have, err := s.Have(ctx, need)
	if err != nil {
		return err
	}
	measures, err := s.measures(ctx, need)
	if err != nil {
		return err
	}

	for _, h := range need {
		if !have[h] {
			return fmt.Errorf("%w: it refers to node %s, which was not sent before it", ErrBadNode, h)
		}
	}

	for i := range rows {
		r := &rows[i]
		below := make([]tree.Measure, len(r.branches))
		for j, b := range r.branches {
			below[j] = measures[b.Child]
		}

		if r.measure, err = r.measure.Grow(r.branches, below); err != nil {
			return fmt.Errorf("%w: %w", ErrBadNode, err)
		}

		measures[r.hash] = r.measure
	}

	at := now()
	return batches(ctx, s, `INSERT INTO node (hash, data, used, paths, gaps, depth, below, way)`, 8, rows,
		func(r row) []any {
			return []any{
				r.hash[:],
				r.data,
				at,
				r.measure.Paths,
				r.measure.Gaps,
				r.measure.Depth,
				r.measure.Below,
				r.measure.Way,
			}
		}, `ON DUPLICATE KEY UPDATE used = VALUES(used), doomed = FALSE, paths = VALUES(paths), gaps = VALUES(gaps),
			depth = VALUES(depth),
		below = VALUES(below), way = VALUES(way)`)
}

// Nodes makes the store a tree.Source.
func (s *Store) Nodes(ctx context.Context, hashes []tree.Hash) ([][]byte, error) {
	q := `SELECT hash, data FROM node WHERE hash IN ` + in(len(hashes))
	var rows []struct {
		Hash []byte `db:"hash"`
		Data []byte `db:"data"`
	}
	if err := s.db.SelectContext(ctx, &rows, q, hashArgs(hashes)...); err != nil {
		return nil, err
	}

	by := make(map[tree.Hash][]byte, len(rows))
	for _, r := range rows {
		b, err := decoder.DecodeAll(r.Data, nil)
		if err != nil {
			return nil, fmt.Errorf("stored node %x is damaged: %w", r.Hash, err)
		}
		by[tree.Hash(r.Hash)] = b
	}

	out := make([][]byte, len(hashes))
	for i, h := range hashes {
		b, ok := by[h]
		if !ok {
			return nil, fmt.Errorf("node %s is not stored", h)
		}
		out[i] = b
	}

	return out, nil
}

// Snapshot is a snapshot's record.
type Snapshot struct {
	ID          string             `db:"id"`
	Host        string             `db:"host"`
	Application string             `db:"application"`
	State       lifecycle.Snapshot `db:"state"`
	Roots       string             `db:"roots"`
	Whole       bool               `db:"whole"`
	// Tells which look was the last: ids are made when one is asked for; nil if nobody has looked.
	Looked      *string    `db:"looked"`
	Heard       bool       `db:"heard"`    // nobody asked for it: the agent heard of changes
	Crossing    bool       `db:"crossing"` // into other file systems
	Forest      []byte     `db:"forest"`
	Directory   []byte     `db:"directory"`
	Paths       int64      `db:"paths"`
	Gaps        int64      `db:"gaps"`
	Seen        int64      `db:"seen"` // while it is taken
	Denied      string     `db:"denied"`
	Message     string     `db:"message"`
	RequestedBy string     `db:"requested_by"`
	Created     time.Time  `db:"created"`
	Taken       *time.Time `db:"taken"`
	WaysText    *string    `db:"ways"`
}

const snapshotColumns = `id, host, application, state, roots, whole, heard, crossing, forest, directory, paths, gaps,
	seen, denied, message, requested_by, created, taken, ways, looked`

// Ways returns the way from / to each root; none if the snapshot is from before they were stored.
func (s Snapshot) Ways() (ways []access.Way, err error) {
	if s.WaysText == nil {
		return nil, nil
	}
	if err := json.Unmarshal([]byte(*s.WaysText), &ways); err != nil {
		return nil, fmt.Errorf("the ways of snapshot %s are damaged: %w", s.ID, err)
	}
	return ways, nil
}

// RootList returns the snapshot's roots as they are.
func (s Snapshot) RootList() (roots []string, err error) {
	var paths []pathname.Path
	if err := json.Unmarshal([]byte(s.Roots), &paths); err != nil {
		return nil, fmt.Errorf("the roots of snapshot %s are damaged: %w", s.ID, err)
	}
	for _, p := range paths {
		roots = append(roots, string(p))
	}
	return roots, nil
}

// Holds reports whether a path lies in one of the snapshot's roots.
func (s Snapshot) Holds(path string) (bool, error) {
	roots, err := s.RootList()
	return slices.ContainsFunc(roots, func(r string) bool { return pathname.Under(path, r) }), err
}

// asPaths returns roots in a form that keeps their bytes in JSON.
func asPaths(roots []string) (out []pathname.Path) {
	for _, r := range roots {
		out = append(out, pathname.Path(r))
	}
	return out
}

// DeniedList returns what could not be read, and why.
func (s Snapshot) DeniedList() (denied []wire.Denied, err error) {
	if err := json.Unmarshal([]byte(s.Denied), &denied); err != nil {
		return nil, fmt.Errorf("what snapshot %s could not read is damaged: %w", s.ID, err)
	}
	return denied, nil
}

// Hash is the snapshot's forest.
func (s Snapshot) Hash() (h tree.Hash) {
	copy(h[:], s.Forest)
	return h
}

// AskSnapshot stores a request for a snapshot and gives it to the host's agent. If one waits already that is
// returned.
func (s *Store) AskSnapshot(
	ctx context.Context, host, application string, roots []string, whole, crossing bool, by string,
) (id string, err error) {
	enc, err := json.Marshal(asPaths(roots))
	if err != nil {
		return "", err
	}

	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		id = NewID()
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO snapshot (id, host, application, state, roots, whole, crossing, denied, message, requested_by,
				created)
			VALUES (?,?,?,'waiting',?,?,?,'[]','',?,?)`,
			id, host, application, enc, whole, crossing, by, now()); err != nil {
			return err
		}
		return addWork(ctx, tx, host, wire.WorkSnapshot, id)
	})

	return id, err
}

// KeepSnapshot stores what an agent found, and ends its work. The snapshot is not shown before it was compared, so
// that whoever sees it sees its report too. One that was cancelled, or has come already, is left as it is.
func (s *Store) KeepSnapshot(ctx context.Context, work Work, d wire.SnapshotDone) error {
	if d.Failed != "" {
		denied, err := json.Marshal(d.Denied)
		if err != nil {
			return err
		}
		return s.tx(ctx, func(tx *sqlx.Tx) error {
			if _, err := tx.ExecContext(ctx,
				`UPDATE snapshot SET state = 'failed', message = ?, denied = ?, looked = ? WHERE id = ?
					AND state = 'waiting' AND forest IS NULL`,
				clip(d.Failed, 4000), denied, NewID(), work.Subject); err != nil {
				return err
			}
			return endWork(ctx, tx, work.ID)
		})
	}

	return s.keep(ctx, &d, func(tx *sqlx.Tx, dirHash, denied, ways []byte) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE snapshot SET forest = ?, directory = ?, paths = ?, gaps = ?, denied = ?, taken = ?, ways = ?,
				looked = ?
			WHERE id = ? AND state = 'waiting' AND forest IS NULL`, d.Forest[:], dirHash, d.Paths, d.Gaps, denied,
			now(), ways, NewID(), work.Subject)
		if err != nil {
			return err
		}
		n, err := r.RowsAffected()
		if err != nil {
			return err
		}

		if n > 0 {
			if err := queueComparison(ctx, tx, work.Subject); err != nil {
				return err
			}
		}

		return endWork(ctx, tx, work.ID)
	})
}

// ImportSnapshot stores what was taken elsewhere; its nodes are there already. It sorts with the time
// at which it was taken, and is not shown before ShowSnapshot.
func (s *Store) ImportSnapshot(
	ctx context.Context, application, host string, roots []string, taken time.Time, d wire.SnapshotDone, by string,
) (id string, err error) {
	return s.addSnapshot(ctx, application, host, roots, idAt(taken), taken, d, by, false, false)
}

// ShowSnapshot shows an imported snapshot.
func (s *Store) ShowSnapshot(ctx context.Context, id string) error {
	r, err := s.db.ExecContext(ctx,
		`UPDATE snapshot SET state = 'ready' WHERE id = ? AND state = 'waiting' AND forest IS NOT NULL`, id)
	return changed(r, err, "snapshot "+id)
}

// keep stores what goes with a snapshot's nodes. Paths and gaps are counted here, whatever was said.
func (s *Store) keep(
	ctx context.Context, d *wire.SnapshotDone, row func(tx *sqlx.Tx, dirHash, denied, ways []byte) error,
) error {
	denied, err := json.Marshal(d.Denied)
	if err != nil {
		return err
	}
	have, err := s.Have(ctx, []tree.Hash{d.Forest})
	if err != nil {
		return err
	}
	if !have[d.Forest] {
		return fmt.Errorf("%w: the snapshot's root %s was not sent", ErrBadNode, d.Forest)
	}
	measures, err := s.measures(ctx, []tree.Hash{d.Forest})
	if err != nil {
		return err
	}

	d.Paths, d.Gaps = measures[d.Forest].Paths, measures[d.Forest].Gaps
	dir, dirHash, err := d.Directory.Encode()
	if err != nil {
		return err
	}
	ways, err := json.Marshal(d.Ways)
	if err != nil {
		return err
	}

	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO directory (hash, data, used) VALUES (?,?,?) ON DUPLICATE KEY UPDATE used = VALUES(used)`,
			dirHash[:], encoder.EncodeAll(dir, nil), now()); err != nil {
			return err
		}
		return row(tx, dirHash[:], denied, ways)
	})
}

// SnapshotProgress records how many paths an agent has seen, and reports whether anybody still waits for them.
func (s *Store) SnapshotProgress(ctx context.Context, id string, seen int) (wanted bool, err error) {
	if _, err := s.exec(ctx, `UPDATE snapshot SET seen = ? WHERE id = ? AND state = 'waiting'`, seen, id); err != nil {
		return false, err
	}
	var n int
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM snapshot WHERE id = ? AND state = 'waiting'`, id)
	return n > 0, err
}

// CancelSnapshot cancels a snapshot that is not there yet.
func (s *Store) CancelSnapshot(ctx context.Context, id, by string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE snapshot SET state = 'failed', message = ? WHERE id = ? AND state = 'waiting' AND forest IS NULL`,
			"cancelled by "+by, id)
		if err := changed(r, err, "snapshot "+id+", which is taken already or is not there"); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx,
			`UPDATE work SET state = 'done', lease_until = NULL WHERE subject = ? AND kind = ?`, id, wire.WorkSnapshot)
		return err
	})
}

// Snapshot finds a snapshot.
func (s *Store) Snapshot(ctx context.Context, id string) (v Snapshot, err error) {
	err = s.db.GetContext(ctx, &v, `SELECT `+snapshotColumns+` FROM snapshot WHERE id = ?`, id)
	return v, one(err, "snapshot "+id)
}

// Snapshots lists the newest first.
func (s *Store) Snapshots(
	ctx context.Context, application, host, before string, limit int,
) (out []Snapshot, err error) {
	if before == "" {
		before = "~"
	}
	q, args := ofPlace(application, host)
	q, args = q+` AND id < ?`, append(args, before)
	err = s.db.SelectContext(ctx, &out, `SELECT `+snapshotColumns+` FROM snapshot`+q+` ORDER BY id DESC LIMIT ?`,
		append(args, limit)...)
	return out, err
}

// CountSnapshots counts those of an application and a host, where they are given.
func (s *Store) CountSnapshots(ctx context.Context, application, host string) (int64, error) {
	q, args := ofPlace(application, host)
	return s.count(ctx, `SELECT COUNT(*) FROM snapshot`+q, args...)
}

// ofPlace is the condition for the places that are wanted.
func ofPlace(application, host string) (query string, args []any) {
	query = ` WHERE TRUE`
	if application != "" {
		query, args = query+` AND application = ?`, append(args, application)
	}
	if host != "" {
		query, args = query+` AND host = ?`, append(args, host)
	}
	return query, args
}

// Newest finds the newest whole snapshot of an application on a host: that of the last look, whenever it was asked
// for.
func (s *Store) Newest(ctx context.Context, application, host string) (v Snapshot, err error) {
	err = s.db.GetContext(ctx, &v,
		`SELECT `+snapshotColumns+
			` FROM snapshot WHERE application = ? AND host = ? AND state = 'ready' ORDER BY looked DESC LIMIT 1`,
		application, host)
	return v, one(err, "a snapshot of "+application+" on "+host)
}

// NewestDirectory returns the accounts that an application's host reported last; nil if it has reported nothing yet,
// and numbers stand for names.
func (s *Store) NewestDirectory(ctx context.Context, application, host string) (*perm.Directory, error) {
	snap, err := s.Newest(ctx, application, host)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return s.Directory(ctx, snap)
}

// ReportDirectory returns the accounts that went with a report's snapshot.
func (s *Store) ReportDirectory(ctx context.Context, r Report) (*perm.Directory, error) {
	snap, err := s.Snapshot(ctx, r.Snapshot)
	if err != nil {
		return nil, err
	}
	return s.Directory(ctx, snap)
}

// Directory returns the accounts that went with a snapshot.
func (s *Store) Directory(ctx context.Context, v Snapshot) (*perm.Directory, error) {
	var b []byte
	if err := s.db.GetContext(ctx, &b, `SELECT data FROM directory WHERE hash = ?`, v.Directory); err != nil {
		return nil, one(err, "the accounts of snapshot "+v.ID)
	}
	b, err := decoder.DecodeAll(b, nil)
	if err != nil {
		return nil, fmt.Errorf("the accounts of snapshot %s are damaged: %w", v.ID, err)
	}
	d := &perm.Directory{}
	if err := json.Unmarshal(b, d); err != nil {
		return nil, fmt.Errorf("the accounts of snapshot %s are damaged: %w", v.ID, err)
	}
	return d.Index(), nil
}
