package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/service/auth"
)

// Person is a person's record.
type Person struct {
	Name       string     `db:"name"`
	Password   string     `db:"password"`
	RoleList   string     `db:"roles"`
	MustChange bool       `db:"must_change"`    // the password is a one-time one
	Until      *time.Time `db:"password_until"` // which is good until then
	Created    time.Time  `db:"created"`

	Second     []byte `db:"second"` // sealed; nil where there is none
	SecondNext []byte `db:"second_next"`
	SecondUsed int64  `db:"second_used"` // the step of the last code that counted

	Provider bool `db:"provider"` // signs in by way of another service

	CountsFrom *time.Time `db:"counts_from"` // from when on approvals count; nil is always

	Told string `db:"told"` // the line of the history up to which they were told what has changed in how they sign in
}

const personColumns = `p.name, p.password, p.roles, p.must_change, p.password_until, p.created, p.second,
	p.second_next, p.second_used, p.provider, p.counts_from, p.told`

// A Session is somebody's sign-in.
type Session struct {
	ID      string       `db:"id"`
	What    string       `db:"what"`
	Created time.Time    `db:"created"`
	Expires time.Time    `db:"expires"`
	Turned  sql.NullTime `db:"turned"` // when its token became another one
	Used    *time.Time   `db:"used"`   // last, by somebody who is there; to the minute
	Shown   *time.Time   `db:"shown"`  // when its person last showed who they are
}

// Roles splits the list.
func (p Person) Roles() auth.Roles { return strings.Split(p.RoleList, ",") }

// AddPerson adds somebody; ErrConflict where the name is taken.
func (s *Store) AddPerson(ctx context.Context, p Person) error {
	if err := s.room(ctx, maxPeople, "people", `SELECT COUNT(*) FROM person`); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx,
		`INSERT INTO person (name, password, roles, must_change, password_until, created, provider, counts_from)
			VALUES (?,?,?,?,?,?,?,?)`,
		p.Name, p.Password, p.RoleList, p.MustChange, untilOf(p.MustChange), now(), p.Provider, p.CountsFrom)
	if duplicate(err) {
		return fmt.Errorf("person %q exists: %w", p.Name, ErrConflict)
	}
	return err
}

// Person finds somebody.
func (s *Store) Person(ctx context.Context, name string) (p Person, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT `+personColumns+` FROM person p WHERE p.name = ?`, name)
	return p, one(err, "person "+name)
}

// PersonOf returns the person linked to a provider's subject. On first sign-in it links the person called name, if they
// may use the provider and are not linked yet.
func (s *Store) PersonOf(ctx context.Context, subject, name string) (p Person, err error) {
	if len(subject) > 255 {
		return p, fmt.Errorf("subject: %w", ErrNotFound)
	}

	find := `SELECT ` + personColumns + ` FROM person p WHERE p.subject = ? AND p.provider`
	err = s.db.GetContext(ctx, &p, find, subject)
	if !errors.Is(err, sql.ErrNoRows) {
		return p, err
	}

	n, err := s.exec(ctx, `UPDATE person SET subject = ? WHERE name = ? AND provider
		AND subject IS NULL`, subject, name)
	if err != nil {
		return p, err
	}
	if n == 0 {
		return p, fmt.Errorf("person %q of a provider: %w", name, ErrNotFound)
	}

	return p, s.db.GetContext(ctx, &p, find, subject)
}

// People lists everybody.
func (s *Store) People(ctx context.Context) (out []Person, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+personColumns+` FROM person p ORDER BY p.name LIMIT ?`,
		maxPeople+somewhat)
	return out, err
}

// oneTimeLife is how long a one-time password is good.
const oneTimeLife = 24 * time.Hour

func untilOf(oneTime bool) *time.Time {
	if !oneTime {
		return nil
	}
	until := now().Add(oneTimeLife)
	return &until
}

// A NewPassword replaces another one, and ends what was begun with that.
type NewPassword struct {
	Hash        string
	OneTime     bool   // it is good for a day
	KeepTokens  bool   // whoever had the old one may have made some
	KeepSession string // the id of the one that stays; "" ends all

	CountsFrom *time.Time // from when on approvals of the person count; nil leaves that
}

// SetPassword sets a person's new password, and ends their sessions and tokens.
func (s *Store) SetPassword(ctx context.Context, name string, p NewPassword) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`UPDATE person SET password = ?, must_change = ?, password_until = ?, counts_from = COALESCE(?,
				counts_from) WHERE name = ?`,
			p.Hash, p.OneTime, untilOf(p.OneTime), p.CountsFrom, name); err != nil {
			return err
		}
		if !p.KeepTokens {
			if _, err := tx.ExecContext(ctx, `DELETE FROM token WHERE person = ?`, name); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM session WHERE person = ? AND id <> ?`, name, p.KeepSession)
		return err
	})
}

// AddSession stores a session by the hash of its token; what says where it was begun, and shown when its person
// showed who they are.
func (s *Store) AddSession(
	ctx context.Context, tokenHash [32]byte, person, what string, expires, shown time.Time,
) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM session WHERE expires < ? LIMIT 100`, now()); err != nil {
			return err
		}

		_, err := tx.ExecContext(ctx,
			`INSERT INTO session (token_hash, person, created, expires, id, what, used, shown)
				VALUES (?,?,?,?,?,?,?,?)`,
			tokenHash[:], person, now(), expires.UTC(), NewID(), clip(what, 160), now(), shown.UTC())
		if err != nil {
			return err
		}

		var n int
		if err := tx.GetContext(ctx, &n, `SELECT COUNT(*) FROM session WHERE person = ?`, person); err != nil ||
			n <= maxSessions {
			return err
		}

		_, err = tx.ExecContext(ctx, `DELETE FROM session WHERE person = ? ORDER BY created, id LIMIT ?`, person,
			n-maxSessions)
		return err
	})
}

// beforeCounts is how long a session's token is valid after another one replaced it: calls may be under way with it.
const beforeCounts = time.Minute

// SessionPerson finds whose session a token is.
func (s *Store) SessionPerson(ctx context.Context, tokenHash [32]byte) (p Person, x Session, err error) {
	var row struct {
		Person
		ID      string       `db:"id"`
		Begun   time.Time    `db:"begun"`
		Expires time.Time    `db:"expires"`
		Turned  sql.NullTime `db:"turned"`
		Used    *time.Time   `db:"used"`
		Shown   *time.Time   `db:"shown"`
	}

	err = s.db.GetContext(ctx, &row,
		`SELECT `+personColumns+
			`, s.id, s.created AS begun, s.expires, s.turned, s.used, s.shown FROM session s
				JOIN person p ON p.name = s.person WHERE s.token_hash = ? AND s.expires > ?
		UNION ALL SELECT `+personColumns+
			`, s.id, s.created, s.expires, s.turned, s.used, s.shown FROM session s JOIN person p ON p.name = s.person
				WHERE s.before_hash = ? AND s.turned > ? AND s.expires > ? LIMIT 1`,
		tokenHash[:], now(), tokenHash[:], now().Add(-beforeCounts), now())

	return row.Person,
		Session{
			ID:      row.ID,
			Created: row.Begun,
			Expires: row.Expires,
			Turned:  row.Turned,
			Used:    row.Used,
			Shown:   row.Shown,
		},
		one(err, "session")
}

// UseSession records that somebody is there.
func (s *Store) UseSession(ctx context.Context, id string) error {
	_, err := s.exec(ctx, `UPDATE session SET used = ? WHERE id = ?`, now(), id)
	return err
}

// ShowSession records that its person has shown who they are.
func (s *Store) ShowSession(ctx context.Context, id string) error {
	_, err := s.exec(ctx, `UPDATE session SET shown = ? WHERE id = ?`, now(), id)
	return err
}

// SessionStands reports whether a session, or otherwise a token, is still valid; a session that nobody used since a
// time is not.
func (s *Store) SessionStands(
	ctx context.Context, session string, token [32]byte, usedSince time.Time,
) (stands bool, err error) {
	if session != "" {
		err = s.db.GetContext(ctx, &stands,
			`SELECT EXISTS (SELECT 1 FROM session WHERE id = ? AND expires > ? AND used > ?)`, session, now(),
			usedSince.UTC())
	} else {
		err = s.db.GetContext(ctx, &stands, `SELECT EXISTS (SELECT 1 FROM token WHERE token_hash = ? AND expires > ?)`,
			token[:], now())
	}
	return stands, err
}

// TurnSession gives a session another token; ErrConflict if that was done already.
func (s *Store) TurnSession(ctx context.Context, from, to [32]byte) error {
	r, err := s.db.ExecContext(ctx,
		`UPDATE session SET token_hash = ?, before_hash = ?, turned = ? WHERE token_hash = ?`, to[:], from[:], now(),
		from[:])
	return changed(r, err, "session")
}

// Sessions lists somebody's.
func (s *Store) Sessions(ctx context.Context, person string) (out []Session, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT id, what, created, expires, turned FROM session WHERE person = ? AND expires > ? ORDER BY created DESC
			LIMIT ?`,
		person, now(), maxSessions+somewhat)
	return out, err
}

// EndSessions ends one of somebody's sessions, or with "" all but one that is kept.
func (s *Store) EndSessions(ctx context.Context, person, id, keep string) (int64, error) {
	if id != "" {
		return s.exec(ctx, `DELETE FROM session WHERE person = ? AND id = ?`, person, id)
	}
	return s.exec(ctx, `DELETE FROM session WHERE person = ? AND id <> ?`, person, keep)
}

// ProposeSecond stores a second factor that is not confirmed yet.
func (s *Store) ProposeSecond(ctx context.Context, person string, sealed []byte) error {
	_, err := s.db.ExecContext(ctx, `UPDATE person SET second_next = ? WHERE name = ?`, sealed, person)
	return err
}

// ConfirmSecond turns the proposed one on, with spare codes that replace the former ones. Other sessions end.
func (s *Store) ConfirmSecond(
	ctx context.Context, person string, sealed []byte, step int64, spare [][32]byte, keep string,
) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE person SET second = second_next, second_next = NULL, second_used = ? WHERE name = ?
				AND second_next = ?`,
			step, person, sealed)
		if err := changed(r, err, "the second factor that was to be confirmed"); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM spare_code WHERE person = ?`, person); err != nil {
			return err
		}

		for _, h := range spare {
			if _, err := tx.ExecContext(ctx, `INSERT INTO spare_code (hash, person)
				VALUES (?,?)`, h[:], person); err != nil {
				return err
			}
		}

		_, err = tx.ExecContext(ctx, `DELETE FROM session WHERE person = ? AND id <> ?`, person, keep)
		return err
	})
}

// EachTwoFactor replaces each second factor by what change returns, proposed ones included.
func (s *Store) EachTwoFactor(ctx context.Context, change func(person string, sealed []byte) ([]byte, error)) error {
	for _, column := range []string{"second", "second_next"} {
		var rows []struct {
			Name   string `db:"name"`
			Sealed []byte `db:"sealed"`
		}
		if err := s.db.SelectContext(ctx, &rows,
			`SELECT name, `+column+` AS sealed FROM person WHERE `+column+` IS NOT NULL`); err != nil {
			return err
		}
		for _, r := range rows {
			to, err := change(r.Name, r.Sealed)
			if err != nil {
				return err
			}
			if _, err := s.exec(ctx, `UPDATE person SET `+column+` = ? WHERE name = ? AND `+column+` = ?`, to, r.Name,
				r.Sealed); err != nil {
				return err
			}
		}
	}

	return nil
}

// UseTwoFactor uses up a step.
func (s *Store) UseTwoFactor(ctx context.Context, person string, step int64) error {
	r, err := s.db.ExecContext(ctx, `UPDATE person SET second_used = ? WHERE name = ? AND second_used < ?`, step,
		person, step)
	return changed(r, err, "this code")
}

// UseSpare uses up a spare code, by either of the hashes that may be stored of it.
func (s *Store) UseSpare(ctx context.Context, person string, hash, before [32]byte) (bool, error) {
	n, err := s.exec(ctx, `DELETE FROM spare_code WHERE hash IN (?, ?) AND person = ?`, hash[:], before[:], person)
	return n > 0, err
}

// DropCode turns somebody's one-time codes off; their passkeys stay.
func (s *Store) DropCode(ctx context.Context, person string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE person SET second = NULL, second_next = NULL WHERE name = ? AND second IS NOT NULL`, person)
		if err := changed(r, err, person+" signs in without codes"); err != nil {
			return err
		}
		return dropSpareCodes(ctx, tx, person)
	})
}

// DropTwoFactor removes all second factors of somebody, passkeys included; countsFrom says from when on their
// approvals count, nil leaves that.
func (s *Store) DropTwoFactor(ctx context.Context, person string, countsFrom *time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var has bool
		if err := tx.GetContext(ctx, &has,
			`SELECT second IS NOT NULL OR EXISTS (SELECT 1 FROM passkey WHERE person = ?) FROM person WHERE name = ?`,
			person, person); err != nil {
			return one(err, "person "+person)
		}
		if !has {
			return fmt.Errorf("%s has no second factor: %w", person, ErrConflict)
		}

		for _, q := range []string{
			`DELETE FROM passkey WHERE person = ?`, `DELETE FROM spare_code WHERE person = ?`,
			`UPDATE person SET second = NULL, second_next = NULL WHERE name = ?`,
		} {
			if _, err := tx.ExecContext(ctx, q, person); err != nil {
				return err
			}
		}

		_, err := tx.ExecContext(ctx, `UPDATE person SET counts_from = COALESCE(?, counts_from) WHERE name = ?`,
			countsFrom, person)
		return err
	})
}

// EndSession removes a session.
func (s *Store) EndSession(ctx context.Context, tokenHash [32]byte) (ended bool, err error) {
	n, err := s.exec(ctx, `DELETE FROM session WHERE token_hash = ? OR before_hash = ?`, tokenHash[:], tokenHash[:])
	return n > 0, err
}

// SetRoles changes what somebody may do; with was only if they may do this. Their sessions go on with the new roles.
// countsFrom says from when on their approvals count; nil leaves that.
func (s *Store) SetRoles(ctx context.Context, name, roles string, was *string, countsFrom *time.Time) error {
	return s.replace(ctx, "the roles of "+name, roles, was,
		`UPDATE person SET roles = ?, counts_from = COALESCE(?, counts_from) WHERE name = ?
			AND roles = COALESCE(?, roles)`,
		[]any{roles, countsFrom, name, was}, func() (string, error) {
			p, err := s.Person(ctx, name)
			return p.RoleList, err
		})
}

// RemovePerson removes somebody; what they did stays in the history.
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
