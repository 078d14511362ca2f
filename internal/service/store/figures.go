package store

import (
	"context"
	"database/sql"
	"time"
)

// Figures are how much of things there is, for monitoring.
type Figures struct {
	Plans, Runs      map[string]int64 // by state
	Notices          int64            // that wait to be told
	Faults           int64            // hooks to which the last could not be told
	Comparisons      int64            // snapshots that wait for theirs
	Overdue          time.Duration    // of the schedule that should have fired longest ago; 0 where none should have
	InUse, Idle, Max int              // connections of this instance
}

// Figures counts them, at a time.
func (s *Store) Figures(ctx context.Context, at time.Time) (f Figures, err error) {
	if f.Plans, err = s.byState(ctx, `SELECT state, COUNT(*) AS n FROM plan GROUP BY state`); err != nil {
		return f, err
	}
	if f.Runs, err = s.byState(ctx, `SELECT state, COUNT(*) AS n FROM run GROUP BY state`); err != nil {
		return f, err
	}

	for to, query := range map[*int64]string{
		&f.Notices:     `SELECT COUNT(*) FROM notice`,
		&f.Faults:      `SELECT COUNT(*) FROM hook WHERE fault <> ''`,
		&f.Comparisons: `SELECT COUNT(*) FROM comparison`,
	} {
		if *to, err = s.count(ctx, query); err != nil {
			return f, err
		}
	}

	var next sql.NullTime
	if err = s.db.GetContext(ctx, &next, `SELECT MIN(next) FROM schedule`); err != nil {
		return f, err
	}

	if next.Valid {
		f.Overdue = max(0, at.Sub(next.Time))
	}

	st := s.db.Stats()
	f.InUse = st.InUse
	f.Idle = st.Idle
	f.Max = st.MaxOpenConnections
	return f, nil
}

func (s *Store) byState(ctx context.Context, query string) (map[string]int64, error) {
	var rows []struct {
		State string `db:"state"`
		N     int64  `db:"n"`
	}
	err := s.db.SelectContext(ctx, &rows, query)
	out := map[string]int64{}
	for _, r := range rows {
		out[r.State] = r.N
	}
	return out, err
}
