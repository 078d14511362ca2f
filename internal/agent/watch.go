//go:build linux

package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"time"

	"idletally/internal/client"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/core/unixid"
	"idletally/internal/host/scan"
	"idletally/internal/host/watch"
	"idletally/internal/wire"
)

const (
	settle    = 20 * time.Millisecond // what belongs together mostly comes within it
	missEvery = 10 * time.Minute      // how often what the kernel does not tell is looked for
	listenTry = time.Minute
	maxActs   = 1000
	// A host where something changes all the time makes so many snapshots in a row, and then one at each interval.
	burst      = 300
	replenish  = 2 * time.Second
	shareOfOne = 4 // a look is followed by a rest of so many times what it took
)

// follow listens for changes, and begins anew when listening breaks off.
func (a *Agent) follow(ctx context.Context, list []wire.WatchedPlace) {
	var all []*follower
	for _, p := range list {
		all = append(all, &follower{a: a, place: p, poke: make(chan struct{}, 1)})
	}

	a.state.follow(func() (out []wire.CurrentPlace) {
		for _, f := range all {
			if c, ok := f.current(time.Now()); ok {
				out = append(out, c)
			}
		}
		return out
	})
	defer a.state.follow(nil)
	for ctx.Err() == nil {
		w, some, notes := a.open(all)
		a.state.set(wire.WatchState{Watching: w != nil, Notes: notes})
		within, cancel := ctx, context.CancelFunc(func() {})
		if len(some) < len(all) { // perhaps the others can be listened to later
			within, cancel = context.WithTimeout(ctx, missEvery)
		}

		var wg sync.WaitGroup
		for _, f := range all {
			if !slices.Contains(some, f) {
				wg.Go(func() { f.patrol(within) })
			}
		}

		pause := listenTry
		if w != nil {
			a.Log.Info("watching", "applications", len(some), "not", notes)
			err := attend(within, w, some)
			w.Close()
			if ctx.Err() == nil {
				a.Log.Info("watching begins anew", "because", err)
			}

			pause = time.Second
		}

		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}

		cancel()
		wg.Wait()
	}
}

// patrol looks at everything at intervals where changes cannot be watched.
func (f *follower) patrol(ctx context.Context) {
	for ctx.Err() == nil && len(f.roots) > 0 {
		if due := missEvery - time.Since(f.looked); due > 0 {
			select {
			case <-ctx.Done():
				return
			case <-time.After(due):
			}
		}
		f.looked = time.Now()
		if err := f.tell(ctx, watch.Changes{All: "nothing can be heard here"}); err != nil && ctx.Err() == nil {
			f.a.Log.Warn("what was found could not be told", "application", f.place.Application, "error", err)
		}
	}
}

// open listens for the applications whose roots can be watched, and says why the others' cannot.
func (a *Agent) open(all []*follower) (w *watch.Watch, some []*follower, notes []string) {
	var roots []string
	crossing := false
	for _, f := range all {
		own, denied, err := a.allowed(f.place.Roots)
		if err == nil && len(denied) > 0 {
			f.roots = nil
			notes = append(notes,
				fmt.Sprintf("%s is not looked at: %s: %s", f.place.Application, denied[0].Path, denied[0].Reason))
			continue
		}

		f.roots = own
		if err == nil {
			if w, err = watch.Open(own, f.place.Cross); err == nil {
				w.Close()
			}
		}

		if err != nil {
			notes = append(notes,
				fmt.Sprintf("%s is looked at every %.0f minutes instead: %v", f.place.Application, missEvery.Minutes(),
					err))
			continue
		}

		crossing = crossing || f.place.Cross
		some, roots = append(some, f), append(roots, own...)
	}

	if len(some) == 0 {
		return nil, nil, notes
	}

	slices.Sort(roots)
	w, err := watch.Open(slices.Compact(roots), crossing)
	if err != nil {
		return nil, nil, append(notes, err.Error())
	}

	return w, some, notes
}

// attend hands events to the followers that they concern, until the watch fails or the context ends.
func attend(ctx context.Context, w *watch.Watch, all []*follower) error {
	ctx, cancel := context.WithCancel(ctx)
	var wg sync.WaitGroup
	defer wg.Wait()
	defer cancel()

	for _, f := range all {
		f.hear(watch.Changes{All: "the watch begins"})
		f.listens(true)
		defer f.listens(false)
		wg.Go(func() { f.run(ctx) })
	}

	for {
		if err := w.Wait(ctx); err != nil {
			return err
		}

		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(settle):
		}

		c, err := w.Take()
		if err != nil {
			return err
		}

		for _, f := range all {
			f.hear(c)
		}
	}
}

// A follower keeps the service's knowledge of one application's roots up to date.
type follower struct {
	a     *Agent
	place wire.WatchedPlace
	roots []string
	poke  chan struct{}

	mu        sync.Mutex
	heard     watch.Changes
	listening bool              // so that nothing changes unheard
	looking   bool              // where something was heard of
	given     wire.CurrentPlace // to the service, or known there; of no application before
	sure      time.Time         // as of when that was so

	// Only its own goroutine uses the rest.
	denied []scan.Denied
	owners []perm.Principal // met since the last look at everything
	inodes *scan.Inodes     // nil before the first look
	looked time.Time        // by patrol
	paths  int64
	told   told
	left   float64 // of the burst
	since  time.Time
}

// told is what the service was told last.
type told struct {
	forest           tree.Hash
	accounts, around string
}

// hear takes what concerns these roots.
func (f *follower) hear(c watch.Changes) {
	own := func(path string) bool {
		return slices.ContainsFunc(f.roots, func(r string) bool { return pathname.Under(path, r) })
	}
	f.mu.Lock()
	defer f.mu.Unlock()

	h := &f.heard
	before := len(h.Paths)
	for _, p := range c.Paths {
		if own(p) {
			h.Paths = append(h.Paths, p)
		}
	}

	for _, d := range c.Doings {
		if own(d.Path) {
			h.Doings = append(h.Doings, d)
		}
	}

	if n := len(h.Doings); n > maxActs {
		h.Doings = h.Doings[n-maxActs:]
	}

	h.Linked = append(h.Linked, c.Linked...)
	if h.All == "" {
		h.All = c.All
	}

	if h.All == "" && len(h.Paths)+len(h.Linked) > maxFollowed {
		h.All = "more paths changed than are followed one by one"
	}

	if h.All != "" {
		h.Paths, h.Linked = nil, nil
	}

	h.Around = h.Around || c.Around
	if c.All != "" || c.Around || len(c.Linked) > 0 || len(h.Paths) > before {
		select {
		case f.poke <- struct{}{}:
		default:
		}
	}
}

const maxFollowed = 50_000

func (f *follower) take() watch.Changes {
	f.mu.Lock()
	defer f.mu.Unlock()
	h := f.heard
	f.heard, f.looking = watch.Changes{}, true
	return h
}

// taken ends what take began.
func (f *follower) taken() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.looking = false
}

func (f *follower) listens(yes bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.listening = yes
}

// know records what the service has, as of a time.
func (f *follower) know(at time.Time, forest tree.Hash, accounts string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.given, f.sure = wire.CurrentPlace{Application: f.place.Application, Forest: forest, Accounts: accounts}, at
}

// current returns until when the service's snapshot was true: until now, if nothing has changed since. It is false
// before the service has one.
func (f *follower) current(now time.Time) (c wire.CurrentPlace, ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	h := &f.heard
	c = f.given
	if quiet := h.All == "" && !h.Around && len(h.Paths)+len(h.Linked) == 0; !f.listening || f.looking || !quiet {
		c.Seconds = int64(now.Sub(f.sure)/time.Second) + 1
	}
	return c, c.Application != ""
}

// run looks where something changed, and at intervals everywhere.
func (f *follower) run(ctx context.Context) {
	miss := time.NewTimer(missEvery)
	defer miss.Stop()
	fails := 0
	f.left, f.since = burst, time.Now()

	for {
		select {
		case <-ctx.Done():
			return
		case <-f.poke:
		case <-miss.C:
			f.hear(watch.Changes{All: "it is time to look for what the kernel does not tell"})
		}

		heard := f.take()
		if slices.ContainsFunc(heard.Linked, f.inodes.Has) {
			heard.All = "attributes changed of a file that may have several names here"
		}

		if heard.All == "" && !heard.Around && len(heard.Paths) == 0 {
			f.taken()
			continue // it was elsewhere
		}

		start := time.Now()
		err := f.tell(ctx, heard)
		pause := shareOfOne * time.Since(start)

		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			fails++
			pause = max(pause, time.Duration(rand.Int64N(int64(min(time.Minute, time.Second<<min(fails, 6))))))
			f.a.Log.Warn("what was heard could not be told", "application", f.place.Application, "error", err, "pause",
				pause.Round(time.Millisecond))
			heard.All = "the last look failed"
			f.hear(heard)
			f.taken()
		default:
			f.taken()
			fails = 0
			pause = max(pause, f.rest())
		}

		if heard.All != "" {
			miss.Reset(missEvery)
		}

		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
	}
}

// rest returns how long to wait after one more look.
func (f *follower) rest() time.Duration {
	now := time.Now()
	f.left = min(burst, f.left+now.Sub(f.since).Seconds()/replenish.Seconds()) - 1
	f.since = now
	if f.left >= 0 {
		return 0
	}
	return time.Duration(-f.left * float64(replenish))
}

// tell looks again, and sends the service a snapshot if anything is different.
func (f *follower) tell(ctx context.Context, heard watch.Changes) error {
	start := time.Now()
	dir, err := f.a.accounts.Read(ctx)
	if err != nil {
		return err
	}
	defer f.a.hold(f.roots)()

	opt := scan.Options{Cross: f.place.Cross, Denied: f.denied, Inodes: f.inodes}
	if heard.All == "" {
		opt.Touched = scan.Touch(heard.Paths...)
	} else {
		opt.Inodes = scan.NewInodes(max(f.paths+f.paths/4, 10_000))
	}

	found, err := f.a.look(ctx, f.roots, false, opt)
	if err != nil {
		return err
	}
	defer found.past.Close()

	owners := found.stats.Owners()
	if opt.Touched != nil {
		owners = append(owners, f.owners...)
	}

	slices.Sort(owners)
	owners = slices.Compact(owners)
	dir = f.a.owners.Complete(ctx, dir, owners)
	h := wire.Heard{
		SnapshotDone: Outcome(f.roots, found.forest, found.stats, dir),
		Roots:        f.place.Roots,
		Cross:        f.place.Cross,
		Acts:         acts(heard.Doings, dir),
	}

	now := told{forest: found.forest}
	if now.accounts, err = dir.Hash(); err != nil {
		return err
	}
	around, err := json.Marshal([]any{h.Ways, h.Denied})
	if err != nil {
		return err
	}

	now.around = string(around)
	if now != f.told {
		if err := f.a.api.Heard(ctx, f.place.Application, h); err != nil {
			if client.Status(err) == 409 {
				return fmt.Errorf("the list of what to watch is another one now: %w", err)
			}
			return err
		}
	}

	f.know(start, now.forest, now.accounts)
	f.told = now
	f.denied = found.stats.Denied
	f.inodes = opt.Inodes
	f.paths = found.stats.Paths
	f.owners = owners
	if err := found.stats.Store(found.past); err != nil {
		return errors.Join(err, scan.Forget(f.a.cacheFile(f.roots)))
	}

	return nil
}

// acts describes what processes did.
func acts(doings []watch.FileEvent, dir *perm.Directory) []wire.Act {
	out := []wire.Act{}
	last := map[string]time.Time{} // by path: each act of one has a time of its own, by which it is kept
	for _, d := range doings {
		if at := last[d.Path]; !d.At.Truncate(time.Millisecond).After(at) {
			d.At = at.Add(time.Millisecond)
		}

		last[d.Path] = d.At.Truncate(time.Millisecond)
		a := wire.Act{
			Path:    pathname.Path(d.Path),
			What:    d.What,
			At:      d.At.UTC(),
			PID:     d.PID,
			Command: pathname.Escape(d.Command),
			Program: pathname.Escape(d.Program),
		}

		if d.Command != "" {
			a.Account = dir.Name(unixid.UID(d.UID))
			if d.Login != watch.NoLogin {
				a.Login = dir.Name(unixid.UID(d.Login))
			}
		}

		out = append(out, a)
	}

	return out
}
