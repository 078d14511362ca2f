package store

import (
	"context"
	"time"
)

// Waiver is an accepted finding, or many.
type Waiver struct {
	ID          string     `db:"id"`
	Application string     `db:"application"`
	Host        string     `db:"host"` // "" is every host
	Pattern     string     `db:"pattern"`
	Rule        string     `db:"rule_name"`
	Kind        string     `db:"kind"`
	Aspect      string     `db:"aspect"`
	Found       string     `db:"found"`
	FoundValue  string     `db:"found_value"` // what Found stands for on the host; "" where nobody knows it
	Reason      string     `db:"reason"`
	Author      string     `db:"author"`
	Created     time.Time  `db:"created"`
	Ends        time.Time  `db:"ends"`
	WithdrawnBy string     `db:"withdrawn_by"`
	Withdrawn   *time.Time `db:"withdrawn"`
}

// Counts reports whether a waiver still accepts anything.
func (w Waiver) Counts(at time.Time) bool { return w.Withdrawn == nil && w.Ends.After(at) }

const waiverColumns = `id, application, host, pattern, rule_name, kind, aspect, found, found_value, reason, author,
	created, ends, withdrawn_by, withdrawn`

// maxWaivers bounds how many waivers of an application count at once.
const maxWaivers = 2000

// AddWaiver keeps a waiver.
func (s *Store) AddWaiver(ctx context.Context, w Waiver) (string, error) {
	w.ID = NewID()
	_, err := s.db.ExecContext(ctx,
		`INSERT INTO waiver (id, application, host, pattern, rule_name, kind, aspect, found, found_value, reason,
			author, created, ends) VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?)`,
		w.ID, w.Application, w.Host, w.Pattern, w.Rule, w.Kind, w.Aspect, w.Found, w.FoundValue, w.Reason, w.Author,
		now(), w.Ends.UTC())
	return w.ID, err
}

// LearnWaiver stores what the words of a waiver stand for. Those of one for every host stand for something else on
// each, and stay words.
func (s *Store) LearnWaiver(ctx context.Context, id, value string) error {
	_, err := s.db.ExecContext(ctx,
		`UPDATE waiver SET found_value = ? WHERE id = ? AND found_value = '' AND host <> ''`, value, id)
	return err
}

// Waiver finds a waiver.
func (s *Store) Waiver(ctx context.Context, id string) (w Waiver, err error) {
	err = s.db.GetContext(ctx, &w, `SELECT `+waiverColumns+` FROM waiver WHERE id = ?`, id)
	return w, one(err, "waiver "+id)
}

// CountingWaivers lists the waivers of an application that count now, soonest to end first.
func (s *Store) CountingWaivers(ctx context.Context, application string) (out []Waiver, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+waiverColumns+
			` FROM waiver WHERE application = ? AND ends > ? AND withdrawn IS NULL ORDER BY ends, id LIMIT ?`,
		application, now(), maxWaivers)
	return out, err
}

// Waivers lists all waivers of an application, those that end last first, those that ended and were withdrawn
// included: behind one of them, or from the first on.
func (s *Store) Waivers(ctx context.Context, application, after string, limit int) (out []Waiver, err error) {
	behind, args := "", []any{application}
	if after != "" {
		last, err := s.Waiver(ctx, after)
		if err != nil {
			return nil, err
		}
		behind, args = ` AND (ends, id) < (?, ?) AND ends <= ?`, append(args, last.Ends, last.ID, last.Ends)
	}
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+waiverColumns+` FROM waiver WHERE application = ?`+behind+` ORDER BY ends DESC, id DESC LIMIT ?`,
		append(args, limit)...)
	return out, err
}

// CountWaivers counts all waivers of an application.
func (s *Store) CountWaivers(ctx context.Context, application string) (int64, error) {
	return s.count(ctx, `SELECT COUNT(*) FROM waiver WHERE application = ?`, application)
}

// WithdrawWaiver ends a waiver before its time.
func (s *Store) WithdrawWaiver(ctx context.Context, id, by string) error {
	r, err := s.db.ExecContext(ctx,
		`UPDATE waiver SET withdrawn = ?, withdrawn_by = ? WHERE id = ? AND withdrawn IS NULL AND ends > ?`, now(), by,
		id, now())
	return changed(r, err, "waiver "+id+", which ended or was withdrawn before,")
}
