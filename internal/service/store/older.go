package store

import (
	"context"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"idletally/internal/core/chain"
)

// tieAtOnce is how many older lines get their numbers and hashes together.
const tieAtOnce = 500

// errFaster says that another instance has changed the history meanwhile.
var errFaster = errors.New("another one was faster")

// TieOlder makes a line of the history cover those that were written before there was a chain: they get numbers up to
// 0, and hashes like any other. It resumes where it was interrupted; several instances may be at it. Lines that were
// put among them, or removed, and an end that this service did not sign, stay visible as such: nothing is tied then.
func (s *Store) TieOlder(ctx context.Context) error {
	for left := int64(1); left > 0; {
		head, err := s.Head(ctx)
		if err != nil || s.Sealed != nil && !s.Sealed(head) {
			return err
		}
		if n, err := s.Strays(ctx); err != nil || n != 0 {
			return err
		}

		err = s.tx(ctx, func(tx *sqlx.Tx) (err error) {
			left, err = s.tieSome(ctx, tx)
			return err
		})
		if err != nil && !errors.Is(err, errFaster) {
			return err
		}
	}

	return nil
}

// tieSome ties the oldest of those that are left, and says how many were.
func (s *Store) tieSome(ctx context.Context, tx *sqlx.Tx) (left int64, err error) {
	if err := tx.GetContext(ctx, &left, `SELECT outside FROM chain WHERE name = 'history'`); err != nil || left == 0 {
		return left, err
	}
	older, err := lines(ctx, tx, `seq = ?`, -left)
	if err != nil {
		return left, err
	}
	list, err := lines(ctx, tx, `seq IS NULL ORDER BY id LIMIT ?`, tieAtOnce)
	if err != nil {
		return left, err
	}

	var before chain.Hash
	for _, l := range older { // one, or none
		before = l.Hash
	}

	for i, l := range list {
		l.Seq = int64(i) + 1 - left
		before = l.After(before)
		if _, err := tx.ExecContext(ctx, `UPDATE audit SET seq = ?, hash = ?
			WHERE id = ?`, l.Seq, before[:], l.ID); err != nil {
			return left, err
		}
	}

	n := int64(len(list))
	r, err := tx.ExecContext(ctx, `UPDATE chain SET outside = ? WHERE name = 'history' AND outside = ?`, left-n, left)
	if err := changed(r, err, "the history"); err != nil {
		return left, fmt.Errorf("%w: %w", errFaster, err)
	}
	if left > n {
		return left, nil
	}
	all := chain.Older{Hash: before}
	if err := tx.GetContext(ctx, &all.Lines, `SELECT COUNT(*) FROM audit WHERE seq <= 0`); err != nil {
		return left, err
	}

	done, err := s.append(ctx, tx, chain.Line{
		ID:      NewID(),
		At:      now(),
		Who:     "the service",
		What:    chain.Tied,
		Subject: "history",
		Detail:  all.String(),
	})

	if err == nil && !done {
		err = errFaster
	}

	return left, err
}
