package http

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

// inPerson has a call made by people themselves alone, and refuses programs: a stolen token makes no other.
func inPerson[I, O any](h func(context.Context, *I) (*O, error)) func(context.Context, *I) (*O, error) {
	return func(ctx context.Context, in *I) (*O, error) {
		if caller(ctx).by != "" {
			return nil, fault.Forbidden("a token may not do this: sign in yourself")
		}
		return h(ctx, in)
	}
}

func (s *Server) tokenRoutes() {
	add(s, op{"GET", "/tokens", "list-tokens", "List your tokens; of an admin, everybody's", "any", 200},
		s.listTokens)

	add(s, op{"POST", "/tokens", "add-token", "Make a token, for a program that does something for you", "any", 201},
		inPerson(s.addToken))

	add(s, op{"DELETE", "/tokens/{id}", "remove-token", "End a token; of an admin, anybody's", "any", 204},
		inPerson(s.removeToken))
}

// listTokens serves: List your tokens; of an admin, everybody's.
func (s *Server) listTokens(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Token]], error) {
	me := caller(ctx)
	of := me.Name
	if me.Roles().Everywhere(wire.Admin) {
		of = ""
	}

	list, err := s.Store.Tokens(ctx, of)
	out := wire.Page[wire.Token]{Items: []wire.Token{}}
	for _, t := range list {
		out.Items = append(out.Items, wireToken(t))
	}

	return &body[wire.Page[wire.Token]]{whole(out)}, err
}

// addToken serves: Make a token, for a program that does something for you.
func (s *Server) addToken(ctx context.Context, in *body[wire.NewToken]) (*body[wire.MadeToken], error) {
	me := caller(ctx)
	if err := plainText("name", in.Body.Name); err != nil {
		return nil, err
	}
	list, err := roleList(in.Body.Roles)
	if err != nil {
		return nil, err
	}

	for _, r := range in.Body.Roles {
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
	t, err := s.Store.AddToken(ctx,
		store.Token{
			Person:   me.Name,
			Name:     in.Body.Name,
			RoleList: list,
			Expires:  time.Now().AddDate(0, 0, in.Body.Days),
		},
		hash)

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "token made", t.ID,
		in.Body.Name+": "+strings.Join(t.Roles(), ", ")+" until "+t.Expires.UTC().Format(time.DateOnly))
	return &body[wire.MadeToken]{wire.MadeToken{Token: wireToken(t), Secret: secret}}, nil
}

// removeToken serves: End a token; of an admin, anybody's.
func (s *Server) removeToken(ctx context.Context, in *byID) (*struct{}, error) {
	t, err := s.Store.Token(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if me := caller(ctx); t.Person != me.Name && !me.Roles().Everywhere(wire.Admin) {
		return nil, fault.NotFound("token " + in.ID + ": not found") // whose it is nobody else is told
	}
	if err := s.Store.RemoveToken(ctx, in.ID); err != nil {
		return nil, err
	}

	s.audit(ctx, "token ended", t.ID, t.Person+": "+t.Name)
	return nil, nil
}
