package app

import (
	"context"
	"sync"
	"time"

	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// happenings is the key under which this instance's own events are told at once.
const happenings = "what happened"

const (
	askHappened  = 500 * time.Millisecond // for what happened at other instances
	KeepAlive    = 15 * time.Second       // so that whoever stands between knows that it lives
	ListenFor    = 5 * time.Minute        // then the page asks again, with a session that still counts
	maxListeners = 2000
	behind       = 64 // happenings that a slow page may be behind
)

// A feed hands out events to the pages that are open. It asks the database while there are any.
type feed struct {
	s       *App
	mu      sync.Mutex
	open    map[chan wire.Happening]bool
	running bool
}

// join returns events from now on; the channel is closed if the page cannot keep up.
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

// run asks for events until nobody listens any more. What happened just before the first page came is included: that
// page asks once more than necessary.
func (f *feed) run() {
	told := map[string]time.Time{}
	for {
		poked := f.s.notifier.wait(happenings)
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		list, err := f.s.store.Happened(ctx)
		cancel()
		if err != nil {
			f.s.log.Warn("what happened is not known", "error", err)
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

// happen tells the open pages. If that fails they find out by asking.
func (s *App) happen(ctx context.Context, h store.Happening) {
	if err := s.store.Happen(context.WithoutCancel(ctx), h); err != nil {
		s.log.Warn("open pages are not told", "what", h.Kind, "error", err)
	}
	s.notifier.wake(happenings)
}

// Follow returns events from now on, until leave is called. The channel is closed if its reader is too slow: then it
// has to ask for everything anew.
func (s *App) Follow() (happens <-chan wire.Happening, leave func(), err error) {
	c, err := s.feed.join()
	if err != nil {
		return nil, nil, err
	}
	return c, func() { s.feed.leave(c) }, nil
}
