package app

import (
	"cmp"
	"context"
	"encoding/hex"
	"net/url"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/service/engine"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func wireHook(h store.Hook) wire.Hook {
	return wire.Hook{
		ID: h.ID,
		NewHook: wire.NewHook{
			URL:         h.URL,
			Application: h.Application,
			Kinds:       h.Kinds(),
			Severity:    h.Severity,
			Every:       h.Every,
			Effect:      h.Effect,
		},
		Author: h.Author,
		Told:   h.Told,
		Fault:  h.Fault,
	}
}

// placeOf returns where a hook's address leads, without what in it may be a secret: chat systems accept whoever knows
// the rest.
func placeOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "an address"
	}
	if u.Scheme == "mailto" {
		_, domain, _ := strings.Cut(u.Opaque, "@")
		return "mailto:…@" + domain
	}
	return u.Scheme + "://" + u.Host + "/…"
}

// tellPlan queues notices about a plan's review or run. Failures are only logged.
func (s *App) tellPlan(ctx context.Context, kind, plan, state string) {
	p, err := s.store.Plan(ctx, plan)
	if err == nil {
		err = s.engine.TellPlan(context.WithoutCancel(ctx), kind, p, state)
	}
	if err != nil {
		s.log.Error("notices of a plan", "plan", plan, "error", err)
	}
}

// ListHooks lists where programs are told of what happens.
func (s *App) ListHooks(ctx context.Context, _ *struct{}) (*wire.Page[wire.Hook], error) {
	list, err := s.store.Hooks(ctx)
	out := wire.Page[wire.Hook]{Items: []wire.Hook{}}
	for _, h := range list {
		x := wireHook(h)
		if !CallerOf(ctx).Roles().Everywhere(wire.Admin) {
			x.URL = placeOf(x.URL)
		}
		out.Items = append(out.Items, x)
	}

	return whole(out), err
}

// AddHook has a program told of what happens, by signed CloudEvents.
func (s *App) AddHook(ctx context.Context, in *wire.NewHook) (*wire.MadeHook, error) {
	if err := engine.CheckHook(*in); err != nil {
		return nil, err
	}
	if s.config.Mail == nil && strings.HasPrefix(in.URL, "mailto:") {
		return nil, fault.Invalid(
			"this service has no mail server: see --mail-server of idletally serve")
	}

	h, err := s.store.AddHook(ctx, store.Hook{
		Application: in.Application,
		URL:         in.URL,
		KindList:    kept(in.Kinds),
		Severity:    cmp.Or(in.Severity, string(baseline.Minor)),
		Every:       in.Every,
		Effect:      in.Effect,
		Author:      CallerOf(ctx).Name,
	})

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "hook added", h.ID, placeOf(h.URL))
	return &wire.MadeHook{Hook: wireHook(h), Secret: hex.EncodeToString(s.engine.HookSecret(h.ID))}, nil
}

// TryHook has a notice sent that says nothing.
func (s *App) TryHook(ctx context.Context, in *ByID) (*wire.Hook, error) {
	h, err := s.store.Hook(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return new(wireHook(h)), s.engine.Tell(ctx, h, "trial", h.ID, map[string]string{
		"by": CallerOf(ctx).Name,
	})
}

// RemoveHook deletes a hook, and what it was to be told.
func (s *App) RemoveHook(ctx context.Context, in *ByID) (*struct{}, error) {
	h, err := s.store.Hook(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if err := s.store.RemoveHook(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "hook removed", h.ID, placeOf(h.URL))
	return nil, nil
}
