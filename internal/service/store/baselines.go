package store

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
)

// Edition is a baseline's numbered text.
type Edition struct {
	Application string     `db:"application"`
	Number      int        `db:"number"`
	State       string     `db:"state"`
	Text        string     `db:"text"`
	Title       string     `db:"title"`
	Author      string     `db:"author"`
	Created     time.Time  `db:"created"`
	PublishedBy string     `db:"published_by"`
	Published   *time.Time `db:"published"`
}

const editionColumns = `application, number, state, text, title, author, created, published_by, published`

// AddEdition keeps a text as the application's next draft.
func (s *Store) AddEdition(ctx context.Context, e Edition) (number int, err error) {
	for n := range 20 * tries { // two people may upload at once: the key decides
		if n > 0 {
			select {
			case <-ctx.Done():
				return 0, ctx.Err()
			case <-time.After(time.Duration(rand.IntN(20)) * time.Millisecond):
			}
		}
		err = s.tx(ctx, func(tx *sqlx.Tx) error {
			if err := tx.GetContext(ctx, &number, `SELECT COALESCE(MAX(number), 0) + 1 FROM edition WHERE application = ?`, e.Application); err != nil {
				return err
			}
			_, err := tx.ExecContext(ctx, `INSERT INTO edition (application, number, state, text, title, author, created) VALUES (?,?,'draft',?,?,?,?)`,
				e.Application, number, e.Text, e.Title, e.Author, now())
			return err
		})
		if !duplicate(err) {
			break
		}
	}
	return number, err
}

// Publish makes an edition the one that counts.
func (s *Store) Publish(ctx context.Context, application string, number int, by string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE edition SET state = 'former' WHERE application = ? AND state = 'published' AND number <> ?`, application, number); err != nil {
			return err
		}
		r, err := tx.ExecContext(ctx, `UPDATE edition SET state = 'published', published_by = ?, published = ? WHERE application = ? AND number = ? AND state <> 'published'`,
			by, now(), application, number)
		return changed(r, err, fmt.Sprintf("edition %d of %s is published already, or is not there", number, application))
	})
}

// Edition finds one; number 0 is the published one.
func (s *Store) Edition(ctx context.Context, application string, number int) (e Edition, err error) {
	if number == 0 {
		err = s.db.GetContext(ctx, &e, `SELECT `+editionColumns+` FROM edition WHERE state = 'published' AND application = ?`, application)
		return e, one(err, "a published baseline of "+application)
	}
	err = s.db.GetContext(ctx, &e, `SELECT `+editionColumns+` FROM edition WHERE application = ? AND number = ?`, application, number)
	return e, one(err, fmt.Sprintf("edition %d of %s", number, application))
}

// Editions lists an application's editions, the newest first.
func (s *Store) Editions(ctx context.Context, application string) (out []Edition, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+editionColumns+` FROM edition WHERE application = ? ORDER BY number DESC LIMIT 1000`, application)
	return out, err
}

// Applications lists the newest edition of each application, without texts.
func (s *Store) Applications(ctx context.Context) (out []Edition, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT e.application, e.number, e.state, '' AS text, e.title, e.author, e.created, e.published_by, e.published
		FROM edition e JOIN (SELECT application, MAX(number) AS number FROM edition GROUP BY application) m USING (application, number)
		ORDER BY e.application LIMIT 10000`)
	return out, err
}

// Report is a drift report's record.
type Report struct {
	ID          string    `db:"id"`
	Application string    `db:"application"`
	Edition     int       `db:"edition"`
	Host        string    `db:"host"`
	Snapshot    string    `db:"snapshot"`
	Ready       bool      `db:"ready"`
	Paths       int64     `db:"paths"`
	Judged      int64     `db:"judged"`
	Findings    int64     `db:"findings"`
	Unread      int64     `db:"unread"`
	Problems    string    `db:"problems"`
	Created     time.Time `db:"created"`
}

const reportColumns = `id, application, edition, host, snapshot, ready, paths, judged, findings, unread, problems, created`

// A ReportWriter stores a report piece by piece; nobody sees it before it is whole.
type ReportWriter struct {
	s        *Store
	ctx      context.Context
	r        Report
	findings []drift.Finding
	unread   []drift.Unread
	nf, nu   int
}

// NewReport begins a report.
func (s *Store) NewReport(ctx context.Context, r Report) (*ReportWriter, error) {
	r.ID = NewID()
	_, err := s.db.ExecContext(ctx, `INSERT INTO report (id, application, edition, host, snapshot, ready, problems, created) VALUES (?,?,?,?,?,FALSE,?,?)`,
		r.ID, r.Application, r.Edition, r.Host, r.Snapshot, r.Problems, now())
	return &ReportWriter{s: s, ctx: ctx, r: r}, err
}

// Finding adds a finding.
func (w *ReportWriter) Finding(f drift.Finding) error {
	if w.findings = append(w.findings, f); len(w.findings) < 500 {
		return nil
	}
	return w.flush()
}

// Unread adds a path that could not be judged.
func (w *ReportWriter) Unread(u drift.Unread) error {
	if w.unread = append(w.unread, u); len(w.unread) < 500 {
		return nil
	}
	return w.flush()
}

func (w *ReportWriter) flush() error {
	err := batches(w.ctx, w.s, `INSERT INTO finding (report, seq, group_id, path, kind, aspect, found_set)`, 7, w.findings, func(f drift.Finding) []any {
		w.nf++
		return []any{w.r.ID, w.nf, f.Group, []byte(f.Path), f.Kind, string(f.Aspect), []byte(f.FoundSet.Bytes())}
	})
	if err != nil {
		return err
	}
	err = batches(w.ctx, w.s, `INSERT INTO unread (report, seq, path, why)`, 4, w.unread, func(u drift.Unread) []any {
		w.nu++
		return []any{w.r.ID, w.nu, []byte(u.Path), u.Why}
	})
	w.findings, w.unread = w.findings[:0], w.unread[:0]
	return err
}

// End stores the groups and shows the report.
func (w *ReportWriter) End(sum drift.Summary, groups []drift.Group) (id string, err error) {
	if err := w.flush(); err != nil {
		return "", err
	}
	n := 0
	err = batches(w.ctx, w.s, `INSERT INTO finding_group (report, seq, id, body)`, 4, groups, func(g drift.Group) []any {
		n++
		body, _ := json.Marshal(g) // plain values only
		return []any{w.r.ID, n, g.ID, body}
	})
	if err != nil {
		return "", err
	}
	_, err = w.s.db.ExecContext(w.ctx, `UPDATE report SET ready = TRUE, paths = ?, judged = ?, findings = ?, unread = ? WHERE id = ?`,
		sum.Paths, sum.Judged, sum.Findings, sum.Unread, w.r.ID)
	return w.r.ID, err
}

// Report finds a whole report.
func (s *Store) Report(ctx context.Context, id string) (r Report, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT `+reportColumns+` FROM report WHERE id = ? AND ready`, id)
	return r, one(err, "report "+id)
}

// CurrentReport finds the newest whole report of an application on a host.
func (s *Store) CurrentReport(ctx context.Context, application, host string) (r Report, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT `+reportColumns+` FROM report WHERE application = ? AND host = ? AND ready = TRUE ORDER BY id DESC LIMIT 1`, application, host)
	return r, one(err, "a report of "+application+" on "+host)
}

// Groups gives the groups of a report, the weightiest first.
func (s *Store) Groups(ctx context.Context, report string, limit int) (out []drift.Group, err error) {
	var bodies [][]byte
	if err := s.db.SelectContext(ctx, &bodies, `SELECT body FROM finding_group WHERE report = ? ORDER BY seq LIMIT ?`, report, limit); err != nil {
		return nil, err
	}
	out = make([]drift.Group, len(bodies))
	for i, b := range bodies {
		if err := json.Unmarshal(b, &out[i]); err != nil {
			return nil, fmt.Errorf("finding group %d of report %s: %w", i+1, report, err)
		}
	}
	return out, nil
}

// Finding is a finding's record.
type Finding struct {
	Seq      int       `db:"seq"`
	Group    string    `db:"group_id"`
	Path     []byte    `db:"path"`
	Kind     perm.Kind `db:"kind"`
	Aspect   string    `db:"aspect"`
	FoundSet []byte    `db:"found_set"`
}

// Findings lists a report's findings in walk order, of one group where it is given.
func (s *Store) Findings(ctx context.Context, report, group string, after, limit int) (out []Finding, err error) {
	const columns = `SELECT seq, group_id, path, kind, aspect, found_set FROM finding `
	if group != "" {
		err = s.db.SelectContext(ctx, &out, columns+`WHERE report = ? AND group_id = ? AND seq > ? ORDER BY seq LIMIT ?`, report, group, after, limit)
	} else {
		err = s.db.SelectContext(ctx, &out, columns+`WHERE report = ? AND seq > ? ORDER BY seq LIMIT ?`, report, after, limit)
	}
	return out, err
}

// Unread lists a report's paths that could not be judged.
func (s *Store) Unread(ctx context.Context, report string, limit int) (out []drift.Unread, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT path, why FROM unread WHERE report = ? ORDER BY seq LIMIT ?`, report, limit)
	return out, err
}
