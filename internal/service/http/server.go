// Package http is the service's network interface: the API for people and programs under
// /api/v1, the agents' under /agent/v1, and the console.
package http

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/go-chi/httprate"

	"idletally/internal/core/chain"
	"idletally/internal/core/drift"
	"idletally/internal/core/succession"
	"idletally/internal/core/untrusted"
	"idletally/internal/service/auth"
	"idletally/internal/service/authority"
	"idletally/internal/service/budget"
	"idletally/internal/service/desk"
	"idletally/internal/service/fault"
	"idletally/internal/service/passkey"
	"idletally/internal/service/peer"
	"idletally/internal/service/store"
	"idletally/internal/service/witness"
	"idletally/internal/wire"
)

// Config is what the service is made of.
type Config struct {
	Store     *store.Store
	Authority *authority.Authority
	Log       *slog.Logger
	Console   fs.FS           // the built console; nil serves a hint instead
	Build     wire.Build      // of this program
	Stopping  <-chan struct{} // closed when the service is to end: who waits is sent home
	Keep      desk.Retention
	Provider  *Provider
	Mail      *desk.Mail
	Name      string       // how people call this service, in authenticators
	Public    string       // how browsers reach this service, https://HOST[:PORT]
	PerHost   int64        // bytes of nodes that an agent may send in a day; 0 is any number
	Open      []string     // of Openable: what needs nobody to be signed in
	Proxies   peer.Proxies // that stand before the service, and say for whom they speak
	Ended     string       // the file beside the keys in which it is kept where the history ends; "" keeps it nowhere
}

// Server serves everything.
type Server struct {
	Config
	desk     *desk.Desk
	notifier *notifier
	backing  *backing // what orders are held against
	witness  *witness.Witness
	fault    atomic.Pointer[historyFault] // of the history; nil where there is none
	// what a former key signed of the history, until the newest signs what follows
	moving  atomic.Pointer[chain.Head]
	budgets *budget.Budgets

	provider  *provider
	passkeys  *passkey.Site // nil where browsers come by no name
	refusals  refusals
	known     known
	policy    policy
	feed      *feed
	metrics   *metrics
	api       huma.API
	reference func() ([]byte, error) // the page of its document
	mux       *chi.Mux
}

const (
	maxBody = 2 << 20
	// maxElements bounds what a body of people or programs unfolds to: members of objects and elements of arrays.
	maxElements = 200_000
	cookieName  = "__Host-idletally_session" // bound to this host and to https by its name (RFC 6265bis, 4.1.3)
	// consoleHeader must come with changes made by cookie: no other site can send it.
	consoleHeader = "X-Idletally-Console"
	consoleAlone  = "alone" // what it says where nobody has touched the page for a while
	followPath    = "/api/v1/happenings"
	sessionLife   = 12 * time.Hour
	approvalLife  = 72 * time.Hour
	orderLife     = approvalLife + 24*time.Hour
)

// maxCalls is how many calls a minute a person may make, and each of their tokens: some fifty times what the
// console needs.
const maxCalls = 6000

// maxUnknown is how many tokens that were not seen lately come from one place in a minute, before they are looked up.
const maxUnknown = 600

// maxMemo is how many folders are remembered to be as declared: about 200 bytes each.
const maxMemo = 400_000

// New builds the handler.
func New(c Config) *Server {
	s := &Server{
		Config:   c,
		desk:     &desk.Desk{Store: c.Store, Log: c.Log, Memo: drift.NewMemo(maxMemo), Mail: c.Mail},
		notifier: newHub(),
		backing:  &backing{plans: map[string][]approval{}},
		budgets:  budget.New(shares()),
		mux:      chi.NewMux(),
	}

	s.metrics = newMetrics(s)
	s.feed = &feed{s: s}
	s.desk.Files = s.files
	s.desk.Place = s.room
	s.desk.Shown = func(ctx context.Context, c store.Comparison) {
		s.happen(ctx, store.Happening{
			Kind:        wire.HappenedSnapshot,
			Application: c.Application,
			Host:        c.Host,
			Subject:     c.Snapshot,
		})
	}

	if site, err := passkey.NewSite(c.Public, c.Name); err != nil {
		s.Log.Warn("nobody signs in by passkeys", "error", err)
	} else {
		s.passkeys = site
	}

	if c.Provider != nil {
		s.provider = newProvider(*c.Provider)
	}

	if c.Store != nil && c.Authority != nil {
		c.Store.Seal = func(h *chain.Head) { h.Sign(c.Authority.Orders) }
		s.witness = &witness.Witness{Source: c.Store, Key: s.OrderKey(), File: c.Ended}
		s.witness.Former = succession.Former(c.Authority.Succession)
		c.Store.Sealed = func(h chain.Head) bool {
			return (h.SignedBy(s.OrderKey()) || s.succeeds(h)) && h.Seq >= s.witness.Least()
		}

		// Made of the service's own key, so that the database holds no secret of theirs.
		s.desk.HookSecret = func(hook string) []byte { return s.secret("hook " + hook) }
	}

	s.mux.Use(middleware.RequestID, s.withPlace, s.log, s.recover, secure, knownMethod, challenging, middleware.GetHead)
	s.route(s.mux, "GET", "/healthz", openly, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprintln(w, "ok") })
	s.route(s.mux, "GET", "/readyz", openly, s.ready)
	s.route(s.mux, "GET", wire.ProblemsAt, openly, tellProblems)
	s.mux.Group(func(r chi.Router) {
		r.Use(s.limit(1200, keyByAgent))
		s.agentRoutes(r)
	})
	s.mux.Group(func(r chi.Router) {
		r.Use(middleware.Compress(5, "application/json"), limitBody, s.limitOpen(), s.identify,
			s.limit(maxCalls, keyByCaller), s.once, s.documents)
		s.route(r, "GET", "/metrics", personally, s.unlessOpen("metrics", s.metrics.handler()).ServeHTTP)
		cfg := huma.DefaultConfig("Idle Tally", "1")
		cfg.OpenAPIPath = "/api/openapi"
		cfg.DocsPath = ""
		cfg.SchemasPath = "/api/schemas"
		cfg.CreateHooks = nil
		frugal := huma.Format{
			Marshal:   writeLists,
			Unmarshal: func(b []byte, v any) error { return untrusted.JSON(b, maxElements, v) },
		}
		cfg.Formats = map[string]huma.Format{"application/json": frugal, "json": frugal}
		cfg.Info.Description = "Declare, snapshot, compare, plan, review, run, restore. Paths are text in which a " +
			"backslash is written \\\\ and a byte that is no printable character \\xHH. " +
			"As long as addresses begin with /api/v1, nothing of an answer goes or becomes something else, and no " +
			"call needs what it did not need; answers may have more."
		cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
			"token":  {Type: "http", Scheme: "bearer"},
			"cookie": {Type: "apiKey", In: "cookie", Name: cookieName},
		}
		s.api = humachi.New(r, cfg)
		for _, t := range tags {
			s.api.OpenAPI().Tags = append(s.api.OpenAPI().Tags, &huma.Tag{Name: t.name})
		}

		s.routes(r)
		s.route(r, "GET", "/api/reference", personally,
			s.unlessOpen("documents", http.HandlerFunc(s.showReference)).ServeHTTP)
	})

	complete(s.api.OpenAPI())
	s.reference = sync.OnceValues(func() ([]byte, error) { return referenceOf(s.api.OpenAPI()) })
	s.consoleRoutes()
	return s
}

// secret is a key for some use, made of the service's own.
func (s *Server) secret(use string) []byte {
	m := hmac.New(sha256.New, s.Authority.Secrets)
	_, _ = m.Write([]byte("idletally " + use)) // a hash takes everything
	return m.Sum(nil)
}

// keyByAgent counts calls by certificate, so that agents behind one address are apart, and those
// without one by where they come from.
func keyByAgent(r *http.Request) (string, error) {
	if r.TLS != nil && len(r.TLS.VerifiedChains) > 0 {
		return r.TLS.VerifiedChains[0][0].SerialNumber.String(), nil
	}
	return from(r.Context()), nil
}

type placeKey struct{}

// withPlace notes where each request comes from: an address, or a network of them.
func (s *Server) withPlace(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), placeKey{}, peer.Place(s.Proxies.Of(r)))))
	})
}

// from tells where a request comes from.
func from(ctx context.Context) string {
	place, _ := ctx.Value(placeKey{}).(string)
	return place
}

// keyByCaller counts calls by who makes them, a person and each of their programs apart, and of those who are
// not signed in by where they come from.
func keyByCaller(r *http.Request) (string, error) {
	if p := caller(r.Context()); p != nil {
		return "\x00" + p.Name + "\x00" + p.by, nil // no address looks like that
	}
	return keyByAgent(r)
}

// limit lets so many calls a minute through for each key, and says to the others when to come again.
func (s *Server) limit(calls int, key httprate.KeyFunc) func(http.Handler) http.Handler {
	return httprate.LimitBy(calls, time.Minute, key, s.tooOften(calls))
}

func (s *Server) tooOften(calls int) httprate.Option {
	return httprate.WithLimitHandler(func(w http.ResponseWriter, r *http.Request) {
		s.plain(w, r,
			fault.TooMany(fmt.Sprintf("more than %d calls within a minute: try again in %s seconds",
				calls, w.Header().Get("Retry-After")), 0))
	})
}

// limitOpen bounds what anybody may call, signed in or not, by the address it comes from: trying to
// sign in costs the memory of a password hash, calculating costs time. Tries with one name are
// bounded by themselves.
func (s *Server) limitOpen() func(http.Handler) http.Handler {
	signIn, calculate := s.limit(300, keyByAgent), s.limit(1200, keyByAgent)
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

// Openable is what can be had without signing in, where the service is told so: how it fares, and what its API is like.
var Openable = []string{"metrics", "documents"}

// unlessOpen has something served to who is signed in, or to everybody where the service was told so.
func (s *Server) unlessOpen(what string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		err := allow(r.Context(), op{role: wire.Viewer}, auth.Roles.Everywhere)
		if err != nil && !slices.Contains(s.Open, what) {
			s.plain(w, r, err)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// documents bounds what the API's own machinery serves of itself.
func (s *Server) documents(next http.Handler) http.Handler {
	bounded := s.bounded("GET /api/openapi.json", personally, s.unlessOpen("documents", next))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != baselineSchema &&
			(strings.HasPrefix(r.URL.Path, "/api/openapi") || strings.HasPrefix(r.URL.Path, "/api/schemas/")) {
			bounded.ServeHTTP(w, r)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// OpenAPI returns the document of the API.
func (s *Server) OpenAPI() *huma.OpenAPI { return s.api.OpenAPI() }

// ForPeople serves people and programs, and no agents: these come by certificates of the service's own authority.
func (s *Server) ForPeople() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/agent/") {
			http.Error(w, "agents come to the service's own address", http.StatusNotFound)
			return
		}
		s.mux.ServeHTTP(w, r)
	})
}

// ServeHTTP serves a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	if err := s.Store.Ping(r.Context()); err != nil {
		s.Log.Warn("not ready", "error", err)
		http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	fmt.Fprintln(w, "ready")
}

func (s *Server) log(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		took := time.Since(start)
		s.metrics.request(route, r.Method, ww.Status(), took)
		s.Log.Debug("request", "id", middleware.GetReqID(r.Context()), "method", r.Method, "route", route, "status",
			ww.Status(), "took", took)
	})
}

// knownMethod refuses methods that nothing here has.
func knownMethod(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !methods[r.Method] {
			http.Error(w, "this service has no such method", http.StatusMethodNotAllowed)
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (s *Server) recover(next http.Handler) http.Handler {
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
		most := int64(maxBody)
		if x := large(r.URL.Path); x > 0 {
			most = x
		}
		r.Body = http.MaxBytesReader(w, r.Body, most)
		next.ServeHTTP(w, r)
	})
}

type personKey struct{}

// who is the person a request comes from.
type who struct {
	store.Person
	token [32]byte
	by    string // the token that a program has; "" is the person in person

	session string    // its id
	shown   time.Time // when they last showed who they are

	wantsSecond bool // and may do nothing before they have one
	browser     bool // which asks by itself, too
}

func withPerson(ctx context.Context, p store.Person) context.Context {
	return context.WithValue(ctx, personKey{}, &who{Person: p})
}

func caller(ctx context.Context) *who {
	p, _ := ctx.Value(personKey{}).(*who)
	return p
}

// identify finds whose request it is; routes decide what that allows.
func (s *Server) identify(next http.Handler) http.Handler {
	// Looking a token up costs the database something, so that no place has more looked up that are not known here.
	unknown := httprate.NewRateLimiter(maxUnknown, time.Minute, s.tooOften(maxUnknown))
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		token, byCookie := "", false
		if h, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			token = h
		} else if c, err := r.Cookie(cookieName); err == nil {
			token, byCookie = c.Value, true
		}

		changes := r.Method != http.MethodGet && r.Method != http.MethodHead
		if token == "" || byCookie && changes && r.Header.Get(consoleHeader) == "" {
			next.ServeHTTP(rw, r)
			return
		}

		hash := auth.HashToken(token)
		if !s.known.have(hash, time.Now()) && unknown.RespondOnLimit(rw, r, from(r.Context())) {
			return
		}

		says, err := s.holds(r.Context())
		if err != nil {
			s.plain(rw, r, err)
			return
		}

		p, x, err := s.Store.SessionPerson(r.Context(), hash)
		if err == nil {
			err = s.use(r, p.Name, x, says)
		}

		if err == nil && byCookie {
			hash = s.rotateSession(rw, r, x, hash)
		}

		by := ""
		if errors.Is(err, store.ErrNotFound) && !byCookie {
			var t store.Token
			p, t, err = s.Store.TokenPerson(r.Context(), hash)
			by = t.Name
		}

		switch {
		case err == nil:
			s.known.add(hash, time.Now())
			w := &who{Person: p, token: hash, by: by, session: x.ID, browser: byCookie}
			if w.wantsSecond, err = s.lacksSecond(r.Context(), says, p); err != nil {
				s.plain(rw, r, err)
				return
			}

			if x.Shown != nil {
				w.shown = *x.Shown
			}

			r = r.WithContext(context.WithValue(r.Context(), personKey{}, w))
		case !errors.Is(err, store.ErrNotFound):
			s.plain(rw, r, err)
			return
		}

		next.ServeHTTP(rw, r)
	})
}

// use notes that somebody uses a session, unless that has ended because nobody did. What a console asks by
// itself is no use: it says so, and what it follows has no headers of its own.
func (s *Server) use(r *http.Request, person string, x store.Session, says wire.Policy) error {
	idle := time.Since(*cmp.Or(x.Used, &x.Created))
	if idle > time.Duration(says.Idle)*time.Minute {
		if _, err := s.Store.EndSessions(r.Context(), person, x.ID, ""); err != nil {
			// or a looser policy would have it count again
			return err
		}
		return fmt.Errorf("a session that nobody used: %w", store.ErrNotFound)
	}
	if idle < time.Minute || r.Header.Get(consoleHeader) == consoleAlone || r.URL.Path == followPath {
		return nil
	}
	return s.Store.UseSession(r.Context(), x.ID)
}

// whileSignedIn returns a context that ends when who calls is signed in no more, for calls that last.
func (s *Server) whileSignedIn(ctx context.Context) (context.Context, context.CancelFunc) {
	me := caller(ctx)
	if me == nil {
		return ctx, func() {}
	}

	ctx, cancel := context.WithCancel(ctx)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-time.After(keepAlive):
			}

			says, err := s.holds(ctx)
			stands := true
			if err == nil {
				stands, err = s.Store.SessionStands(ctx, me.session, me.token,
					time.Now().Add(-time.Duration(says.Idle)*time.Minute))
			}

			if err == nil && !stands {
				cancel()
				return
			}

			if err == nil && me.session != "" && !me.browser { // somebody waits there
				err = s.Store.UseSession(ctx, me.session)
			}

			if err != nil && ctx.Err() == nil {
				s.Log.Warn("whether somebody is still signed in is not known", "error", err)
			}
		}
	}()

	return ctx, cancel
}

// op is one operation of the API.
type op struct {
	method, path string
	id           string
	summary      string
	role         string // who may call it besides nobody; "" is anybody, "any" anybody signed in
	status       int
}

// add has an operation served. Who may call it has its role everywhere.
func add[I, O any](s *Server, o op, h func(context.Context, *I) (*O, error)) {
	register(s, o, auth.Roles.Everywhere, h)
}

// addFor registers an operation on one application; of returns its name. Callers need op.role for that application, or
// everywhere.
func addFor[I, O any](
	s *Server, o op, of func(context.Context, *I) (string, error), h func(context.Context, *I) (*O, error),
) {
	register(s, o, auth.Roles.Somewhere, func(ctx context.Context, in *I) (*O, error) {
		application, err := of(ctx, in)
		if err != nil {
			return nil, err
		}
		if p := caller(ctx); !p.Roles().For(o.role, application) {
			s.noteRefusal(ctx, o, application)
			return nil, fault.Forbidden(fmt.Sprintf(
				"%s may not do this for %s: it needs the role %[3]s, or %[3]s@%[2]s", p.Name,
				cmp.Or(application, "an application that is not named"), o.role))
		}
		return h(ctx, in)
	})
}

func register[I, O any](s *Server, o op, has func(auth.Roles, string) bool, h func(context.Context, *I) (*O, error)) {
	def := huma.Operation{
		Method:        o.method,
		Path:          "/api/v1" + o.path,
		OperationID:   o.id,
		Summary:       o.summary,
		DefaultStatus: o.status,
		Metadata:      map[string]any{"role": o.role},
		MaxBodyBytes:  maxBody,
	}

	promise[I](&def, o)
	class := costing(o.id)

	// Who may not call learns nothing, not even what is wrong with the call. Who may is let in before the body is read.
	def.Middlewares = huma.Middlewares{func(ctx huma.Context, next func(huma.Context)) {
		r, w := humachi.Unwrap(ctx)
		if err := allow(ctx.Context(), o, has); err != nil {
			if fault.Is(err, fault.KindForbidden) {
				s.noteRefusal(ctx.Context(), o, "")
			}
			s.plain(w, r, err)
			return
		}

		within, leave, err := s.budgets.Enter(ctx.Context(), class, personally(r))
		if err != nil {
			s.plain(w, r, busy(err))
			return
		}
		defer leave()

		if class == waiting {
			signedIn, enough := s.whileSignedIn(within)
			defer enough()
			within = signedIn
		}

		next(huma.WithContext(ctx, within))
	}}

	huma.Register(s.api, def, func(ctx context.Context, in *I) (*O, error) {
		out, err := h(ctx, in)
		return out, s.problem(err)
	})
	explain(s.api.OpenAPI().Paths[def.Path], o.method)
}

// noteRefusal writes into the history who wanted to change something that they may not.
func (s *Server) noteRefusal(ctx context.Context, o op, application string) {
	if caller(ctx) == nil || o.method == http.MethodGet {
		return
	}
	needs := "needs the role " + o.role
	if application != "" {
		needs += " for " + application
	}
	s.refused(ctx, speaker(ctx), "refused", o.id, needs)
}

// allow says why who calls may not do something.
func allow(ctx context.Context, o op, has func(auth.Roles, string) bool) error {
	if o.role == "" {
		return nil
	}

	p := caller(ctx)
	switch {
	case p == nil:
		return fault.Unauthorized("sign in first: idletally login ADDRESS")
	case p.wantsSecond && !withoutSecond[o.id]:
		return fault.Forbidden(
			"your roles need a second factor: set one up first (idletally sign-in second-factor)")
	case o.role != "any" && o.role != wire.Viewer && !has(p.Roles(), o.role):
		return fault.Forbidden(fmt.Sprintf("%s may not do this: it needs the role %s", p.Name, o.role))
	case fresh[o.id]:
		return isFresh(p)
	}

	return nil
}

// oneLine writes control characters as escapes.
func oneLine(text string) string {
	if !strings.ContainsFunc(text, unicode.IsControl) {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		if unicode.IsControl(r) {
			fmt.Fprintf(&b, `\x%02x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// plainText refuses control characters in what is said in one line: a title, a name, a reason.
func plainText(what, text string) error {
	if strings.ContainsFunc(text, unicode.IsControl) {
		return fault.Invalid(what +
			": it has control characters, such as a line's end: write it in one line")
	}
	return nil
}

// speaker is who calls, as the history tells it.
func speaker(ctx context.Context) store.By {
	if p := caller(ctx); p != nil {
		return store.By{Who: p.Name, Token: p.by}
	}
	return store.By{Who: "nobody"}
}

// audit writes down what who calls did.
func (s *Server) audit(ctx context.Context, what, subject, detail string) {
	s.write(ctx, speaker(ctx), what, subject, detail)
}

// write writes a line of history.
func (s *Server) write(ctx context.Context, by store.By, what, subject, detail string) {
	// A line is a line: nobody is to write others, or to steer the terminal of who reads it.
	subject, detail = oneLine(subject), oneLine(detail)
	if err := s.Store.Audit(context.WithoutCancel(ctx), by, what, subject, detail); err != nil {
		s.Log.Error("history was not written", "what", what, "subject", subject, "error", err)
	}
	switch kind, _, _ := strings.Cut(what, " "); kind {
	case wire.HappenedPlan, wire.HappenedRun:
		s.happen(ctx, store.Happening{Kind: kind, Subject: subject})
	}
}

// OrderKey is the public half of the key that signs orders.
func (s *Server) OrderKey() ed25519.PublicKey { return s.Authority.Orders.Public().(ed25519.PublicKey) }
