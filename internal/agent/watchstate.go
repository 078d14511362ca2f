package agent

import (
	"context"
	"slices"
	"sync"

	"idletally/internal/wire"
)

// watchState is how watching is going; it wakes the call that tells the service.
type watchState struct {
	mu   sync.Mutex
	now  wire.WatchState
	wake context.CancelFunc

	current func() []wire.CurrentPlace // nil where nothing is followed
}

// follow sets who knows what is still as it was told.
func (s *watchState) follow(current func() []wire.CurrentPlace) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.current = current
}

// ask returns what the service is told of it.
func (s *watchState) ask(known string, state wire.WatchState) wire.WatchAsk {
	s.mu.Lock()
	current := s.current
	s.mu.Unlock()
	out := wire.WatchAsk{Known: known, State: state}
	if current != nil {
		out.Current = current()
	}
	return out
}

func (s *watchState) set(now wire.WatchState) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.now.Watching == now.Watching && slices.Equal(s.now.Notes, now.Notes) {
		return
	}
	s.now = now
	if s.wake != nil {
		s.wake()
	}
}

// get returns the state, and a context that ends when the state changes.
func (s *watchState) get(ctx context.Context) (wire.WatchState, context.Context, context.CancelFunc) {
	s.mu.Lock()
	defer s.mu.Unlock()
	ctx, s.wake = context.WithCancel(ctx)
	return s.now, ctx, s.wake
}

// watch keeps to the list of what is to be watched, until the context ends.
func (a *Agent) watch(ctx context.Context) error {
	stop := func() {}
	defer func() { stop() }()

	known := ""
	var watched []wire.WatchedPlace
	if why := a.host.unwatchable(); why != "" {
		a.Deaf = true
		a.state.set(wire.WatchState{Notes: []string{why}})
	} else if a.Deaf {
		a.state.set(wire.WatchState{Notes: []string{"the agent was started with --watch=false"}})
	}

	return a.call(ctx, "what to watch", func() error {
		state, until, cancel := a.state.get(ctx)
		defer cancel()

		list, err := a.api.Watches(until, a.state.ask(known, state))
		if err != nil && until.Err() != nil && ctx.Err() == nil {
			return nil // only to tell how it goes now
		}
		if err != nil || list == nil {
			return err
		}
		known = list.Version
		if a.Deaf {
			return nil
		}
		if same := func(x, y wire.WatchedPlace) bool {
			return x.Application == y.Application && x.Cross == y.Cross && slices.Equal(x.Roots, y.Roots)
		}; slices.EqualFunc(list.Applications, watched, same) {
			return nil
		}

		watched = list.Applications
		stop()
		within, cancelWatch := context.WithCancel(ctx)
		done := make(chan struct{})
		go func() {
			defer close(done)
			a.host.watch(within, list.Applications)
		}()
		stop = func() {
			cancelWatch()
			<-done
		}
		return nil
	})
}
