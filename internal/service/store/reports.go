package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/perm"
	"idletally/internal/wire"
)

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
	Waived      int64     `db:"waived"` // when it was made; waivers end
	Opens       int64     `db:"opens"`  // of the others
	Closes      int64     `db:"closes"`
	Grave       int64     `db:"grave"`
	Fresh       int64     `db:"fresh"`    // seen for the first time
	Returned    int64     `db:"returned"` // gone before, and there again
	Gone        int64     `db:"gone"`     // there before, and no longer
	Problems    string    `db:"problems"`
	Created     time.Time `db:"created"`
}

// Weigh counts a group that nobody accepted by what it does.
func (r *Report) Weigh(g drift.Group) {
	n := int64(g.Count)
	if len(g.Effect.Opens) > 0 {
		r.Opens += n
	}
	if len(g.Effect.Closes) > 0 {
		r.Closes += n
	}
	if g.Severity == baseline.Grave {
		r.Grave += n
	}
}

const reportColumns = `id, application, edition, host, snapshot, ready, paths, judged, findings, unread, waived, opens,
	closes, grave, fresh, returned, gone, problems, created`

// A ReportWriter stores a report piece by piece; nobody sees it before it is whole.
type ReportWriter struct {
	s        *Store
	r        Report
	findings []drift.Finding
	unread   []drift.Unread
	gaps     []string // paths that could not be read
	places   drift.Places
	counted  []drift.Place
	nf, nu   int
}

// NewReport begins a report.
func (s *Store) NewReport(ctx context.Context, r Report) (*ReportWriter, error) {
	r.ID, r.Created = NewID(), now()
	_, err := s.db.ExecContext(ctx,
		`INSERT INTO report (id, application, edition, host, snapshot, ready, problems, created)
			VALUES (?,?,?,?,?,FALSE,?,?)`,
		r.ID, r.Application, r.Edition, r.Host, r.Snapshot, r.Problems, r.Created)
	w := &ReportWriter{s: s, r: r}
	w.places.Each = func(p drift.Place) error {
		w.counted = append(w.counted, p) // of one finding, no more than the folders on the way to it
		return nil
	}
	return w, err
}

// Finding adds a finding.
func (w *ReportWriter) Finding(ctx context.Context, f drift.Finding) error {
	if err := w.places.Add(f); err != nil {
		return err
	}
	w.findings = append(w.findings, f)
	if len(w.counted) >= 500 {
		if err := w.flushPlaces(ctx); err != nil {
			return err
		}
	}
	if len(w.findings) < 500 {
		return nil
	}
	return w.flush(ctx)
}

// Unread adds a path that could not be judged.
func (w *ReportWriter) Unread(ctx context.Context, u drift.Unread) error {
	w.unread = append(w.unread, u)
	if len(w.unread) < 500 {
		return nil
	}
	return w.flush(ctx)
}

func (w *ReportWriter) flush(ctx context.Context) error {
	err := batches(ctx, w.s,
		`INSERT INTO finding (report, seq, group_id, identity, path, kind, aspect, found_set, unread)`, 9, w.findings,
		func(f drift.Finding) []any {
			w.nf++
			return []any{
				w.r.ID, w.nf, f.Group, identity(f.Path, string(f.Aspect)), []byte(f.Path), f.Kind, string(f.Aspect),
				[]byte(f.FoundSet.Bytes()), f.Unread,
			}
		})

	if err != nil {
		return err
	}

	err = batches(ctx, w.s, `INSERT INTO unread (report, seq, path, why)`, 4, w.unread, func(u drift.Unread) []any {
		w.nu++
		w.gaps = append(w.gaps, u.Path)
		return []any{w.r.ID, w.nu, []byte(u.Path), u.Why}
	})
	w.findings, w.unread = w.findings[:0], w.unread[:0]
	return err
}

// End stores since when each finding is there, stores the groups and shows the report.
func (w *ReportWriter) End(ctx context.Context, sum drift.Summary, groups []drift.Group) (Report, error) {
	r := &w.r
	if err := w.flush(ctx); err != nil {
		return *r, err
	}
	if err := errors.Join(w.places.End(), w.flushPlaces(ctx)); err != nil {
		return *r, fmt.Errorf("count the findings of report %s by folder: %w", r.ID, err)
	}
	if err := w.stand(ctx); err != nil {
		return *r, fmt.Errorf("carry on the findings of report %s: %w", r.ID, err)
	}
	ages, err := w.ages(ctx)
	if err != nil {
		return *r, err
	}

	n := 0
	err = batches(ctx, w.s, `INSERT INTO finding_group (report, seq, id, since, fresh, returned, body)`, 7, groups,
		func(g drift.Group) []any {
			n++
			body, _ := json.Marshal(g) // plain values only
			a := ages[g.ID]
			return []any{r.ID, n, g.ID, a.Since, a.Fresh, a.Returned, body}
		})

	if err != nil {
		return *r, err
	}

	r.Ready = true
	r.Paths = int64(sum.Paths)
	r.Judged = int64(sum.Judged)
	r.Findings = int64(sum.Findings)
	r.Unread = int64(sum.Unread)

	for _, g := range groups {
		if g.Waiver != "" {
			r.Waived += int64(g.Count)
			continue
		}
		r.Weigh(g)
	}

	_, err = w.s.db.NamedExecContext(ctx,
		`UPDATE report SET ready = TRUE, paths = :paths, judged = :judged, findings = :findings, unread = :unread,
			waived = :waived, opens = :opens, closes = :closes, grave = :grave,
		fresh = :fresh, returned = :returned, gone = :gone WHERE id = :id`, r)
	if err == nil {
		err = w.s.noteDay(ctx, *r)
	}

	return *r, err
}

// FindingsAt lists what a report found at some paths, one by one: what lies in a folder, say.
func (s *Store) FindingsAt(ctx context.Context, r Report, paths []string) (out []Finding, err error) {
	for part := range slices.Chunk(paths, atOnce/len(perm.AllAspects)) {
		args := []any{r.Application, r.Host, r.ID}
		for _, p := range part {
			for _, a := range perm.AllAspects {
				args = append(args, identity(p, string(a)))
			}
		}
		var rows []Finding
		if err := s.db.SelectContext(ctx, &rows, findingColumns+`AND f.identity IN `+in(len(args)-3)+` ORDER BY f.seq`,
			args...); err != nil {
			return nil, err
		}
		out = append(out, rows...)
	}
	return out, nil
}

// GroupsOf returns some groups of a report by their ids.
func (s *Store) GroupsOf(ctx context.Context, report string, ids []string) (map[string]drift.Group, error) {
	out := map[string]drift.Group{}
	for part := range slices.Chunk(ids, atOnce) {
		args := []any{report}
		for _, id := range part {
			args = append(args, id)
		}

		var rows [][]byte
		if err := s.db.SelectContext(ctx, &rows,
			`SELECT body FROM finding_group WHERE report = ? AND id IN `+in(len(part)), args...); err != nil {
			return nil, err
		}

		for _, b := range rows {
			var g drift.Group
			if err := json.Unmarshal(b, &g); err != nil {
				return nil, fmt.Errorf("finding groups of report %s: %w", report, err)
			}
			out[g.ID] = g
		}
	}

	return out, nil
}

// ReportOf finds the newest whole report of a snapshot that still has its findings.
func (s *Store) ReportOf(ctx context.Context, snapshot string) (r Report, err error) {
	err = s.db.GetContext(ctx, &r,
		`SELECT `+reportColumns+` FROM report WHERE snapshot = ? AND ready AND NOT trimmed ORDER BY id DESC LIMIT 1`,
		snapshot)
	return r, one(err, "a report of snapshot "+snapshot)
}

// Report finds a whole report.
func (s *Store) Report(ctx context.Context, id string) (r Report, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT `+reportColumns+` FROM report WHERE id = ? AND ready AND NOT trimmed`, id)
	return r, one(err, "report "+id+" with its findings")
}

// CurrentReport finds the newest whole report of an application on a host.
func (s *Store) CurrentReport(ctx context.Context, application, host string) (r Report, err error) {
	err = s.db.GetContext(ctx, &r,
		`SELECT `+reportColumns+
			` FROM report WHERE application = ? AND host = ? AND ready = TRUE ORDER BY id DESC LIMIT 1`,
		application, host)
	return r, one(err, "a report of "+application+" on "+host)
}

// Group is a group of findings, since when they are there, and where they come from.
type Group struct {
	drift.Group
	Age
	Origins
}

// groupRow is a group as it is stored.
type groupRow struct {
	Report string `db:"report"`
	Body   []byte `db:"body"`
	Age
	Origins []byte `db:"origins"`
}

const groupColumns = `report, body, since, fresh, returned, origins`

// group returns what a row says.
func (r groupRow) group() (g Group, err error) {
	err = json.Unmarshal(r.Body, &g.Group)
	if err == nil && len(r.Origins) > 0 {
		err = json.Unmarshal(r.Origins, &g.Origins)
	}
	g.Age = r.Age
	return g, err
}

// Origins say where the findings of a group come from.
type Origins struct {
	Doers  []wire.DriftOrigin `json:"doers,omitempty"`
	Causes []wire.DriftOrigin `json:"causes,omitempty"`
}

// SetOrigins stores where the findings of a report's groups come from, by their ids.
func (s *Store) SetOrigins(ctx context.Context, report string, by map[string]Origins) error {
	err := s.tx(ctx, func(tx *sqlx.Tx) error {
		for id, o := range by {
			text, _ := json.Marshal(o) // plain values only
			if _, err := tx.ExecContext(ctx, `UPDATE finding_group SET origins = ? WHERE report = ? AND id = ?`, text,
				report, id); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("where the findings of report %s come from: %w", report, err)
	}
	return nil
}

// Age says since when findings are there.
type Age struct {
	Since    *time.Time `db:"since"` // the oldest of them, this time
	Fresh    int        `db:"fresh"`
	Returned int        `db:"returned"`
}

// Groups returns the groups of a report, the weightiest first.
func (s *Store) Groups(ctx context.Context, report string, limit int) ([]Group, error) {
	var rows []groupRow
	err := s.db.SelectContext(ctx, &rows,
		`SELECT `+groupColumns+` FROM finding_group WHERE report = ? ORDER BY seq LIMIT ?`, report, limit)
	if err != nil {
		return nil, err
	}

	out := make([]Group, len(rows))
	for i, r := range rows {
		if out[i], err = r.group(); err != nil {
			return nil, fmt.Errorf("finding group %d of report %s: %w", i+1, report, err)
		}
	}

	return out, nil
}

// Finding is a finding's record.
type Finding struct {
	Seq       int        `db:"seq"`
	Group     string     `db:"group_id"`
	Path      []byte     `db:"path"`
	Kind      perm.Kind  `db:"kind"`
	Aspect    string     `db:"aspect"`
	FoundSet  []byte     `db:"found_set"`
	FirstSeen *time.Time `db:"first_seen"`
	Since     *time.Time `db:"since"`
	Spells    *int       `db:"spells"` // how often it came
	Unread    bool       `db:"unread"` // the path could not be read: this is how it was before
}

const findingColumns = `SELECT f.seq, f.group_id, f.path, f.kind, f.aspect, f.found_set, f.unread, s.first_seen,
	s.since, s.spells FROM finding f
	LEFT JOIN standing s ON s.application = ? AND s.host = ? AND s.identity = f.identity WHERE f.report = ? `

// Findings lists a report's findings in walk order, of one group where it is given.
func (s *Store) Findings(ctx context.Context, r Report, group string, after, limit int) (out []Finding, err error) {
	if group != "" {
		err = s.db.SelectContext(ctx, &out, findingColumns+`AND f.group_id = ? AND f.seq > ? ORDER BY f.seq LIMIT ?`,
			r.Application, r.Host, r.ID, group, after, limit)
	} else {
		err = s.db.SelectContext(ctx, &out, findingColumns+`AND f.seq > ? ORDER BY f.seq LIMIT ?`, r.Application,
			r.Host, r.ID, after, limit)
	}
	return out, err
}

// CountFindings counts a report's findings: of a group, or in a folder and below it, if they are given.
func (s *Store) CountFindings(ctx context.Context, r Report, group, folder string) (int64, error) {
	switch {
	case group != "":
		return s.count(ctx, `SELECT COUNT(*) FROM finding WHERE report = ? AND group_id = ?`, r.ID, group)
	case folder != "":
		at, err := s.Place(ctx, r.ID, folder)
		if errors.Is(err, ErrNotFound) {
			return 0, nil
		}
		return int64(at.Findings + at.Waived), err
	}
	return r.Findings, nil
}

// CountGroups counts a report's groups of findings.
func (s *Store) CountGroups(ctx context.Context, report string) (int64, error) {
	return s.count(ctx, `SELECT COUNT(*) FROM finding_group WHERE report = ?`, report)
}

// An Unread is a path of a report that could not be judged.
type Unread struct {
	Seq int `db:"seq"`
	drift.Unread
}

// Unread lists a report's paths that could not be judged.
func (s *Store) Unread(ctx context.Context, report string, after, limit int) (out []Unread, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT seq, path, why FROM unread WHERE report = ? AND seq > ? ORDER BY seq LIMIT ?`, report, after, limit)
	return out, err
}
