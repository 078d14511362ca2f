package http

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"idletally/internal/service/auth"
	"idletally/internal/service/budget"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func bare() *Server { return New(Config{Log: slog.New(slog.DiscardHandler)}) }

// operations lists every operation of the API as the document has it.
func operations(s *Server) map[string]*huma.Operation {
	out := map[string]*huma.Operation{}
	for path, op := range each(s.OpenAPI()) {
		out[op.Method+" "+path] = op
	}
	return out
}

// What anybody may call: it looks nothing up.
var forAnybody = []string{
	"sign-in", "ask-passkey", "calculate-mode", "calculate-entries", "calculate-new", "judge-password", "sign-in-ways",
}

// Without a session everything else is refused, before anything is looked at.
func TestEveryOperationNeedsASession(t *testing.T) {
	s := bare()
	ops := operations(s)
	if len(ops) < 30 {
		t.Fatalf("only %d operations", len(ops))
	}

	for name, op := range ops {
		role, _ := op.Metadata["role"].(string)
		if op.OperationID == "" || op.Summary == "" {
			t.Errorf("%s has no id or no summary", name)
		}

		if slices.Contains(forAnybody, op.OperationID) {
			continue
		}

		if role != "any" && !slices.Contains(wire.Roles, role) {
			t.Errorf("%s is open to the role %q, which is none", name, role)
		}

		method, path, _ := strings.Cut(name, " ")
		if method != "GET" && role == wire.Viewer && op.OperationID != "check-baseline" {
			t.Errorf("%s changes something and is open to viewers", name)
		}

		w := httptest.NewRecorder()
		s.ServeHTTP(w,
			httptest.NewRequest(method, strings.NewReplacer("{", "", "}", "").Replace(path), strings.NewReader("{")))
		if w.Code != 401 || !strings.Contains(w.Header().Get("Content-Type"), "problem+json") ||
			!json.Valid(w.Body.Bytes()) {
			t.Errorf("%s without a session: %d %s", name, w.Code, w.Body)
		}
	}
}

// The calculator answers anybody, so many times a minute and no more.
func TestCalculatorIsOpenAndBounded(t *testing.T) {
	s := bare()
	call := func(path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		s.ServeHTTP(w, httptest.NewRequest("GET", path, nil))
		return w
	}
	if w := call("/api/v1/calculate/mode?mode=2750"); w.Code != 200 || !strings.Contains(w.Body.String(), "rwxr-s---") {
		t.Errorf("%d %s", w.Code, w.Body)
	}

	if w := call("/api/v1/calculate/entries?entries=" + strings.Repeat("x", 20_001)); w.Code != 422 {
		t.Errorf("a list too long: %d", w.Code)
	}

	for range 1300 {
		if w := call("/api/v1/calculate/mode?mode=0"); w.Code == 429 {
			var says struct {
				Status int
				Detail string
			}
			err := json.Unmarshal(w.Body.Bytes(), &says)
			if err != nil || says.Status != 429 || !strings.Contains(says.Detail, "try again in") ||
				w.Header().Get("Retry-After") == "" {
				t.Errorf("%s, %v, %v", w.Body, w.Header(), err)
			}

			return
		}
	}

	t.Error("1,300 calls in a moment, and none was refused")
}

// Who calls without end is stopped, and nobody else with them: neither another person nor a program of the same one.
func TestCallsAreCountedByCaller(t *testing.T) {
	limited := bare().limit(10, keyByCaller)(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(204)
	}))
	call := func(name, by string) int {
		r := httptest.NewRequest("GET", "/", nil)
		if name != "" {
			r = r.WithContext(context.WithValue(r.Context(), personKey{}, &who{
				Person: store.Person{Name: name},
				by:     by,
			}))
		}

		w := httptest.NewRecorder()
		limited.ServeHTTP(w, r)
		return w.Code
	}

	for range 10 {
		call("bosun", "")
	}

	for _, c := range []struct {
		name, by string
		want     int
	}{{"bosun", "", 429}, {"bosun", "nightly", 204}, {"lookout", "", 204}, {"", "", 204}} {
		if got := call(c.name, c.by); got != c.want {
			t.Errorf("%q by %q: %d, want %d", c.name, c.by, got, c.want)
		}
	}
}

// What a role may not do is refused to it, and nothing else.
func TestRoles(t *testing.T) {
	s := bare()
	for name, o := range operations(s) {
		role, _ := o.Metadata["role"].(string)
		for _, have := range wire.Roles {
			method, path, _ := strings.Cut(name, " ")
			r := httptest.NewRequest(method, path, strings.NewReader("{"))
			r = r.WithContext(withPerson(r.Context(), store.Person{Name: "somebody", RoleList: have}))
			err := allow(r.Context(), op{role: role}, auth.Roles.Everywhere)
			want := role == "" || role == "any" || role == wire.Viewer || role == have
			if (err == nil) != want {
				t.Errorf("%s for %s: %v, want allowed %v", name, have, err, want)
			}
		}
	}
}

func TestConsoleNotBuilt(t *testing.T) {
	w := httptest.NewRecorder()
	bare().ServeHTTP(w, httptest.NewRequest("GET", "/anything", nil))
	if w.Code != http.StatusNotFound || !strings.Contains(w.Body.String(), "make build") {
		t.Errorf("%d %s", w.Code, w.Body)
	}
}

// What is no operation of the API is told in docs/roles.md, all of it, and refuses whoever does not bring
// what stands there.
func TestAgentsNeedACertificate(t *testing.T) {
	text, err := os.ReadFile("../../../docs/roles.md")
	if err != nil {
		t.Fatal(err)
	}

	_, text, _ = bytes.Cut(text, []byte("## Besides"))
	told := map[string]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| .+ \\| `([A-Z]+ /\\S+)` \\| (.+) \\|$").FindAllSubmatch(text, -1) {
		told[string(m[1])] = string(m[2])
	}

	s := New(Config{Log: slog.New(slog.DiscardHandler), Provider: &Provider{Issuer: "https://issuer"}})
	routes := 0
	for name := range costOf {
		method, path, ok := strings.Cut(name, " ")
		if !ok {
			continue
		}

		routes++
		who, ok := told[name]
		delete(told, name)
		if !ok {
			t.Errorf("docs/roles.md says nothing of %s", name)
		}

		if strings.HasPrefix(path, "/agent/") != (who == "a host's certificate" ||
			who == "whoever has an enrolment code") {
			t.Errorf("%s is for %s", name, who)
		}

		if who == "nobody in particular" || who == "whoever has an enrolment code" {
			continue
		}

		w := httptest.NewRecorder()
		s.ServeHTTP(w, httptest.NewRequest(method, strings.NewReplacer("{", "", "}", "").Replace(path), nil))
		if w.Code != 401 {
			t.Errorf("%s is for %s, and answers nobody with %d", name, who, w.Code)
		}
	}

	for name := range told {
		t.Errorf("docs/roles.md tells of %s, which is not served", name)
	}

	if routes < 30 {
		t.Errorf("%d routes", routes)
	}
}

// Everything that is served has a budget, and no budget is for what is not served.
func TestEverythingHasABudget(t *testing.T) {
	s := New(Config{Log: slog.New(slog.DiscardHandler), Provider: &Provider{Issuer: "https://issuer"}})
	ids := map[string]string{}
	for route, op := range operations(s) {
		ids[route] = op.OperationID
	}

	served := map[string]bool{}
	err := chi.Walk(s.mux, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		name := method + " " + route
		if id, ok := ids[name]; ok {
			name = id
		}

		served[name] = true
		if _, ok := costOf[name]; !ok {
			t.Errorf("%s has no budget", name)
		}

		return nil
	})

	if err != nil {
		t.Fatal(err)
	}

	n := 0
	for class, names := range costs {
		n += len(names)
		if !s.budgets.Has(class) {
			t.Errorf("there is no class %s", class)
		}
		for _, name := range names {
			if !served[name] {
				t.Errorf("%s is not served", name)
			}
		}
	}

	if n != len(costOf) {
		t.Error("something stands in costs twice")
	}
}

// Where the places of a class are taken, others are told when to come again: their own doing by 429, others'
// by 503. Classes are apart.
func TestBusy(t *testing.T) {
	s := bare()
	own := shares()
	own[costly] = budget.Share{All: 2, Each: 1, Line: 1, Queue: 1, Wait: 20 * time.Millisecond}
	s.budgets = budget.New(own)
	h := s.bounded("check-baseline", personally,
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(204) }))
	call := func(h http.Handler, name string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("POST", "/", nil)
		w := httptest.NewRecorder()
		h.ServeHTTP(w,
			r.WithContext(context.WithValue(r.Context(), personKey{}, &who{Person: store.Person{Name: name}})))
		return w
	}

	var leaves []func()
	for _, name := range []string{"bosun", "cook"} {
		_, leave, err := s.budgets.Enter(t.Context(), costly, "\x00"+name+"\x00")
		if err != nil {
			t.Fatal(err)
		}
		leaves = append(leaves, leave)
	}

	go call(h, "bosun") // waits in the queue
	time.Sleep(5 * time.Millisecond)
	if w := call(h, "bosun"); w.Code != 429 && w.Code != 503 || w.Header().Get("Retry-After") == "" {
		t.Errorf("one's own doing: %d %v %s", w.Code, w.Header(), w.Body)
	}

	time.Sleep(30 * time.Millisecond)
	if w := call(h, "mate"); w.Code != 503 || w.Header().Get("Retry-After") == "" ||
		!strings.Contains(w.Body.String(), "try again in") {
		t.Errorf("others' doing: %d %v %s", w.Code, w.Header(), w.Body)
	}

	quickly := s.bounded("me", personally,
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(204) }))
	if w := call(quickly, "bosun"); w.Code != 204 {
		t.Errorf("another class: %d", w.Code)
	}

	for _, leave := range leaves {
		leave()
	}

	if w := call(h, "mate"); w.Code != 204 {
		t.Errorf("when there is room: %d %s", w.Code, w.Body)
	}
}

// Nobody makes the service remember what they call: whatever methods and paths are made up, its metrics stay
// as they are.
func TestMetricsAreBounded(t *testing.T) {
	s := bare()
	call := func(method, path string) int {
		w := httptest.NewRecorder()
		s.ServeHTTP(w, httptest.NewRequest(method, path, nil))
		return w.Code
	}
	size := func() (series int) {
		all, err := s.metrics.registry.Gather()
		if err != nil {
			t.Fatal(err)
		}

		for _, f := range all {
			series += len(f.GetMetric())
		}

		return series
	}

	storm := func(n int) {
		for i := range n {
			for _, path := range []string{
				"/", "/metrics", "/api/v1/hosts", "/agent/v1/work", fmt.Sprintf("/api/v1/hosts/%d", i),
				fmt.Sprintf("/%d", i), fmt.Sprintf("/agent/v1/%d", i),
			} {
				code := call(fmt.Sprintf("M%d%s", i, strings.Repeat("X", 500)), path)
				if code != http.StatusMethodNotAllowed {
					t.Fatalf("%s by a method that nobody knows: %d", path, code)
				}
				for _, method := range []string{
					"GET", "HEAD", "POST", "PUT", "DELETE", "PATCH", "OPTIONS", "TRACE", "CONNECT",
				} {
					call(method, path)
				}
			}
		}
	}

	storm(10)
	before := size()
	storm(200)
	if after := size(); after != before || after > 500 {
		t.Errorf("%d series, and %d before", after, before)
	}
}

func TestPanicIsAnError(t *testing.T) {
	s := bare()
	h := s.recover(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic("rock") }))
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	if w.Code != 500 || strings.Contains(w.Body.String(), "rock") {
		t.Errorf("%d %s", w.Code, w.Body)
	}
}

func TestHubWakesOnlyItsHost(t *testing.T) {
	h := newHub()
	a, b := h.wait("a"), h.wait("b")
	h.wake("a")
	select {
	case <-a:
	default:
		t.Error("the host's call was not woken")
	}
	select {
	case <-b:
		t.Error("another host's call was woken")
	default:
	}
	h.wake("nobody")
}

// What admins change of people, keys, hooks and rules takes that they have just shown who they are, and so
// does what makes a secret of one's own; nothing that is not an operation is listed.
func TestFresh(t *testing.T) {
	harmless := []string{"check-storage", "tidy-storage"}
	ids := map[string]bool{}
	for name, o := range operations(bare()) {
		ids[o.OperationID] = true
		if o.Metadata["role"] == wire.Admin && !strings.HasPrefix(name, "GET ") && !fresh[o.OperationID] &&
			!slices.Contains(harmless, o.OperationID) {
			t.Errorf("%s (%s) is carried out for a session that somebody found open", name, o.OperationID)
		}
	}

	for _, list := range []map[string]bool{fresh, withoutSecond} {
		for id := range list {
			if !ids[id] {
				t.Errorf("%s is no operation", id)
			}
		}
	}

	now := time.Now()
	for _, c := range []struct {
		what   string
		w      who
		o      op
		status int
	}{
		{"just signed in", who{shown: now}, op{id: "add-token", role: "any"}, 0},
		{"long signed in", who{shown: now.Add(-freshFor - time.Second)}, op{id: "add-token", role: "any"}, 401},
		{"never shown", who{}, op{id: "add-token", role: "any"}, 401},
		{"a token", who{by: "nightly", shown: now}, op{id: "add-token", role: "any"}, 403},
		{"something else", who{}, op{id: "list-tokens", role: "any"}, 0},
		{"no second factor", who{shown: now, wantsSecond: true}, op{id: "add-token", role: "any"}, 403},
		{"no second factor, looking", who{wantsSecond: true}, op{id: "list-plans", role: wire.Viewer}, 403},
		{"no second factor, following a run", who{wantsSecond: true}, op{role: wire.Viewer}, 403},
		{"no second factor, setting one up", who{shown: now, wantsSecond: true}, op{id: "propose-second", role: "any"},
			0},
	} {
		err := allow(context.WithValue(t.Context(), personKey{}, &c.w), c.o, auth.Roles.Everywhere)
		got := 0
		var refused *fault.Error
		if errors.As(err, &refused) {
			got = statuses[refused.Kind]
		}

		if got != c.status ||
			(c.status == 401) != (refused != nil &&
				strings.Contains(headersOf(refused).Get("WWW-Authenticate"), "insufficient_user_authentication")) {
			t.Errorf("%s: %v", c.what, err)
		}
	}
}

// Whoever is not signed in is told how one does (RFC 9110, 11.6.1), what is served nowhere is a problem as
// all are, and streams go on through it.
func TestAnswersOfAnyKind(t *testing.T) {
	s := New(Config{Log: slog.New(slog.DiscardHandler)})
	get := func(method, path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		s.ServeHTTP(w, httptest.NewRequest(method, path, nil))
		return w
	}
	for path, code := range map[string]string{
		"/api/v1/me":     "not-signed-in",
		"/agent/v1/work": "not-signed-in",
		"/api/nosuch":    "not-found",
		"/agent/nosuch":  "not-found",
	} {
		w := get("GET", path)
		var p Refusal
		err := json.Unmarshal(w.Body.Bytes(), &p)
		if err != nil || p.Code != code || p.Type != "/api/problems#"+code || p.Status != w.Code ||
			p.Title == "" || w.Header().Get("Content-Type") != "application/problem+json" {
			t.Errorf("%s: %d %v, %s, %v", path, w.Code, w.Header(), w.Body, err)
		}

		if challenge := w.Header().Get("WWW-Authenticate"); (w.Code == 401) != strings.HasPrefix(challenge, "Bearer ") {
			t.Errorf("%s: %d, %q", path, w.Code, challenge)
		}
	}

	if w := get("HEAD", "/healthz"); w.Code != 200 {
		t.Errorf("HEAD: %d", w.Code)
	}

	if w := get("GET", "/api/problems"); w.Code != 200 || !strings.Contains(w.Body.String(), `id="not-found"`) {
		t.Errorf("%d %s", w.Code, w.Body)
	}

	w := httptest.NewRecorder()
	challenging(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if f, ok := w.(http.Flusher); ok {
			f.Flush()
		}
	})).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	if !w.Flushed {
		t.Error("what is flushed stays")
	}

	// What was sent is not sent back: it may be a secret.
	if p := newProblem(422, byDocument, &huma.ErrorDetail{
		Message:  "too long",
		Location: "body.password",
		Value:    "hunter2",
	}); p.Code != wire.InvalidInput || p.Errors[0].Value != nil {
		t.Errorf("%+v", p)
	}

	if p := newProblem(422, "the baseline has errors", &huma.ErrorDetail{Message: "x"}); p.Code != "cannot-do" {
		t.Errorf("%+v", p)
	}
}

// The document of the API says of each operation how it is asked a second time, and with what it is refused.
func TestDocumentPromises(t *testing.T) {
	s := New(Config{Log: slog.New(slog.DiscardHandler)})
	n := 0
	for path, item := range s.api.OpenAPI().Paths {
		for method, op := range map[string]*huma.Operation{
			"GET":    item.Get,
			"POST":   item.Post,
			"PUT":    item.Put,
			"DELETE": item.Delete,
		} {
			if op == nil {
				continue
			}

			n++
			params := map[string]bool{}
			for _, p := range op.Parameters {
				params[p.Name] = true
			}

			signedIn := len(op.Security) > 0
			if len(op.Tags) != 1 {
				t.Errorf("%s %s is of %v", method, path, op.Tags)
			}

			if params["Idempotency-Key"] != (signedIn && method != "GET") {
				t.Errorf("%s %s: %v", method, path, params)
			}

			wants := []string{"422", "429", "503"}
			if signedIn {
				wants = append(wants, "401", "403")
			}

			if method != "GET" {
				wants = append(wants, "413", "507", "409")
			}

			if params["If-Match"] {
				wants = append(wants, "412")
			}

			for _, status := range wants {
				r := op.Responses[status]
				if r == nil || r.Content["application/problem+json"] == nil {
					t.Errorf("%s %s says nothing of %s", method, path, status)
					continue
				}
				for has, header := range map[string]string{
					"401": "WWW-Authenticate",
					"429": "Retry-After",
					"503": "Retry-After",
				} {
					if status == has && r.Headers[header] == nil {
						t.Errorf("%s %s, %s: no %s", method, path, status, header)
					}
				}
			}
		}
	}

	if n < 100 {
		t.Errorf("%d operations", n)
	}
}

// The reference shows each operation, in the order of work.
func TestReferencePage(t *testing.T) {
	s := New(Config{Log: slog.New(slog.DiscardHandler), Open: []string{"documents"}})
	w := httptest.NewRecorder()
	s.ServeHTTP(w, httptest.NewRequest("GET", "/api/reference", nil))
	page := w.Body.String()
	if w.Code != 200 || strings.Contains(page, "ZgotmplZ") {
		t.Fatalf("%d %s", w.Code, page)
	}

	for path, item := range s.api.OpenAPI().Paths {
		for _, op := range []*huma.Operation{item.Get, item.Post, item.Put, item.Delete} {
			if op != nil && strings.Count(page, `<h3 id="`+op.OperationID+`">`) != 1 {
				t.Errorf("%s of %s is not there once", op.OperationID, path)
			}
		}
	}

	for _, want := range []string{
		`<h3 id="body-Group"><code>Group</code></h3>`, `<a href="#body-PageHost"><code>PageHost</code></a>`,
		`How grave it is. One of: minor, serious, grave`,
	} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %s", want)
		}
	}

	at := 0
	for _, tag := range tags {
		i := strings.Index(page, `<h2 id="`+tag.name+`">`)
		if i < at {
			t.Errorf("%s comes in another place", tag.name)
		}
		at = i
	}

	closed := httptest.NewRecorder()
	New(Config{Log: slog.New(slog.DiscardHandler)}).ServeHTTP(closed, httptest.NewRequest("GET", "/api/reference", nil))
	if closed.Code != 401 {
		t.Errorf("nobody in particular is answered %d", closed.Code)
	}
}

// wholes are lists that have no pages, and why: what is added to them is bounded where it is added, or a call names it.
var wholes = map[string]string{
	"list-applications": "bounded where one is added", "list-hooks": "bounded where one is added",
	"list-people": "bounded where one is added", "list-schedules": "bounded where one is added",
	"list-tokens": "bounded where one is added", "list-passkeys": "bounded where one is added",
	"list-sessions":  "the oldest end",
	"take-snapshots": "one for each host that was asked", "get-trend": "one for each host",
	"list-equal": "says how many there are in all: list-findings has them", "list-steps": "chunk by chunk",
}

// Every list of the API can be read to its end.
func TestListsHaveAnEnd(t *testing.T) {
	lists := 0
	for route, op := range operations(bare()) {
		for _, m := range contents(op) {
			if m.Schema == nil || !strings.HasPrefix(named(m.Schema.Ref), "Page") {
				continue
			}

			lists++
			after := slices.ContainsFunc(op.Parameters, func(p *huma.Param) bool { return p.Name == "after" })
			if whole := wholes[op.OperationID] != ""; after == whole {
				t.Errorf("%s: after %t, whole %t", route, after, whole)
			}
		}
	}

	if lists < 20 {
		t.Errorf("%d lists", lists)
	}
}

func contents(op *huma.Operation) map[string]*huma.MediaType {
	if r := op.Responses["200"]; r != nil {
		return r.Content
	}
	return nil
}
