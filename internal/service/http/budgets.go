package http

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"runtime"
	"slices"
	"time"

	"github.com/go-chi/chi/v5"

	"idletally/internal/service/budget"
	"idletally/internal/service/desk"
	"idletally/internal/service/fault"
)

// The classes of calls.
const (
	quick   budget.Class = "quick"   // some rows are read or written
	costly  budget.Class = "costly"  // texts are parsed, trees are walked, thousands of rows are read
	sending budget.Class = "sending" // a large body is read: each takes at most some 100 MiB
	hashing budget.Class = "hashing" // a password is checked: each takes 64 MiB
	waiting budget.Class = "waiting" // it waits for something to happen, or follows it
	asking  budget.Class = "asking"  // somebody else is asked, and waited for

	// a snapshot is held against its baseline: some 100 MiB each, and ten minutes at the most
	comparing budget.Class = "comparing"
	tending   budget.Class = "tending" // the other chores of the service's own: each once at a time
)

// The chores of the service's own, besides those of the desk.
const (
	watchHistory = "history"  // is verified
	tellRefusals = "refusals" // that were gathered are written
	wake         = "wake"     // whom another instance has something for
)

// chores says of each of them what it costs. None is done that does not stand here.
var chores = map[budget.Class][]string{
	comparing: {desk.Compare},
	tending:   {desk.Schedules, desk.Notices, desk.Looks, desk.Storage, watchHistory, tellRefusals, wake},
}

// room waits until there is room for a chore.
func (s *Server) room(ctx context.Context, chore string) (within context.Context, leave func(), err error) {
	for class, names := range chores {
		if slices.Contains(names, chore) {
			return s.budgets.Enter(ctx, class, chore)
		}
	}
	return nil, nil, fmt.Errorf("what the chore %s costs is not said in chores", chore)
}

// shares are what all calls of a class may take together. One console asks for some ten things at once.
func shares() map[budget.Class]budget.Share {
	cores := max(2, runtime.GOMAXPROCS(0))
	return map[budget.Class]budget.Share{
		quick: {All: 64, Each: 16, Line: 4000, Queue: 100, Wait: 15 * time.Second, Within: time.Minute},
		costly: {
			All: cores, Each: max(1, cores/2), Line: 400, Queue: 20, Wait: 30 * time.Second, Within: 3 * time.Minute,
		},
		sending:   {All: 4, Each: 2, Line: 4000, Queue: 4, Wait: 20 * time.Second, Within: 4 * time.Minute},
		hashing:   {All: 2, Each: 1, Line: 40, Queue: 4, Wait: 10 * time.Second, Within: time.Minute},
		waiting:   {All: 50_000, Each: 30},
		comparing: {All: desk.Comparers, Each: desk.Comparers, Line: 1, Queue: 1, Wait: time.Hour},
		tending: {
			All: len(chores[tending]), Each: 1, Line: len(chores[tending]), Queue: 1, Wait: time.Minute,
			Within: time.Hour,
		},
		asking: {All: 200, Each: 10, Line: 400, Queue: 20, Wait: 10 * time.Second, Within: 2 * time.Minute},
	}
}

// costs says of each operation, and of each other route, what it costs. Nothing is served that does not stand here.
var costs = map[budget.Class][]string{
	quick: {
		"get-review-rule", "set-review-rule", "list-applications", "list-editions", "get-edition", "calculate-entries",
		"calculate-mode", "calculate-new", "judge-password",
		"list-causes", "get-trend", "list-history", "list-hooks", "add-hook", "remove-hook", "list-hosts",
		"invite-host", "get-host", "admit-host", "shut-out-host",
		"get-tags", "set-tags", "get-version", "me", "ask-own-passkey", "list-passkeys", "begin-passkey", "add-passkey",
		"remove-passkey", "get-policy", "set-policy", "keep-policy", "propose-second", "confirm-second",
		"remove-second", "end-sessions", "list-sessions", "end-session", "list-people",
		"remove-person", "get-roles", "set-roles", "remove-second-of", "end-sessions-of", "list-plans", "decline-plan",
		"add-remark", "withdraw-plan",
		"list-unread", "list-runs", "get-run", "halt-run", "resume-run", "list-results", "list-schedules",
		"add-schedule", "remove-schedule", "sign-in-ways",
		"sign-out", "list-snapshots", "take-snapshot", "get-snapshot", "cancel-snapshot", "get-storage", "list-tokens",
		"show-keys", "list-news", "see-news", "add-token", "remove-token", "list-waivers",
		"withdraw-waiver",
		"GET /healthz", "GET /readyz", "GET /api/problems", "GET /api/reference", "GET /metrics", "GET /*",
		"GET /api/schemas/baseline-1.json",
		"GET /api/openapi.json", "GET /api/openapi.yaml", "GET /api/openapi-3.0.json", "GET /api/openapi-3.0.yaml",
		"GET /api/schemas/{schema}",
		"POST /agent/v1/enrol", "POST /agent/v1/hello", "POST /agent/v1/certificate", "POST /agent/v1/history",
		"POST /agent/v1/keys", "POST /agent/v1/work/{id}/progress",
		"GET /agent/v1/work/{id}/chunks/{n}", "POST /agent/v1/nodes/missing",
	},
	costly: {
		"decide-access", "list-below", "list-holders", "probe-access", "get-matrix", "list-accounts", "show-account",
		"upload-baseline", "check-baseline", "derive-baseline", "preview-baseline",
		"compare-editions", "explain-path", "publish-edition", "get-drift", "list-equal", "write-report",
		"export-history", "check-history", "write-history",
		"get-overview", "show-path", "list-paths", "preview-new", "draft-plan", "get-plan", "approve-plan", "start-run",
		"write-script", "list-steps", "submit-plan",
		"list-findings", "list-places", "carry-run", "write-order", "list-originals", "search", "compare-snapshots",
		"export-snapshot", "check-storage", "tidy-storage",
		"add-waiver", "take-snapshots",
	},
	sending: {
		"take-report", "import-snapshot",
		"POST /agent/v1/questions/{id}", "POST /agent/v1/nodes", "POST /agent/v1/work/{id}/snapshot",
		"POST /agent/v1/watches/{application}/snapshot",
		"PUT /agent/v1/work/{id}/originals/{n}", "POST /agent/v1/work/{id}/run",
	},
	hashing: {"sign-in", "ask-passkey", "add-person", "reset-password", "change-password", "confirm"},
	waiting: {
		"follow-happenings", "GET /api/v1/runs/{id}/events", "GET /agent/v1/work", "GET /agent/v1/questions",
		"POST /agent/v1/watches",
	},
	asking: {"try-hook", "GET " + providerPath, "GET " + providerPath + "/back"},
}

var costOf = func() map[string]budget.Class {
	out := map[string]budget.Class{}
	for class, names := range costs {
		for _, n := range names {
			out[n] = class
		}
	}
	return out
}()

// costing returns the class of an operation or a route. Who adds one says here what it costs.
func costing(name string) budget.Class {
	class, ok := costOf[name]
	if !ok {
		panic("what " + name + " costs is not said in costs")
	}
	return class
}

// bounded has a route enter its class, for the caller that who names.
func (s *Server) bounded(name string, who func(*http.Request) string, h http.Handler) http.Handler {
	class := costing(name)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx, leave, err := s.budgets.Enter(r.Context(), class, who(r))
		if err != nil {
			s.plain(w, r, busy(err))
			return
		}
		defer leave()
		if class == waiting {
			signedIn, enough := s.whileSignedIn(ctx)
			defer enough()
			ctx = signedIn
		}
		h.ServeHTTP(w, r.WithContext(ctx))
	})
}

// route serves what the API's own machinery does not, within its class.
func (s *Server) route(r chi.Router, method, path string, who func(*http.Request) string, h http.HandlerFunc) {
	r.Method(method, path, s.bounded(method+" "+path, who, h))
}

// openly names who calls what anybody may call.
func openly(r *http.Request) string {
	who, _ := keyByAgent(r) // it fails on nothing
	return who
}

// personally names who calls what people call: they, each of their programs, or where they come from.
func personally(r *http.Request) string {
	who, _ := keyByCaller(r)
	return who
}

// busy words a refusal: with 429 to who has too much going on, with 503 to others, and when to come again.
func busy(err error) error {
	var b *budget.Busy
	if !errors.As(err, &b) {
		return err
	}
	if b.Own {
		return fault.TooMany(b.Error(), b.Again)
	}
	return fault.Unavailable(b.Error(), b.Again)
}
