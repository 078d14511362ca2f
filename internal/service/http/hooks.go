package http

import (
	"cmp"
	"context"
	"encoding/hex"
	"net/url"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/service/desk"
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

// placeOf tells where a hook's address leads, without what in it may be a secret: chat systems take whoever
// knows the rest.
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

func (s *Server) hookRoutes() {
	add(s, op{"GET", "/hooks", "list-hooks", "List where programs are told of what happens", wire.Operator, 200},
		s.listHooks)

	add(s,
		op{"POST", "/hooks", "add-hook", "Have a program told of what happens, by signed CloudEvents", wire.Admin, 201},
		s.addHook)

	add(s, op{"POST", "/hooks/{id}/try", "try-hook", "Have a notice sent that says nothing", wire.Admin, 202},
		s.tryHook)

	add(s, op{"DELETE", "/hooks/{id}", "remove-hook", "Delete a hook, and what it was to be told", wire.Admin, 204},
		s.removeHook)
}

// tellPlan queues notices about a plan's review or run. Failures are only logged.
func (s *Server) tellPlan(ctx context.Context, kind, plan, state string) {
	p, err := s.Store.Plan(ctx, plan)
	if err == nil {
		err = s.desk.TellPlan(context.WithoutCancel(ctx), kind, p, state)
	}
	if err != nil {
		s.Log.Error("notices of a plan", "plan", plan, "error", err)
	}
}

// listHooks serves: List where programs are told of what happens.
func (s *Server) listHooks(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Hook]], error) {
	list, err := s.Store.Hooks(ctx)
	out := wire.Page[wire.Hook]{Items: []wire.Hook{}}
	for _, h := range list {
		x := wireHook(h)
		if !caller(ctx).Roles().Everywhere(wire.Admin) {
			x.URL = placeOf(x.URL)
		}
		out.Items = append(out.Items, x)
	}

	return &body[wire.Page[wire.Hook]]{whole(out)}, err
}

// addHook serves: Have a program told of what happens, by signed CloudEvents.
func (s *Server) addHook(ctx context.Context, in *body[wire.NewHook]) (*body[wire.MadeHook], error) {
	if err := desk.CheckHook(in.Body); err != nil {
		return nil, err
	}
	if s.Mail == nil && strings.HasPrefix(in.Body.URL, "mailto:") {
		return nil, fault.Invalid(
			"this service has no mail server: see --mail-server of idletally serve")
	}

	h, err := s.Store.AddHook(ctx, store.Hook{
		Application: in.Body.Application,
		URL:         in.Body.URL,
		KindList:    kept(in.Body.Kinds),
		Severity:    cmp.Or(in.Body.Severity, string(baseline.Minor)),
		Every:       in.Body.Every,
		Effect:      in.Body.Effect,
		Author:      caller(ctx).Name,
	})

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "hook added", h.ID, placeOf(h.URL))
	return &body[wire.MadeHook]{
		wire.MadeHook{Hook: wireHook(h), Secret: hex.EncodeToString(s.desk.HookSecret(h.ID))},
	}, nil
}

// tryHook serves: Have a notice sent that says nothing.
func (s *Server) tryHook(ctx context.Context, in *byID) (*body[wire.Hook], error) {
	h, err := s.Store.Hook(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &body[wire.Hook]{wireHook(h)}, s.desk.Tell(ctx, h, "trial", h.ID, map[string]string{
		"by": caller(ctx).Name,
	})
}

// removeHook serves: Delete a hook, and what it was to be told.
func (s *Server) removeHook(ctx context.Context, in *byID) (*struct{}, error) {
	h, err := s.Store.Hook(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if err := s.Store.RemoveHook(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "hook removed", h.ID, placeOf(h.URL))
	return nil, nil
}
