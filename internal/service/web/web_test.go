package web

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/service/app"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func bare() *Edge {
	log := slog.New(slog.DiscardHandler)
	return New(app.New(app.Config{Log: log}), Config{Log: log})
}

// Who calls without end is stopped, and nobody else with them: neither another person nor a program of the same one.
func TestCallsAreCountedByCaller(t *testing.T) {
	limited := bare().Limit(10, keyByCaller)(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(204)
	}))
	call := func(name, by string) int {
		r := httptest.NewRequest("GET", "/", nil)
		if name != "" {
			r = r.WithContext(app.WithCaller(r.Context(), &app.Caller{Person: store.Person{Name: name}, By: by}))
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
		t.Run(c.name, func(t *testing.T) {
			if got := call(c.name, c.by); got != c.want {
				t.Errorf("%q by %q: %d, want %d", c.name, c.by, got, c.want)
			}
		})
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

// Who has to sign in is told so also where a stream goes through it, and what was sent is not sent back: it may be a
// secret.
func TestProblems(t *testing.T) {
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

// A refusal of each kind has a status, and says in headers when to come again and that one has to show who one is.
func TestRefusals(t *testing.T) {
	for kind := range fault.KindFull + 1 {
		if statuses[kind] < 400 {
			t.Errorf("kind %d has the status %d", kind, statuses[kind])
		}
	}

	h := headersOf(&fault.Error{Kind: fault.KindTooMany, Again: 1500 * time.Millisecond})
	if h.Get("Retry-After") != "2" || h.Get("WWW-Authenticate") != "" {
		t.Errorf("%v", h)
	}
	h = headersOf(&fault.Error{Kind: fault.KindUnauthorized, Shown: 10 * time.Minute})
	if says := h.Get("WWW-Authenticate"); !strings.Contains(says, "insufficient_user_authentication") ||
		!strings.Contains(says, "max_age=600") {
		t.Errorf("%v", h)
	}
}

// A call that comes by cookie and changes something is nobody's, unless the console made it: no other site can.
func TestCookiesChangeNothingByThemselves(t *testing.T) {
	for _, method := range []string{"POST", "PUT", "DELETE", "PATCH"} {
		t.Run(method, func(t *testing.T) {
			r := httptest.NewRequest(method, "/api/v1/people", nil)
			r.AddCookie(&http.Cookie{Name: CookieName, Value: "a token that may count"})
			called := false
			bare().identify(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
				called = app.CallerOf(r.Context()) == nil
			})).ServeHTTP(httptest.NewRecorder(), r)
			if !called {
				t.Errorf("%s is somebody's", method)
			}
		})
	}
}

// A call that is made again with its key is the same one only if all of it is: whoever asks, with which roles, for
// what.
func TestAskedAgain(t *testing.T) {
	ask := func(roles, method, path, body string) string {
		t.Helper()
		r := httptest.NewRequest(method, path, strings.NewReader(body))
		asked, err := askedBy(&app.Caller{Person: store.Person{Name: "bosun", RoleList: roles}}, r)
		if err != nil {
			t.Fatal(err)
		}
		left, err := io.ReadAll(r.Body)
		if err != nil || large(path) == 0 && string(left) != body {
			t.Errorf("%q is left of %q, %v", left, body, err)
		}
		return string(asked)
	}

	first := ask("admin", "POST", "/api/v1/tokens?x=1", `{"name":"a"}`)
	if again := ask("admin", "POST", "/api/v1/tokens?x=1", `{"name":"a"}`); again != first {
		t.Errorf("%q, %q", first, again)
	}
	for name, other := range map[string]string{
		"roles":  ask("viewer", "POST", "/api/v1/tokens?x=1", `{"name":"a"}`),
		"method": ask("admin", "PUT", "/api/v1/tokens?x=1", `{"name":"a"}`),
		"query":  ask("admin", "POST", "/api/v1/tokens?x=2", `{"name":"a"}`),
		"body":   ask("admin", "POST", "/api/v1/tokens?x=1", `{"name":"b"}`),
	} {
		t.Run(name, func(t *testing.T) {
			if other == first {
				t.Errorf("another %s, and it is the same call", name)
			}
		})
	}

	r := httptest.NewRequest("POST", "/api/v1/tokens", strings.NewReader(strings.Repeat("x", MaxBody+1)))
	r.Body = http.MaxBytesReader(httptest.NewRecorder(), r.Body, MaxBody)
	if _, err := askedBy(&app.Caller{}, r); !fault.Is(err, fault.KindTooLarge) {
		t.Errorf("a body too large: %v", err)
	}
}
