package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"time"

	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Retention says how long snapshots are kept, in days: all of them, then the last of each day, then
// the last of each week. The newest of each application on each host stays in any case. Of those that
// nobody asked for, after a day the last of each hour counts.
type Retention struct{ All, Daily, Weekly int }

// Check returns what cannot be kept like that.
func (k Retention) Check() error {
	if min(k.All, k.Daily, k.Weekly) < 0 {
		return fmt.Errorf("snapshots cannot be kept for %d days all, %d by the day and %d by the week: want 0 or more",
			k.All, k.Daily, k.Weekly)
	}
	return nil
}

// drop returns the snapshots of one place that are not kept; they come oldest first. Days and weeks are those of UTC.
func (k Retention) drop(snaps []store.PlaceTime, now time.Time) (out []string) {
	day := func(t time.Time) string { return t.UTC().Format(time.DateOnly) }
	week := func(t time.Time) string {
		y, w := t.UTC().ISOWeek()
		return fmt.Sprint(y, "w", w)
	}
	for i, s := range snaps {
		if i == len(snaps)-1 {
			break
		}

		next := snaps[i+1].Taken
		age := int(now.Sub(s.Taken) / (24 * time.Hour))
		switch {
		case s.Heard && age >= 1 && hour(next) == hour(s.Taken):
			out = append(out, s.ID)
		case age < k.All:
		case age < k.Daily && day(next) != day(s.Taken):
		case age >= k.Daily && age < k.Weekly && week(next) != week(s.Taken):
		default:
			out = append(out, s.ID)
		}
	}

	return out
}

func hour(t time.Time) int64 { return t.Unix() / 3600 }

// trim returns the snapshots whose findings are not kept: those that came after a change was reported, an hour later,
// except the last of each hour.
func trim(snaps []store.PlaceTime, now time.Time) (out []string) {
	for i, s := range snaps {
		if i < len(snaps)-1 && s.Heard && now.Sub(s.Taken) > time.Hour && hour(snaps[i+1].Taken) == hour(s.Taken) {
			out = append(out, s.ID)
		}
	}
	return out
}

// Tidy removes what is not to be kept, and nodes that nothing leads to any more.
func (d *Engine) Tidy(ctx context.Context, keep Retention) (out wire.Tidied, err error) {
	now := time.Now()
	err = d.Store.EachPlace(ctx, func(snaps []store.PlaceTime) error {
		for _, id := range keep.drop(snaps, now) {
			if err := d.Store.DropSnapshot(ctx, id); err != nil {
				return fmt.Errorf("let snapshot %s go: %w", id, err)
			}
			out.Snapshots++
		}

		for _, id := range trim(snaps, now) {
			if err := d.Store.TrimReports(ctx, id); err != nil {
				return fmt.Errorf("let the findings of snapshot %s go: %w", id, err)
			}
		}

		return nil
	})

	if err == nil {
		err = d.Store.ForgetHeard(ctx, now.AddDate(0, 0, -max(keep.All, 1)))
	}

	if err == nil {
		err = d.Store.DropUnfinished(ctx, now.AddDate(0, 0, -1))
	}

	if err == nil {
		err = d.Store.ForgetDays(ctx, now.AddDate(-2, 0, 0))
	}

	if err == nil {
		err = d.Store.ForgetAttempts(ctx, now.AddDate(0, 0, -1))
	}

	if err == nil {
		err = d.Store.ForgetTries(ctx, now.AddDate(0, 0, -2))
	}

	if err != nil {
		return out, err
	}
	if out.Directories, err = d.Store.SweepDirectories(ctx); err != nil {
		return out, fmt.Errorf("take away accounts: %w", err)
	}

	swept, err := d.Store.Sweep(ctx)
	out.Nodes, out.Live = swept.Taken, swept.Live
	return out, err
}

// tidyEvery is how often one of the instances tidies up.
const tidyEvery = time.Hour

// Tend tidies up at intervals, until the context ends. Of several instances one does it.
func (d *Engine) Tend(ctx context.Context, keep Retention) {
	holder := store.NewID()
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(tidyEvery/2 + time.Duration(rand.Int64N(int64(tidyEvery)))):
		}
		d.Round(ctx, Storage, func(ctx context.Context) error {
			mine, err := d.Store.TakeDuty(ctx, "storage", holder, tidyEvery)
			if err != nil || !mine {
				return err
			}

			out, err := d.Tidy(ctx, keep)
			if err == nil {
				d.Log.Info("tidied up", "snapshots", out.Snapshots, "nodes", out.Nodes, "accounts", out.Directories,
					"live", out.Live)
			}

			return err
		})
	}
}

// checkPage is how many nodes are checked in one call.
const checkPage = 2000

// CheckStorage checks what is stored, page by page from a hash on: the first page also checks snapshots.
func (d *Engine) CheckStorage(ctx context.Context, after []byte) (out wire.StorageCheck, next []byte, err error) {
	out.Faults = []wire.Left{}
	add := func(faults []store.Fault) {
		for _, f := range faults {
			out.Faults = append(out.Faults, wire.Left{Path: f.What, Why: f.Why})
		}
	}
	if len(after) == 0 {
		n, faults, err := d.Store.CheckSnapshots(ctx)
		if err != nil {
			return out, nil, err
		}

		out.Snapshots = n
		add(faults)
	}

	n, faults, next, err := d.Store.CheckNodes(ctx, after, checkPage)
	out.Nodes = n
	add(faults)
	return out, next, err
}
