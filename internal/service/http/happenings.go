package http

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// happenings is the key under which this instance's own are told at once.
const happenings = "what happened"

const (
	askHappened  = 500 * time.Millisecond // for what happened at other instances
	keepAlive    = 15 * time.Second       // so that whoever stands between knows that it lives
	listenFor    = 5 * time.Minute        // then the page asks again, with a session that still counts
	maxListeners = 2000
	behind       = 64 // happenings that a slow page may be behind
)

// A feed hands out what happens to the pages that are open. It asks the database while there are any.
type feed struct {
	s       *Server
	mu      sync.Mutex
	open    map[chan wire.Happening]bool
	running bool
}

// join returns what happens from now on; the channel is closed where the page cannot follow.
func (f *feed) join() (chan wire.Happening, error) {
	f.mu.Lock()
	defer f.mu.Unlock()

	if len(f.open) >= maxListeners {
		return nil, fault.Unavailable("too many pages follow what happens: this one asks now and then instead", 0)
	}

	if f.open == nil {
		f.open = map[chan wire.Happening]bool{}
	}

	c := make(chan wire.Happening, behind)
	f.open[c] = true
	if !f.running {
		f.running = true
		go f.run()
	}

	return c, nil
}

func (f *feed) leave(c chan wire.Happening) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.open[c] {
		delete(f.open, c)
		close(c)
	}
}

// run asks what happened until nobody listens any more. What happened just before the first page came is
// told too: that page asks once more than it had to.
func (f *feed) run() {
	told := map[string]time.Time{}
	for {
		poked := f.s.notifier.wait(happenings)
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		list, err := f.s.Store.Happened(ctx)
		cancel()
		if err != nil {
			f.s.Log.Warn("what happened is not known", "error", err)
		}

		for _, h := range list {
			if _, ok := told[h.ID]; ok {
				continue
			}
			told[h.ID] = time.Now()
			f.tell(wire.Happening{Kind: h.Kind, Application: h.Application, Host: h.Host, Subject: h.Subject})
		}

		for id, at := range told {
			if time.Since(at) > time.Minute {
				delete(told, id)
			}
		}

		f.mu.Lock()
		f.running = len(f.open) > 0
		over := !f.running
		f.mu.Unlock()
		if over {
			return
		}

		select {
		case <-poked:
		case <-time.After(askHappened):
		}
	}
}

func (f *feed) tell(h wire.Happening) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for c := range f.open {
		select {
		case c <- h:
		default: // it asks anew, and sees all
			delete(f.open, c)
			close(c)
		}
	}
}

func (s *Server) happeningRoutes() {
	add(s,
		op{
			"GET", "/happenings", "follow-happenings",
			"What happens, as server-sent events: each holds a Happening; the first says that the stream has begun",
			wire.Viewer, 200,
		},
		s.followHappenings)

	schema := s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[wire.Happening](), true, "Happening")
	s.api.OpenAPI().Paths["/api/v1/happenings"].Get.Responses["200"].Content = map[string]*huma.MediaType{
		"text/event-stream": {Schema: schema},
	}
}

// stream writes what happens until the page goes, or it is time to ask anew.
func (s *Server) stream(ctx context.Context, w http.ResponseWriter, c chan wire.Happening) {
	control := http.NewResponseController(w)
	write := func(format string, args ...any) bool {
		if control.SetWriteDeadline(time.Now().Add(keepAlive+10*time.Second)) != nil {
			// a stream past its deadline is cut, written to or not
			return false
		}
		_, err := fmt.Fprintf(w, format, args...)
		return err == nil && control.Flush() == nil
	}

	event := func(h wire.Happening) bool {
		b, err := json.Marshal(h)
		return err == nil && write("data: %s\n\n", b)
	}
	if !write("retry: 1000\n") || !event(wire.Happening{Kind: wire.HappenedBegin}) {
		return
	}

	end, beat := time.After(listenFor), time.NewTicker(keepAlive)
	defer beat.Stop()

	for {
		select {
		case h, ok := <-c:
			if !ok || !event(h) {
				return
			}
		case <-beat.C:
			if !write(": here\n\n") {
				return
			}
		case <-ctx.Done():
			return
		case <-end:
			return
		case <-s.Stopping:
			return
		}
	}
}

// happen tells the pages that are open. Where that fails they find out by asking.
func (s *Server) happen(ctx context.Context, h store.Happening) {
	if err := s.Store.Happen(context.WithoutCancel(ctx), h); err != nil {
		s.Log.Warn("open pages are not told", "what", h.Kind, "error", err)
	}
	s.notifier.wake(happenings)
}

// followHappenings serves: What happens, as server-sent events: each holds a Happening; the first says that
// the stream has begun.
func (s *Server) followHappenings(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	c, err := s.feed.join()
	if err != nil {
		return nil, err
	}

	return &huma.StreamResponse{Body: func(hc huma.Context) {
		defer s.feed.leave(c)
		hc.SetHeader("Content-Type", "text/event-stream")
		hc.SetHeader("Cache-Control", "no-store")
		w, ok := hc.BodyWriter().(http.ResponseWriter)
		if !ok {
			return
		}

		s.stream(hc.Context(), w, c)
	}}, nil
}
