package app

import (
	"context"
	"time"

	"idletally/internal/service/authority"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Figures are what monitoring is told of the fleet and of the work on it.
type Figures struct {
	Hosts        []store.Host
	Applications []wire.Standing
	Counted      store.Figures
	Authorities  []authority.Issuer // the newest first
}

// Figures counts at a time; nil if there is no database, as in a program that only says what the service is like.
func (s *App) Figures(ctx context.Context, at time.Time) (*Figures, error) {
	if s.store == nil {
		return nil, nil
	}
	hosts, err := s.allHosts(ctx)
	if err != nil {
		return nil, err
	}
	reports, err := s.current(ctx)
	if err != nil {
		return nil, err
	}
	apps, err := s.standings(ctx, reports, "", at)
	if err != nil {
		return nil, err
	}
	n, err := s.store.Figures(ctx, at)
	if err != nil {
		return nil, err
	}
	return &Figures{Hosts: hosts, Applications: apps, Counted: n, Authorities: s.authority.Issuers()}, nil
}
