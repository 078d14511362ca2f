package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"idletally/internal/core/perm"
)

// questionLife is how long a question is of use to anybody.
const questionLife = 2 * time.Minute

// maxWaiting bounds the questions that wait for one host.
const maxWaiting = 100

// Ask leaves a question for a host's agent. Old ones are swept out on the way, a few at a time.
func (s *Store) Ask(ctx context.Context, host string, ask []byte) (string, error) {
	var waiting int
	if err := s.db.GetContext(ctx, &waiting,
		`SELECT COUNT(*) FROM question WHERE host = ? AND state = 'waiting' AND created > ?`, host,
		now().Add(-questionLife)); err != nil {
		return "", err
	}
	if waiting >= maxWaiting {
		return "", fmt.Errorf(
			"%w: %d questions wait for host %s already: is its agent running? Try again in a minute, or ask a "+
				"stored snapshot",
			ErrConflict, waiting, host)
	}
	if _, err := s.db.ExecContext(ctx, `DELETE FROM question WHERE created < ?
		LIMIT 20`, now().Add(-questionLife)); err != nil &&
		!retryable(err) {
		return "", err
	}

	id := NewID()
	_, err := s.db.ExecContext(ctx, `INSERT INTO question (id, host, state, ask, created) VALUES (?,?,'waiting',?,?)`,
		id, host, ask, now())
	return id, err
}

// TakeQuestion returns a host's agent the oldest question that waits; "" if there is none.
func (s *Store) TakeQuestion(ctx context.Context, host string) (id string, ask []byte, err error) {
	var row struct {
		ID  string `db:"id"`
		Ask []byte `db:"ask"`
	}
	err = s.db.GetContext(ctx, &row,
		`SELECT id, ask FROM question WHERE host = ? AND state = 'waiting' AND created > ? ORDER BY id LIMIT 1`, host,
		now().Add(-questionLife))
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil, nil
	}
	if err != nil {
		return "", nil, err
	}
	r, err := s.db.ExecContext(ctx, `UPDATE question SET state = 'taken' WHERE id = ? AND state = 'waiting'`, row.ID)
	if err != nil {
		return "", nil, err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return "", nil, err // another one was faster
	}

	return row.ID, row.Ask, nil
}

// AnswerQuestion stores an answer; only the host that was asked can give it.
func (s *Store) AnswerQuestion(ctx context.Context, host, id string, answer []byte) error {
	r, err := s.db.ExecContext(ctx,
		`UPDATE question SET state = 'answered', answer = ? WHERE id = ? AND host = ? AND state = 'taken'`,
		encoder.EncodeAll(answer, nil), id, host)
	return changed(r, err, "question "+id)
}

// OpenQuestion returns ErrConflict if a host was not asked that, or has answered it.
func (s *Store) OpenQuestion(ctx context.Context, host, id string) error {
	var one int
	err := s.db.GetContext(ctx, &one, `SELECT 1 FROM question WHERE id = ? AND host = ? AND state = 'taken'`, id, host)
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("question %s: %w", id, ErrConflict)
	}
	return err
}

// Answer returns the answer and removes the question; nil while there is none.
func (s *Store) Answer(ctx context.Context, id string) ([]byte, error) {
	var b []byte
	err := s.db.GetContext(ctx, &b, `SELECT answer FROM question WHERE id = ? AND state = 'answered'`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if b, err = decoder.DecodeAll(b, nil); err != nil {
		return nil, fmt.Errorf("answer to question %s is damaged: %w", id, err)
	}
	return b, s.Forget(ctx, id)
}

// Forget drops a question.
func (s *Store) Forget(ctx context.Context, id string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM question WHERE id = ?`, id)
	return err
}

// HostDirectory returns the accounts that a host reported last, whatever the application, with the hash of what it
// reported; nil if it has reported nothing yet.
func (s *Store) HostDirectory(ctx context.Context, host string) (*perm.Directory, string, error) {
	var v Snapshot
	err := s.db.GetContext(ctx, &v,
		`SELECT `+snapshotColumns+` FROM snapshot WHERE host = ? AND directory IS NOT NULL ORDER BY looked DESC
			LIMIT 1`,
		host)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, "", nil
	}
	if err != nil {
		return nil, "", err
	}
	d, err := s.Directory(ctx, v)
	return d, hex.EncodeToString(v.Directory), err
}
