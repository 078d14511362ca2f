package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// A RosterEdition is the document of one edition, and whether it counts.
type RosterEdition struct {
	Digest     []byte     `db:"digest"` // SHA-256 of the document
	Number     int64      `db:"edition"`
	Document   []byte     `db:"document"`
	ProposedBy string     `db:"proposed_by"`
	Proposed   time.Time  `db:"proposed"`
	Counts     *time.Time `db:"counts"` // since when; nil of a proposal
}

const rosterColumns = `digest, edition, document, proposed_by, proposed, counts`

// maxProposals is how many editions of one number there may be.
const maxProposals = 20

// The queries of rosters, whose keys a test holds.
const (
	rosterNow   = `SELECT ` + rosterColumns + ` FROM roster_edition WHERE counting > 0 ORDER BY counting DESC LIMIT 1`
	rosterLine  = `SELECT ` + rosterColumns + ` FROM roster_edition WHERE counting > ? ORDER BY counting LIMIT ?`
	rosterNexts = `SELECT ` + rosterColumns + ` FROM roster_edition WHERE edition = ? ORDER BY proposed LIMIT 100`
	rosterSigns = `SELECT who, at, signed FROM roster_signed WHERE digest = ? ORDER BY at, key_hash LIMIT 1000`
	planSigns   = `SELECT says, who, at, signed FROM plan_signed WHERE plan = ? ORDER BY at, says, who`
	keysOf      = `SELECT ` + signingKeyColumns + ` FROM signing_key WHERE person = ? ORDER BY id LIMIT 100`
)

// Roster returns the edition that counts; ErrNotFound where there is none.
func (s *Store) Roster(ctx context.Context) (e RosterEdition, err error) {
	err = s.db.GetContext(ctx, &e, rosterNow)
	return e, one(err, "the roster")
}

// RosterEdition returns one by its digest.
func (s *Store) RosterEdition(ctx context.Context, digest []byte) (e RosterEdition, err error) {
	err = s.db.GetContext(ctx, &e, `SELECT `+rosterColumns+` FROM roster_edition WHERE digest = ?`, digest)
	return e, one(err, "this edition of the roster")
}

// RosterLine returns the editions that count behind a number, in their order.
func (s *Store) RosterLine(ctx context.Context, after int64, limit int) (out []RosterEdition, err error) {
	err = s.db.SelectContext(ctx, &out, rosterLine, after, limit)
	return out, err
}

// RosterProposals returns all editions of a number, the oldest first.
func (s *Store) RosterProposals(ctx context.Context, number int64) (out []RosterEdition, err error) {
	err = s.db.SelectContext(ctx, &out, rosterNexts, number)
	return out, err
}

// ProposeRoster stores an edition that does not count yet. The same one again changes nothing.
func (s *Store) ProposeRoster(ctx context.Context, e RosterEdition) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var n int
		if err := tx.GetContext(ctx, &n, `SELECT COUNT(*) FROM roster_edition WHERE edition = ? AND digest <> ?`,
			e.Number, e.Digest); err != nil {
			return err
		}
		if n >= maxProposals {
			return fmt.Errorf("%d proposals of edition %d are there: withdraw some first: %w", n, e.Number, ErrConflict)
		}
		_, err := tx.ExecContext(ctx, `INSERT IGNORE INTO roster_edition (digest, edition, document, proposed_by,
			proposed) VALUES (?,?,?,?,?)`, e.Digest, e.Number, e.Document, e.ProposedBy, now())
		return err
	})
}

// FoundRoster has a first edition count, in place of another one that no host acts by.
func (s *Store) FoundRoster(ctx context.Context, e RosterEdition) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var late, hosts int
		if err := tx.GetContext(ctx, &late, `SELECT COUNT(*) FROM roster_edition WHERE counting > 1`); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &hosts, `SELECT COUNT(*) FROM host WHERE roster_edition > 0`); err != nil {
			return err
		}
		if late > 0 || hosts > 0 {
			return fmt.Errorf("there is a roster that %d hosts act by: propose the edition that follows on it: %w",
				hosts, ErrConflict)
		}

		if _, err := tx.ExecContext(ctx, `DELETE FROM roster_edition WHERE edition >= 1`); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO roster_edition (digest, edition, counting, document, proposed_by,
			proposed, counts) VALUES (?,1,1,?,?,?,?)`, e.Digest, e.Document, e.ProposedBy, now(), now())
		if duplicate(err) {
			err = fmt.Errorf("somebody else has just founded a roster: %w", ErrConflict)
		}
		return err
	})
}

// WithdrawRoster removes an edition that does not count.
func (s *Store) WithdrawRoster(ctx context.Context, digest []byte) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM roster_edition WHERE digest = ? AND counting IS NULL`, digest)
	return changed(r, err, "an edition of the roster that counts")
}

// A Signature is what somebody signed of something, as JSON; what it is of and whether it is one, the app checks.
type Signature struct {
	Says   string    `db:"says"` // of plans
	Who    string    `db:"who"`
	At     time.Time `db:"at"`
	Signed []byte    `db:"signed"`
}

// RosterSignatures returns what people have signed of an edition, the first first.
func (s *Store) RosterSignatures(ctx context.Context, digest []byte) (out []Signature, err error) {
	err = s.db.SelectContext(ctx, &out, rosterSigns, digest)
	return out, err
}

// SignRoster adds what a key signed of an edition. Once what is there is enough the edition counts; ErrConflict if
// another one of its number does.
func (s *Store) SignRoster(
	ctx context.Context, digest, keyHash []byte, g Signature, enough func([]Signature) bool,
) (counts bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		counts = false
		if _, err := tx.ExecContext(ctx, `INSERT INTO roster_signed (digest, key_hash, who, at, signed)
			VALUES (?,?,?,?,?) ON DUPLICATE KEY UPDATE at = VALUES(at), signed = VALUES(signed)`, digest, keyHash, g.Who,
			now(), g.Signed); err != nil {
			return err
		}

		var all []Signature
		if err := tx.SelectContext(ctx, &all, rosterSigns, digest); err != nil || !enough(all) {
			return err
		}
		counts = true
		_, err := tx.ExecContext(ctx, `UPDATE roster_edition SET counting = edition, counts = ?
			WHERE digest = ? AND counting IS NULL`, now(), digest)
		if duplicate(err) {
			err = fmt.Errorf("another edition of this number counts by now: %w", ErrConflict)
		}
		return err
	})
	return counts, err
}

// PlanSignatures returns what people have signed of a plan, the first first.
func (s *Store) PlanSignatures(ctx context.Context, plan string) (out []Signature, err error) {
	err = s.db.SelectContext(ctx, &out, planSigns, plan)
	return out, err
}

// signPlan adds what somebody signed of a plan; nothing where there is nothing.
func signPlan(ctx context.Context, tx *sqlx.Tx, plan string, g Signature) error {
	if len(g.Signed) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO plan_signed (plan, says, who, at, signed) VALUES (?,?,?,?,?)
		ON DUPLICATE KEY UPDATE at = VALUES(at), signed = VALUES(signed)`, plan, g.Says, g.Who, now(), g.Signed)
	return err
}

// A SigningKey is the public half of an SSH key that somebody wants to sign by.
type SigningKey struct {
	ID      string     `db:"id"`
	Person  string     `db:"person"`
	Name    string     `db:"name"`
	Hash    []byte     `db:"hash"` // SHA-256 of the text
	Text    string     `db:"text"`
	Created time.Time  `db:"created"`
	Used    *time.Time `db:"used"`
}

const signingKeyColumns = `id, person, name, hash, text, created, used`

// maxSigningKeys is how many somebody may have.
const maxSigningKeys = 20

// AddSigningKey stores one. A key is one person's.
func (s *Store) AddSigningKey(ctx context.Context, k SigningKey) (SigningKey, error) {
	k.ID, k.Created = NewID(), now()
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		var has int
		if err := tx.GetContext(ctx, &has, `SELECT COUNT(*) FROM signing_key WHERE person = ?`, k.Person); err != nil {
			return err
		}
		if has >= maxSigningKeys {
			return fmt.Errorf("%s has %d keys: remove some first: %w", k.Person, has, ErrConflict)
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO signing_key (id, person, name, hash, text, created)
			VALUES (?,?,?,?,?,?)`, k.ID, k.Person, k.Name, k.Hash, k.Text, k.Created)
		if duplicate(err) {
			err = fmt.Errorf("this key is registered already: %w", ErrConflict)
		}
		return err
	})
	return k, err
}

// SigningKeys lists somebody's.
func (s *Store) SigningKeys(ctx context.Context, person string) (out []SigningKey, err error) {
	err = s.db.SelectContext(ctx, &out, keysOf, person)
	return out, err
}

// AllSigningKeys lists everybody's, by person.
func (s *Store) AllSigningKeys(ctx context.Context) (out []SigningKey, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+signingKeyColumns+` FROM signing_key ORDER BY person, id LIMIT 10000`)
	return out, err
}

// UseSigningKey records that a key has signed.
func (s *Store) UseSigningKey(ctx context.Context, hash []byte) error {
	_, err := s.exec(ctx, `UPDATE signing_key SET used = ? WHERE hash = ?`, now(), hash)
	return err
}

// RemoveSigningKey ends one of somebody's.
func (s *Store) RemoveSigningKey(ctx context.Context, person, id string) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM signing_key WHERE person = ? AND id = ?`, person, id)
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fmt.Errorf("key %s: %w", id, ErrNotFound))
	}
	return nil
}
