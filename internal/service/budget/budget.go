// Package budget bounds what goes on at once: in all, and for each caller, so that whoever is slow, or calls again
// and again, takes no more from others than a fair share of the waiting. What a single call may cost is bounded where
// it is done.
package budget

import (
	"context"
	"fmt"
	"sync"
	"time"
)

// A Class is calls that cost alike.
type Class string

// A Share is what calls of a class may take.
type Share struct {
	All    int           // at once
	Each   int           // of them, of one caller
	Line   int           // that wait for a place, in all
	Queue  int           // of them, of one caller
	Wait   time.Duration // at the most, for a place
	Within time.Duration // after which a call is broken off; 0 for those that wait for something to happen
}

// Budgets hold the shares of several classes. Callers of one are apart from callers of another.
type Budgets struct{ lines map[Class]*line }

// New makes budgets.
func New(shares map[Class]Share) *Budgets {
	b := &Budgets{lines: map[Class]*line{}}
	for class, share := range shares {
		b.lines[class] = &line{Share: share, callers: map[string]*caller{}}
	}
	return b
}

// Has reports whether there is such a class.
func (b *Budgets) Has(class Class) bool { return b.lines[class] != nil }

// Busy says that there was no place, or none in time.
type Busy struct {
	Class Class
	Own   bool          // the caller has its whole share already
	Again time.Duration // when to come again
}

func (e *Busy) Error() string {
	if e.Own {
		return fmt.Sprintf("you have more such calls going on at once than anybody may (%s): try again in %d seconds",
			e.Class, int(e.Again.Seconds()))
	}
	return fmt.Sprintf("too much of this goes on at once (%s): try again in %d seconds", e.Class,
		int(e.Again.Seconds()))
}

const again = 5 * time.Second

// A place is what a call has of its class, until it leaves.
type place struct {
	line *line
	who  string
	held bool
}

type placeKey struct{}

// Enter waits for a place of a class. The context that it returns ends when the call has to; leave gives the place
// back. The error is a *Busy, or the context's own.
func (b *Budgets) Enter(
	ctx context.Context, class Class, who string,
) (within context.Context, leave func(), err error) {
	l := b.lines[class]
	if err := l.enter(ctx, class, who); err != nil {
		return nil, nil, err
	}
	p := &place{l, who, true}
	within, cancel := context.WithValue(ctx, placeKey{}, p), func() {}
	if l.Within > 0 {
		within, cancel = context.WithTimeout(within, l.Within)
	}
	return within, func() { cancel(); p.leave() }, nil
}

func (p *place) leave() {
	if p.held {
		p.held = false
		p.line.leave(p.who)
	}
}

// Away makes a call wait for somebody else, in a class for that, and gives its own place to others meanwhile. A call
// without a place just waits.
func (b *Budgets) Away(ctx context.Context, class Class, wait func() error) error {
	p, _ := ctx.Value(placeKey{}).(*place)
	if p == nil || !p.held {
		return wait()
	}
	l := b.lines[class]
	if err := l.enter(ctx, class, p.who); err != nil {
		return err
	}

	p.leave()
	err := wait()
	l.leave(p.who)
	if back := p.line.comeBack(ctx, p.who); back != nil {
		return back
	}

	p.held = true
	return err
}

// A line is those who are in, and those who wait. Places go to those who have waited longest, except callers that
// have their share.
type line struct {
	Share
	mu      sync.Mutex
	in      int
	waiting []*waiter
	callers map[string]*caller
}

type caller struct{ in, waiting int }

type waiter struct {
	who  string
	come chan struct{}
}

func (l *line) enter(ctx context.Context, class Class, who string) error {
	l.mu.Lock()
	c := l.callers[who]
	if c == nil {
		c = &caller{}
		l.callers[who] = c
	}

	switch {
	case l.in < l.All && c.in < l.Each:
		l.in, c.in = l.in+1, c.in+1
		l.mu.Unlock()
		return nil
	case c.waiting >= l.Queue:
		l.drop(who)
		l.mu.Unlock()
		return &Busy{class, true, again}
	case len(l.waiting) >= l.Line:
		l.drop(who)
		l.mu.Unlock()
		return &Busy{class, false, again}
	}

	t := l.queue(who, c)
	l.mu.Unlock()

	patience := time.NewTimer(l.Wait)
	defer patience.Stop()

	var err error
	select {
	case <-t.come:
		return nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-patience.C:
		err = &Busy{class, false, again}
	}

	if !l.give(t) { // the place came in the same moment
		return nil
	}

	return err
}

// queue puts a caller at the end of the line.
func (l *line) queue(who string, c *caller) *waiter {
	t := &waiter{who, make(chan struct{})}
	l.waiting, c.waiting = append(l.waiting, t), c.waiting+1
	return t
}

// comeBack waits for a place again, for as long as the call may go on: it was admitted before.
func (l *line) comeBack(ctx context.Context, who string) error {
	l.mu.Lock()
	c := l.callers[who]
	if c == nil {
		c = &caller{}
		l.callers[who] = c
	}

	t := l.queue(who, c)
	l.serve()
	l.mu.Unlock()

	select {
	case <-t.come:
		return nil
	case <-ctx.Done():
	}

	if !l.give(t) {
		return nil
	}

	return ctx.Err()
}

// give takes a turn out of the line; false if it has already come.
func (l *line) give(t *waiter) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	for i, other := range l.waiting {
		if other == t {
			l.waiting = append(l.waiting[:i], l.waiting[i+1:]...)
			l.callers[t.who].waiting--
			l.drop(t.who)
			return true
		}
	}
	return false
}

func (l *line) leave(who string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.in--
	l.callers[who].in--
	l.drop(who)
	l.serve()
}

// serve returns free places to those who wait.
func (l *line) serve() {
	kept := l.waiting[:0]
	for _, t := range l.waiting {
		c := l.callers[t.who]
		if l.in >= l.All || c.in >= l.Each {
			kept = append(kept, t)
			continue
		}
		l.in++
		c.in++
		c.waiting--
		close(t.come)
	}
	clear(l.waiting[len(kept):])
	l.waiting = kept
}

// drop forgets a caller that has nothing under way.
func (l *line) drop(who string) {
	if c := l.callers[who]; c.in == 0 && c.waiting == 0 {
		delete(l.callers, who)
	}
}
