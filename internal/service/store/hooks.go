package store

import (
	"context"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// Hook is where a program wants to be told of events.
type Hook struct {
	ID          string     `db:"id"`
	Application string     `db:"application"` // "": every one
	URL         string     `db:"url"`
	KindList    string     `db:"kinds"`
	Severity    string     `db:"severity"`      // of findings: from this on
	Every       int        `db:"every_minutes"` // what is told is gathered for so long; 0: at once
	Effect      string     `db:"effect"`        // of findings: opens or closes alone
	Author      string     `db:"author"`
	Created     time.Time  `db:"created"`
	Told        *time.Time `db:"told"`  // when something was delivered last
	Fault       string     `db:"fault"` // why the last delivery failed
}

// Kinds splits the list.
func (h Hook) Kinds() []string { return strings.Split(h.KindList, ",") }

const hookColumns = `id, application, url, kinds, severity, every_minutes, effect, author, created, told, fault`

// AddHook keeps a hook.
func (s *Store) AddHook(ctx context.Context, h Hook) (Hook, error) {
	h.ID, h.Created = NewID(), now()
	if err := s.room(ctx, maxHooks, "hooks", `SELECT COUNT(*) FROM hook`); err != nil {
		return h, err
	}
	_, err := s.db.NamedExecContext(ctx,
		`INSERT INTO hook (id, application, url, kinds, severity, every_minutes, effect, author, created, fault)
			VALUES (:id, :application, :url, :kinds, :severity, :every_minutes, :effect, :author, :created, '')`,
		h)
	return h, err
}

// Hooks lists all.
func (s *Store) Hooks(ctx context.Context) (out []Hook, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+hookColumns+` FROM hook ORDER BY id LIMIT ?`, maxHooks+somewhat)
	return out, err
}

// Hook finds one.
func (s *Store) Hook(ctx context.Context, id string) (h Hook, err error) {
	err = s.db.GetContext(ctx, &h, `SELECT `+hookColumns+` FROM hook WHERE id = ?`, id)
	return h, one(err, "hook "+id)
}

// RemoveHook removes a hook, and its notices.
func (s *Store) RemoveHook(ctx context.Context, id string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM hook WHERE id = ?`, id)
	return err
}

// A Notice is something to be told.
type Notice struct {
	ID    string    `db:"id"`
	Hook  string    `db:"hook"`
	Body  string    `db:"body"`
	Tries int       `db:"tries"`
	Next  time.Time `db:"next"`
}

// maxNotices bounds what waits for one hook: one that does not listen is told no more than that.
const maxNotices = 10_000

// AddNotice has something told, unless too much waits for that hook already.
func (s *Store) AddNotice(ctx context.Context, n Notice) error {
	_, err := s.db.ExecContext(ctx,
		`INSERT INTO notice (id, hook, body, next) SELECT ?, ?, ?, ? FROM DUAL WHERE (SELECT COUNT(*) FROM notice
			WHERE hook = ?) < ?`,
		n.ID, n.Hook, n.Body, n.Next.UTC(), n.Hook, maxNotices)
	return err
}

// ClaimNotices claims what is due now, for so long; of several instances one gets each.
func (s *Store) ClaimNotices(
	ctx context.Context, at time.Time, lease time.Duration, limit int,
) (mine []Notice, err error) {
	var ripe []Notice
	if err := s.db.SelectContext(ctx, &ripe,
		`SELECT id, hook, body, tries, next FROM notice WHERE next <= ? ORDER BY next LIMIT ?`, at.UTC(),
		limit); err != nil {
		return nil, err
	}

	for _, n := range ripe {
		got, err := s.exec(ctx, `UPDATE notice SET tries = tries + 1, next = ? WHERE id = ? AND tries = ?`,
			at.UTC().Add(lease), n.ID, n.Tries)
		if err != nil {
			return mine, err
		}
		if got > 0 {
			n.Tries++
			mine = append(mine, n)
		}
	}

	return mine, nil
}

// Told records that something was delivered.
func (s *Store) Told(ctx context.Context, n Notice) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM notice WHERE id = ?`, n.ID); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE hook SET told = ?, fault = '' WHERE id = ?`, now(), n.Hook)
		return err
	})
}

// NotTold records why something was not, and when that is tried again; with a zero time never.
func (s *Store) NotTold(ctx context.Context, n Notice, why string, again time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) (err error) {
		if again.IsZero() {
			_, err = tx.ExecContext(ctx, `DELETE FROM notice WHERE id = ?`, n.ID)
		} else {
			_, err = tx.ExecContext(ctx, `UPDATE notice SET next = ? WHERE id = ?`, again.UTC(), n.ID)
		}
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE hook SET fault = ? WHERE id = ?`, clip(why, 2000), n.Hook)
		return err
	})
}
