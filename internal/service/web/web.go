// Package web is what every call over HTTP meets before anybody serves it: who calls and from where, how often and
// how much they may, what it costs, and how a refusal is told (RFC 9457). It serves the console's files.
package web

import (
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"

	"idletally/internal/service/app"
	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/metrics"
	"idletally/internal/service/peer"
	"idletally/internal/wire"
)

// A Config is what the service is told of how it is reached.
type Config struct {
	Build    wire.Build
	Log      *slog.Logger
	Stopping <-chan struct{} // closed when the service is to end: who waits is sent home

	Console fs.FS        // the built console; nil serves a hint instead
	Open    []string     // of [Openable]: what needs nobody to be signed in
	Proxies peer.Proxies // that stand before the service, and say for whom they speak
}

// Edge is what each call meets before anybody serves it: who calls, from where, how often, with how much, and what it
// is told if it is refused.
type Edge struct {
	*app.App
	Config
	Metrics *metrics.Metrics
}

// New returns the edge of an application.
func New(a *app.App, c Config) *Edge {
	return &Edge{App: a, Config: c, Metrics: metrics.New(a.Figures, c.Build, c.Log)}
}

const (
	CookieName = "__Host-idletally_session" // bound to this host and to https by its name (RFC 6265bis, 4.1.3)
	// consoleHeader must come with changes made by cookie: no other site can send it.
	consoleHeader = "X-Idletally-Console"
	consoleAlone  = "alone" // what it says where nobody has touched the page for a while
)

// maxCalls is how many calls a minute a person may make, and each of their tokens: some fifty times what the console
// needs.
const maxCalls = 6000

// maxUnknown is how many tokens that were not seen lately are looked up for one place in a minute.
const maxUnknown = 600

// KeyByAgent counts calls by certificate, so that agents behind one address are apart, and those without one by where
// they come from.
func KeyByAgent(r *http.Request) (string, error) {
	if r.TLS != nil && len(r.TLS.VerifiedChains) > 0 {
		return r.TLS.VerifiedChains[0][0].SerialNumber.String(), nil
	}
	return app.PlaceOf(r.Context()), nil
}

// withPlace records where each request comes from: an address, or a network of them.
func (s *Edge) withPlace(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r.WithContext(app.WithPlace(r.Context(), peer.Place(s.Proxies.Of(r)))))
	})
}

// keyByCaller counts calls by who makes them, a person and each of their programs apart, and of those who are
// not signed in by where they come from.
func keyByCaller(r *http.Request) (string, error) {
	if p := app.CallerOf(r.Context()); p != nil {
		return "\x00" + p.Name + "\x00" + p.By, nil // no address looks like that
	}
	return KeyByAgent(r)
}

// Limit allows so many calls a minute for each key, and tells the others when to come again.
func (s *Edge) Limit(calls int, key httprate.KeyFunc) func(http.Handler) http.Handler {
	return httprate.LimitBy(calls, time.Minute, key, s.tooOften(calls))
}

func (s *Edge) tooOften(calls int) httprate.Option {
	return httprate.WithLimitHandler(func(w http.ResponseWriter, r *http.Request) {
		s.Plain(w, r,
			fault.TooMany(fmt.Sprintf("more than %d calls within a minute: try again in %s seconds",
				calls, w.Header().Get("Retry-After")), 0))
	})
}

// limitOpen bounds what anybody may call, signed in or not, by the address it comes from: trying to sign in costs the
// memory of a password hash, calculating costs time. Tries with one name are bounded separately.
func (s *Edge) limitOpen() func(http.Handler) http.Handler {
	signIn, calculate := s.Limit(300, KeyByAgent), s.Limit(1200, KeyByAgent)
	return func(next http.Handler) http.Handler {
		signIn, calculate := signIn(next), calculate(next)
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			switch {
			case strings.HasPrefix(r.URL.Path, signInPath):
				signIn.ServeHTTP(w, r)
			case strings.HasPrefix(r.URL.Path, calculators):
				calculate.ServeHTTP(w, r)
			default:
				next.ServeHTTP(w, r)
			}
		})
	}
}

// Openable is what can be had without signing in, if the service is configured so: how it is doing, and what its API
// is like.
var Openable = []string{"metrics", "documents"}

// UnlessOpen serves something to those who are signed in, or to everybody if the service is configured so.
func (s *Edge) UnlessOpen(what string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		err := s.Allow(r.Context(), app.Rule{Role: wire.Viewer})
		if err != nil && !slices.Contains(s.Open, what) {
			s.Plain(w, r, err)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Edge) ready(w http.ResponseWriter, r *http.Request) {
	if err := s.App.Ready(r.Context()); err != nil {
		s.Log.Warn("not ready", "error", err)
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	fmt.Fprintln(w, "ready")
}

func (s *Edge) log(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		took := time.Since(start)
		s.Metrics.Request(route, r.Method, ww.Status(), took)
		s.Log.Debug("request", "id", middleware.GetReqID(r.Context()), "method", r.Method, "route", route, "status",
			ww.Status(), "took", took)
	})
}

// knownMethod refuses methods that nothing here has.
func knownMethod(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !metrics.Methods[r.Method] {
			http.Error(w, "this service has no such method", http.StatusMethodNotAllowed)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Edge) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if v := recover(); v != nil {
				if v == http.ErrAbortHandler {
					panic(v)
				}
				s.Log.Error("panic", "id", middleware.GetReqID(r.Context()), "value", v, "stack", string(debug.Stack()))
				http.Error(w, "internal error", http.StatusInternalServerError)
			}
		}()
		next.ServeHTTP(w, r)
	})
}

func secure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "+
				"connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Strict-Transport-Security", "max-age=31536000")
		h.Set("Cache-Control", "no-store") // but for what says otherwise of itself
		next.ServeHTTP(w, r)
	})
}

func limitBody(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		most := int64(MaxBody)
		if x := large(r.URL.Path); x > 0 {
			most = x
		}
		r.Body = http.MaxBytesReader(w, r.Body, most)
		next.ServeHTTP(w, r)
	})
}

// identify finds whose request it is; routes decide what that allows.
func (s *Edge) identify(next http.Handler) http.Handler {
	// Looking a token up costs the database something, so that no place has more looked up than this that are not
	// known here.
	unknown := httprate.NewRateLimiter(maxUnknown, time.Minute, s.tooOften(maxUnknown))
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		token, byCookie := "", false
		if h, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			token = h
		} else if c, err := r.Cookie(CookieName); err == nil {
			token, byCookie = c.Value, true
		}

		changes := r.Method != http.MethodGet && r.Method != http.MethodHead
		if token == "" || byCookie && changes && r.Header.Get(consoleHeader) == "" {
			next.ServeHTTP(rw, r)
			return
		}

		hash := auth.HashToken(token)
		if !s.Knows(hash) && unknown.RespondOnLimit(rw, r, app.PlaceOf(r.Context())) {
			return
		}

		alone := r.Header.Get(consoleHeader) == consoleAlone || r.URL.Path == followPath
		p, turned, err := s.App.Identify(r.Context(), app.Presented{Hash: hash, ByCookie: byCookie, Alone: alone})
		if err != nil {
			s.Plain(rw, r, err)
			return
		}
		if turned != nil {
			c := Cookie(turned.Token, turned.Expires)
			http.SetCookie(rw, &c)
		}
		if p != nil {
			r = r.WithContext(app.WithCaller(r.Context(), p))
		}

		next.ServeHTTP(rw, r)
	})
}

// ForAll makes every call pass the edge, and serves what anybody may ask of a service: whether it is alive, and what
// its problems mean.
func (s *Edge) ForAll(r chi.Router) {
	r.Use(middleware.RequestID, s.withPlace, s.log, s.recover, secure, knownMethod, challenging, middleware.GetHead)
	s.Route(r, "GET", "/healthz", app.Quick, Openly, func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprintln(w, "ok")
	})
	s.Route(r, "GET", "/readyz", app.Quick, Openly, s.ready)
	s.Route(r, "GET", wire.ProblemsAt, app.Quick, Openly, tellProblems)
}

// ForPeople makes calls of people and programs pass: who they are is known behind it.
func (s *Edge) ForPeople(r chi.Router) {
	r.Use(middleware.Compress(5, "application/json"), limitBody, s.limitOpen(), s.identify,
		s.Limit(maxCalls, keyByCaller), s.once)
}
