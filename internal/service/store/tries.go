package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/service/auth"
)

// BeginTry counts a try at an account from a place, if it may be made now, and otherwise returns how long it is until
// then. A try counts as wrong from when it begins, so that making many at once is no way around.
func (s *Store) BeginTry(ctx context.Context, account, place string, p auth.Patience) (wait time.Duration, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		at := now()
		var row struct {
			Wrong int       `db:"wrong"`
			Last  time.Time `db:"last"`
		}
		err := tx.GetContext(ctx, &row, `SELECT wrong, last FROM wrong_try WHERE account = ? AND place = ? FOR UPDATE`,
			account, place)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}

		t := auth.Tries(row)
		wait = p.Wait(t, at)
		if wait > 0 {
			return nil
		}

		t = p.Begin(t, at)
		_, err = tx.ExecContext(ctx, `INSERT INTO wrong_try (account, place, wrong, last) VALUES (?,?,?,?)
			ON DUPLICATE KEY UPDATE wrong = IF(VALUES(wrong) = 1, 1, wrong + 1), last = VALUES(last)`, account, place,
			t.Wrong, t.Last)
		return err
	})

	return wait, err
}

// RightTry takes back one that turned out to be right.
func (s *Store) RightTry(ctx context.Context, account, place string) error {
	_, err := s.exec(ctx, `UPDATE wrong_try SET wrong = GREATEST(wrong, 1) - 1 WHERE account = ? AND place = ?`,
		account, place)
	return err
}

// ForgetTries removes those that were made before a time.
func (s *Store) ForgetTries(ctx context.Context, before time.Time) error {
	for {
		n, err := s.exec(ctx, `DELETE FROM wrong_try WHERE last < ? LIMIT 1000`, before)
		if err != nil || n < 1000 {
			return err
		}
	}
}
