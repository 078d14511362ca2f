//go:build linux

package change

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sys/unix"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/host/fsys"
)

// ErrHalted says that a run was halted at a step boundary and can be resumed.
var ErrHalted = errors.New("the run was halted")

// Chunks gives the verified steps of a plan, chunk by chunk, as often as asked.
type Chunks interface {
	Count() int
	Steps(n int) ([]plan.Step, error)
}

// A Runner carries one plan out on this host.
type Runner struct {
	Journal  *Journal
	Roots    []string // the plan's, raw
	Allowed  []string // the host's own list; a step outside is refused whoever signed it
	Chunks   Chunks
	Progress func(done, total int) // called between batches
	Halt     func() bool           // asked between batches
	Batch    int                   // steps that share one fdatasync; 0: as many as there may be open files, within reason

	roots map[string]*fsys.Root
	done  int
	pause func() // tests stop time before a system call that changes something
}

// perSync is how many steps share one fdatasync, and how many descriptors are held: a quarter of those that
// this process may have.
func perSync() int {
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil {
		return 256
	}
	return int(min(max(limit.Cur/4, 64), 4096))
}

// Run does what the journal does not already have an outcome for: first everything that narrows,
// from the outer folder inwards, then everything that widens, from the inner outwards.
func (r *Runner) Run(ctx context.Context) error {
	defer r.closeRoots()
	r.Journal.pause = r.pause
	for _, s := range r.Journal.steps {
		if s.outcome != plan.Pending {
			r.done++
		}
	}
	pass := func(n, base int, widen bool) error {
		steps, err := r.Chunks.Steps(n)
		if err != nil {
			return err
		}
		order := make([]int, 0, len(steps))
		for i := range steps {
			p := r.Journal.steps[base+i]
			if p.outcome == plan.Pending && p.narrowed == widen {
				order = append(order, i)
			}
		}
		if widen {
			slices.Reverse(order)
		}
		for b := range slices.Chunk(order, cmp.Or(r.Batch, perSync())) {
			if err := ctx.Err(); err != nil {
				return err
			}
			if r.Halt != nil && r.Halt() {
				return ErrHalted
			}
			if err := r.batch(steps, base, b, widen); err != nil {
				return err
			}
			if r.Progress != nil {
				r.Progress(r.done, len(r.Journal.steps))
			}
		}
		return nil
	}
	bases := make([]int, r.Chunks.Count())
	at := 0
	for n := range bases {
		bases[n] = at
		steps, err := r.Chunks.Steps(n)
		if err != nil {
			return err
		}
		at += len(steps)
	}
	if at != len(r.Journal.steps) {
		return fmt.Errorf("the plan has %d steps, the journal was begun for %d", at, len(r.Journal.steps))
	}
	for n, base := range bases {
		if err := pass(n, base, false); err != nil {
			return err
		}
	}
	for n := len(bases) - 1; n >= 0; n-- {
		if err := pass(n, bases[n], true); err != nil {
			return err
		}
	}
	r.Journal.record(recEnd, nil)
	r.Journal.ended = true
	return r.Journal.sync()
}

// held is a step whose path is open and was found as reviewed.
type held struct {
	step          int
	fd            int
	kind          perm.Kind
	from, to, end perm.POSIX
	back          perm.POSIX // what it was before the run
}

func (r *Runner) batch(steps []plan.Step, base int, order []int, widen bool) (err error) {
	var open []held
	defer func() {
		for _, h := range open {
			unix.Close(h.fd)
		}
		if ferr := r.Journal.flush(); err == nil {
			err = ferr
		}
	}()
	for _, i := range order {
		h, outcome, reason := r.examine(steps[i], base+i, widen)
		if outcome != plan.Pending {
			r.finish(base+i, outcome, reason)
			continue
		}
		open = append(open, h)
	}
	// Originals are on stable storage before the first change.
	if err := r.Journal.secure(); err != nil {
		return err
	}
	for _, h := range open {
		r.change(h, widen)
	}
	return nil
}

func (r *Runner) finish(step int, o plan.Outcome, reason string) {
	r.Journal.outcome(step, o, reason)
	r.done++
}

// examine opens a step's path and decides whether it may be changed. An original is recorded for
// every step that may.
func (r *Runner) examine(s plan.Step, step int, widen bool) (held, plan.Outcome, string) {
	refuse := func(format string, args ...any) (held, plan.Outcome, string) {
		return held{}, plan.Refused, fmt.Sprintf(format, args...)
	}
	under := func(list []string) (string, bool) {
		for _, root := range list {
			if pathname.Under(s.Path, root) {
				return root, true
			}
		}
		return "", false
	}
	if _, ok := under(r.Allowed); !ok {
		return refuse("this host does not allow changes there: its own list of roots does not hold the path")
	}
	rootPath, ok := under(r.Roots)
	if !ok {
		return refuse("the path lies under none of the plan's roots")
	}
	before, err1 := perm.POSIXOf(s.Before)
	after, err2 := perm.POSIXOf(s.After)
	narrowSet, err3 := perm.Narrow(s.Kind, s.Before, s.After)
	if err := errors.Join(err1, err2, err3); err != nil {
		return refuse("the step is not for a Linux host: %v", err)
	}
	narrow, err := perm.POSIXOf(narrowSet)
	if err != nil {
		return refuse("the step is not for a Linux host: %v", err)
	}
	if s.Kind == perm.Link {
		narrow = after
	}
	root, err := r.root(rootPath)
	if err != nil {
		return refuse("%v", err)
	}
	fd, err := root.Open(s.Path)
	if errors.Is(err, unix.ENOENT) {
		return held{}, plan.Skipped, err.Error()
	}
	if err != nil {
		return refuse("%v", err)
	}
	h := held{step: step, fd: fd, kind: s.Kind, to: narrow, end: after, back: before}
	keep := false
	defer func() {
		if !keep {
			unix.Close(fd)
		}
	}()
	now, err := fsys.Look(fd)
	switch {
	case err != nil:
		return refuse("%v", err)
	case now.Kind != s.Kind:
		return held{}, plan.Skipped, fmt.Sprintf("no longer as reviewed: it was a %s and is a %s now", s.Kind, now.Kind)
	case now.Kind != perm.Folder && now.Links > 1:
		return refuse("the %s has %d hard links: changing it here would change it under its other names too", now.Kind, now.Links)
	}
	h.from = now.State
	found := now.State.Set()
	known := r.Journal.steps[step].original
	if known != nil && (known.Dev != now.Dev || known.Ino != now.Ino) {
		return held{}, plan.Skipped, "the path was replaced by another while the run was under way"
	}
	switch {
	case widen && found == narrow.Set():
	case known != nil && found == after.Set():
		return held{}, plan.Done, ""
	case known != nil && r.ourOwn(s.Kind, found, before, narrow, after):
		// A crash left the step half done: go on from where it stands.
	case found == s.Before:
	case found == s.After:
		return held{}, plan.Already, "it is already as planned"
	default:
		return held{}, plan.Skipped, "no longer as reviewed: " + difference(before, now.State)
	}
	if widen {
		h.to = after
	}
	if known == nil {
		r.Journal.original(step, Original{now.Dev, now.Ino, found})
	}
	keep = true
	return h, plan.Pending, ""
}

// root pins a root once and keeps it until closeRoots.
func (r *Runner) root(path string) (*fsys.Root, error) {
	if root := r.roots[path]; root != nil {
		return root, nil
	}
	root, err := fsys.OpenRoot(path)
	if err != nil {
		return nil, err
	}
	if r.roots == nil {
		r.roots = map[string]*fsys.Root{}
	}
	r.roots[path] = root
	return root, nil
}

func (r *Runner) closeRoots() {
	for _, root := range r.roots {
		root.Close()
	}
	r.roots = nil
}

// ourOwn says whether a state is one that the step itself passes through.
func (r *Runner) ourOwn(k perm.Kind, found perm.Set, before, narrow, after perm.POSIX) bool {
	return slices.Contains(fsys.Partials(k, before, narrow), found) || slices.Contains(fsys.Partials(k, narrow, after), found)
}

func difference(reviewed, now perm.POSIX) string {
	a, b := perm.Describe(reviewed.Set(), nil), perm.Describe(now.Set(), nil)
	text := func(v perm.View) string {
		s := fmt.Sprintf("%s:%s %s", v.Owner, v.Group, v.Mode)
		if len(v.Entries) > 0 {
			s += fmt.Sprintf(" with entries %v", v.Entries)
		}
		if len(v.Defaults) > 0 {
			s += fmt.Sprintf(" and defaults %v", v.Defaults)
		}
		for _, f := range v.Flags {
			s += ", " + f
		}
		return s
	}
	return fmt.Sprintf("reviewed as %s, now %s", text(a), text(b))
}

// change leads one held step as far as this pass goes, and looks at the result.
func (r *Runner) change(h held, widen bool) {
	if r.pause != nil {
		r.pause()
	}
	// Time has passed since the path was examined: the journal was written in between.
	if now, err := fsys.Look(h.fd); err != nil || now.State.Set() != h.from.Set() {
		reason := "no longer as reviewed: it changed in this very moment"
		if err != nil {
			reason = err.Error()
		}
		r.finish(h.step, plan.Skipped, reason)
		return
	}
	err := fsys.Apply(h.fd, h.kind, h.from, h.to, r.pause)
	now, lookErr := fsys.Look(h.fd)
	switch {
	case err != nil:
		reason := err.Error()
		if lookErr == nil && now.State.Set() != h.back.Set() { // do not leave half a step behind
			if back := r.restore(h, now.State); back != nil {
				reason += "; and putting it back failed: " + back.Error()
			}
		}
		r.finish(h.step, plan.Refused, reason)
	case lookErr != nil:
		r.finish(h.step, plan.Refused, "changed, but the result cannot be read: "+lookErr.Error())
	case now.State.Set() != h.to.Set():
		r.finish(h.step, plan.Refused, "changed, but the result is not as planned: "+difference(h.to, now.State))
	case h.to.Set() == h.end.Set():
		r.finish(h.step, plan.Done, "")
	default:
		r.Journal.narrowed(h.step)
	}
}

// restore leads a path back to what it was, narrowed in between as on the way there.
func (r *Runner) restore(h held, from perm.POSIX) error {
	narrow, err := perm.Narrow(h.kind, from.Set(), h.back.Set())
	if err != nil {
		return err
	}
	between, err := perm.POSIXOf(narrow)
	if err != nil {
		return err
	}
	if h.kind == perm.Link {
		between = from
	}
	return errors.Join(fsys.Apply(h.fd, h.kind, from, between, r.pause), fsys.Apply(h.fd, h.kind, between, h.back, r.pause))
}

// Verify reads every step that is done once more, after all of them, and tells those that are
// not as planned any more.
func (r *Runner) Verify(ctx context.Context) ([]plan.Result, error) {
	defer r.closeRoots()
	var wrong []plan.Result
	base := 0
	for n := range r.Chunks.Count() {
		steps, err := r.Chunks.Steps(n)
		if err != nil {
			return nil, err
		}
		for i, s := range steps {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			if r.Journal.steps[base+i].outcome != plan.Done {
				continue
			}
			if err := r.verify(s); err != nil {
				wrong = append(wrong, plan.Result{Step: base + i, Outcome: plan.Done, Reason: err.Error()})
			}
		}
		base += len(steps)
	}
	return wrong, nil
}

func (r *Runner) verify(s plan.Step) error {
	for _, rootPath := range r.Roots {
		if !pathname.Under(s.Path, rootPath) {
			continue
		}
		root, err := r.root(rootPath)
		if err != nil {
			return err
		}
		fd, err := root.Open(s.Path)
		if err != nil {
			return fmt.Errorf("afterwards: %w", err)
		}
		defer unix.Close(fd)
		now, err := fsys.Look(fd)
		if err != nil {
			return fmt.Errorf("afterwards: %w", err)
		}
		if now.State.Set() != s.After {
			after, _ := perm.POSIXOf(s.After)
			return fmt.Errorf("afterwards somebody changed it again: %s", difference(after, now.State))
		}
	}
	return nil
}
