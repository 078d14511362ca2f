package web

import (
	"net/http"

	"github.com/go-chi/chi/v5"

	"idletally/internal/service/budget"
)

// Bounded makes a handler enter its class.
func (s *Edge) Bounded(class budget.Class, who func(*http.Request) string, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx, leave, err := s.Enter(r.Context(), class, who(r))
		if err != nil {
			s.Plain(w, r, err)
			return
		}
		defer leave()
		h.ServeHTTP(w, r.WithContext(ctx))
	})
}

// Route serves what the API's own machinery does not, within its class.
func (s *Edge) Route(
	r chi.Router, method, path string, class budget.Class, who func(*http.Request) string, h http.HandlerFunc,
) {
	r.Method(method, path, s.Bounded(class, who, h))
}

// Openly names the callers of what anybody may call.
func Openly(r *http.Request) string {
	who, _ := KeyByAgent(r) // it fails on nothing
	return who
}

// Personally names the callers of what people call: a person, each of their programs, or where they come from.
func Personally(r *http.Request) string {
	who, _ := keyByCaller(r)
	return who
}
