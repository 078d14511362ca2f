package store

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/core/lifecycle"
)

// Edition is a baseline's numbered text.
type Edition struct {
	Application string            `db:"application"`
	Number      int               `db:"number"`
	State       lifecycle.Edition `db:"state"`
	Text        string            `db:"text"`
	Title       string            `db:"title"`
	Author      string            `db:"author"`
	Created     time.Time         `db:"created"`
	PublishedBy string            `db:"published_by"`
	Published   *time.Time        `db:"published"`
}

const editionColumns = `application, number, state, text, title, author, created, published_by, published`

// AddEdition stores a text as the application's next draft; with after only if that is the newest yet.
func (s *Store) AddEdition(ctx context.Context, e Edition, after *int) (number int, err error) {
	for n := range 20 * tries { // two people may upload at once: the key decides
		if n > 0 {
			select {
			case <-ctx.Done():
				return 0, ctx.Err()
			case <-time.After(time.Duration(rand.IntN(20)) * time.Millisecond):
			}
		}
		err = s.tx(ctx, func(tx *sqlx.Tx) error {
			if err := tx.GetContext(ctx, &number,
				`SELECT COALESCE(MAX(number), 0) + 1 FROM edition WHERE application = ?`, e.Application); err != nil {
				return err
			}

			if number == 1 {
				full, err := s.full(ctx, maxApplications, `SELECT COUNT(DISTINCT application) FROM edition`)
				if err == nil && full {
					err = fmt.Errorf("there are %d applications, and there may be no more: %w", maxApplications,
						ErrConflict)
				}
				if err != nil {
					return err
				}
			}

			if after != nil && number != *after+1 {
				return fmt.Errorf(
					"edition %d of %s is there meanwhile, and was not seen when this was written: compare both, and "+
						"upload again: %w",
					number-1, e.Application, ErrConflict)
			}

			_, err := tx.ExecContext(ctx,
				`INSERT INTO edition (application, number, state, text, title, author, created)
					VALUES (?,?,'draft',?,?,?,?)`,
				e.Application, number, e.Text, e.Title, e.Author, now())
			return err
		})
		if !duplicate(err) {
			break
		}
	}

	return number, err
}

// Publish makes an edition the published one.
func (s *Store) Publish(ctx context.Context, application string, number int, by string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`UPDATE edition SET state = 'former' WHERE application = ? AND state = 'published' AND number <> ?`,
			application, number); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx,
			`UPDATE edition SET state = 'published', published_by = ?, published = ? WHERE application = ?
				AND number = ? AND state <> 'published'`,
			by, now(), application, number)
		return changed(r, err,
			fmt.Sprintf("edition %d of %s is published already, or is not there", number, application))
	})
}

// Edition finds one; number 0 is the published one.
func (s *Store) Edition(ctx context.Context, application string, number int) (e Edition, err error) {
	if number == 0 {
		err = s.db.GetContext(ctx, &e,
			`SELECT `+editionColumns+` FROM edition WHERE state = 'published' AND application = ?`, application)
		return e, one(err, "a published baseline of "+application)
	}
	err = s.db.GetContext(ctx, &e, `SELECT `+editionColumns+` FROM edition WHERE application = ? AND number = ?`,
		application, number)
	return e, one(err, fmt.Sprintf("edition %d of %s", number, application))
}

// PublishedNumber returns the number of the published edition of an application; 0 if there is none.
func (s *Store) PublishedNumber(ctx context.Context, application string) (number int, err error) {
	err = s.db.GetContext(ctx, &number,
		`SELECT COALESCE(MAX(number), 0) FROM edition WHERE state = 'published' AND application = ?`, application)
	return number, err
}

// Editions lists an application's editions, the newest first.
func (s *Store) Editions(ctx context.Context, application string, before, limit int) (out []Edition, err error) {
	if before <= 0 {
		before = math.MaxInt32
	}
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+editionColumns+` FROM edition WHERE application = ? AND number < ? ORDER BY number DESC LIMIT ?`,
		application, before, limit)
	return out, err
}

// CountEditions counts an application's editions.
func (s *Store) CountEditions(ctx context.Context, application string) (int64, error) {
	return s.count(ctx, `SELECT COUNT(*) FROM edition WHERE application = ?`, application)
}

// Applications lists the newest edition of each application, without texts.
func (s *Store) Applications(ctx context.Context) (out []Edition, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT e.application, e.number, e.state, '' AS text, e.title, e.author, e.created, e.published_by, e.published
		FROM edition e JOIN (SELECT application, MAX(number) AS number FROM edition GROUP BY application) m
		USING (application, number)
		ORDER BY e.application LIMIT ?`, maxApplications+somewhat)
	return out, err
}
