package http

import (
	"cmp"
	"context"
	"errors"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

type body[T any] struct{ Body T }

type byName struct {
	Name string `path:"name"`
}

type signInOut struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      wire.Session
}

func (s *Server) routes(r chi.Router) {
	s.peopleRoutes(r)
	s.meRoutes()
	s.passkeyRoutes()
	s.providerRoutes(r)
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
	s.policyRoutes()
	s.tokenRoutes()
	s.historyRoutes()
	s.keyRoutes()
	s.newsRoutes()
	s.scheduleRoutes()
	s.hookRoutes()
	s.runRoutes(r)
	s.carriedRoutes()
}

func cookie(token string, expires time.Time) http.Cookie { return strict(cookieName, token, expires) }

// knownCookie has a browser keep that somebody signed in with it.
func knownCookie(kept string) http.Cookie {
	return strict(deviceCookie, kept, time.Now().Add(deviceLife))
}

func strict(name, value string, expires time.Time) http.Cookie {
	return http.Cookie{
		Name:     name,
		Value:    value,
		Path:     "/",
		Expires:  expires,
		Secure:   true,
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
	}
}

var personName = regexp.MustCompile(baseline.Name.String())

func (s *Server) peopleRoutes(chi.Router) {
	add(s, op{"POST", "/sign-in", "sign-in", "Sign in", "", 200},
		s.signIn)

	add(s, op{"POST", "/sign-out", "sign-out", "End this session", "any", 204},
		s.signOut)

	add(s, op{"GET", "/version", "get-version", "Say what the service is", "any", 200},
		s.getVersion)
	add(s, op{"GET", "/me", "me", "Who is signed in", "any", 200},
		s.me)

	add(s,
		op{
			"POST", "/me/confirm", "confirm",
			"Show again who you are, by your password or a code of your second factor: good for ten minutes", "any",
			204,
		},
		inPerson(s.confirm))

	add(s,
		op{
			"POST", "/me/password", "change-password",
			"Change your own password. All your other sessions end, and your tokens, unless they are to be kept",
			"any", 204,
		},
		inPerson(s.changePassword))

	add(s, op{"GET", "/people", "list-people", "List people", wire.Admin, 200},
		s.listPeople)

	add(s, op{"POST", "/people", "add-person", "Add a person with a one-time password", wire.Admin, 201},
		s.addPerson)
}

func wirePerson(p store.Person) wire.Person {
	out := wire.Person{Name: p.Name, Roles: p.Roles(), Second: p.Second != nil, Provider: p.Provider}
	if p.CountsFrom != nil && time.Now().Before(*p.CountsFrom) && p.Roles().Somewhere(wire.Reviewer) {
		out.CountsFrom = p.CountsFrom
	}
	return out
}

// knock takes somebody's password, and tells by which device of theirs they come.
func (s *Server) knock(ctx context.Context, name, password, kept string) (p store.Person, device string, err error) {
	wrong := fault.Unauthorized("name or password is wrong")
	if !personName.MatchString(name) {
		return p, "", wrong
	}

	device = s.deviceOf(name, kept)
	right, err := s.try(ctx, passwordGuesses(name, from(ctx), device)...)
	if err != nil {
		return p, "", err
	}
	if p, err = s.Store.Person(ctx, name); err != nil && !isNotFound(err) {
		return p, "", err
	}

	if !auth.Check(p.Password, password) {
		s.refused(ctx, speaker(ctx), "sign-in refused", name, "")
		return p, "", wrong
	}

	right()
	return p, device, nil
}

// signInByPasskey signs in whoever shows a passkey, and to it who they are.
func (s *Server) signInByPasskey(
	ctx context.Context, what string, browser bool, in wire.ShownPasskey,
) (*signInOut, error) {
	name, verified, err := s.showPasskey(ctx, in, toSignIn, "")
	if err != nil {
		return nil, err
	}
	p, err := s.Store.Person(ctx, name)
	if err != nil {
		return nil, err
	}
	if p.Provider { // who is shut out there is to be shut out here
		return nil, fault.Forbidden(
			"you sign in by way of the provider: a passkey here is for showing again who you are")
	}
	if !verified {
		return nil, fault.Forbidden("this key does not ask who holds it: give name and password as well")
	}
	if p.MustChange {
		return nil, fault.Forbidden("an admin has given you a one-time password: sign in by that")
	}

	return s.signedIn(ctx, p, what, browser)
}

// signedIn begins the session of who has shown just now who they are.
func (s *Server) signedIn(ctx context.Context, p store.Person, what string, browser bool) (*signInOut, error) {
	token, expires, err := s.begin(ctx, p, what, time.Now())
	if err != nil {
		return nil, err
	}
	kept, err := s.newDevice(p.Name)
	if err != nil {
		return nil, err
	}

	out := &signInOut{
		[]http.Cookie{cookie(token, expires), knownCookie(kept)},
		wire.Session{Token: token, Device: kept, Expires: expires, Person: wirePerson(p)},
	}
	if browser { // it has its cookies, which no script reads
		out.Body.Token, out.Body.Device = "", ""
	}

	return out, nil
}

// begin begins a session for somebody who has shown who they are.
func (s *Server) begin(
	ctx context.Context, p store.Person, what string, shown time.Time,
) (token string, expires time.Time, err error) {
	token, hash := auth.Token()
	s.known.add(hash, time.Now()) // strangers at the same address do not hold up its first call
	expires = time.Now().Add(sessionLife).UTC().Truncate(time.Second)
	if err := s.Store.AddSession(ctx, hash, p.Name, pathname.Escape(what), expires, shown); err != nil {
		return "", expires, err
	}
	s.audit(withPerson(ctx, p), "sign-in", p.Name, "")
	return token, expires, nil
}

// whole says of a list that has no pages how many there are.
func whole[T any](p wire.Page[T]) wire.Page[T] {
	n := int64(len(p.Items))
	p.Total = &n
	return p
}

// counted says with the first page of a list how many there are in all.
func counted[T any](
	ctx context.Context, further bool, p wire.Page[T], count func(context.Context) (int64, error),
) (wire.Page[T], error) {
	n := int64(len(p.Items))
	if further {
		return p, nil
	}

	if p.Next != "" {
		var err error
		if n, err = count(ctx); err != nil {
			return p, err
		}
		if n == int64(len(p.Items)) {
			p.Next = ""
		}
	}

	p.Total = &n
	return p, nil
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

// FirstAdmin makes the first person, where there is none, and gives the one-time password.
func FirstAdmin(ctx context.Context, st *store.Store) (name, password string, err error) {
	list, err := st.People(ctx)
	if err != nil || len(list) > 0 {
		return "", "", err
	}
	p, err := st.Policy(ctx)
	if err != nil {
		return "", "", err
	}

	roles := slices.DeleteFunc(slices.Clone(wire.Roles), func(role string) bool {
		return role == wire.Reviewer && !p.Says.ManagersApprove
	})
	pw := auth.Code(4)
	err = st.AddPerson(ctx, store.Person{
		Name:       "admin",
		Password:   auth.Hash(pw),
		RoleList:   strings.Join(roles, ","),
		MustChange: true,
	})

	if isConflict(err) { // another instance was faster, and has printed it
		return "", "", nil
	}

	return "admin", pw, errors.Join(err, st.BeginPolicy(ctx))
}

type signOutOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

// signInRequest is what signIn takes.
type signInRequest struct {
	What    string `header:"User-Agent"`
	Console string `header:"X-Idletally-Console"`
	Device  string `cookie:"__Host-idletally_device" maxLength:"512"`
	Body    wire.SignIn
}

// signIn serves: Sign in.
func (s *Server) signIn(ctx context.Context, in *signInRequest) (_ *signInOut, err error) {
	if in.Body.Name == "" && in.Body.Password == "" && in.Body.Passkey != nil {
		return s.signInByPasskey(ctx, in.What, in.Console != "", *in.Body.Passkey)
	}

	name := in.Body.Name
	p, device, err := s.knock(ctx, name, in.Body.Password, cmp.Or(in.Device, in.Body.Device))
	if err != nil {
		return nil, err
	}

	switch { // before a code is used up
	case p.MustChange && p.Until != nil && time.Now().After(*p.Until):
		s.refused(ctx, speaker(ctx), "sign-in refused", name, "the one-time password has ended")
		return nil, fault.Unauthorized("this one-time password was good until " +
			p.Until.Format(time.RFC3339) + ": have an admin give you another one")
	case p.MustChange && in.Body.NewPassword == "":
		return nil, &fault.Error{Kind: fault.KindForbidden, Code: wire.NewPasswordMissing, Text: "this is a one-time password: give new_password as well"}
	case !p.MustChange && in.Body.NewPassword != "":
		return nil, fault.Invalid(
			"new_password goes with a one-time password: sign in, and change your own with idletally " +
				"sign-in password")
	}

	has, err := s.hasSecond(ctx, p)
	if err != nil {
		return nil, err
	}

	switch {
	case !has:
	case in.Body.Passkey != nil:
		if _, _, err := s.showPasskey(ctx, *in.Body.Passkey, toSignIn+" "+name, name); err != nil {
			return nil, err
		}
	default:
		if in.Body.Code == "" {
			return nil, &fault.Error{Kind: fault.KindForbidden, Code: wire.SecondFactorMissing, Text: "the second factor is missing: give code or passkey as well"}
		}

		right, err := s.try(ctx, codeGuess(name, device))
		if err != nil {
			return nil, err
		}
		ok, err := s.second(ctx, p, in.Body.Code)
		if err != nil {
			return nil, err
		}

		if !ok {
			s.refused(ctx, speaker(ctx), "sign-in refused", name, "wrong code")
			return nil, fault.Unauthorized("this code does not fit, or was used before")
		}

		right()
	}

	if p.MustChange {
		if err := auth.Acceptable(in.Body.NewPassword, name, in.Body.Password); err != nil {
			return nil, fault.Invalid(err.Error())
		}
		if err := s.Store.SetPassword(ctx, name, store.NewPassword{
			Hash:       auth.Hash(in.Body.NewPassword),
			KeepTokens: true,
		}); err != nil {
			return nil, err
		}
		s.audit(withPerson(ctx, p), "password chosen", p.Name, "in place of a one-time one")
	}

	return s.signedIn(ctx, p, in.What, in.Console != "")
}

// signOut serves: End this session.
func (s *Server) signOut(ctx context.Context, _ *struct{}) (*signOutOut, error) {
	ended, err := s.Store.EndSession(ctx, caller(ctx).token)
	if err == nil && ended {
		s.audit(ctx, "sign-out", caller(ctx).Name, "")
	}
	return &signOutOut{cookie("", time.Unix(1, 0))}, err
}

// getVersion serves: Say what the service is.
func (s *Server) getVersion(context.Context, *struct{}) (*body[wire.Build], error) {
	return &body[wire.Build]{s.Build}, nil
}

// me serves: Who is signed in.
func (s *Server) me(ctx context.Context, _ *struct{}) (*body[wire.Person], error) {
	me := caller(ctx)
	out := wirePerson(me.Person)
	out.WantsSecond = me.wantsSecond
	return &body[wire.Person]{out}, nil
}

// listPeople serves: List people.
func (s *Server) listPeople(ctx context.Context, _ *struct{}) (*body[wire.Page[wire.Person]], error) {
	list, err := s.Store.People(ctx)
	out := wire.Page[wire.Person]{Items: []wire.Person{}}
	for _, p := range list {
		out.Items = append(out.Items, wirePerson(p))
	}

	return &body[wire.Page[wire.Person]]{whole(out)}, err
}

// addPerson serves: Add a person with a one-time password.
func (s *Server) addPerson(ctx context.Context, in *body[wire.NewPerson]) (*body[wire.OneTime], error) {
	roles, err := roleList(in.Body.Roles)
	if err != nil {
		return nil, err
	}
	pw := ""
	if err := s.apart(ctx, in.Body.Roles); err != nil {
		return nil, err
	}
	person := store.Person{Name: in.Body.Name, RoleList: roles, Provider: in.Body.Provider}
	if person.CountsFrom, err = s.countsFrom(ctx); err != nil {
		return nil, err
	}

	if !in.Body.Provider { // no password fits the others
		pw = auth.Code(4)
		person.Password, person.MustChange = auth.Hash(pw), true
	}

	if err := s.Store.AddPerson(ctx, person); err != nil {
		return nil, err
	}

	s.audit(ctx, "person added", in.Body.Name, strings.ReplaceAll(roles, ",", ", "))
	return &body[wire.OneTime]{wire.OneTime{Name: in.Body.Name, Password: pw}}, nil
}

// changePassword serves: Change your own password. All your other sessions end, and your tokens, unless they
// are to be kept.
func (s *Server) changePassword(ctx context.Context, in *body[wire.NewPassword]) (*struct{}, error) {
	me := caller(ctx)
	if err := s.sayPassword(ctx, me, in.Body.Password); err != nil {
		return nil, err
	}
	if err := auth.Acceptable(in.Body.NewPassword, me.Name, in.Body.Password); err != nil {
		return nil, fault.Invalid(err.Error())
	}
	if err := s.Store.SetPassword(ctx, me.Name, store.NewPassword{
		Hash:        auth.Hash(in.Body.NewPassword),
		KeepTokens:  in.Body.KeepTokens,
		KeepSession: me.session,
	}); err != nil {
		return nil, err
	}

	what := "tokens ended"
	if in.Body.KeepTokens {
		what = "tokens kept"
	}

	s.audit(ctx, "password changed", me.Name, what)
	return nil, nil
}
