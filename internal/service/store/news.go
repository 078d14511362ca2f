package store

import (
	"context"
	"strings"
	"time"
)

// newsKept is how long somebody is told of what has changed in how they sign in.
const newsKept = 90 * 24 * time.Hour

// News is what the history says of somebody by lines of one kind and of one doer.
type News struct {
	What   string    `db:"what"`
	Who    string    `db:"who"`
	Detail string    `db:"detail"` // of the last
	Times  int       `db:"times"`
	First  time.Time `db:"first"`
	Last   time.Time `db:"last"`
	Line   string    `db:"line"` // the last
}

// News returns what the history says of somebody by lines of some kinds after one, the newest first, at most so many.
// However many lines there are of one kind, they hide none of another.
func (s *Store) News(ctx context.Context, person, after string, kinds []string, limit int) (out []News, err error) {
	args := []any{person, after, now().Add(-newsKept)}
	for _, k := range kinds {
		args = append(args, k)
	}
	err = s.db.SelectContext(ctx, &out, `SELECT n.what, n.who, l.detail, n.times, n.first, n.last, n.line FROM (
			SELECT what, who, COUNT(*) AS times, MIN(at) AS first, MAX(at) AS last, MAX(id) AS line FROM audit
			WHERE subject = ? AND id > ? AND at > ?
			AND what IN (?`+strings.Repeat(",?", len(kinds)-1)+`) GROUP BY what, who) n
		JOIN audit l ON l.id = n.line ORDER BY n.line DESC LIMIT ?`, append(args, limit)...)
	return out, err
}

// SetTold records up to which line of the history somebody was told: it never goes back, nor beyond what there is.
func (s *Store) SetTold(ctx context.Context, person, line string) error {
	_, err := s.db.ExecContext(ctx,
		`UPDATE person SET told = GREATEST(told, LEAST(?, (SELECT MAX(id) FROM audit))) WHERE name = ?`, line, person)
	return err
}
