// Package api is the interface for people and programs, under /api/v1: a table of operations ([API.routes] is where to
// begin), and the documents that are made of it. A row names the method of [app.App] that serves the operation:
//
//	get("/plans", "list-plans", wire.Viewer, quick, a.ListPlans, "List plans, newest first"),
package api

import (
	"net/http"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"

	"idletally/internal/core/untrusted"
	"idletally/internal/service/app"
	"idletally/internal/service/web"
)

// maxElements bounds what a body of people or programs expands to: members of objects and elements of arrays.
const maxElements = 200_000

// API is the interface for people and programs, under /api/v1.
type API struct {
	*web.Edge
	api       huma.API
	reference func() ([]byte, error) // the page of its document
}

// New serves the API on a router.
func New(e *web.Edge, r chi.Router) *API {
	s := &API{Edge: e}
	r.Use(s.documents)
	s.api = humachi.New(r, config())
	for _, t := range tags {
		s.api.OpenAPI().Tags = append(s.api.OpenAPI().Tags, &huma.Tag{Name: t.name})
	}

	for _, x := range s.routes() {
		x.register(s)
	}
	s.besides(r)

	complete(s.api.OpenAPI())
	s.reference = sync.OnceValues(func() ([]byte, error) { return referenceOf(s.api.OpenAPI()) })
	return s
}

// config returns the configuration of the API's machinery.
func config() huma.Config {
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
		"cookie": {Type: "apiKey", In: "cookie", Name: web.CookieName},
	}
	return cfg
}

// OpenAPI returns the document of the API.
func (s *API) OpenAPI() *huma.OpenAPI { return s.api.OpenAPI() }

// documents bounds what the API's machinery serves of itself.
func (s *API) documents(next http.Handler) http.Handler {
	bounded := s.Bounded(app.Quick, web.Personally, s.UnlessOpen("documents", next))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != app.BaselineSchema &&
			(strings.HasPrefix(r.URL.Path, "/api/openapi") || strings.HasPrefix(r.URL.Path, "/api/schemas/")) {
			bounded.ServeHTTP(w, r)
			return
		}
		next.ServeHTTP(w, r)
	})
}
