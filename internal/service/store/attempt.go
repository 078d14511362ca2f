package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// An Attempt is a call that came with a key. However often it is made, it is carried out once.
type Attempt struct {
	Done  bool // a change of it was kept
	id    [32]byte
	asked [32]byte
	maker [16]byte
}

// An Answer is the outcome of an attempt.
type Answer struct {
	Status int    // 0 where it has no answer
	Body   []byte // as it was given to KeepAnswer
	At     time.Time
}

// ErrRepeated says that a call with this key is, or was, made already.
var ErrRepeated = errors.New("a call with this key was made already")

// ErrOtherCall says that a key came with another call before.
var ErrOtherCall = errors.New("another call had this key: each takes a key of its own")

// NewAttempt is for somebody's call with a key; asked is all that was asked for.
func NewAttempt(who, key string, asked []byte) *Attempt {
	a := &Attempt{id: sha256.Sum256([]byte(who + "\x00" + key)), asked: sha256.Sum256(asked)}
	rand.Read(a.maker[:])
	return a
}

// Sealed is the place of its answer, for whoever seals that.
func (a *Attempt) Sealed() string { return fmt.Sprintf("answer to %x", a.id) }

type attemptKey struct{}

// WithAttempt makes changes belong to an attempt.
func WithAttempt(ctx context.Context, a *Attempt) context.Context {
	return context.WithValue(ctx, attemptKey{}, a)
}

func attemptOf(ctx context.Context) *Attempt {
	a, _ := ctx.Value(attemptKey{}).(*Attempt)
	return a
}

// mark records the attempt. If its own mark is there already, it was stored when the connection broke.
func (a *Attempt) mark(ctx context.Context, tx *sqlx.Tx) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO attempt (id, asked, maker, at) VALUES (?,?,?,?)`, a.id[:], a.asked[:],
		a.maker[:], now())
	if !duplicate(err) {
		return err
	}
	var maker []byte
	if err := tx.GetContext(ctx, &maker, `SELECT maker FROM attempt WHERE id = ?`, a.id[:]); err != nil {
		return fmt.Errorf("attempt: %w", err)
	}
	a.Done = [16]byte(maker) == a.maker
	if !a.Done {
		return ErrRepeated
	}
	return nil
}

// AttemptAnswer returns the outcome of the same call before; ErrNotFound if it was never made.
func (s *Store) AttemptAnswer(ctx context.Context, a *Attempt) (out Answer, err error) {
	var row struct {
		Asked  []byte        `db:"asked"`
		Status sql.NullInt32 `db:"status"`
		Answer []byte        `db:"answer"`
		At     time.Time     `db:"at"`
	}
	if err := s.db.GetContext(ctx, &row, `SELECT asked, status, answer, at FROM attempt
		WHERE id = ?`, a.id[:]); err != nil {
		return out, one(err, "attempt")
	}
	if [32]byte(row.Asked) != a.asked {
		return out, ErrOtherCall
	}
	return Answer{int(row.Status.Int32), row.Answer, row.At}, nil
}

// KeepAnswer stores the outcome of an attempt.
func (s *Store) KeepAnswer(ctx context.Context, a *Attempt, status int, body []byte) error {
	_, err := s.db.ExecContext(ctx, `UPDATE attempt SET status = ?, answer = ? WHERE id = ? AND maker = ?`, status,
		body, a.id[:], a.maker[:])
	return err
}

// ForgetAttempts removes those from before a time.
func (s *Store) ForgetAttempts(ctx context.Context, before time.Time) error {
	for {
		n, err := s.exec(ctx, `DELETE FROM attempt WHERE at < ? ORDER BY at LIMIT 1000`, before)
		if err != nil || n < 1000 {
			return err
		}
	}
}
