package http

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

func (s *Server) scheduleRoutes() {
	add(s, op{"GET", "/schedules", "list-schedules", "List schedules", wire.Viewer, 200},
		s.listSchedules)

	addFor(s, op{"POST", "/schedules", "add-schedule", "Schedule snapshots of an application", wire.Operator, 201},
		func(_ context.Context, in *body[wire.NewSchedule]) (string, error) { return in.Body.Application, nil },
		s.addSchedule)

	addFor(s,
		op{
			"DELETE", "/schedules/{id}", "remove-schedule", "Delete a schedule, and what it has made due",
			wire.Operator, 204,
		},
		s.applicationOfSchedule, s.removeSchedule)
}

// listSchedules serves: List schedules.
func (s *Server) listSchedules(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Schedule]], error) {
	list, err := s.Store.Schedules(ctx)
	out := wire.Page[wire.Schedule]{Items: []wire.Schedule{}}
	for _, x := range list {
		out.Items = append(out.Items, wireSchedule(x))
	}

	return &body[wire.Page[wire.Schedule]]{whole(out)}, err
}

// addSchedule serves: Schedule snapshots of an application.
func (s *Server) addSchedule(ctx context.Context, in *body[wire.NewSchedule]) (*body[wire.Schedule], error) {
	x, err := s.desk.AddSchedule(ctx, in.Body, caller(ctx).Name)
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "schedule added", x.Application, x.Cron+" "+x.Tag)
	return &body[wire.Schedule]{wireSchedule(x)}, nil
}

// removeSchedule serves: Delete a schedule, and what it has made due.
func (s *Server) removeSchedule(ctx context.Context, in *byID) (*struct{}, error) {
	x, err := s.Store.Schedule(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if err := s.Store.RemoveSchedule(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "schedule removed", x.Application, x.Cron+" "+x.Tag)
	return nil, nil
}
