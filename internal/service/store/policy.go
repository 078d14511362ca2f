package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"idletally/internal/wire"
)

// A Policy is what is in force for people and their sessions, and what will be.
type Policy struct {
	Began *time.Time // when the first person was made; nil where an earlier version made them
	Says  wire.Policy
	Next  *wire.Policy // nil where nothing is to change
	From  time.Time    // when the next one holds
	By    string       // who wants it

	row policyRow // as it is stored
}

type policyRow struct {
	Began *time.Time `db:"began"`
	Says  string     `db:"says"`
	Next  *string    `db:"next"`
	From  *time.Time `db:"next_from"`
	By    string     `db:"next_by"`
}

// Policy returns what is in force now.
func (s *Store) Policy(ctx context.Context) (p Policy, err error) {
	var row policyRow
	if err := s.db.GetContext(ctx, &row,
		`SELECT began, says, next, next_from, next_by FROM policy WHERE name = 'service'`); err != nil {
		return p, one(err, "the policy")
	}

	p.Began, p.row = row.Began, row
	if err := json.Unmarshal([]byte(row.Says), &p.Says); err != nil {
		return p, fmt.Errorf("the policy: %w", err)
	}
	if row.Next == nil || row.From == nil {
		return p, nil
	}
	var next wire.Policy
	if err := json.Unmarshal([]byte(*row.Next), &next); err != nil {
		return p, fmt.Errorf("the next policy: %w", err)
	}

	if !row.From.After(now()) {
		p.Says = next
		return p, nil
	}

	p.Next = &next
	p.From = *row.From
	p.By = row.By
	return p, nil
}

// SetPolicy puts another policy in force from a time on, and cancels what was to come next. One that is in force at
// once stays so whatever the clock says later: no clock that is set back revives the one before. was is what Policy
// returned: ErrStale if somebody has changed it since, so that nobody undoes in passing what another one has just
// made stricter.
func (s *Store) SetPolicy(ctx context.Context, to wire.Policy, from time.Time, by string, was Policy) error {
	holds, later := was.Says, &to
	if !from.After(time.Now()) {
		holds, later = to, nil
	}

	says, err := json.Marshal(holds)
	if err != nil {
		return err
	}

	var next *string
	if later != nil {
		b, err := json.Marshal(later)
		if err != nil {
			return err
		}

		text := string(b)
		next = &text
	}

	n, err := s.exec(ctx,
		`UPDATE policy SET says = ?, next = ?, next_from = ?, next_by = ? WHERE name = 'service' AND says = ?
			AND next <=> ? AND next_from <=> ?`,
		string(says), next, from.UTC(), by, was.row.Says, was.row.Next, was.row.From)
	if err == nil && n == 0 {
		err = fmt.Errorf("the policy: %w", ErrStale)
	}

	return err
}

// BeginPolicy records that the first person was added.
func (s *Store) BeginPolicy(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE policy SET began = ? WHERE name = 'service' AND began IS NULL`, now())
	return err
}
