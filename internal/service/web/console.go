package web

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"idletally/internal/service/app"
	"idletally/internal/service/fault"
)

// ServeConsole serves the built console. Every address that is no file is a page of it.
func (s *Edge) ServeConsole(r chi.Router) {
	compressed := r.With(middleware.Compress(5, "text/html", "text/css", "text/javascript",
		"application/javascript", "image/svg+xml"))
	s.Route(compressed, "GET", "/*", app.Quick, Openly, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") || strings.HasPrefix(r.URL.Path, "/agent/") {
			s.Plain(w, r, fault.NotFound("nothing is served at "+r.URL.Path))
			return
		}

		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		var b []byte
		var err error = fs.ErrNotExist
		if s.Console != nil {
			if b, err = fs.ReadFile(s.Console, name); err != nil {
				name = "index.html"
				b, err = fs.ReadFile(s.Console, name)
			}
		}

		if err != nil {
			http.Error(w, "The console is not built into this program: run make build.", http.StatusNotFound)
			return
		}

		w.Header().Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
		if strings.HasPrefix(name, "assets/") { // their names hold a hash
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			w.Header().Set("Cache-Control", "no-cache")
		}

		_, _ = w.Write(b)
	})
}
