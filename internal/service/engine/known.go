package engine

import (
	"context"
	"slices"
	"time"

	"github.com/robfig/cron/v3"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/verdict"
	"idletally/internal/service/store"
)

// Known says how well applications are known on their hosts, as of one moment.
type Known struct {
	At time.Time // now

	age    time.Duration // how long a look counts; 0: as schedules say
	newest map[where]store.Look
	taken  map[string]time.Time // by snapshot
	rota   map[string][]rota    // by application
}

// where is an application on a host.
type where struct{ application, host string }

// A rota is when hosts are looked at automatically.
type rota struct {
	tag    string // "": all hosts
	times  cron.Schedule
	from   time.Time
	spread time.Duration
}

// until returns when two looks by the rota are missing, after one at a time.
func (r rota) until(at time.Time) time.Time {
	if at.Before(r.from) { // what was to be before there was a rota is not missing
		at = r.from
	}
	second := r.times.Next(r.times.Next(at))
	if second.IsZero() {
		return at.AddDate(1, 0, 0) // the times come so seldom that none is found
	}
	return second.Add(r.spread)
}

// Known collects what is known of places that have these reports, the newest of each: of one application, and one
// host, if they are given. A look counts for an age unless that is 0.
func (d *Engine) Known(
	ctx context.Context, application, host string, reports []store.Report, at time.Time, age time.Duration,
) (*Known, error) {
	k := &Known{At: at, age: age, newest: map[where]store.Look{}, rota: map[string][]rota{}}
	looks, err := d.Store.Looks(ctx, application, host)
	if err != nil {
		return nil, err
	}

	for _, l := range looks {
		k.newest[where{l.Application, l.Host}] = l
	}

	ids := make([]string, len(reports))
	for i, r := range reports {
		ids[i] = r.Snapshot
	}

	if k.taken, err = d.Store.TakenAt(ctx, ids); err != nil || age != 0 {
		return k, err
	}

	schedules, err := d.Store.Schedules(ctx)
	for _, s := range schedules {
		times, e := Times(s.Cron, s.Zone)
		if e != nil { // what was taken once is no longer understood: who fires it says so
			continue
		}
		k.rota[s.Application] = append(k.rota[s.Application], rota{
			s.Tag,
			times,
			s.Created,
			time.Duration(s.Spread) * time.Second,
		})
	}

	return k, err
}

// Of returns what is known of an application on a host that has a report; nil if it has none. Of what was found so
// much counts.
func (k *Known) Of(published store.Edition, h store.Host, r *store.Report, findings int64) verdict.Look {
	l := verdict.Look{Published: published.Number}
	last, looked := k.newest[where{published.Application, h.Name}]
	switch {
	case looked && last.State == lifecycle.SnapshotFailed:
		l.Failed = last.Message
	case looked && last.State == lifecycle.SnapshotReady && (r == nil || last.Snapshot != r.Snapshot) &&
		last.Message != "":
		l.Failed = last.Message
	}

	if r == nil {
		return l
	}

	l.Edition = r.Edition
	l.Findings = findings
	l.Unread = r.Unread
	l.At = r.Created
	if at, ok := k.taken[r.Snapshot]; ok && at.Before(l.At) { // a clock elsewhere may be ahead
		l.At = at
	}

	if looked && last.Watched != nil && *last.Watched == r.Snapshot && last.WatchedAt.After(l.At) {
		l.At = *last.WatchedAt
	}

	l.Until = k.until(published.Application, h, l.At)
	return l
}

// until returns from when on a look is too long ago.
func (k *Known) until(application string, h store.Host, at time.Time) (until time.Time) {
	if k.age != 0 {
		return at.Add(k.age)
	}
	for _, r := range k.rota[application] {
		if r.tag != "" && !slices.Contains(h.Tags(), r.tag) {
			continue
		}
		if u := r.until(at); until.IsZero() || u.Before(until) {
			until = u
		}
	}
	if until.IsZero() {
		until = at.Add(verdict.DefaultAge)
	}
	return until
}
