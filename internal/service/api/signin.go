package api

import (
	"context"
	"net/http"
	"time"

	"idletally/internal/service/app"
	"idletally/internal/service/web"
	"idletally/internal/wire"
)

type signInOut struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      wire.Session
}

// signIn makes a browser keep its session as a cookie, which no script can read.
func (s *API) signIn(ctx context.Context, in *app.SignInRequest) (*signInOut, error) {
	x, err := s.App.SignIn(ctx, in)
	if err != nil {
		return nil, err
	}

	out := &signInOut{[]http.Cookie{web.Cookie(x.Token, x.Expires), web.KnownCookie(x.Device)}, *x}
	if in.Console != "" {
		out.Body.Token, out.Body.Device = "", ""
	}
	return out, nil
}

type signOutOut struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}

// signOut makes a browser forget its session as well.
func (s *API) signOut(ctx context.Context, in *struct{}) (*signOutOut, error) {
	_, err := s.App.SignOut(ctx, in)
	return &signOutOut{web.Cookie("", time.Unix(1, 0))}, err
}

const providerCookie = "idletally_provider"

// leave sends a browser to the provider.
func (s *API) leave(w http.ResponseWriter, r *http.Request) {
	kept, until, to, err := s.App.Leave(r.Context(), r.URL.Query().Has("again"))
	if err != nil {
		s.Plain(w, r, err)
		return
	}

	keepLeaving(w, kept, until)
	http.Redirect(w, r, to, http.StatusFound)
}

// back is where the provider sends the browser to.
func (s *API) back(w http.ResponseWriter, r *http.Request) {
	keepLeaving(w, "", time.Unix(1, 0))
	q := r.URL.Query()
	in := app.Returning{State: q.Get("state"), Code: q.Get("code"), Failed: q.Get("error") != "", What: r.UserAgent()}
	if c, err := r.Cookie(providerCookie); err == nil {
		in.Kept = c.Value
	}
	token, expires, err := s.App.Back(r.Context(), in)
	if err != nil {
		s.Plain(w, r, err)
		return
	}

	c := web.Cookie(token, expires)
	http.SetCookie(w, &c)

	// Not a redirect: the session's cookie is not sent along where another site led here.
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write([]byte(
		`<!doctype html><meta http-equiv="refresh" content="0; url=/"><title>Idle Tally</title><p><a href="/">Signed in: go on</a></p>`))
}

// keepLeaving makes a browser keep what it brings back from the provider. It comes back from another site, so that
// the cookie cannot be stricter.
func keepLeaving(w http.ResponseWriter, kept string, until time.Time) {
	http.SetCookie(w, &http.Cookie{
		Name:     providerCookie,
		Value:    kept,
		Path:     app.ProviderPath,
		Expires:  until,
		Secure:   true,
		HttpOnly: true,
		SameSite: http.SameSiteLaxMode,
	})
}
