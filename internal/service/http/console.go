package http

import (
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// consoleRoutes serve the built console. Every address that is no file is a page of it.
func (s *Server) consoleRoutes() {
	compressed := s.mux.With(middleware.Compress(5, "text/html", "text/css", "text/javascript", "application/javascript", "image/svg+xml"))
	s.route(compressed, "GET", "/*", openly, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") || strings.HasPrefix(r.URL.Path, "/agent/") {
			s.plain(w, r, huma.Error404NotFound("nothing is served at "+r.URL.Path))
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

type metrics struct {
	registry *prometheus.Registry
	took     *prometheus.HistogramVec
	waiting  prometheus.Gauge
	nodes    prometheus.Counter
}

func newMetrics() *metrics {
	m := &metrics{registry: prometheus.NewRegistry(),
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "idletally_request_seconds", Help: "Time that requests took.",
			Buckets: []float64{.005, .02, .05, .1, .3, 1, 3, 10}}, []string{"route", "method", "status"}),
		waiting: prometheus.NewGauge(prometheus.GaugeOpts{Name: "idletally_agents_waiting", Help: "Agents that wait for work at this instance."}),
		nodes:   prometheus.NewCounter(prometheus.CounterOpts{Name: "idletally_nodes_received_total", Help: "Snapshot nodes received from agents."}),
	}
	m.registry.MustRegister(m.took, m.waiting, m.nodes, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// methods are those that the service has. Anybody may make up others: they are refused first of all, and have one series together.
var methods = map[string]bool{"GET": true, "HEAD": true, "POST": true, "PUT": true, "DELETE": true}

func (m *metrics) request(route, method string, status int, took time.Duration) {
	if !methods[method] {
		method = "other"
	}
	m.took.WithLabelValues(route, method, strconv.Itoa(status)).Observe(took.Seconds())
}

func (m *metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}
