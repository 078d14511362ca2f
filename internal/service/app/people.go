package app

import (
	"cmp"
	"context"
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// ByName names somebody or something.
type ByName struct {
	Name string `path:"name"`
}

var personName = regexp.MustCompile(baseline.Name.String())

func wirePerson(p store.Person) wire.Person {
	out := wire.Person{Name: p.Name, Roles: p.Roles(), Second: p.Second != nil, Provider: p.Provider}
	if p.CountsFrom != nil && time.Now().Before(*p.CountsFrom) && p.Roles().Somewhere(wire.Reviewer) {
		out.CountsFrom = p.CountsFrom
	}
	return out
}

// knock checks somebody's password, and returns by which device of theirs they come.
func (s *App) knock(ctx context.Context, name, password, kept string) (p store.Person, device string, err error) {
	wrong := fault.Unauthorized("name or password is wrong")
	if !personName.MatchString(name) {
		return p, "", wrong
	}

	device = s.deviceOf(name, kept)
	right, err := s.try(ctx, passwordGuesses(name, PlaceOf(ctx), device)...)
	if err != nil {
		return p, "", err
	}
	if p, err = s.store.Person(ctx, name); err != nil && !isNotFound(err) {
		return p, "", err
	}

	if !auth.Check(p.Password, password) {
		s.refused(ctx, speaker(ctx), "sign-in refused", name, "")
		return p, "", wrong
	}

	right()
	return p, device, nil
}

// signInByPasskey signs in whoever shows a passkey, by which it is known who they are.
func (s *App) signInByPasskey(
	ctx context.Context, what string, in wire.ShownPasskey,
) (*wire.Session, error) {
	name, verified, err := s.showPasskey(ctx, in, toSignIn, "")
	if err != nil {
		return nil, err
	}
	p, err := s.store.Person(ctx, name)
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

	return s.signedIn(ctx, p, what)
}

// signedIn begins the session of somebody who has just shown who they are.
func (s *App) signedIn(ctx context.Context, p store.Person, what string) (*wire.Session, error) {
	token, expires, err := s.begin(ctx, p, what, time.Now())
	if err != nil {
		return nil, err
	}
	kept, err := s.newDevice(p.Name)
	if err != nil {
		return nil, err
	}

	return &wire.Session{Token: token, Device: kept, Expires: expires, Person: wirePerson(p)}, nil
}

// begin begins a session for somebody who has shown who they are.
func (s *App) begin(
	ctx context.Context, p store.Person, what string, shown time.Time,
) (token string, expires time.Time, err error) {
	token, hash := auth.Token()
	s.known.add(hash, time.Now()) // strangers at the same address do not hold up its first call
	expires = time.Now().Add(sessionLife).UTC().Truncate(time.Second)
	if err := s.store.AddSession(ctx, hash, p.Name, pathname.Escape(what), expires, shown); err != nil {
		return "", expires, err
	}
	s.audit(withPerson(ctx, p), "sign-in", p.Name, "")
	return token, expires, nil
}

// whole returns a list that has no pages, with its length.
func whole[T any](p wire.Page[T]) *wire.Page[T] {
	n := int64(len(p.Items))
	p.Total = &n
	return &p
}

// counted returns with the first page of a list how many there are in all.
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

// FirstAdmin makes the first person, if there is none, and returns the one-time password.
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

// SignInRequest is the request of [App.SignIn].
type SignInRequest struct {
	What    string `header:"User-Agent"`
	Console string `header:"X-Idletally-Console"`
	Device  string `cookie:"__Host-idletally_device" maxLength:"512"`
	Body    wire.SignIn
}

// SignIn signs in.
func (s *App) SignIn(ctx context.Context, in *SignInRequest) (*wire.Session, error) {
	if in.Body.Name == "" && in.Body.Password == "" && in.Body.Passkey != nil {
		return s.signInByPasskey(ctx, in.What, *in.Body.Passkey)
	}

	p, device, err := s.knock(ctx, in.Body.Name, in.Body.Password, cmp.Or(in.Device, in.Body.Device))
	if err != nil {
		return nil, err
	}
	if err := s.fitsOneTime(ctx, p, in.Body); err != nil { // before a code is used up
		return nil, err
	}
	if err := s.askTwoFactor(ctx, p, device, in.Body); err != nil {
		return nil, err
	}
	if p.MustChange {
		if err := s.choosePassword(ctx, p, in.Body); err != nil {
			return nil, err
		}
	}

	return s.signedIn(ctx, p, in.What)
}

// fitsOneTime is an error unless a new password comes with a one-time password, and with no other.
func (s *App) fitsOneTime(ctx context.Context, p store.Person, in wire.SignIn) error {
	switch {
	case p.MustChange && p.Until != nil && time.Now().After(*p.Until):
		s.refused(ctx, speaker(ctx), "sign-in refused", p.Name, "the one-time password has ended")
		return fault.Unauthorized("this one-time password was good until " +
			p.Until.Format(time.RFC3339) + ": have an admin give you another one")
	case p.MustChange && in.NewPassword == "":
		return &fault.Error{
			Kind: fault.KindForbidden, Code: wire.NewPasswordMissing,
			Text: "this is a one-time password: give new_password as well",
		}
	case !p.MustChange && in.NewPassword != "":
		return fault.Invalid(
			"new_password goes with a one-time password: sign in, and change your own with idletally " +
				"sign-in password")
	}
	return nil
}

// askTwoFactor is an error unless somebody who has a second factor shows it.
func (s *App) askTwoFactor(ctx context.Context, p store.Person, device string, in wire.SignIn) error {
	has, err := s.hasTwoFactor(ctx, p)
	switch {
	case err != nil || !has:
		return err
	case in.Passkey != nil:
		_, _, err := s.showPasskey(ctx, *in.Passkey, toSignIn+" "+p.Name, p.Name)
		return err
	case in.Code == "":
		return &fault.Error{
			Kind: fault.KindForbidden, Code: wire.SecondFactorMissing,
			Text: "the second factor is missing: give code or passkey as well",
		}
	}

	right, err := s.try(ctx, codeGuess(p.Name, device))
	if err != nil {
		return err
	}
	ok, err := s.second(ctx, p, in.Code)
	if err != nil {
		return err
	}
	if !ok {
		s.refused(ctx, speaker(ctx), "sign-in refused", p.Name, "wrong code")
		return fault.Unauthorized("this code does not fit, or was used before")
	}
	right()
	return nil
}

// choosePassword replaces a one-time password by one that somebody has chosen.
func (s *App) choosePassword(ctx context.Context, p store.Person, in wire.SignIn) error {
	if err := auth.Acceptable(in.NewPassword, p.Name, in.Password); err != nil {
		return fault.Invalid(err.Error())
	}
	err := s.store.SetPassword(ctx, p.Name, store.NewPassword{Hash: auth.Hash(in.NewPassword), KeepTokens: true})
	if err == nil {
		s.audit(withPerson(ctx, p), "password chosen", p.Name, "in place of a one-time one")
	}
	return err
}

// SignOut ends this session.
func (s *App) SignOut(ctx context.Context, _ *struct{}) (*struct{}, error) {
	ended, err := s.store.EndSession(ctx, CallerOf(ctx).token)
	if err == nil && ended {
		s.audit(ctx, "sign-out", CallerOf(ctx).Name, "")
	}
	return nil, err
}

// GetVersion returns what the service is.
func (s *App) GetVersion(context.Context, *struct{}) (*wire.Build, error) {
	return &s.config.Build, nil
}

// Me returns who is signed in.
func (s *App) Me(ctx context.Context, _ *struct{}) (*wire.Person, error) {
	me := CallerOf(ctx)
	out := wirePerson(me.Person)
	out.WantsTwoFactor = me.WantsTwoFactor
	return &out, nil
}

// ListPeople lists people.
func (s *App) ListPeople(ctx context.Context, _ *struct{}) (*wire.Page[wire.Person], error) {
	list, err := s.store.People(ctx)
	out := wire.Page[wire.Person]{Items: []wire.Person{}}
	for _, p := range list {
		out.Items = append(out.Items, wirePerson(p))
	}

	return whole(out), err
}

// AddPerson adds a person with a one-time password.
func (s *App) AddPerson(ctx context.Context, in *wire.NewPerson) (*wire.OneTime, error) {
	roles, err := roleList(in.Roles)
	if err != nil {
		return nil, err
	}
	pw := ""
	if err := s.apart(ctx, in.Roles); err != nil {
		return nil, err
	}
	person := store.Person{Name: in.Name, RoleList: roles, Provider: in.Provider}
	if person.CountsFrom, err = s.countsFrom(ctx); err != nil {
		return nil, err
	}

	if !in.Provider { // no password fits the others
		pw = auth.Code(4)
		person.Password, person.MustChange = auth.Hash(pw), true
	}

	if err := s.store.AddPerson(ctx, person); err != nil {
		return nil, err
	}

	s.audit(ctx, "person added", in.Name, strings.ReplaceAll(roles, ",", ", "))
	return &wire.OneTime{Name: in.Name, Password: pw}, nil
}

// ChangePassword changes your own password. All your other sessions end, and your tokens, unless they
// are to be kept.
func (s *App) ChangePassword(ctx context.Context, in *wire.NewPassword) (*struct{}, error) {
	me := CallerOf(ctx)
	if err := s.sayPassword(ctx, me, in.Password); err != nil {
		return nil, err
	}
	if err := auth.Acceptable(in.NewPassword, me.Name, in.Password); err != nil {
		return nil, fault.Invalid(err.Error())
	}
	if err := s.store.SetPassword(ctx, me.Name, store.NewPassword{
		Hash:        auth.Hash(in.NewPassword),
		KeepTokens:  in.KeepTokens,
		KeepSession: me.session,
	}); err != nil {
		return nil, err
	}

	what := "tokens ended"
	if in.KeepTokens {
		what = "tokens kept"
	}

	s.audit(ctx, "password changed", me.Name, what)
	return nil, nil
}
