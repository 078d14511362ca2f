package http

import (
	"context"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/httprate"

	"idletally/internal/core/baseline"
	"idletally/internal/service/auth"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

type body[T any] struct{ Body T }

type byName struct {
	Name string `path:"name"`
}

type signInOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      wire.Session
}

func (s *Server) routes(r chi.Router) {
	s.peopleRoutes(r)
	s.hostRoutes()
	s.baselineRoutes(r)
	s.snapshotRoutes()
	s.happeningRoutes()
	s.lookingRoutes()
	s.calculatorRoutes()
	s.driftRoutes()
	s.waiverRoutes()
	s.storageRoutes()
	s.planRoutes()
	s.overviewRoutes()
	s.searchRoutes()
	s.settingsRoutes()
	s.tokenRoutes()
	s.historyRoutes()
	s.scheduleRoutes()
	s.hookRoutes()
	s.runRoutes(r)
}

func cookie(token string, expires time.Time) http.Cookie {
	return http.Cookie{Name: cookieName, Value: token, Path: "/", Expires: expires, Secure: true, HttpOnly: true, SameSite: http.SameSiteStrictMode}
}

var personName = regexp.MustCompile(baseline.Name.String())

func (s *Server) peopleRoutes(chi.Router) {
	// Wrong sign-ins are counted by name and address together, so that nobody locks others out.
	tries := httprate.NewRateLimiter(20, time.Minute)
	type signIn struct {
		Body wire.SignIn
	}
	add(s, op{"POST", "/sign-in", "sign-in", "Sign in", "", 200}, func(ctx context.Context, in *signIn) (*signInOut, error) {
		name := in.Body.Name
		if !personName.MatchString(name) {
			return nil, huma.Error401Unauthorized("name or password is wrong")
		}
		if _, rate, err := tries.Status(name); err == nil && rate >= 20 {
			return nil, huma.Error429TooManyRequests("too many wrong sign-ins with this name: wait a minute")
		}
		p, err := s.Store.Person(ctx, name)
		if err != nil && !isNotFound(err) {
			return nil, err
		}
		if !auth.Check(p.Password, in.Body.Password) {
			tries.OnLimit(nopWriter{}, &http.Request{}, name)
			s.audit(ctx, "sign-in refused", name, "")
			return nil, huma.Error401Unauthorized("name or password is wrong")
		}
		if p.MustChange {
			if in.Body.NewPassword == "" {
				return nil, huma.Error403Forbidden("this is a one-time password: give new_password as well")
			}
			if err := auth.Acceptable(in.Body.NewPassword, name); err != nil {
				return nil, huma.Error422UnprocessableEntity(err.Error())
			}
			if err := s.Store.SetPassword(ctx, name, auth.Hash(in.Body.NewPassword), false); err != nil {
				return nil, err
			}
		}
		token, hash := auth.Token()
		expires := time.Now().Add(sessionLife).UTC().Truncate(time.Second)
		if err := s.Store.AddSession(ctx, hash, name, expires); err != nil {
			return nil, err
		}
		s.audit(withPerson(ctx, p), "sign-in", name, "")
		return &signInOut{cookie(token, expires), wire.Session{Token: token, Expires: expires, Person: wire.Person{Name: name, Roles: p.Roles()}}}, nil
	})
	type signOutOut struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}
	add(s, op{"POST", "/sign-out", "sign-out", "End this session", "any", 204}, func(ctx context.Context, _ *struct{}) (*signOutOut, error) {
		return &signOutOut{cookie("", time.Unix(1, 0))}, s.Store.EndSession(ctx, caller(ctx).token)
	})
	add(s, op{"GET", "/me", "me", "Who is signed in", "any", 200}, func(ctx context.Context, _ *struct{}) (*body[wire.Person], error) {
		p := caller(ctx)
		return &body[wire.Person]{wire.Person{Name: p.Name, Roles: p.Roles()}}, nil
	})
	add(s, op{"GET", "/people", "list-people", "List people", wire.Admin, 200}, func(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Person]], error) {
		list, err := s.Store.People(ctx)
		out := wire.Page[wire.Person]{Items: []wire.Person{}}
		for _, p := range list {
			out.Items = append(out.Items, wire.Person{Name: p.Name, Roles: p.Roles()})
		}
		return &body[wire.Page[wire.Person]]{out}, err
	})
	add(s, op{"POST", "/people", "add-person", "Add a person with a one-time password", wire.Admin, 201}, func(ctx context.Context, in *body[wire.NewPerson]) (*body[wire.OneTime], error) {
		roles, err := roleList(in.Body.Roles)
		if err != nil {
			return nil, err
		}
		pw := auth.Code(4)
		if err := s.Store.AddPerson(ctx, store.Person{Name: in.Body.Name, Password: auth.Hash(pw), RoleList: roles, MustChange: true}); err != nil {
			return nil, err
		}
		s.audit(ctx, "person added", in.Body.Name, strings.ReplaceAll(roles, ",", ", "))
		return &body[wire.OneTime]{wire.OneTime{Name: in.Body.Name, Password: pw}}, nil
	})
}

// page makes a page; a full one says what to ask for next.
func page[T any](items []T, limit int, key func(T) string) wire.Page[T] {
	p := wire.Page[T]{Items: items}
	if p.Items == nil {
		p.Items = []T{}
	}
	if len(items) == limit {
		p.Next = key(items[len(items)-1])
	}
	return p
}

type nopWriter struct{}

func (nopWriter) Header() http.Header         { return http.Header{} }
func (nopWriter) Write(b []byte) (int, error) { return len(b), nil }
func (nopWriter) WriteHeader(int)             {}

// FirstAdmin makes the first person, where there is none, and gives the one-time password.
func FirstAdmin(ctx context.Context, st *store.Store) (name, password string, err error) {
	list, err := st.People(ctx)
	if err != nil || len(list) > 0 {
		return "", "", err
	}
	pw := auth.Code(4)
	err = st.AddPerson(ctx, store.Person{Name: "admin", Password: auth.Hash(pw), RoleList: strings.Join(wire.Roles, ","), MustChange: true})
	if isConflict(err) { // another instance was faster, and has printed it
		return "", "", nil
	}
	return "admin", pw, err
}
