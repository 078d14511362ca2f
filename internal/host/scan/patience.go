//go:build linux

package scan

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/pathname"
)

// A file system may never answer: a network's server is gone, or a program serves it that does nothing. Such a call
// cannot be cancelled. The worker that waits in it is given up, with the folder that it was reading, and another one
// goes on with the rest. If the call returns after all, its result is ignored.

// usualPatience is for one call. A disk that is busy, or has to spin up, answers within seconds.
const (
	usualPatience = 30 * time.Second
	idlePatience  = 10 * time.Minute
)

// errSilent says that a file system does not answer.
var errSilent = errors.New("the file system does not answer")

var errGivenUp = errors.New("this worker was given up")

// An attempt is a worker's work on one folder. Whoever ends it first, the worker or whoever gives it up, decides the
// outcome.
type attempt struct {
	f     *folder
	ended atomic.Bool
}

func (a *attempt) end() bool { return a.ended.CompareAndSwap(false, true) }

// attempt opens and lists a folder, unless it is known not to answer. errGivenUp says that somebody else has settled
// the folder meanwhile.
func (w *worker) attempt(f *folder) (*listing, error) {
	if silent.any() {
		if err := silent.check(f.path()); err != nil {
			l := &listing{fd: f.fd, err: err}
			if f.up != nil {
				f.up.release()
			}
			return l, nil
		}
	}

	a := &attempt{f: f}
	w.at.Store(a)
	l := w.open(f)
	if !a.end() {
		silent.answered(f)
		if l.fd >= 0 {
			unix.Close(l.fd)
		}
		return nil, errGivenUp
	}

	w.at.Store(nil)
	return l, nil
}

// start starts one more worker.
func (s *scanner) start(ctx context.Context) {
	w := newWorker(s)
	s.mu.Lock()
	s.workers = append(s.workers, w)
	s.mu.Unlock()
	s.working.Add(1)
	go s.opt.Throttle.onIdleThread(func() {
		if w.work(ctx) {
			s.working.Done()
		}
	})
}

// supervise gives up workers whose file system does not answer, until the scan is over.
func (s *scanner) supervise(ctx context.Context, over <-chan struct{}) {
	patience := s.patience()
	type sight struct {
		at    *attempt
		beat  int64
		since time.Time
	}
	seen := map[*worker]sight{}
	look := time.NewTicker(max(patience/8, time.Millisecond))
	defer look.Stop()

	for {
		select {
		case <-over:
			return
		case <-look.C:
		}

		s.mu.Lock()
		workers := s.workers
		s.mu.Unlock()

		for _, w := range workers {
			now := sight{w.at.Load(), w.beat.Load(), time.Now()}
			last := seen[w]
			if now.at == nil || now.at != last.at || now.beat != last.beat {
				seen[w] = now
				continue
			}

			if now.since.Sub(last.since) >= patience {
				s.giveUp(ctx, w, now.at)
			}
		}
	}
}

// giveUp settles a folder in a worker's place, and starts another worker.
func (s *scanner) giveUp(ctx context.Context, w *worker, a *attempt) {
	err := silent.add(a.f)
	if !a.end() { // it has answered in this moment
		silent.answered(a.f)
		return
	}
	w.at.Store(nil)
	if err == nil {
		err = newWorker(s).unread(a.f, fmt.Errorf("%w within %s", errSilent, s.patience()))
	}
	s.start(ctx)
	s.settle(err)
	s.working.Done()
}

func (s *scanner) patience() time.Duration {
	switch {
	case s.opt.Patience > 0:
		return s.opt.Patience
	case s.opt.Throttle != nil && s.opt.Throttle.Idle: // whose turn at the disk comes when nobody else wants it
		return idlePatience
	}
	return usualPatience
}

// within looks at a root, for as long as patience lasts.
func (s *scanner) within(path string, look func() (rootFound, error)) (rootFound, error) {
	if err := silent.check(path); err != nil {
		return rootFound{}, err
	}

	type answer struct {
		found rootFound
		err   error
	}
	var late atomic.Bool
	answers := make(chan answer, 1)
	f := &folder{name: path}
	go func() {
		found, err := look()
		if late.CompareAndSwap(false, true) {
			answers <- answer{found, err}
			return
		}

		silent.answered(f)
		found.drop()
	}()

	patience := time.NewTimer(s.patience())
	defer patience.Stop()

	select {
	case a := <-answers:
		return a.found, a.err
	case <-patience.C:
	}

	err := silent.add(f)
	if !late.CompareAndSwap(false, true) {
		silent.answered(f)
		a := <-answers
		return a.found, a.err
	}

	if err == nil {
		err = fmt.Errorf("%w within %s", errSilent, s.patience())
	}

	return rootFound{}, err
}

// silent are the folders, of all scans of this process, with a call that was given up and has not returned: they are
// not waited for once more. Each holds a thread, so there may only be some.
var silent = &waits{at: map[string]time.Time{}}

const maxSilent = 64

type waits struct {
	mu sync.Mutex
	n  atomic.Int32
	at map[string]time.Time
}

func (w *waits) any() bool { return w.n.Load() > 0 }

func (w *waits) check(path string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if since, ok := w.at[path]; ok {
		return fmt.Errorf("%w since %s", errSilent, since.UTC().Format(time.RFC3339))
	}
	return nil
}

func (w *waits) add(f *folder) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.at) >= maxSilent {
		return fmt.Errorf("%w: %d folders do not, %s the last of them: unmount what hangs there", errSilent, maxSilent,
			pathname.Escape(f.path()))
	}
	w.at[f.path()] = time.Now()
	w.n.Store(int32(len(w.at)))
	return nil
}

func (w *waits) answered(f *folder) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.at, f.path())
	w.n.Store(int32(len(w.at)))
}
