package store

import (
	"context"
	"time"
)

// Unknown is an application on a host whose present state is not known; or was, until hooks are told.
type Unknown struct {
	Application string    `db:"application"`
	Host        string    `db:"host"`
	State       string    `db:"state"` // "": it is known again
	Since       time.Time `db:"since"`
	Told        string    `db:"told"` // state that hooks were told of; "": of none
}

// Unknowns lists them.
func (s *Store) Unknowns(ctx context.Context) (out []Unknown, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT application, host, state, since, told FROM unknown ORDER BY application, host LIMIT ?`, maxCurrent)
	return out, err
}

// SetUnknown records in which state a place is since when.
func (s *Store) SetUnknown(ctx context.Context, u Unknown) error {
	_, err := s.exec(ctx, `INSERT INTO unknown (application, host, state, since) VALUES (?,?,?,?)
		ON DUPLICATE KEY UPDATE since = IF(state = VALUES(state), since, VALUES(since)),
		state = VALUES(state)`, u.Application,
		u.Host, u.State, u.Since.UTC().Truncate(time.Millisecond))
	return err
}

// TellUnknown records that hooks are told of a place's state; of several instances one tells them.
func (s *Store) TellUnknown(ctx context.Context, u Unknown) (mine bool, err error) {
	n, err := s.exec(ctx,
		`UPDATE unknown SET told = state WHERE application = ? AND host = ? AND state = ? AND told = ?
			AND told <> state`, u.Application,
		u.Host, u.State, u.Told)
	return n > 0, err
}

// DropKnown removes a place that is known again, and of which hooks need not hear any more.
func (s *Store) DropKnown(ctx context.Context, u Unknown) error {
	_, err := s.exec(ctx, `DELETE FROM unknown WHERE application = ? AND host = ? AND state = '' AND told = ''`,
		u.Application, u.Host)
	return err
}
