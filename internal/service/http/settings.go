package http

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

// kept is a list as the database keeps it: in order, each once.
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

// apart refuses roles that one person is not to have together.
func (s *Server) apart(ctx context.Context, roles auth.Roles) error {
	p, err := s.holds(ctx)
	if err == nil && !p.ManagersApprove && roles.Everywhere(wire.Admin) && roles.Somewhere(wire.Reviewer) {
		err = fault.Invalid(
			"who manages people approves no plans: give admin and reviewer to two people (idletally policy show)")
	}
	return err
}

func (s *Server) settingsRoutes() {
	add(s, op{"GET", "/people/{name}/roles", "get-roles", "What a person may do", wire.Admin, 200},
		s.getRoles)
	add(s, op{"PUT", "/people/{name}/roles", "set-roles", "Say what a person may do", wire.Admin, 200},
		s.setRoles)

	add(s,
		op{
			"POST", "/people/{name}/password", "reset-password",
			"Give a person a one-time password, good for a day, which ends their sessions and tokens", wire.Admin, 200,
		},
		s.resetPassword)

	add(s,
		op{
			"DELETE", "/people/{name}", "remove-person", "Remove a person; what they did stays in the history",
			wire.Admin, 204,
		},
		s.removePerson)

	add(s, op{"GET", "/hosts/{name}/tags", "get-tags", "Which tags a host has", wire.Viewer, 200},
		s.getTags)
	add(s,
		op{
			"PUT", "/hosts/{name}/tags", "set-tags", "Say which tags a host has: baselines choose their hosts by them",
			wire.Operator, 200,
		},
		s.setTags)

	add(s,
		op{
			"POST", "/hosts/{name}/shut-out", "shut-out-host",
			"Revoke the certificate of a host's agent: it has to be enrolled anew", wire.Operator, 200,
		},
		s.shutOutHost)
}

// getRoles serves: What a person may do.
func (s *Server) getRoles(ctx context.Context, in *byName) (*shown[wire.RoleList], error) {
	p, err := s.Store.Person(ctx, in.Name)
	return &shown[wire.RoleList]{tagOf(p.RoleList), wire.RoleList{Roles: p.Roles()}}, err
}

// setRolesRequest is what setRoles takes.
type setRolesRequest struct {
	Name string `path:"name" maxLength:"64"`
	Guarded
	Body wire.RoleList
}

// setRoles serves: Say what a person may do.
func (s *Server) setRoles(ctx context.Context, in *setRolesRequest) (*shown[wire.Person], error) {
	list, err := roleList(in.Body.Roles)
	if err != nil {
		return nil, err
	}
	p, err := s.Store.Person(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	was, err := in.holds(p.RoleList)
	if err != nil {
		return nil, err
	}
	if in.Name == caller(ctx).Name && !slices.Contains(in.Body.Roles, wire.Admin) {
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

	if err := s.Store.SetRoles(ctx, in.Name, list, was, from); err != nil {
		return nil, err
	}

	s.audit(ctx, "roles set", in.Name, strings.ReplaceAll(list, ",", ", "))
	p, err = s.Store.Person(ctx, in.Name)
	return &shown[wire.Person]{tagOf(p.RoleList), wirePerson(p)}, err
}

// resetPassword serves: Give a person a one-time password, good for a day, which ends their sessions and tokens.
func (s *Server) resetPassword(ctx context.Context, in *byName) (*body[wire.OneTime], error) {
	p, err := s.Store.Person(ctx, in.Name)
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
	if err := s.Store.SetPassword(ctx, in.Name, store.NewPassword{
		Hash:       auth.Hash(pw),
		OneTime:    true,
		CountsFrom: from,
	}); err != nil {
		return nil, err
	}

	s.audit(ctx, "password reset", in.Name, "")
	n, err := s.Store.CountPasskeys(ctx, in.Name)
	return &body[wire.OneTime]{wire.OneTime{Name: in.Name, Password: pw, Passkeys: n}}, err
}

// removePerson serves: Remove a person; what they did stays in the history.
func (s *Server) removePerson(ctx context.Context, in *byName) (*struct{}, error) {
	if in.Name == caller(ctx).Name {
		return nil, fault.Conflict("nobody removes themselves: another admin has to")
	}
	if err := s.Store.RemovePerson(ctx, in.Name); err != nil {
		return nil, err
	}

	s.audit(ctx, "person removed", in.Name, "")
	return nil, nil
}

// getTags serves: Which tags a host has.
func (s *Server) getTags(ctx context.Context, in *byName) (*shown[wire.TagList], error) {
	h, err := s.Store.Host(ctx, in.Name)
	return &shown[wire.TagList]{tagOf(h.TagList), wire.TagList{Tags: h.Tags()}}, err
}

// setTagsRequest is what setTags takes.
type setTagsRequest struct {
	Name string `path:"name" maxLength:"64"`
	Guarded
	Body wire.TagList
}

// setTags serves: Say which tags a host has: baselines choose their hosts by them.
func (s *Server) setTags(ctx context.Context, in *setTagsRequest) (*shown[wire.Host], error) {
	if err := tagList(in.Body.Tags); err != nil {
		return nil, err
	}
	h, err := s.Store.Host(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	was, err := in.holds(h.TagList)
	if err != nil {
		return nil, err
	}
	if err := s.Store.SetTags(ctx, in.Name, in.Body.Tags, was); err != nil {
		return nil, err
	}

	s.notifier.wake(watchesOf(in.Name)) // applications may come and go
	s.audit(ctx, "tags set", in.Name, strings.Join(in.Body.Tags, ", "))
	h, err = s.Store.Host(ctx, in.Name)
	return &shown[wire.Host]{tagOf(h.TagList), wireHost(h)}, err
}

// shutOutHost serves: Revoke the certificate of a host's agent: it has to be enrolled anew.
func (s *Server) shutOutHost(ctx context.Context, in *byName) (*body[wire.Host], error) {
	if err := s.Store.ShutOut(ctx, in.Name); err != nil {
		return nil, err
	}

	s.audit(ctx, "host shut out", in.Name, "")
	h, err := s.Store.Host(ctx, in.Name)
	return &body[wire.Host]{wireHost(h)}, err
}
