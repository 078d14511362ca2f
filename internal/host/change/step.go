//go:build linux

package change

import (
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sys/unix"

	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/host/fsys"
)

// A stage is what a run does to a path at once.
type stage int

const (
	entering stage = iota // narrow a folder in which there is more to do
	leaving               // widen it
	passing               // all at once
)

// A hand works on one step after the other. Its caches are its own.
type hand struct {
	r       *Runner
	reader  fsys.Reader
	openers map[string]*fsys.Opener
	ways    map[turn]*way
}

// close lets the folders go that were kept open.
func (d *hand) close() {
	for _, o := range d.openers {
		o.Close()
	}
}

// A turn is what a step does, wherever: many steps do the same.
type turn struct {
	kind          perm.Kind
	before, after perm.Set
}

// A way is how a path gets from one state to another.
type way struct {
	err                   error
	turn                  turn
	before, narrow, after perm.POSIX
	narrowed              perm.Set
	ops                   [3][]fsys.Op // by stage
	between               []perm.Set   // every state that the path passes through
}

const maxWays = 10_000 // that a hand remembers

func (d *hand) way(s plan.Step) *way {
	t := turn{s.Kind, s.Before, s.After}
	w := d.ways[t]
	if w == nil {
		if d.ways == nil || len(d.ways) >= maxWays {
			d.ways = map[turn]*way{}
		}
		w = newWay(t)
		d.ways[t] = w
	}
	return w
}

func newWay(t turn) *way {
	w := &way{turn: t}
	var err1, err2, err3 error
	w.before, err1 = perm.POSIXOf(t.before)
	w.after, err2 = perm.POSIXOf(t.after)
	w.narrowed, err3 = perm.Narrow(t.kind, t.before, t.after)
	if w.err = errors.Join(err1, err2, err3); w.err != nil {
		return w
	}
	if t.kind == perm.Link { // it has an owner only
		w.narrowed = t.after
	}
	if w.narrow, w.err = perm.POSIXOf(w.narrowed); w.err != nil {
		return w
	}
	close, open := fsys.Sequence(t.kind, w.before, w.narrow), fsys.Sequence(t.kind, w.narrow, w.after)
	w.ops = [3][]fsys.Op{entering: close, leaving: open, passing: slices.Concat(close, open)}
	w.between = append(fsys.Partials(t.kind, w.before, close), fsys.Partials(t.kind, w.narrow, open)...)
	if ops, ok := fsys.Direct(t.kind, w.before, w.after); ok {
		w.ops[passing] = ops
		w.between = append(w.between, fsys.Partials(t.kind, w.before, ops)...)
	}
	return w
}

// target is where a stage leads.
func (w *way) target(s stage) (perm.Set, perm.POSIX) {
	if s == entering {
		return w.narrowed, w.narrow
	}
	return w.turn.after, w.after
}

// A held step is open and was found as reviewed, or has an outcome already.
type held struct {
	no      int
	fd      int
	stage   stage
	way     *way
	seen    fsys.Sight
	ops     []fsys.Op
	outcome plan.Outcome
	reason  string
	open    bool
}

func (h *held) close() {
	if h.open {
		unix.Close(h.fd)
		h.open = false
	}
}

func (h *held) original() Original { return Original{h.seen.Dev, h.seen.Ino, h.seen.Set} }

// examine opens a step's path and decides whether it may be changed.
func (d *hand) examine(n numbered, st stage) held {
	h := held{no: n.no, stage: st}
	end := func(o plan.Outcome, reason string) held {
		h.close()
		h.outcome, h.reason = o, reason
		return h
	}
	if _, ok := under(d.r.Allowed, n.Path); !ok {
		return end(plan.Refused, "this host does not allow changes there: its own list of roots does not hold the path")
	}
	if h.way = d.way(n.Step); h.way.err != nil {
		return end(plan.Refused, fmt.Sprintf("the step is not for a Linux host: %v", h.way.err))
	}
	var err error
	h.fd, err = d.open(n.Path)
	if errors.Is(err, unix.ENOENT) {
		return end(plan.Skipped, err.Error())
	}
	if err != nil {
		return end(plan.Refused, err.Error())
	}
	h.open = true
	h.seen, err = d.reader.Look(h.fd)
	switch {
	case err != nil:
		return end(plan.Refused, err.Error())
	case h.seen.Kind != n.Kind:
		return end(plan.Skipped, fmt.Sprintf("no longer as reviewed: it was a %s and is a %s now", n.Kind, h.seen.Kind))
	case h.seen.Kind != perm.Folder && h.seen.Links > 1:
		return end(plan.Refused, fmt.Sprintf("the %s has %d hard links: changing it here would change it under its other names too", h.seen.Kind, h.seen.Links))
	}
	w, found := h.way, h.seen.Set
	known := d.r.Journal.steps[n.no].original
	if known != nil && (known.Dev != h.seen.Dev || known.Ino != h.seen.Ino) {
		return end(plan.Skipped, "the path was replaced by another while the run was under way")
	}
	switch {
	case st == leaving && found == w.narrowed, st != leaving && found == n.Before:
		h.ops = w.ops[st]
	case known != nil && found == n.After:
		return end(plan.Done, "")
	case known != nil && slices.Contains(w.between, found):
		// A crash left the step half done: go on from where it stands.
		from, err := perm.POSIXOf(found)
		if err != nil {
			return end(plan.Refused, err.Error())
		}
		h.ops = fsys.Sequence(n.Kind, from, w.narrow)
		if st != entering {
			h.ops = append(h.ops, w.ops[leaving]...)
		}
	case found == n.After:
		return end(plan.Already, "it is already as planned")
	default:
		return end(plan.Skipped, "no longer as reviewed: "+difference(w.before, found))
	}
	return h
}

// open opens a path beneath the root of the plan that holds it.
func (d *hand) open(path string) (int, error) {
	at, ok := under(d.r.Roots, path)
	if !ok {
		return -1, errors.New("the path lies under none of the plan's roots")
	}
	o := d.openers[at]
	if o == nil {
		p := d.r.roots[at]
		if p.err != nil {
			return -1, p.err
		}
		if d.openers == nil {
			d.openers = map[string]*fsys.Opener{}
		}
		o = &fsys.Opener{Root: p.root}
		d.openers[at] = o
	}
	return o.Open(path)
}

// change makes the calls of one held step, and looks at the result. A step without an outcome then is a
// folder that is narrowed.
func (d *hand) change(h *held) {
	if h.outcome != plan.Pending {
		return
	}
	pause := d.r.pause
	if pause != nil {
		pause()
	}
	end := func(o plan.Outcome, reason string) { h.outcome, h.reason = o, reason }
	// Time has passed since the path was examined: the journal was written in between.
	if same, err := d.reader.Same(h.fd, h.seen); err != nil {
		end(plan.Skipped, err.Error())
		return
	} else if !same {
		if now, err := d.reader.Look(h.fd); err != nil || now.Set != h.seen.Set || now.Links != h.seen.Links {
			end(plan.Skipped, "no longer as reviewed: it changed in this very moment")
			return
		}
	}
	err := fsys.Apply(h.fd, h.ops, pause)
	want, state := h.way.target(h.stage)
	now, lookErr := d.result(h, state)
	switch {
	case err != nil:
		reason := err.Error()
		if lookErr == nil && now != h.way.turn.before { // do not leave half a step behind
			if back := d.restore(h, now); back != nil {
				reason += "; and putting it back failed: " + back.Error()
			}
		}
		end(plan.Refused, reason)
	case lookErr != nil:
		end(plan.Refused, "changed, but the result cannot be read: "+lookErr.Error())
	case now != want:
		end(plan.Refused, "changed, but the result is not as planned: "+difference(state, now))
	case want == h.way.turn.after:
		end(plan.Done, "")
	}
}

// result reads what a step came to. Where there were no lists and capabilities and none were set, a look at
// the mode will do here: Verify looks at everything once more.
func (d *hand) result(h *held, want perm.POSIX) (perm.Set, error) {
	b := &h.way.before
	if want.Access == nil && want.Default == nil && want.Caps == "" && b.Access == nil && b.Default == nil && b.Caps == "" {
		p, err := d.reader.Plain(h.fd)
		return p.Set(), err
	}
	now, err := d.reader.Look(h.fd)
	return now.Set, err
}

// restore leads a path back to what it was, narrowed in between as on the way there.
func (d *hand) restore(h *held, from perm.Set) error {
	back := newWay(turn{h.way.turn.kind, from, h.way.turn.before})
	if back.err != nil {
		return back.err
	}
	return errors.Join(fsys.Apply(h.fd, back.ops[entering], d.r.pause), fsys.Apply(h.fd, back.ops[leaving], d.r.pause))
}

// settle gives the state that a path was left in on its way, if it is one of those.
func (d *hand) settle(s plan.Step, o Original) perm.Set {
	w := d.way(s)
	fd, err := d.open(s.Path)
	if err != nil {
		return perm.Set{}
	}
	defer unix.Close(fd)
	now, err := d.reader.Look(fd)
	if err != nil || w.err != nil || now.Dev != o.Dev || now.Ino != o.Ino || !slices.Contains(w.between, now.Set) {
		return perm.Set{}
	}
	return now.Set
}

func (d *hand) verify(s plan.Step) error {
	fd, err := d.open(s.Path)
	if err != nil {
		return fmt.Errorf("afterwards: %w", err)
	}
	defer unix.Close(fd)
	now, err := d.reader.Look(fd)
	if err != nil {
		return fmt.Errorf("afterwards: %w", err)
	}
	if now.Set != s.After {
		after, _ := perm.POSIXOf(s.After)
		return fmt.Errorf("afterwards somebody changed it again: %s", difference(after, now.Set))
	}
	return nil
}

func difference(reviewed perm.POSIX, now perm.Set) string {
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
	return fmt.Sprintf("reviewed as %s, now %s", text(perm.Describe(perm.File, reviewed.Set(), nil)), text(perm.Describe(perm.File, now, nil)))
}
