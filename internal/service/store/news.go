package store

import (
	"context"
	"strings"
	"time"

	"idletally/internal/wire"
)

// newsKept is how long somebody is told of what has changed in how they sign in.
const newsKept = 90 * 24 * time.Hour

// News lists the newest lines of the history that are about somebody and of some kinds, behind one, at most so many; the newest is first.
func (s *Store) News(ctx context.Context, person, after string, kinds []string, limit int) (out []wire.History, err error) {
	args := []any{person, after, now().Add(-newsKept)}
	for _, k := range kinds {
		args = append(args, k)
	}
	err = s.db.SelectContext(ctx, &out, `SELECT id, at, who, token, what, subject, detail FROM audit WHERE subject = ? AND id > ? AND at > ?
		AND what IN (?`+strings.Repeat(",?", len(kinds)-1)+`) ORDER BY id DESC LIMIT ?`, append(args, limit)...)
	return out, err
}

// SetTold notes up to which line of the history somebody was told: it never goes back, nor beyond what there is.
func (s *Store) SetTold(ctx context.Context, person, line string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE person SET told = GREATEST(told, LEAST(?, (SELECT MAX(id) FROM audit))) WHERE name = ?`, line, person)
	return err
}
