// Package app is the application: each operation of the service, for whoever calls it. It knows who may call what, asks
// the store, has the engine compare and draft, writes the history, and tells whoever waits. It knows nothing of how
// calls and answers travel, and is tested without that.
package app

import (
	"context"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync/atomic"
	"time"
	"unicode"

	"idletally/internal/core/chain"
	"idletally/internal/core/drift"
	"idletally/internal/core/succession"
	"idletally/internal/service/authority"
	"idletally/internal/service/budget"
	"idletally/internal/service/engine"
	"idletally/internal/service/fault"
	"idletally/internal/service/passkey"
	"idletally/internal/service/store"
	"idletally/internal/service/witness"
	"idletally/internal/wire"
)

// A Config is what the application is made of.
type Config struct {
	Store     *store.Store
	Authority *authority.Authority
	Log       *slog.Logger
	Build     wire.Build      // of this program
	Stopping  <-chan struct{} // closed when the service is to end: who waits is sent home
	Keep      engine.Retention
	Provider  *Provider
	Mail      *engine.Mail
	Name      string // how people call this service, in authenticators
	Public    string // how browsers reach this service, https://HOST[:PORT]
	PerHost   int64  // bytes of nodes that an agent may send in a day; 0 is any number
	Ended     string // the file beside the keys in which it is kept where the history ends; "" keeps it nowhere
}

// App is the application: what the service does for whoever calls it, whatever interface they come by.
type App struct {
	config    Config
	store     *store.Store
	authority *authority.Authority
	log       *slog.Logger

	engine   *engine.Engine
	notifier *notifier
	backing  *backing // what orders are held against
	witness  *witness.Witness
	fault    atomic.Pointer[historyFault] // of the history; nil where there is none
	// What a former key signed of the history, until the newest signs what follows.
	moving  atomic.Pointer[chain.Head]
	budgets *budget.Budgets

	provider *provider
	passkeys *passkey.Site // nil where browsers come by no name
	refusals refusals
	known    known
	policy   policy
	feed     *feed
}

const (
	sessionLife  = 12 * time.Hour
	approvalLife = 72 * time.Hour
	orderLife    = approvalLife + 24*time.Hour
)

// maxMemo is how many folders are remembered to be as declared: about 200 bytes each.
const maxMemo = 400_000

// New returns the application.
func New(c Config) *App {
	s := &App{
		config:    c,
		store:     c.Store,
		authority: c.Authority,
		log:       c.Log,
		engine:    &engine.Engine{Store: c.Store, Log: c.Log, Memo: drift.NewMemo(maxMemo), Mail: c.Mail},
		notifier:  newHub(),
		backing:   &backing{plans: map[string][]approval{}},
		budgets:   budget.New(shares()),
	}

	s.feed = &feed{s: s}
	s.engine.Files = s.files
	s.engine.Place = s.room
	s.engine.Shown = func(ctx context.Context, c store.Comparison) {
		s.happen(ctx, store.Happening{
			Kind:        wire.HappenedSnapshot,
			Application: c.Application,
			Host:        c.Host,
			Subject:     c.Snapshot,
		})
	}

	if site, err := passkey.NewSite(c.Public, c.Name); err != nil {
		s.log.Warn("nobody signs in by passkeys", "error", err)
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

		// Made from the service's own key, so that the database holds no secret of theirs.
		s.engine.HookSecret = func(hook string) []byte { return s.secret("hook " + hook) }
	}
	return s
}

type callerKey struct{}

// A Caller is the person a call comes from.
type Caller struct {
	store.Person
	token [32]byte
	By    string // the token that a program has; "" is the person in person

	session string    // its id
	shown   time.Time // when they last showed who they are

	WantsTwoFactor bool // and may do nothing before they have one
	browser        bool // which asks by itself, too
}

type placeKey struct{}

// WithPlace records where a call comes from.
func WithPlace(ctx context.Context, place string) context.Context {
	return context.WithValue(ctx, placeKey{}, place)
}

// PlaceOf returns where a request comes from.
func PlaceOf(ctx context.Context) string {
	place, _ := ctx.Value(placeKey{}).(string)
	return place
}

// secret returns a key for some use, derived from the service's own.
func (s *App) secret(use string) []byte {
	m := hmac.New(sha256.New, s.authority.Secrets)
	_, _ = m.Write([]byte("idletally " + use)) // a hash takes everything
	return m.Sum(nil)
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
	if p := CallerOf(ctx); p != nil {
		return store.By{Who: p.Name, Token: p.By}
	}
	return store.By{Who: "nobody"}
}

// audit records what the caller did.
func (s *App) audit(ctx context.Context, what, subject, detail string) {
	s.write(ctx, speaker(ctx), what, subject, detail)
}

// write writes a line of history.
func (s *App) write(ctx context.Context, by store.By, what, subject, detail string) {
	// One line is one line: nobody must be able to write others, or to control the terminal of whoever reads it.
	subject, detail = oneLine(subject), oneLine(detail)
	if err := s.store.Audit(context.WithoutCancel(ctx), by, what, subject, detail); err != nil {
		s.log.Error("history was not written", "what", what, "subject", subject, "error", err)
	}
	switch kind, _, _ := strings.Cut(what, " "); kind {
	case wire.HappenedPlan, wire.HappenedRun:
		s.happen(ctx, store.Happening{Kind: kind, Subject: subject})
	}
}

// WithCaller records who calls.
func WithCaller(ctx context.Context, c *Caller) context.Context {
	return context.WithValue(ctx, callerKey{}, c)
}

// withPerson makes a context as if somebody called who has just shown who they are.
func withPerson(ctx context.Context, p store.Person) context.Context {
	return WithCaller(ctx, &Caller{Person: p})
}

// CallerOf returns who calls; nil is nobody who is signed in.
func CallerOf(ctx context.Context) *Caller {
	p, _ := ctx.Value(callerKey{}).(*Caller)
	return p
}

// OrderKey is the public half of the key that signs orders.
func (s *App) OrderKey() ed25519.PublicKey { return s.authority.Orders.Public().(ed25519.PublicKey) }

// A Download is an answer that is written as it is made: it may be too large for memory.
type Download struct {
	Name  string // to keep it by; "" is for programs that read it at once
	Type  string // its media type
	Write func(context.Context, io.Writer) error
}
