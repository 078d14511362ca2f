package http

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"github.com/go-chi/chi/v5"
	"golang.org/x/oauth2"

	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// A Provider is another service that people sign in with (OpenID Connect Core 1.0, authorization code flow
// with PKCE, RFC 7636).
type Provider struct {
	Issuer    string
	Client    string
	Secret    string
	Name      string // on the button
	Claim     string // which holds the name that the person has here
	Public    string // how browsers reach this service: https://HOST[:PORT]
	Authority []byte // of the provider, in PEM form; nil are the system's
}

// Check says what is missing.
func (p Provider) Check() error {
	switch {
	case !strings.HasPrefix(p.Issuer, "https://"):
		return fmt.Errorf("--oidc-issuer %q: want https://…", p.Issuer)
	case p.Client == "":
		return errors.New("--oidc-client: want the client that the provider knows this service by")
	case !strings.HasPrefix(p.Public, "https://") || strings.HasSuffix(p.Public, "/"):
		return fmt.Errorf("--public %q: want how browsers reach this service, https://HOST[:PORT]", p.Public)
	}
	return nil
}

const (
	signInPath     = "/api/v1/sign-in"
	providerPath   = signInPath + "/provider"
	providerCookie = "idletally_provider"
	providerTime   = 10 * time.Minute // to sign in there
)

// provider asks it, which is looked up when somebody first wants to sign in with it: it may be down when this
// service starts.
type provider struct {
	Provider
	http *http.Client

	mu     sync.Mutex
	p      *oidc.Provider
	failed error     // when it was asked last
	until  time.Time // from then on it is asked again
}

// restProvider is how long a provider that did not answer is left alone: who waits meanwhile for the one that
// asks it is told at once, instead of waiting for it once more.
const restProvider = 5 * time.Second

func newProvider(c Provider) *provider {
	t := &tls.Config{MinVersion: tls.VersionTLS12}
	if c.Authority != nil {
		t.RootCAs = x509.NewCertPool()
		t.RootCAs.AppendCertsFromPEM(c.Authority)
	}
	return &provider{
		Provider: c,
		http: &http.Client{
			Timeout:       15 * time.Second,
			Transport:     &http.Transport{TLSClientConfig: t, Proxy: http.ProxyFromEnvironment},
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		},
	}
}

func (p *provider) look(ctx context.Context) (*oidc.Provider, *oauth2.Config, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.p == nil {
		if time.Now().Before(p.until) {
			return nil, nil, p.failed
		}

		found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), p.http), p.Issuer)
		if err != nil {
			p.failed, p.until = err, time.Now().Add(restProvider)
			return nil, nil, err
		}

		p.p = found
	}

	return p.p,
		&oauth2.Config{
			ClientID:     p.Client,
			ClientSecret: p.Secret,
			Endpoint:     p.p.Endpoint(),
			RedirectURL:  p.Public + providerPath + "/back",
			Scopes:       []string{oidc.ScopeOpenID, "profile", "email"},
		},
		nil
}

// leaving is what a browser keeps, sealed, while somebody signs in there.
type leaving struct {
	State, Nonce, Verifier string
	Until                  time.Time
}

func (s *Server) providerRoutes(r chi.Router) {
	add(s, op{"GET", "/sign-in/ways", "sign-in-ways", "How people can sign in here", "", 200},
		s.signInWays)
	if s.provider == nil {
		return
	}
	s.route(r, "GET", providerPath, openly, s.leave)
	s.route(r, "GET", providerPath+"/back", openly, s.back)
}

// maxAge is how long ago, in seconds, somebody may have shown the provider who they are (OpenID Connect Core,
// 3.1.2.1); who is to show that again has to do so now.
func maxAge(r *http.Request) string {
	if r.URL.Query().Has("again") {
		return "0"
	}
	return strconv.Itoa(int(sessionLife.Seconds()))
}

// leave sends a browser to the provider.
func (s *Server) leave(w http.ResponseWriter, r *http.Request) {
	_, cfg, err := s.provider.look(r.Context())
	if err != nil {
		s.Log.Error("sign-in provider", "error", err)
		s.plain(w, r,
			fault.Unavailable("the sign-in provider does not answer: try again, or sign in by password", 0))
		return
	}

	v := leaving{rand.Text(), rand.Text(), oauth2.GenerateVerifier(), time.Now().Add(providerTime)}
	b, err := json.Marshal(v)
	if err == nil {
		b, err = s.seal("provider", b)
	}

	if err != nil {
		s.plain(w, r, err)
		return
	}

	// It comes back from another site, so that it cannot be stricter.
	http.SetCookie(w, &http.Cookie{
		Name:     providerCookie,
		Value:    base64.RawURLEncoding.EncodeToString(b),
		Path:     providerPath,
		Expires:  v.Until,
		Secure:   true,
		HttpOnly: true,
		SameSite: http.SameSiteLaxMode,
	})

	http.Redirect(w, r,
		cfg.AuthCodeURL(v.State, oidc.Nonce(v.Nonce), oauth2.S256ChallengeOption(v.Verifier),
			oauth2.SetAuthURLParam("max_age", maxAge(r))),
		http.StatusFound)
}

// back is where the provider sends the browser to.
func (s *Server) back(w http.ResponseWriter, r *http.Request) {
	http.SetCookie(w, &http.Cookie{
		Name:     providerCookie,
		Path:     providerPath,
		Expires:  time.Unix(1, 0),
		Secure:   true,
		HttpOnly: true,
		SameSite: http.SameSiteLaxMode,
	})

	p, shown, err := s.returned(r)
	if err != nil {
		s.refused(r.Context(), store.By{Who: "nobody"}, "sign-in refused", "", "by provider: "+err.Error())
		s.plain(w, r, fault.Forbidden(err.Error()))
		return
	}

	token, expires, err := s.begin(r.Context(), p, r.UserAgent(), shown)
	if err != nil {
		s.plain(w, r, err)
		return
	}

	c := cookie(token, expires)
	http.SetCookie(w, &c)

	// Not a redirect: the session's cookie is not sent along where another site led here.
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write([]byte(
		`<!doctype html><meta http-equiv="refresh" content="0; url=/"><title>Idle Tally</title><p><a href="/">Signed in: go on</a></p>`))
}

// returned finds out who came back, and when they showed there who they are, and says no more than they need to know.
func (s *Server) returned(r *http.Request) (p store.Person, shown time.Time, err error) {
	ctx := r.Context()
	again := errors.New("this sign-in was not begun here, or took too long: begin again")
	c, err := r.Cookie(providerCookie)
	if err != nil {
		return p, shown, again
	}

	var v leaving
	sealed, err := base64.RawURLEncoding.DecodeString(c.Value)
	if err == nil {
		sealed, err = s.unseal("provider", sealed)
	}

	if err == nil {
		err = json.Unmarshal(sealed, &v)
	}

	q := r.URL.Query()
	if err != nil || time.Now().After(v.Until) ||
		subtle.ConstantTimeCompare([]byte(v.State), []byte(q.Get("state"))) != 1 {
		return p, shown, again
	}
	if q.Get("error") != "" {
		return p, shown, errors.New("the provider did not sign you in")
	}

	failed := errors.New("the provider's answer does not hold: the service's log says why")
	found, cfg, err := s.provider.look(ctx)
	if err != nil {
		s.Log.Error("sign-in provider", "error", err)
		return p, shown, failed
	}

	asked := oidc.ClientContext(ctx, s.provider.http)
	tokens, err := cfg.Exchange(asked, q.Get("code"), oauth2.VerifierOption(v.Verifier))
	if err != nil {
		s.Log.Error("sign-in provider", "error", err)
		return p, shown, failed
	}

	raw, _ := tokens.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: s.provider.Client}).Verify(asked, raw)
	if err == nil && subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(v.Nonce)) != 1 {
		err = errors.New("the nonce is another one")
	}

	claims := map[string]any{}
	if err == nil {
		err = id.Claims(&claims)
	}

	if err != nil {
		s.Log.Error("sign-in provider", "error", err)
		return p, shown, failed
	}

	name, _ := claims[s.provider.Claim].(string)
	p, err = s.Store.PersonOf(ctx, s.provider.Issuer+" "+id.Subject, name)
	if isNotFound(err) {
		return p, shown, fmt.Errorf(
			"nobody here signs in as %q with the provider: have an admin add you, with --provider", name)
	}

	// A provider that says when they last showed who they are is believed; what it does not say is long ago.
	if at, ok := claims["auth_time"].(float64); ok && at > 0 && at <= float64(time.Now().Add(time.Minute).Unix()) {
		shown = time.Unix(int64(at), 0)
	} else {
		shown = time.Now().Add(-freshFor)
	}

	return p, shown, err
}

// signInWays serves: How people can sign in here.
func (s *Server) signInWays(context.Context, *struct{}) (*body[wire.Ways], error) {
	out := wire.Ways{Passkeys: s.passkeys != nil}
	if s.provider != nil {
		out.Provider = s.provider.Name
	}
	return &body[wire.Ways]{out}, nil
}
