package change

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"sync"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
)

// ErrHalted says that a run was halted at a step boundary and can be resumed.
var ErrHalted = errors.New("the run was halted")

// Chunks returns the verified steps of a plan, chunk by chunk, as often as asked.
type Chunks interface {
	Count() int
	Steps(n int) ([]plan.Step, error)
}

// Memory is chunks that are held in memory.
type Memory [][]plan.Step

// Count is how many there are.
func (m Memory) Count() int { return len(m) }

// Steps returns one.
func (m Memory) Steps(n int) ([]plan.Step, error) { return m[n], nil }

// A Runner carries one plan out on this host.
type Runner struct {
	Journal  *Journal
	Roots    []string // the plan's, raw
	Allowed  []string // the host's own list; a step outside is refused whoever signed it
	Chunks   Chunks
	Progress func(done, total int) // called between batches
	Halt     func() bool           // asked between batches
	// Steps that share one fdatasync; 0: as many as there may be open files, within reason.
	Batch   int
	Files   FileSystem // nil: this host's own paths
	PutBack bool       // what the steps lead to was there before: also what no folder passes on

	reach FileSystem // while it runs
	hands []*worker
	held  map[int]Handle // folders that are narrowed, by their steps: one that is moved away is found again by this
	done  int
	pause func() // tests stop time before a system call that changes something
}

// numbered is a step with its number in the plan.
type numbered struct {
	plan.Step
	no    int
	above int // the step of the folder that it lies in; none where that has no step
}

const none = -1

// Run carries out the steps that have no outcome in the journal yet, in the order of a walk. A folder is narrowed
// when it is entered, and widened when it is left: what is in it changes while the folder allows only what it allows
// both before and after, so that at no time anybody can do more in there than before, or than afterwards. A path
// below which no other step lies is changed at once.
func (r *Runner) Run(ctx context.Context) error {
	defer r.release()
	r.Journal.pause = r.pause
	for _, s := range r.Journal.steps {
		if s.outcome != plan.Pending {
			r.done++
		}
	}

	size := cmp.Or(r.Batch, perSync())
	var b batch
	flush := func() error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if b.empty() {
			return nil
		}
		if r.Halt != nil && r.Halt() {
			return ErrHalted
		}
		if err := r.runBatch(b); err != nil {
			return err
		}

		b = batch{}
		if r.Progress != nil {
			r.Progress(r.done, len(r.Journal.steps))
		}

		return nil
	}

	var entered []numbered // the folders on the way to where the walk is
	var way []numbered     // and these with those whose steps have ended
	leave := func(path string, all bool) {
		for n := len(entered); n > 0 && (all || !pathname.Under(path, entered[n-1].Path)); n-- {
			b.leave = append(b.leave, entered[n-1])
			entered = entered[:n-1]
		}
	}

	total := 0
	for n := range r.Chunks.Count() {
		steps, err := r.Chunks.Steps(n)
		if err != nil {
			return err
		}
		if total+len(steps) > len(r.Journal.steps) {
			return fmt.Errorf("the plan has more steps than the %d that the journal was begun for",
				len(r.Journal.steps))
		}

		for i, s := range steps {
			leave(s.Path, false)
			for n := len(way); n > 0 && !pathname.Under(s.Path, way[n-1].Path); n-- {
				way = way[:n-1]
			}

			at := numbered{s, total + i, none}
			if n := len(way); n > 0 && way[n-1].Path == pathname.Folder(s.Path) {
				at.above = way[n-1].no
			}

			if s.Kind == perm.Folder {
				way = append(way, at)
			}

			p := r.Journal.steps[total+i]
			if p.outcome != plan.Pending {
				continue
			}

			switch {
			case s.Kind != perm.Folder, i+1 < len(steps) && !pathname.Under(steps[i+1].Path, s.Path) && !p.narrowed:
				b.whole = append(b.whole, at)
			case !p.narrowed:
				b.enter = append(b.enter, at)
				fallthrough
			default:
				entered = append(entered, at)
			}

			if b.size() >= size {
				if err := flush(); err != nil {
					return err
				}
			}
		}

		total += len(steps)
	}

	if total != len(r.Journal.steps) {
		return fmt.Errorf("the plan has %d steps, the journal was begun for %d", total, len(r.Journal.steps))
	}
	leave("", true)
	if err := flush(); err != nil {
		return err
	}

	return r.Journal.end()
}

// A batch is a piece of the walk that shares one fdatasync.
type batch struct {
	enter []numbered // folders, the outer before the inner
	whole []numbered // all else: nothing in it changes
	leave []numbered // folders, the inner before the outer: everything in them is done with this batch
}

func (b batch) size() int   { return max(len(b.enter)+len(b.whole), len(b.leave)) }
func (b batch) empty() bool { return b.size() == 0 }

// runBatch narrows the folders of a batch, then changes what is in them, then widens those that are left behind.
func (r *Runner) runBatch(b batch) (err error) {
	defer func() {
		if ferr := r.Journal.flush(); err == nil {
			err = ferr
		}
	}()
	seen := make([]openStep, len(b.enter)+len(b.whole))
	defer func() {
		for _, h := range seen {
			h.close()
		}
	}()

	r.parallel(len(seen), func(d *worker, i int) {
		if i < len(b.enter) {
			seen[i] = d.examine(b.enter[i], entering)
		} else {
			seen[i] = d.examine(b.whole[i-len(b.enter)], passing)
		}
	})

	for _, h := range seen {
		if h.away != nil { // nothing of this batch was changed yet
			return h.away
		}
	}

	for _, h := range seen {
		if h.outcome == plan.Pending && r.Journal.steps[h.no].original == nil {
			r.Journal.original(h.no, h.original())
		}
	}

	// Originals are on stable storage before the first change.
	if err := r.Journal.secure(); err != nil {
		return err
	}

	for i := range b.enter {
		h := &seen[i]
		r.hands[0].change(h)
		if err := r.note(*h); err != nil {
			return err
		}

		if h.outcome == plan.Pending && len(r.held) < maxHeld {
			r.held[h.no], h.thing = h.thing, nil
		}
	}

	whole := seen[len(b.enter):]
	r.parallel(len(whole), func(d *worker, i int) { d.change(&whole[i]) })
	for _, h := range whole {
		err = cmp.Or(err, r.note(h))
	}

	if err != nil {
		return err
	}

	for _, f := range b.leave {
		if p := r.Journal.steps[f.no]; p.outcome != plan.Pending || !p.narrowed {
			continue // done when it was entered, or left alone
		}

		h := r.hands[0].examine(f, leaving)
		if h.away == nil {
			r.hands[0].change(&h)
		}

		h.close()
		if thing := r.held[f.no]; thing != nil {
			if h.outcome == plan.Skipped || h.outcome == plan.Refused {
				r.hands[0].giveBack(&h, f.Step, thing)
			}
			_ = thing.Close() // it was only pointed at
			delete(r.held, f.no)
		}

		if err := r.note(h); err != nil {
			return err
		}
	}

	return nil
}

// note records the outcome of a step, if it has one.
func (r *Runner) note(h openStep) error {
	switch {
	case h.away != nil:
		return h.away
	case h.outcome != plan.Pending:
		r.Journal.outcome(h.no, h.outcome, h.reason)
		r.done++
	default:
		r.Journal.narrowed(h.no)
	}
	return nil
}

// parallel does something for each of n, on all workers if there is much to do. Neighbours go to the same worker,
// which keeps their folder open.
func (r *Runner) parallel(n int, do func(d *worker, i int)) {
	r.begin()
	hands := r.hands
	if n < 4*piece || r.pause != nil { // time is stopped for one worker only
		hands = hands[:1]
	}

	var next int
	var mu sync.Mutex
	var all sync.WaitGroup

	for _, d := range hands {
		work := func() {
			defer r.reach.Release(d.no)
			for {
				mu.Lock()
				from := next
				next += piece
				mu.Unlock()
				if from >= n {
					return
				}

				for i := from; i < min(from+piece, n); i++ {
					do(d, i)
				}
			}
		}
		if len(hands) == 1 {
			work()
			break
		}
		all.Go(work)
	}

	all.Wait()
}

const (
	piece    = 64 // neighbours that one worker takes at once
	maxHands = 4
	maxHeld  = 256 // folders within each other that are kept open
)

// begin takes hold of what a run works with, until letGo is called.
func (r *Runner) begin() {
	if r.hands != nil {
		return
	}
	n := max(1, min(runtime.GOMAXPROCS(0), maxHands))
	r.reach = r.Files
	if r.reach == nil {
		r.reach = newLocal(r.Roots, n)
	}
	r.held = map[int]Handle{}
	for no := range n {
		r.hands = append(r.hands, &worker{r: r, no: no})
	}
}

func (r *Runner) release() {
	for _, thing := range r.held {
		_ = thing.Close() // it was only pointed at
	}
	r.held = nil
	if r.hands != nil {
		r.reach.Close()
	}
	r.hands, r.reach = nil, nil
}

// each hands out the plan's steps chunk by chunk, with the number of the first.
func (r *Runner) each(ctx context.Context, visit func(base int, steps []plan.Step)) error {
	base := 0
	for n := range r.Chunks.Count() {
		if err := ctx.Err(); err != nil {
			return err
		}
		steps, err := r.Chunks.Steps(n)
		if err != nil {
			return err
		}
		visit(base, steps)
		base += len(steps)
	}
	return nil
}

// Verify reads every step that is done once more, after all of them, and returns those that are no longer as planned.
func (r *Runner) Verify(ctx context.Context) (wrong []plan.Result, err error) {
	defer r.release()
	var away error
	err = r.each(ctx, func(base int, steps []plan.Step) {
		errs := make([]error, len(steps))
		r.parallel(len(steps), func(d *worker, i int) {
			if r.Journal.steps[base+i].outcome == plan.Done {
				errs[i] = d.verify(steps[i])
			}
		})
		for i, err := range errs {
			if errors.Is(err, ErrAway) {
				away = err
			} else if err != nil {
				wrong = append(wrong, plan.Result{Step: base + i, Outcome: plan.Done, Reason: err.Error()})
			}
		}
	})

	if err = cmp.Or(err, away); err != nil {
		return nil, err
	}

	return wrong, nil
}

// Settle looks at every step that was begun and is not done: a halted run leaves folders narrowed, a crash can leave
// a path anywhere on its way, and a step that was skipped or refused in the middle may have changed something. It
// returns their states, by number, where these are not as they were found: for a step without an outcome only what
// the run itself has done, for others whatever happened.
func (r *Runner) Settle(ctx context.Context) (map[int]perm.Set, error) {
	defer r.release()
	left := map[int]perm.Set{}
	err := r.each(ctx, func(base int, steps []plan.Step) {
		found := make([]perm.Set, len(steps))
		r.parallel(len(steps), func(d *worker, i int) {
			if p := r.Journal.steps[base+i]; p.outcome != plan.Done && p.original != nil {
				found[i] = d.settle(steps[i], p)
			}
		})
		for i, f := range found {
			if !f.IsZero() {
				left[base+i] = f
			}
		}
	})

	if err != nil {
		return nil, err
	}

	return left, nil
}

// under returns the first root of a list that holds a path.
func under(list []string, path string) (string, bool) {
	i := slices.IndexFunc(list, func(root string) bool { return pathname.Under(path, root) })
	if i < 0 {
		return "", false
	}
	return list[i], true
}
