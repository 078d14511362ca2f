package store

import (
	"context"
	"errors"

	"idletally/internal/core/drift"
	"idletally/internal/core/pathname"
)

func (w *ReportWriter) flushPlaces(ctx context.Context) error {
	err := batches(ctx, w.s,
		`INSERT INTO place (report, identity, parent, path, findings, opens, closes, waived, here_findings, here_opens,
			here_closes, here_waived, first_seq, last_seq)`,
		14, w.counted, func(p drift.Place) []any {
			return []any{
				w.r.ID, placeOf(p.Path), parentOf(p.Path), []byte(p.Path), p.Findings, p.Opens, p.Closes, p.Waived,
				p.Here.Findings, p.Here.Opens, p.Here.Closes, p.Here.Waived, p.First, p.Last,
			}
		}, `ON DUPLICATE KEY UPDATE findings = findings + VALUES(findings), opens = opens + VALUES(opens),
			closes = closes + VALUES(closes), waived = waived + VALUES(waived),
			here_findings = here_findings + VALUES(here_findings),
		here_opens = here_opens + VALUES(here_opens), here_closes = here_closes + VALUES(here_closes),
		here_waived = here_waived + VALUES(here_waived)`)
	w.counted = w.counted[:0]
	return err
}

// FindingsUnder lists those of a folder and all below it; what is missing there comes last.
func (s *Store) FindingsUnder(ctx context.Context, r Report, folder string, after, limit int) ([]Finding, error) {
	at, err := s.Place(ctx, r.ID, folder)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	top, err := s.Place(ctx, r.ID, "/")
	if err != nil {
		return nil, err
	}

	var out []Finding
	if after < at.Last {
		if err := s.db.SelectContext(ctx, &out,
			findingColumns+`AND f.seq > ? AND f.seq BETWEEN ? AND ? ORDER BY f.seq LIMIT ?`, r.Application, r.Host,
			r.ID, after, at.First, at.Last, limit); err != nil {
			return nil, err
		}
	}

	// What is missing comes after all that the walk met, in the order of paths.
	for after := max(after, top.Last); len(out) < limit; {
		var rest []Finding
		if err := s.db.SelectContext(ctx, &rest, findingColumns+`AND f.seq > ? ORDER BY f.seq LIMIT 1000`,
			r.Application, r.Host, r.ID, after); err != nil {
			return nil, err
		}

		for _, f := range rest {
			after = f.Seq
			if pathname.Under(string(f.Path), folder) && len(out) < limit {
				out = append(out, f)
			}
		}

		if len(rest) < 1000 {
			break
		}
	}

	return out, nil
}

func placeOf(path string) []byte { return identity(path, "/") }

func parentOf(path string) []byte {
	if path == "/" {
		return make([]byte, 16)
	}
	return placeOf(pathname.Folder(path))
}

type placeRow struct {
	Path         []byte `db:"path"`
	Findings     int    `db:"findings"`
	Opens        int    `db:"opens"`
	Closes       int    `db:"closes"`
	Waived       int    `db:"waived"`
	HereFindings int    `db:"here_findings"`
	HereOpens    int    `db:"here_opens"`
	HereCloses   int    `db:"here_closes"`
	HereWaived   int    `db:"here_waived"`
	First        int    `db:"first_seq"`
	Last         int    `db:"last_seq"`
}

const placeColumns = `SELECT path, findings, opens, closes, waived, here_findings, here_opens, here_closes,
	here_waived, first_seq, last_seq FROM place `

func (p placeRow) place() drift.Place {
	return drift.Place{
		Path:  string(p.Path),
		Tally: drift.Tally{Findings: p.Findings, Opens: p.Opens, Closes: p.Closes, Waived: p.Waived},
		Here:  drift.Tally{Findings: p.HereFindings, Opens: p.HereOpens, Closes: p.HereCloses, Waived: p.HereWaived},
		First: p.First,
		Last:  p.Last,
	}
}

// Place returns what a report found in one folder.
func (s *Store) Place(ctx context.Context, report, path string) (drift.Place, error) {
	var p placeRow
	err := s.db.GetContext(ctx, &p, placeColumns+`WHERE report = ? AND identity = ?`, report, placeOf(path))
	return p.place(), one(err, "findings in "+pathname.Escape(path))
}

// PlacesIn lists a folder's subfolders with findings, those that open most first.
func (s *Store) PlacesIn(ctx context.Context, report, path string, limit int) (out []drift.Place, err error) {
	var rows []placeRow
	err = s.db.SelectContext(ctx, &rows,
		placeColumns+`WHERE report = ? AND parent = ? ORDER BY opens DESC, findings DESC, path LIMIT ?`, report,
		placeOf(path), limit)
	for _, p := range rows {
		out = append(out, p.place())
	}
	return out, err
}
