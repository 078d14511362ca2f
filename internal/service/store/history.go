package store

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"math"
	mathrand "math/rand/v2"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/core/chain"
)

// By is who did something: a person, an agent or nobody in particular, and the token of theirs that a program used.
type By struct{ Who, Token string }

// maxWhat is how many bytes say what happened.
const maxWhat = 32

// Audit writes a line of history after the last one, whichever instance wrote that.
func (s *Store) Audit(ctx context.Context, by By, what, subject, detail string) error {
	if len(what) > maxWhat { // programs look for it: part of it is something else
		return fmt.Errorf("write %q into the history: it has room for %d bytes of what happened", what, maxWhat)
	}
	l := chain.Line{
		ID:      NewID(),
		At:      now(),
		Who:     clip(by.Who, 80),
		Token:   clip(by.Token, 80),
		What:    what,
		Subject: clip(subject, 255),
		Detail:  clip(detail, 60_000),
	}

	for n := 1; ; n++ {
		done := false
		err := s.tx(ctx, func(tx *sqlx.Tx) (err error) {
			done, err = s.append(ctx, tx, l)
			return err
		})
		if err != nil || done {
			return err
		}
		if n == 100 { // many write at once, and others were faster each time
			return fmt.Errorf("write %q into the history: %w", what, ErrConflict)
		}

		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(mathrand.IntN(5<<min(n, 4))) * time.Millisecond):
		}
	}
}

// append puts a line after the head that it sees, if nobody else has done so meanwhile; after a head that is not ours
// it first puts another line, which says so.
func (s *Store) append(ctx context.Context, tx *sqlx.Tx, l chain.Line) (done bool, err error) {
	before, err := head(ctx, tx)
	if err != nil {
		return false, err
	}

	// Whoever has the database can put lines there, and a head. Signing what follows must not make that ours.
	foreign := s.Sealed != nil && !s.Sealed(before)
	if foreign {
		l = chain.Line{
			ID:      NewID(),
			At:      l.At,
			Who:     "the service",
			What:    chain.TakenOver,
			Subject: "history",
			Detail: fmt.Sprintf("it ended with line %d, which this service did not sign, or after which it had others",
				before.Seq),
		}
	}

	l.Seq = before.Seq + 1
	l.Hash = l.After(before.Hash)
	h := chain.Head{Seq: l.Seq, Hash: l.Hash, Signature: []byte{}}
	if s.Seal != nil {
		s.Seal(&h)
	}

	r, err := tx.ExecContext(ctx,
		`UPDATE chain SET seq = ?, hash = ?, signature = ? WHERE name = 'history' AND seq = ?`, h.Seq, h.Hash[:],
		h.Signature, before.Seq)
	if err != nil {
		return false, err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return false, err
	}

	_, err = tx.ExecContext(ctx,
		`INSERT INTO audit (id, at, who, token, what, subject, detail, seq, hash) VALUES (?,?,?,?,?,?,?,?,?)`, l.ID,
		l.At, l.Who, l.Token, l.What, l.Subject, l.Detail, l.Seq, l.Hash[:])
	return err == nil && !foreign, err
}

func head(ctx context.Context, q sqlx.QueryerContext) (h chain.Head, err error) {
	var row struct {
		Seq       int64  `db:"seq"`
		Hash      []byte `db:"hash"`
		Signature []byte `db:"signature"`
	}
	if err := sqlx.GetContext(ctx, q, &row, `SELECT seq, hash, signature FROM chain
		WHERE name = 'history'`); err != nil {
		return h, one(err, "the head of the history")
	}
	h.Seq, h.Signature = row.Seq, row.Signature
	copy(h.Hash[:], row.Hash)
	return h, nil
}

// clip cuts a text to so many bytes, between characters: what is hashed has to come back as it was.
func clip(s string, n int) string {
	if len(s) > n {
		s = s[:n]
	}
	return strings.ToValidUTF8(s, "")
}

// Chain hands out the history line by line, those after line after, up to the head that it has when it is asked,
// which it returns; and how many lines there are outside of it that should not be.
func (s *Store) Chain(
	ctx context.Context, after int64, visit func(chain.Line) error,
) (h chain.Head, strays int64, err error) {
	if h, err = s.Head(ctx); err != nil {
		return h, 0, err
	}
	if err := s.Lines(ctx, after, h.Seq, visit); err != nil {
		return h, 0, err
	}
	strays, err = s.Strays(ctx)
	return h, strays, err
}

// Head returns where the history ends.
func (s *Store) Head(ctx context.Context) (chain.Head, error) { return head(ctx, s.db) }

// Strays returns how many lines there are outside of the chain that should not be.
func (s *Store) Strays(ctx context.Context) (n int64, err error) {
	err = s.db.GetContext(ctx, &n,
		`SELECT (SELECT COUNT(*) FROM audit WHERE seq IS NULL) - outside FROM chain WHERE name = 'history'`)
	return n, err
}

// Lines hands out the lines after one, up to another, in their order: after 0, those from before there was a chain,
// too. visit has to notice whether some are missing.
func (s *Store) Lines(ctx context.Context, after, upTo int64, visit func(chain.Line) error) error {
	if after == 0 && upTo > 0 {
		after = math.MinInt64
	}

	for at := after; at < upTo; {
		list, err := lines(ctx, s.db, `seq > ? AND seq <= ? ORDER BY seq LIMIT 1000`, at, upTo)
		if err != nil {
			return err
		}

		for _, l := range list {
			if err := visit(l); err != nil {
				return err
			}
			at = l.Seq
		}

		if len(list) == 0 {
			break // what is missing shows at the end
		}
	}

	return nil
}

// lines reads the lines of the history that a query's end selects, in its order. Those outside of the chain have
// number 0.
func lines(ctx context.Context, q interface {
	SelectContext(ctx context.Context, to any, query string, args ...any) error
}, so string, args ...any) ([]chain.Line, error) {
	var rows []struct {
		Seq     sql.NullInt64 `db:"seq"`
		ID      string        `db:"id"`
		At      time.Time     `db:"at"`
		Who     string        `db:"who"`
		Token   string        `db:"token"`
		What    string        `db:"what"`
		Subject string        `db:"subject"`
		Detail  string        `db:"detail"`
		Hash    []byte        `db:"hash"`
	}

	err := q.SelectContext(ctx, &rows,
		`SELECT seq, id, at, who, token, what, subject, detail, hash FROM audit WHERE `+so, args...)
	if err != nil {
		return nil, err
	}

	list := make([]chain.Line, len(rows))
	for i, r := range rows {
		list[i] = chain.Line{
			Seq:     r.Seq.Int64,
			ID:      r.ID,
			At:      r.At,
			Who:     r.Who,
			Token:   r.Token,
			What:    r.What,
			Subject: r.Subject,
			Detail:  r.Detail,
		}
		copy(list[i].Hash[:], r.Hash)
	}

	return list, nil
}

// A HistoryQuery says which lines of history are wanted.
type HistoryQuery struct {
	Who, What, Subject string // What is a word, or more, that it begins with
	From, To           time.Time
	Before             string // an id; "" begins with the newest
	Limit              int
}

// A HistoryLine is one line of the audit log.
type HistoryLine struct {
	ID      string    `db:"id"`
	At      time.Time `db:"at"`
	Who     string    `db:"who"`
	Token   string    `db:"token"` // of theirs, that a program did it with
	What    string    `db:"what"`
	Subject string    `db:"subject"`
	Detail  string    `db:"detail"`
}

// History lists the newest lines first.
func (s *Store) History(ctx context.Context, p HistoryQuery) (out []HistoryLine, err error) {
	where, args := p.where()
	err = s.db.SelectContext(ctx, &out,
		`SELECT id, at, who, token, what, subject, detail FROM audit`+where+` ORDER BY id DESC LIMIT ?`,
		append(args, p.Limit)...)
	return out, err
}

// CountHistory counts the lines that are wanted, on all pages.
func (s *Store) CountHistory(ctx context.Context, p HistoryQuery) (int64, error) {
	where, args := p.where()
	return s.count(ctx, `SELECT COUNT(*) FROM audit`+where, args...)
}

// where words what is wanted.
func (p HistoryQuery) where() (query string, args []any) {
	query, args = ` WHERE id < ?`, []any{cmp.Or(p.Before, "~")}
	and := func(condition string, arg any) {
		query, args = query+" AND "+condition, append(args, arg)
	}
	if p.Who != "" {
		and("who = ?", p.Who)
	}

	if p.What != "" {
		and("what LIKE ?", strings.TrimPrefix(like(p.What), "%"))
	}

	if p.Subject != "" {
		and("subject = ?", p.Subject)
	}

	if !p.From.IsZero() { // ids sort by time
		and("id >= ?", idAt(p.From)[:9])
	}

	if !p.To.IsZero() {
		and("id < ?", idAt(p.To)[:9])
	}

	return query, args
}
