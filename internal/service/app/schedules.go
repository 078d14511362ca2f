package app

import (
	"context"

	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func wireSchedule(x store.Schedule) wire.Schedule {
	return wire.Schedule{
		ID: x.ID,
		NewSchedule: wire.NewSchedule{
			Application: x.Application,
			Tag:         x.Tag,
			Cron:        x.Cron,
			Zone:        x.Zone,
			Spread:      x.Spread,
		},
		Author: x.Author,
		Next:   x.Next,
		Last:   x.Last,
	}
}

// ListSchedules lists schedules.
func (s *App) ListSchedules(ctx context.Context, _ *struct{}) (*wire.Page[wire.Schedule], error) {
	list, err := s.store.Schedules(ctx)
	out := wire.Page[wire.Schedule]{Items: []wire.Schedule{}}
	for _, x := range list {
		out.Items = append(out.Items, wireSchedule(x))
	}

	return whole(out), err
}

// AddSchedule schedules snapshots of an application.
func (s *App) AddSchedule(ctx context.Context, in *wire.NewSchedule) (*wire.Schedule, error) {
	x, err := s.engine.AddSchedule(ctx, *in, CallerOf(ctx).Name)
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "schedule added", x.Application, x.Cron+" "+x.Tag)
	return new(wireSchedule(x)), nil
}

// RemoveSchedule deletes a schedule, and what it has made due.
func (s *App) RemoveSchedule(ctx context.Context, in *ByID) (*struct{}, error) {
	x, err := s.store.Schedule(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if err := s.store.RemoveSchedule(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "schedule removed", x.Application, x.Cron+" "+x.Tag)
	return nil, nil
}
