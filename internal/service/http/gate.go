package http

import (
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// A gate lets calls in that take much memory: so many at once in all, and so many of one caller, who then cannot keep
// others out by being slow.
type gate struct {
	places chan struct{}
	each   int
	wait   time.Duration // for a place; then the caller is to come again

	mu sync.Mutex
	in map[string]int // calls of each caller, waiting ones too
}

func newGate(all, each int, wait time.Duration) *gate {
	return &gate{places: make(chan struct{}, all), each: each, wait: wait, in: map[string]int{}}
}

// enter returns what lets go of the place, or false where there is none within the time.
func (g *gate) enter(caller string, gone <-chan struct{}) (leave func(), ok bool) {
	if !g.comes(caller) {
		return nil, false
	}
	patience := time.NewTimer(g.wait)
	defer patience.Stop()
	select {
	case g.places <- struct{}{}:
		return func() { <-g.places; g.left(caller) }, true
	case <-gone:
	case <-patience.C:
	}
	g.left(caller)
	return nil, false
}

func (g *gate) comes(caller string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.in[caller] >= g.each {
		return false
	}
	g.in[caller]++
	return true
}

func (g *gate) left(caller string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.in[caller]--; g.in[caller] == 0 {
		delete(g.in, caller)
	}
}

// read has an agent's large body read when there is room for it.
func (s *Server) read(r *http.Request, body func() error) error {
	leave, ok := s.gate.enter(agentHost(r.Context()), r.Context().Done())
	if !ok {
		return huma.ErrorWithHeaders(
			huma.Error503ServiceUnavailable("too much is being sent at once, by this host or by all: send it again in a few seconds"),
			http.Header{"Retry-After": {"5"}})
	}
	defer leave()
	return body()
}
