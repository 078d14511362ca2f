package app

import (
	"context"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// roleList checks roles and puts them in order.
func roleList(list []string) (string, error) {
	roles, err := auth.ParseRoles(list)
	if err != nil {
		return "", fault.Invalid(err.Error())
	}
	return kept(roles), nil
}

// kept is a list as the database stores it: in order, each once.
func kept(list []string) string {
	return strings.Join(slices.Compact(slices.Sorted(slices.Values(list))), ",")
}

func tagList(tags []string) error {
	for _, t := range tags {
		if !baseline.Name.MatchString(t) {
			return fault.Invalid("tag " + t + ": want a-z 0-9 . _ -")
		}
	}
	return nil
}

// apart refuses roles that one person must not have together.
func (s *App) apart(ctx context.Context, roles auth.Roles) error {
	p, err := s.holds(ctx)
	if err == nil && !p.ManagersApprove && roles.Everywhere(wire.Admin) && roles.Somewhere(wire.Reviewer) {
		err = fault.Invalid(
			"who manages people approves no plans: give admin and reviewer to two people (idletally policy show)")
	}
	return err
}

// GetRoles returns what a person may do.
func (s *App) GetRoles(ctx context.Context, in *ByName) (*shown[wire.RoleList], error) {
	p, err := s.store.Person(ctx, in.Name)
	return &shown[wire.RoleList]{tagOf(p.RoleList), wire.RoleList{Roles: p.Roles()}}, err
}

// SetRolesRequest is the request of [App.SetRoles].
type SetRolesRequest struct {
	Name string `path:"name" maxLength:"64"`
	Guarded
	Body wire.RoleList
}

// SetRoles says what a person may do.
func (s *App) SetRoles(ctx context.Context, in *SetRolesRequest) (*shown[wire.Person], error) {
	list, err := roleList(in.Body.Roles)
	if err != nil {
		return nil, err
	}
	p, err := s.store.Person(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	was, err := in.holds(p.RoleList)
	if err != nil {
		return nil, err
	}
	if in.Name == CallerOf(ctx).Name && !slices.Contains(in.Body.Roles, wire.Admin) {
		return nil, fault.Conflict("nobody takes the role admin from themselves: another admin has to")
	}
	if err := s.apart(ctx, in.Body.Roles); err != nil {
		return nil, err
	}

	var from *time.Time
	says, err := s.holds(ctx)
	if err != nil {
		return nil, err
	}

	if auth.GainsReview(says, p.Roles(), in.Body.Roles) {
		if from, err = s.countsFrom(ctx); err != nil {
			return nil, err
		}
	}

	if err := s.store.SetRoles(ctx, in.Name, list, was, from); err != nil {
		return nil, err
	}

	s.audit(ctx, "roles set", in.Name, strings.ReplaceAll(list, ",", ", "))
	p, err = s.store.Person(ctx, in.Name)
	return &shown[wire.Person]{tagOf(p.RoleList), wirePerson(p)}, err
}

// ResetPassword gives a person a one-time password, good for a day, which ends their sessions and tokens.
func (s *App) ResetPassword(ctx context.Context, in *ByName) (*wire.OneTime, error) {
	p, err := s.store.Person(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if p.Provider {
		return nil, fault.Conflict(in.Name +
			" signs in by way of the provider, and has no password here")
	}

	from, err := s.countsFrom(ctx)
	if err != nil {
		return nil, err
	}

	pw := auth.Code(4)
	if err := s.store.SetPassword(ctx, in.Name, store.NewPassword{
		Hash:       auth.Hash(pw),
		OneTime:    true,
		CountsFrom: from,
	}); err != nil {
		return nil, err
	}

	s.audit(ctx, "password reset", in.Name, "")
	n, err := s.store.CountPasskeys(ctx, in.Name)
	return &wire.OneTime{Name: in.Name, Password: pw, Passkeys: n}, err
}

// RemovePerson removes a person; what they did stays in the history.
func (s *App) RemovePerson(ctx context.Context, in *ByName) (*struct{}, error) {
	if in.Name == CallerOf(ctx).Name {
		return nil, fault.Conflict("nobody removes themselves: another admin has to")
	}
	if err := s.store.RemovePerson(ctx, in.Name); err != nil {
		return nil, err
	}

	s.audit(ctx, "person removed", in.Name, "")
	return nil, nil
}

// GetTags returns which tags a host has.
func (s *App) GetTags(ctx context.Context, in *ByName) (*shown[wire.TagList], error) {
	h, err := s.store.Host(ctx, in.Name)
	return &shown[wire.TagList]{tagOf(h.TagList), wire.TagList{Tags: h.Tags()}}, err
}

// SetTagsRequest is the request of [App.SetTags].
type SetTagsRequest struct {
	Name string `path:"name" maxLength:"64"`
	Guarded
	Body wire.TagList
}

// SetTags says which tags a host has: baselines choose their hosts by them.
func (s *App) SetTags(ctx context.Context, in *SetTagsRequest) (*shown[wire.Host], error) {
	if err := tagList(in.Body.Tags); err != nil {
		return nil, err
	}
	h, err := s.store.Host(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	was, err := in.holds(h.TagList)
	if err != nil {
		return nil, err
	}
	if err := s.store.SetTags(ctx, in.Name, in.Body.Tags, was); err != nil {
		return nil, err
	}

	s.notifier.wake(watchesOf(in.Name)) // applications may come and go
	s.audit(ctx, "tags set", in.Name, strings.Join(in.Body.Tags, ", "))
	h, err = s.store.Host(ctx, in.Name)
	return &shown[wire.Host]{tagOf(h.TagList), wireHost(h)}, err
}

// ShutOutHost revokes the certificate of a host's agent: it has to be enrolled anew.
func (s *App) ShutOutHost(ctx context.Context, in *ByName) (*wire.Host, error) {
	if err := s.store.ShutOut(ctx, in.Name); err != nil {
		return nil, err
	}

	s.audit(ctx, "host shut out", in.Name, "")
	h, err := s.store.Host(ctx, in.Name)
	return new(wireHost(h)), err
}
