package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Person is a person's record.
type Person struct {
	Name       string    `db:"name"`
	Password   string    `db:"password"`
	RoleList   string    `db:"roles"`
	MustChange bool      `db:"must_change"`
	Created    time.Time `db:"created"`
}

// Roles splits the list.
func (p Person) Roles() []string { return strings.Split(p.RoleList, ",") }

// AddPerson adds somebody; ErrConflict where the name is taken.
func (s *Store) AddPerson(ctx context.Context, p Person) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO person (name, password, roles, must_change, created) VALUES (?,?,?,?,?)`,
		p.Name, p.Password, p.RoleList, p.MustChange, now())
	if duplicate(err) {
		return fmt.Errorf("person %q exists: %w", p.Name, ErrConflict)
	}
	return err
}

// Person finds somebody.
func (s *Store) Person(ctx context.Context, name string) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT name, password, roles, must_change, created FROM person WHERE name = ?`, name)
	return p, one(err, "person "+name)
}

// People lists everybody.
func (s *Store) People(ctx context.Context) (out []Person, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT name, password, roles, must_change, created FROM person ORDER BY name LIMIT 10000`)
	return out, err
}

// SetPassword stores a new password hash and ends the person's sessions.
func (s *Store) SetPassword(ctx context.Context, name, hash string, mustChange bool) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE person SET password = ?, must_change = ? WHERE name = ?`, hash, mustChange, name); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM session WHERE person = ?`, name)
		return err
	})
}

// AddSession keeps a session by the hash of its token.
func (s *Store) AddSession(ctx context.Context, tokenHash [32]byte, person string, expires time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE expires < ? LIMIT 100`, now()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO session (token_hash, person, created, expires) VALUES (?,?,?,?)`, tokenHash[:], person, now(), expires.UTC())
		return err
	})
}

// SessionPerson finds whose session a token is.
func (s *Store) SessionPerson(ctx context.Context, tokenHash [32]byte) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT p.name, p.password, p.roles, p.must_change, p.created
		FROM session s JOIN person p ON p.name = s.person WHERE s.token_hash = ? AND s.expires > ?`, tokenHash[:], now())
	return p, one(err, "session")
}

// EndSession forgets a session.
func (s *Store) EndSession(ctx context.Context, tokenHash [32]byte) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM session WHERE token_hash = ?`, tokenHash[:])
	return err
}

// SetRoles changes what somebody may do. Their sessions go on with the new roles.
func (s *Store) SetRoles(ctx context.Context, name, roles string) error {
	r, err := s.db.ExecContext(ctx, `UPDATE person SET roles = ? WHERE name = ?`, roles, name)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	_, err = s.Person(ctx, name) // the same as before, or nobody
	return err
}

// RemovePerson forgets somebody; what they did stays in the history.
func (s *Store) RemovePerson(ctx context.Context, name string) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM person WHERE name = ?`, name)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n > 0 {
		return err
	}
	return fmt.Errorf("person %s: %w", name, ErrNotFound)
}
