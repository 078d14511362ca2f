package app

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
	ProviderPath = "/api/v1/sign-in/provider" // which leads there
	providerTime = 10 * time.Minute           // to sign in there
)

// provider returns the provider, which is looked up when somebody first wants to sign in with it: it may be down when
// this service starts.
type provider struct {
	Provider
	http *http.Client

	mu     sync.Mutex
	p      *oidc.Provider
	failed error     // when it was asked last
	until  time.Time // from then on it is asked again
}

// restProvider is how long a provider that did not answer is left alone: those who wait for the call that asks it are
// told at once, instead of waiting for another one.
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
			RedirectURL:  p.Public + ProviderPath + "/back",
			Scopes:       []string{oidc.ScopeOpenID, "profile", "email"},
		},
		nil
}

// leaving is what a browser keeps, sealed, while somebody signs in there.
type leaving struct {
	State, Nonce, Verifier string
	Until                  time.Time
}

// Leave begins to sign somebody in with the provider: it returns what their browser keeps meanwhile, until when, and
// where it goes. Who is to show the provider again who they are does so now; of others it takes what is not longer ago
// than a session lasts (OpenID Connect Core, 3.1.2.1).
func (s *App) Leave(ctx context.Context, again bool) (kept string, until time.Time, to string, err error) {
	_, cfg, err := s.provider.look(ctx)
	if err != nil {
		s.log.Error("sign-in provider", "error", err)
		return "", until, "", fault.Unavailable(
			"the sign-in provider does not answer: try again, or sign in by password", 0)
	}

	v := leaving{rand.Text(), rand.Text(), oauth2.GenerateVerifier(), time.Now().Add(providerTime)}
	b, err := json.Marshal(v)
	if err == nil {
		b, err = s.seal("provider", b)
	}
	if err != nil {
		return "", until, "", err
	}

	oldest := strconv.Itoa(int(sessionLife.Seconds()))
	if again {
		oldest = "0"
	}
	to = cfg.AuthCodeURL(v.State, oidc.Nonce(v.Nonce), oauth2.S256ChallengeOption(v.Verifier),
		oauth2.SetAuthURLParam("max_age", oldest))
	return base64.RawURLEncoding.EncodeToString(b), v.Until, to, nil
}

// A Returning is what a browser brings back from the provider.
type Returning struct {
	Kept   string // that it was given when it left
	State  string
	Code   string
	Failed bool   // the provider says that it signed nobody in
	What   string // the browser
}

// Back signs in whoever comes back from the provider.
func (s *App) Back(ctx context.Context, in Returning) (token string, expires time.Time, err error) {
	p, shown, err := s.returned(ctx, in)
	if err != nil {
		s.refused(ctx, store.By{Who: "nobody"}, "sign-in refused", "", "by provider: "+err.Error())
		return "", expires, fault.Forbidden(err.Error())
	}
	return s.begin(ctx, p, in.What, shown)
}

// returned finds out who came back, and when they showed there who they are, and reveals no more than they need to
// know.
func (s *App) returned(ctx context.Context, in Returning) (p store.Person, shown time.Time, err error) {
	var v leaving
	sealed, err := base64.RawURLEncoding.DecodeString(in.Kept)
	if err == nil {
		sealed, err = s.unseal("provider", sealed)
	}
	if err == nil {
		err = json.Unmarshal(sealed, &v)
	}
	if err != nil || time.Now().After(v.Until) || subtle.ConstantTimeCompare([]byte(v.State), []byte(in.State)) != 1 {
		return p, shown, errors.New("this sign-in was not begun here, or took too long: begin again")
	}
	if in.Failed {
		return p, shown, errors.New("the provider did not sign you in")
	}

	claims, subject, err := s.provider.claims(ctx, in.Code, v)
	if err != nil {
		s.log.Error("sign-in provider", "error", err)
		return p, shown, errors.New("the provider's answer does not hold: the service's log says why")
	}

	name, _ := claims[s.provider.Claim].(string)
	p, err = s.store.PersonOf(ctx, s.provider.Issuer+" "+subject, name)
	if isNotFound(err) {
		return p, shown, fmt.Errorf(
			"nobody here signs in as %q with the provider: have an admin add you, with --provider", name)
	}

	// A provider that says when they last showed who they are is believed; if it does not say, that is long ago.
	if at, ok := claims["auth_time"].(float64); ok && at > 0 && at <= float64(time.Now().Add(time.Minute).Unix()) {
		shown = time.Unix(int64(at), 0)
	} else {
		shown = time.Now().Add(-freshFor)
	}

	return p, shown, err
}

// claims exchanges a code for what the provider says of somebody, and verifies that it says so, for this sign-in.
func (p *provider) claims(ctx context.Context, code string, v leaving) (all map[string]any, subject string, err error) {
	found, cfg, err := p.look(ctx)
	if err != nil {
		return nil, "", err
	}
	asked := oidc.ClientContext(ctx, p.http)
	tokens, err := cfg.Exchange(asked, code, oauth2.VerifierOption(v.Verifier))
	if err != nil {
		return nil, "", err
	}

	raw, _ := tokens.Extra("id_token").(string)
	id, err := found.Verifier(&oidc.Config{ClientID: p.Client}).Verify(asked, raw)
	if err != nil {
		return nil, "", err
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(v.Nonce)) != 1 {
		return nil, "", errors.New("the nonce is another one")
	}
	err = id.Claims(&all)
	return all, id.Subject, err
}

// SignInWays returns how people can sign in here.
func (s *App) SignInWays(context.Context, *struct{}) (*wire.Ways, error) {
	out := wire.Ways{Passkeys: s.passkeys != nil}
	if s.provider != nil {
		out.Provider = s.provider.Name
	}
	return &out, nil
}

// HasProvider reports whether people can sign in by way of a provider.
func (s *App) HasProvider() bool { return s.provider != nil }
