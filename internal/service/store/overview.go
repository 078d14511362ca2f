package store

import (
	"context"
	"errors"
	"slices"
	"time"
)

// CurrentReports returns the newest whole report of each application on each host.
func (s *Store) CurrentReports(ctx context.Context) (out []Report, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+reportColumns+` FROM report JOIN
		(SELECT MAX(id) AS newest FROM report GROUP BY application, host, ready
		HAVING ready = TRUE) AS last ON id = newest ORDER BY application, host LIMIT ?`, maxCurrent)
	return out, err
}

// GroupsOn returns the groups of many reports at once, each with its report.
func (s *Store) GroupsOn(ctx context.Context, reports []string, visit func(report string, g Group) error) error {
	for part := range slices.Chunk(reports, 500) {
		args := make([]any, len(part))
		for i, id := range part {
			args[i] = id
		}

		rows, err := s.db.QueryxContext(ctx,
			`SELECT `+groupColumns+` FROM finding_group WHERE report IN `+in(len(part))+
				` ORDER BY report, seq`,
			args...)
		if err != nil {
			return err
		}

		for rows.Next() {
			var r groupRow
			var g Group
			if err = rows.StructScan(&r); err == nil {
				g, err = r.group()
			}
			if err == nil {
				err = visit(r.Report, g)
			}

			if err != nil {
				break
			}
		}

		if err := errors.Join(err, rows.Err(), rows.Close()); err != nil {
			return err
		}
	}

	return nil
}

// maxCurrent bounds how many reports are current at once.
const maxCurrent = 100_000

// EndingWaivers lists waivers that count and end before a time, soonest first.
func (s *Store) EndingWaivers(ctx context.Context, before time.Time, limit int) (out []Waiver, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+waiverColumns+` FROM waiver WHERE ends > ? AND ends < ? AND withdrawn IS NULL ORDER BY ends LIMIT ?`,
		now(), before.UTC(), limit)
	return out, err
}

// HaltedRuns lists the runs that stand still, newest first.
func (s *Store) HaltedRuns(ctx context.Context, limit int) (out []RunRow, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+runColumns+` FROM run WHERE state = 'halted' ORDER BY id DESC LIMIT ?`, limit)
	return out, err
}

// A Day is how much drift there was at its end.
type Day struct {
	On          time.Time `db:"on_day"`
	Application string    `db:"application"`
	Host        string    `db:"host"`
	Findings    int64     `db:"findings"`
	Opens       int64     `db:"opens"`
	Closes      int64     `db:"closes"`
}

// noteDay stores what a report found as the figures of that day.
func (s *Store) noteDay(ctx context.Context, r Report) error {
	_, err := s.db.ExecContext(ctx,
		`INSERT INTO day (on_day, application, host, findings, opens, closes) VALUES (?,?,?,?,?,?)
		ON DUPLICATE KEY UPDATE findings = VALUES(findings), opens = VALUES(opens),
		closes = VALUES(closes)`, r.Created.Format(time.DateOnly),
		r.Application, r.Host, r.Findings-r.Waived, r.Opens, r.Closes)
	return err
}

// Days lists the figures since a day, the oldest first.
func (s *Store) Days(ctx context.Context, since time.Time) (out []Day, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT on_day, application, host, findings, opens, closes FROM day WHERE on_day >= ?
			ORDER BY on_day, application, host LIMIT ?`,
		since.Format(time.DateOnly), 30*maxCurrent)
	return out, err
}

// ForgetDays removes those that lie too far back.
func (s *Store) ForgetDays(ctx context.Context, before time.Time) error {
	return s.inPieces(ctx, `DELETE FROM day WHERE on_day < ? LIMIT 2000`, before.Format(time.DateOnly))
}
