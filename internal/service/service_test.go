package service

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"idletally/internal/core/lifecycle"
	"idletally/internal/service/app"
	"idletally/internal/service/web"
	"idletally/internal/wire"
)

func bare() *Server { return New(Config{App: app.Config{Log: slog.New(slog.DiscardHandler)}}) }

func withProvider() *Server {
	return New(Config{App: app.Config{
		Log: slog.New(slog.DiscardHandler), Provider: &app.Provider{Issuer: "https://issuer"},
	}})
}

func opened(what ...string) *Server {
	return New(Config{App: app.Config{Log: slog.New(slog.DiscardHandler)}, Web: web.Config{Open: what}})
}

// operations lists every operation of the API as the document has it.
func operations(s *Server) map[string]*huma.Operation {
	out := map[string]*huma.Operation{}
	for path, item := range s.OpenAPI().Paths {
		for _, op := range []*huma.Operation{item.Get, item.Post, item.Put, item.Delete, item.Patch} {
			if op != nil {
				out[op.Method+" "+path] = op
			}
		}
	}
	return out
}

// besides lists what is served besides, as METHOD /path.
func besides(t *testing.T, s *Server) (routes []string) {
	t.Helper()
	ops := operations(s)
	err := chi.Walk(s.mux, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if name := method + " " + route; ops[name] == nil {
			routes = append(routes, name)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return routes
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
	text, err := os.ReadFile("../../docs/roles.md")
	if err != nil {
		t.Fatal(err)
	}

	_, text, _ = bytes.Cut(text, []byte("## Besides"))
	told := map[string]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| .+ \\| `([A-Z]+ /\\S+)` \\| (.+) \\|$").FindAllSubmatch(text, -1) {
		told[string(m[1])] = string(m[2])
	}

	s := withProvider()
	routes := 0
	for _, name := range besides(t, s) {
		method, path, _ := strings.Cut(name, " ")
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

// Nobody makes the service remember what they call: whatever methods and paths are made up, its metrics stay
// as they are.
func TestMetricsAreBounded(t *testing.T) {
	s := opened("metrics")
	call := func(method, path string) int {
		w := httptest.NewRecorder()
		s.ServeHTTP(w, httptest.NewRequest(method, path, nil))
		return w.Code
	}
	size := func() int {
		w := httptest.NewRecorder()
		s.ServeHTTP(w, httptest.NewRequest("GET", "/metrics", nil))
		return strings.Count(w.Body.String(), "\n")
	}

	storm := func(n int) {
		for i := range n {
			for _, path := range []string{
				"/", "/metrics", "/api/v1/hosts", "/agent/v1/work", fmt.Sprintf("/api/v1/hosts/%d", i),
				fmt.Sprintf("/%d", i), fmt.Sprintf("/agent/v1/%d", i),
			} {
				t.Run(path, func(t *testing.T) {
					code := call(fmt.Sprintf("M%d%s", i, strings.Repeat("X", 500)), path)
					if code != http.StatusMethodNotAllowed {
						t.Fatalf("%s by a method that nobody knows: %d", path, code)
					}
					for _, method := range []string{
						"GET", "HEAD", "POST", "PUT", "DELETE", "PATCH", "OPTIONS", "TRACE", "CONNECT",
					} {
						call(method, path)
					}
				})
			}
		}
	}

	storm(10)
	before := size()
	storm(200)
	if after := size(); after != before || after > 2000 {
		t.Errorf("%d series, and %d before", after, before)
	}
}

// Whoever is not signed in is told how one does (RFC 9110, 11.6.1), what is served nowhere is a problem as
// all are, and streams go on through it.
func TestAnswersOfAnyKind(t *testing.T) {
	s := bare()
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
		t.Run(path, func(t *testing.T) {
			w := get("GET", path)
			var p web.Refusal
			err := json.Unmarshal(w.Body.Bytes(), &p)
			if err != nil || p.Code != code || p.Type != "/api/problems#"+code || p.Status != w.Code ||
				p.Title == "" || w.Header().Get("Content-Type") != "application/problem+json" {
				t.Errorf("%s: %d %v, %s, %v", path, w.Code, w.Header(), w.Body, err)
			}

			if challenge := w.Header().Get("WWW-Authenticate"); (w.Code == 401) != strings.HasPrefix(challenge,
				"Bearer ") {
				t.Errorf("%s: %d, %q", path, w.Code, challenge)
			}
		})
	}

	if w := get("HEAD", "/healthz"); w.Code != 200 {
		t.Errorf("HEAD: %d", w.Code)
	}

	if w := get("GET", "/api/problems"); w.Code != 200 || !strings.Contains(w.Body.String(), `id="not-found"`) {
		t.Errorf("%d %s", w.Code, w.Body)
	}
}

// Whoever asks for OpenMetrics gets it, to its end.
func TestOpenMetricsOfTheService(t *testing.T) {
	s := New(Config{
		App: app.Config{
			Log: slog.New(slog.DiscardHandler), Build: wire.Build{Version: "1.2.3", Commit: "abc", Go: "go1"},
		},
		Web: web.Config{Open: []string{"metrics"}},
	})
	get := func(accept string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("GET", "/metrics", nil)
		r.Header.Set("Accept", accept)
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		return w
	}

	w := get("application/openmetrics-text; version=1.0.0")
	body := w.Body.String()
	if w.Code != 200 ||
		!strings.HasPrefix(w.Header().Get("Content-Type"), "application/openmetrics-text; version=1.0.0") ||
		!strings.HasSuffix(body, "# EOF\n") ||
		!strings.Contains(body, `idletally_build_info{commit="abc",go="go1",version="1.2.3"} 1`) {
		t.Errorf("%d %v\n%s", w.Code, w.Header(), body)
	}

	if w := get("text/plain"); w.Code != 200 || strings.Contains(w.Body.String(), "# EOF") {
		t.Errorf("%d %v", w.Code, w.Header())
	}
}

// The document of the API knows each state by the words of package lifecycle, all of them.
func TestStatesOfTheDocument(t *testing.T) {
	doc := bare().OpenAPI()
	known := map[string][]any{}
	for _, name := range []string{"Plan", "Run", "RunHost", "Snapshot", "Edition"} {
		known[name] = doc.Components.Schemas.Map()[name].Properties["state"].Enum
	}
	for call, path := range map[string]string{"hosts that are listed": "/hosts", "plans that are listed": "/plans"} {
		for _, p := range doc.Paths["/api/v1"+path].Get.Parameters {
			if p.Name == "state" {
				known[call] = p.Schema.Enum
			}
		}
	}

	for name, states := range map[string][]string{
		"Plan":                  append(lifecycle.Words(lifecycle.Plans), string(lifecycle.PlanExpired)),
		"Run":                   lifecycle.Words(lifecycle.Runs),
		"RunHost":               lifecycle.Words(lifecycle.Parts),
		"Snapshot":              lifecycle.Words(lifecycle.Snapshots),
		"Edition":               lifecycle.Words(lifecycle.Editions),
		"hosts that are listed": lifecycle.Words(lifecycle.Hosts),
		"plans that are listed": lifecycle.Words(lifecycle.Plans),
	} {
		t.Run(name, func(t *testing.T) {
			if got, want := fmt.Sprint(known[name]), fmt.Sprint(states); got != want {
				t.Errorf("%s in the document, and %s are there", got, want)
			}
		})
	}
}
