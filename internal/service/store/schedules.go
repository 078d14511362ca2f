package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// Schedule says when snapshots are taken automatically.
type Schedule struct {
	ID          string     `db:"id"`
	Application string     `db:"application"`
	Tag         string     `db:"tag"` // "": all hosts of the application
	Cron        string     `db:"cron"`
	Zone        string     `db:"zone"`
	Spread      int        `db:"spread_seconds"` // the hosts' snapshots are spread over so much time
	Author      string     `db:"author"`
	Created     time.Time  `db:"created"`
	Next        time.Time  `db:"next"`
	Last        *time.Time `db:"last"`
}

const scheduleColumns = `id, application, tag, cron, zone, spread_seconds, author, created, next, last`

// AddSchedule keeps a schedule.
func (s *Store) AddSchedule(ctx context.Context, x Schedule) (Schedule, error) {
	if err := s.room(ctx, maxSchedules, "schedules", `SELECT COUNT(*) FROM schedule`); err != nil {
		return x, err
	}
	x.ID, x.Created = NewID(), now()
	_, err := s.db.NamedExecContext(ctx,
		`INSERT INTO schedule (id, application, tag, cron, zone, spread_seconds, author, created, next)
			VALUES (:id, :application, :tag, :cron, :zone, :spread_seconds, :author, :created, :next)`,
		x)
	return x, err
}

// Schedules lists all, by application.
func (s *Store) Schedules(ctx context.Context) (out []Schedule, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT `+scheduleColumns+` FROM schedule ORDER BY application, id LIMIT ?`,
		maxSchedules+somewhat)
	return out, err
}

// Schedule finds one.
func (s *Store) Schedule(ctx context.Context, id string) (x Schedule, err error) {
	err = s.db.GetContext(ctx, &x, `SELECT `+scheduleColumns+` FROM schedule WHERE id = ?`, id)
	return x, one(err, "schedule "+id)
}

// RemoveSchedule removes a schedule, and what it has made due.
func (s *Store) RemoveSchedule(ctx context.Context, id string) error {
	r, err := s.db.ExecContext(ctx, `DELETE FROM schedule WHERE id = ?`, id)
	return changed(r, err, "schedule "+id)
}

// RipeSchedules lists those whose time has come.
func (s *Store) RipeSchedules(ctx context.Context, at time.Time, limit int) (out []Schedule, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+scheduleColumns+` FROM schedule WHERE next <= ? ORDER BY next LIMIT ?`, at.UTC(), limit)
	return out, err
}

// A Due is a host whose snapshot is to be taken.
type Due struct {
	Schedule    string    `db:"schedule"`
	Application string    `db:"application"`
	Host        string    `db:"host"`
	At          time.Time `db:"at"`
}

// Fire makes hosts due, and moves a schedule on to its next time; of several instances one does. A host that is still
// due from before stays due once.
func (s *Store) Fire(ctx context.Context, x Schedule, next time.Time, due []Due) (mine bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE schedule SET next = ?, last = ? WHERE id = ? AND next = ?`, next.UTC(),
			now(), x.ID, x.Next)
		if err != nil {
			return err
		}

		n, err := r.RowsAffected()
		mine = n > 0
		if err != nil || !mine {
			return err
		}

		for _, d := range due {
			if _, err := tx.ExecContext(ctx, `INSERT IGNORE INTO due (schedule, host, at) VALUES (?,?,?)`, x.ID, d.Host,
				d.At.UTC()); err != nil {
				return err
			}
		}

		return nil
	})

	return mine, err
}

// RipeDue lists hosts whose moment has come.
func (s *Store) RipeDue(ctx context.Context, at time.Time, limit int) (out []Due, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT d.schedule, d.host, d.at, s.application FROM due d STRAIGHT_JOIN schedule s ON s.id = d.schedule
			WHERE d.at <= ? ORDER BY d.at LIMIT ?`,
		at.UTC(), limit)
	return out, err
}

// TakeDue takes a due host; of several instances one gets it.
func (s *Store) TakeDue(ctx context.Context, d Due) (mine bool, err error) {
	n, err := s.exec(ctx, `DELETE FROM due WHERE schedule = ? AND host = ? AND at = ?`, d.Schedule, d.Host, d.At)
	return n > 0, err
}

// Waiting reports whether a snapshot of an application on a host was asked for and is not there yet.
func (s *Store) Waiting(ctx context.Context, application, host string) (yes bool, err error) {
	err = s.db.GetContext(ctx, &yes,
		`SELECT EXISTS (SELECT 1 FROM snapshot WHERE application = ? AND host = ? AND state = 'waiting')`, application,
		host)
	return yes, err
}
