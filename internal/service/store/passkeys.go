package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// A Passkey is one of somebody's, as it is stored.
type Passkey struct {
	ID      string     `db:"id"`
	Person  string     `db:"person"`
	Name    string     `db:"name"`
	Hash    []byte     `db:"hash"` // of the id that it was made with
	Sealed  []byte     `db:"sealed"`
	Created time.Time  `db:"created"`
	Used    *time.Time `db:"used"`
}

const passkeyColumns = `id, person, name, hash, sealed, created, used`

// maxPasskeys is how many somebody may have.
const maxPasskeys = 20

// AddPasskey stores one, and spare codes if the person has none; it reports whether these were stored.
func (s *Store) AddPasskey(ctx context.Context, p Passkey, spare [][32]byte) (out Passkey, spared bool, err error) {
	p.ID, p.Created = NewID(), now()
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		spared = false
		var has, codes int
		if err := tx.GetContext(ctx, &has, `SELECT COUNT(*) FROM passkey WHERE person = ?`, p.Person); err != nil {
			return err
		}
		if has >= maxPasskeys {
			return fmt.Errorf("%s has %d passkeys: remove some first: %w", p.Person, has, ErrConflict)
		}

		if _, err := tx.ExecContext(ctx,
			`INSERT INTO passkey (id, person, name, hash, sealed, created) VALUES (?,?,?,?,?,?)`, p.ID, p.Person,
			p.Name, p.Hash, p.Sealed, p.Created); err != nil {
			if duplicate(err) {
				err = fmt.Errorf("this passkey is there already: %w", ErrConflict)
			}
			return err
		}

		if err := tx.GetContext(ctx, &codes, `SELECT COUNT(*) FROM spare_code
			WHERE person = ?`, p.Person); err != nil ||
			codes > 0 {
			return err
		}

		for _, h := range spare {
			if _, err := tx.ExecContext(ctx, `INSERT INTO spare_code (hash, person)
				VALUES (?,?)`, h[:], p.Person); err != nil {
				return err
			}
		}

		spared = true
		return nil
	})

	return p, spared, err
}

// Passkeys lists somebody's.
func (s *Store) Passkeys(ctx context.Context, person string) (out []Passkey, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+passkeyColumns+` FROM passkey WHERE person = ? ORDER BY id`, person)
	return out, err
}

// AllPasskeys lists everybody's, by person.
func (s *Store) AllPasskeys(ctx context.Context) (out []Passkey, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+passkeyColumns+` FROM passkey ORDER BY person, id LIMIT 10000`)
	return out, err
}

// CountPasskeys returns how many somebody has.
func (s *Store) CountPasskeys(ctx context.Context, person string) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM passkey WHERE person = ?`, person)
	return n, err
}

// PasskeyOf finds whose a passkey is, by the hash of the id that it was made with.
func (s *Store) PasskeyOf(ctx context.Context, hash [32]byte) (p Passkey, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT `+passkeyColumns+` FROM passkey WHERE hash = ?`, hash[:])
	return p, one(err, "a passkey")
}

// UsePasskey stores one as it is after it was shown.
func (s *Store) UsePasskey(ctx context.Context, id string, sealed []byte) error {
	_, err := s.exec(ctx, `UPDATE passkey SET sealed = ?, used = ? WHERE id = ?`, sealed, now(), id)
	return err
}

// PasskeySigned records that one has signed. What is kept of it stays: whoever signs in meanwhile changes that.
func (s *Store) PasskeySigned(ctx context.Context, id string) error {
	_, err := s.exec(ctx, `UPDATE passkey SET used = ? WHERE id = ?`, now(), id)
	return err
}

// RemovePasskey ends one of somebody's.
func (s *Store) RemovePasskey(ctx context.Context, person, id string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `DELETE FROM passkey WHERE person = ? AND id = ?`, person, id)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fmt.Errorf("passkey %s: %w", id, ErrNotFound))
		}
		return dropSpareCodes(ctx, tx, person)
	})
}

// dropSpareCodes removes spare codes that no longer stand in for anything: another factor comes with others.
func dropSpareCodes(ctx context.Context, tx *sqlx.Tx, person string) error {
	_, err := tx.ExecContext(ctx,
		`DELETE FROM spare_code WHERE person = ? AND NOT EXISTS (SELECT 1 FROM passkey WHERE person = ?)
		AND NOT EXISTS (SELECT 1 FROM person WHERE name = ? AND second IS NOT NULL)`, person, person, person)
	return err
}

// AnswerChallenge accepts a challenge once; ErrConflict if it was answered before.
func (s *Store) AnswerChallenge(ctx context.Context, hash [32]byte) error {
	if _, err := s.exec(ctx, `DELETE FROM answered_challenge WHERE at < ?
		LIMIT 100`, now().Add(-time.Hour)); err != nil {
		return err
	}
	_, err := s.exec(ctx, `INSERT INTO answered_challenge (hash, at) VALUES (?,?)`, hash[:], now())
	if duplicate(err) {
		err = fmt.Errorf("this challenge: %w", ErrConflict)
	}
	return err
}
