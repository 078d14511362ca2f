package app

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// tokenRoles are those that a program may have: what needs a person's own eyes is not among them.
var tokenRoles = []string{wire.Viewer, wire.Author, wire.Operator}

func wireToken(t store.Token) wire.Token {
	return wire.Token{
		ID:      t.ID,
		Person:  t.Person,
		Name:    t.Name,
		Roles:   t.Roles(),
		Created: t.Created,
		Expires: t.Expires,
		Used:    t.Used,
	}
}

// ListTokens lists your tokens; of an admin, everybody's.
func (s *App) ListTokens(ctx context.Context, _ *struct{}) (*wire.Page[wire.Token], error) {
	me := CallerOf(ctx)
	of := me.Name
	if me.Roles().Everywhere(wire.Admin) {
		of = ""
	}

	list, err := s.store.Tokens(ctx, of)
	out := wire.Page[wire.Token]{Items: []wire.Token{}}
	for _, t := range list {
		out.Items = append(out.Items, wireToken(t))
	}

	return whole(out), err
}

// AddToken makes a token, for a program that does something for you.
func (s *App) AddToken(ctx context.Context, in *wire.NewToken) (*wire.MadeToken, error) {
	me := CallerOf(ctx)
	if err := plainText("name", in.Name); err != nil {
		return nil, err
	}
	list, err := roleList(in.Roles)
	if err != nil {
		return nil, err
	}

	for _, r := range in.Roles {
		role, application, _ := auth.SplitRole(r) // it was checked
		switch {
		case !slices.Contains(tokenRoles, role):
			return nil, fault.Invalid(fmt.Sprintf(
				"a token cannot have the role %s: want some of %s", r, strings.Join(tokenRoles, ", ")))
		case r != wire.Viewer && !me.Roles().For(role, application):
			return nil, fault.Forbidden("you have not got the role " + r + " yourself")
		}
	}

	secret, hash := auth.Token()
	t, err := s.store.AddToken(ctx,
		store.Token{
			Person:   me.Name,
			Name:     in.Name,
			RoleList: list,
			Expires:  time.Now().AddDate(0, 0, in.Days),
		},
		hash)

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "token made", t.ID,
		in.Name+": "+strings.Join(t.Roles(), ", ")+" until "+t.Expires.UTC().Format(time.DateOnly))
	return &wire.MadeToken{Token: wireToken(t), Secret: secret}, nil
}

// RemoveToken ends a token; of an admin, anybody's.
func (s *App) RemoveToken(ctx context.Context, in *ByID) (*struct{}, error) {
	t, err := s.store.Token(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if me := CallerOf(ctx); t.Person != me.Name && !me.Roles().Everywhere(wire.Admin) {
		return nil, fault.NotFound("token " + in.ID + ": not found") // whose it is nobody else is told
	}
	if err := s.store.RemoveToken(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "token ended", t.ID, t.Person+": "+t.Name)
	return nil, nil
}
