// Package service is the service as a whole: the application ([app]), and in front of it the interfaces for people
// and programs ([api]) and for agents ([agentapi]), which calls reach by one edge ([web]).
package service

import (
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"idletally/internal/service/agentapi"
	"idletally/internal/service/api"
	"idletally/internal/service/app"
	"idletally/internal/service/web"
)

// A Config is what the service is made of.
type Config struct {
	App app.Config
	Web web.Config
}

// Server is the whole service.
type Server struct {
	*app.App
	api *api.API
	mux *chi.Mux
}

// New puts the service together.
func New(c Config) *Server {
	s := &Server{App: app.New(c.App), mux: chi.NewMux()}
	c.Web.Build, c.Web.Log, c.Web.Stopping = c.App.Build, c.App.Log, c.App.Stopping
	edge := web.New(s.App, c.Web)
	edge.ForAll(s.mux)
	s.mux.Group(func(r chi.Router) { agentapi.New(edge, r) })
	s.mux.Group(func(r chi.Router) {
		edge.ForPeople(r)
		s.api = api.New(edge, r)
	})
	edge.ServeConsole(s.mux)
	return s
}

// OpenAPI returns the document of the API.
func (s *Server) OpenAPI() *huma.OpenAPI { return s.api.OpenAPI() }

// ForPeople serves people and programs, and no agents: these use certificates of the service's own authority.
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
