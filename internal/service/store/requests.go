package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// States of a request. One that is over is in none of them.
const (
	RequestWaiting  = "waiting"
	RequestAgreed   = "agreed"
	RequestDeclined = "declined"
	RequestUsed     = "used" // the call was made again, and carried out
)

// A Request is a call that others have to agree to.
type Request struct {
	ID          string    `db:"id"`
	Hash        []byte    `db:"hash"` // of the call, with all that it says
	AskedBy     string    `db:"asked_by"`
	Operation   string    `db:"operation"`
	Summary     string    `db:"summary"` // of the operation, in words
	Application string    `db:"application"`
	Role        string    `db:"role"`   // that whoever agrees has to have
	Detail      string    `db:"detail"` // what the call says, as JSON
	Needed      int       `db:"needed"`
	State       string    `db:"state"`
	DecidedBy   string    `db:"decided_by"` // who declined it
	Created     time.Time `db:"created"`
	Expires     time.Time `db:"expires"`

	Agreed []string // who has, the first first
}

const requestColumns = `id, hash, asked_by, operation, summary, application, role, detail, needed, state, decided_by, created,
	expires`

// The queries of requests, whose keys a test holds.
const (
	requestOfCall = `SELECT ` + requestColumns + ` FROM request WHERE hash = ? AND asked_by = ?
		AND state IN ('waiting', 'agreed') AND expires > ? ORDER BY id DESC LIMIT 1`
	requestsOpen = `SELECT ` + requestColumns + ` FROM request WHERE state = ? AND expires > ? ORDER BY expires
		LIMIT 1000`
)

// maxRequests is how many of somebody's may wait at a time.
const maxRequests = 100

// RequestOf returns the request for a call of somebody that waits, or was agreed to; ErrNotFound where there is none.
func (s *Store) RequestOf(ctx context.Context, hash []byte, by string) (r Request, err error) {
	if err := s.db.GetContext(ctx, &r, requestOfCall, hash, by, now()); err != nil {
		return r, one(err, "a request for this")
	}
	return r, s.withAgreed(ctx, &r)
}

// Request returns one by its id.
func (s *Store) Request(ctx context.Context, id string) (r Request, err error) {
	if err := s.db.GetContext(ctx, &r, `SELECT `+requestColumns+` FROM request WHERE id = ?`, id); err != nil {
		return r, one(err, "request "+id)
	}
	return r, s.withAgreed(ctx, &r)
}

// An Agreement is one person's to a request.
type Agreement struct {
	Approval
	Signed string `db:"signed"` // what they signed, as JSON; "" where they signed nothing
}

// Agreements returns who agreed to a request, with the roles that they have now.
func (s *Store) Agreements(ctx context.Context, id string) (out []Agreement, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT a.who AS reviewer, a.at, a.signed, p.roles, p.counts_from
		FROM request_agreed a
		LEFT JOIN person p ON p.name = a.who WHERE a.request = ? ORDER BY a.at, a.who`, id)
	return out, err
}

func (s *Store) withAgreed(ctx context.Context, r *Request) error {
	return s.db.SelectContext(ctx, &r.Agreed, `SELECT who FROM request_agreed WHERE request = ? ORDER BY at, who`, r.ID)
}

// Requests lists those that are in one of two states, waiting or agreed to, the one that ends first first.
func (s *Store) Requests(ctx context.Context) (out []Request, err error) {
	for _, state := range []string{RequestWaiting, RequestAgreed} {
		var some []Request
		if err := s.db.SelectContext(ctx, &some, requestsOpen, state, now()); err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	for i := range out {
		if err := s.withAgreed(ctx, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// AddRequest stores a request that waits, for as long as its life is. Those that were over for a month go.
func (s *Store) AddRequest(ctx context.Context, r Request, life time.Duration) (Request, error) {
	r.ID, r.State, r.Created = NewID(), RequestWaiting, now()
	r.Expires = r.Created.Add(life)
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		var has int
		if err := tx.GetContext(ctx, &has, `SELECT COUNT(*) FROM request WHERE state = 'waiting' AND expires > ?
			AND asked_by = ?`, now(), r.AskedBy); err != nil {
			return err
		}
		if has >= maxRequests {
			return fmt.Errorf("%d requests of %s wait already: %w", has, r.AskedBy, ErrConflict)
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO request (id, hash, asked_by, operation, summary, application, role,
			detail, needed, state, created, expires) VALUES (?,?,?,?,?,?,?,?,?,?,?,?)`, r.ID, r.Hash, r.AskedBy,
			r.Operation, clip(r.Summary, 400), r.Application, r.Role, r.Detail, r.Needed, r.State, r.Created, r.Expires)
		return err
	})
	if err == nil {
		_, err = s.exec(ctx, `DELETE FROM request WHERE expires < ? LIMIT 100`, now().AddDate(0, -1, 0))
	}
	return r, err
}

// Agree adds that somebody agrees to a request that waits, and what they signed: whoever asked does not. With as many
// as it needs it is agreed to.
func (s *Store) Agree(ctx context.Context, id, who, signed string) (agreed bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		agreed = false
		// The row puts those who agree at once in line.
		r, err := tx.ExecContext(ctx, `UPDATE request SET touched = touched + 1 WHERE id = ? AND state = 'waiting'
			AND expires > ? AND asked_by <> ?`, id, now(), who)
		if err := changed(r, err, "request "+id+" does not wait any more, or is your own"); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO request_agreed (request, who, at, signed)
			VALUES (?,?,?,?) ON DUPLICATE KEY UPDATE at = VALUES(at), signed = VALUES(signed)`, id, who, now(), signed); err != nil {
			return err
		}

		r, err = tx.ExecContext(ctx, `UPDATE request SET state = 'agreed' WHERE id = ? AND state = 'waiting'
			AND needed <= (SELECT COUNT(*) FROM request_agreed WHERE request = ?)`, id, id)
		if err != nil {
			return err
		}
		n, err := r.RowsAffected()
		agreed = n > 0
		return err
	})
	return agreed, err
}

// MoveRequest moves a request from one state to another, while it is not over; ErrConflict if it is in a third.
func (s *Store) MoveRequest(ctx context.Context, id, from, to, by string) error {
	r, err := s.db.ExecContext(ctx, `UPDATE request SET state = ?, decided_by = ? WHERE id = ? AND state = ?
		AND expires > ?`, to, by, id, from, now())
	return changed(r, err, fmt.Sprintf("request %s is not %s any more", id, from))
}
