package engine

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	mathrand "math/rand/v2"
	"slices"
	"time"

	_ "time/tzdata" // a service may run where no time zones are installed

	"github.com/robfig/cron/v3"

	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Times reads when a schedule fires: five fields as in crontab(5), or @daily and the like, in a time zone.
func Times(spec, zone string) (cron.Schedule, error) {
	loc, err := time.LoadLocation(zone) // "" is UTC
	if err != nil {
		return nil, fmt.Errorf("%w: time zone %q is unknown: want a name such as UTC or Europe/Lisbon", ErrBad, zone)
	}

	s, err := cron.ParseStandard(spec)
	if err != nil {
		return nil, fmt.Errorf("%w: %q says no times: %w: want minute hour day month weekday, such as 30 2 * * *",
			ErrBad, spec, err)
	}

	if x, ok := s.(*cron.SpecSchedule); ok {
		x.Location = loc
	}

	if s.Next(time.Now()).IsZero() {
		return nil, fmt.Errorf("%w: %q never comes", ErrBad, spec)
	}

	return s, nil
}

// shortest is how often a schedule may fire.
const shortest = time.Minute

// AddSchedule stores when snapshots of an application are taken automatically.
func (d *Engine) AddSchedule(ctx context.Context, in wire.NewSchedule, by string) (store.Schedule, error) {
	if _, err := d.Store.Edition(ctx, in.Application, 0); err != nil {
		return store.Schedule{}, err
	}
	times, err := Times(in.Cron, in.Zone)
	if err != nil {
		return store.Schedule{}, err
	}

	next := times.Next(time.Now())
	if gap := times.Next(next).Sub(next); gap < shortest || in.Spread > int(gap.Seconds()) {
		return store.Schedule{}, fmt.Errorf(
			"%w: it comes every %s: want a minute at the least, and a spread that is no longer than that", ErrBad, gap)
	}

	return d.Store.AddSchedule(ctx, store.Schedule{
		Application: in.Application,
		Tag:         in.Tag,
		Cron:        in.Cron,
		Zone:        in.Zone,
		Spread:      in.Spread,
		Author:      by,
		Next:        next.UTC().Truncate(time.Millisecond),
	})
}

// offset is a host's own moment within a spread: the same each time, so that no host is looked at twice in a short
// while.
func offset(schedule, host string, spread int) time.Duration {
	if spread <= 0 {
		return 0
	}
	h := fnv.New64a()
	fmt.Fprint(h, schedule, "/", host)
	return time.Duration(h.Sum64()%uint64(spread)) * time.Second
}

// atATime bounds what one round does; the rest is done by the next.
const atATime = 500

// Fire takes the snapshots that schedules have made due. A schedule that was missed because no service ran fires
// once.
func (d *Engine) Fire(ctx context.Context, at time.Time) error {
	ripe, err := d.Store.RipeSchedules(ctx, at, atATime)
	if err != nil {
		return err
	}

	var all error
	for _, x := range ripe {
		times, err := Times(x.Cron, x.Zone)
		if err != nil {
			all = errors.Join(all, fmt.Errorf("schedule %s: %w", x.ID, err))
			continue
		}

		_, _, hosts, err := d.Published(ctx, x.Application)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			all = errors.Join(all, err)
			continue
		}

		var due []store.Due
		for _, h := range hosts {
			if h.Certificate != "" && (x.Tag == "" || slices.Contains(h.Tags(), x.Tag)) {
				due = append(due, store.Due{Host: h.Name, At: x.Next.Add(offset(x.ID, h.Name, x.Spread))})
			}
		}

		if _, err := d.Store.Fire(ctx, x, times.Next(at), due); err != nil {
			all = errors.Join(all, err)
		}
	}

	due, err := d.Store.RipeDue(ctx, at, atATime)
	if err != nil {
		return errors.Join(all, err)
	}

	for _, x := range due {
		mine, err := d.Store.TakeDue(ctx, x)
		if err != nil || !mine {
			all = errors.Join(all, err)
			continue
		}

		// One that is still being taken is not asked for a second time.
		waiting, err := d.Store.Waiting(ctx, x.Application, x.Host)
		if err == nil && !waiting {
			_, err = d.AskSnapshot(ctx, wire.NewSnapshot{Application: x.Application, Host: x.Host},
				"schedule "+x.Schedule)
		}

		if err != nil && !errors.Is(err, ErrBad) { // the host may be another's by now
			all = errors.Join(all, err)
		}
	}

	return all
}

// everyRound is how often schedules are looked at.
const everyRound = 5 * time.Second

// KeepTime watches schedules, and sends notices, until the context ends. Every instance does; each moment's work is
// done by one.
func (d *Engine) KeepTime(ctx context.Context) {
	looks := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(everyRound/2 + mathrand.N(everyRound)):
		}
		d.Round(ctx, Schedules, func(ctx context.Context) error { return d.Fire(ctx, time.Now()) })
		if time.Since(looks) > looksEvery {
			looks = time.Now()
			d.Round(ctx, Looks, func(ctx context.Context) error { return d.TellLooks(ctx, looks) })
		}
		d.Round(ctx, Notices, func(ctx context.Context) error { return d.Deliver(ctx, time.Now()) })
	}
}
