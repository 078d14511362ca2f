package change

import (
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
)

// A stage is how much of a step a run does at a time.
type stage int

const (
	entering stage = iota // narrow a folder in which there is more to do
	leaving               // widen it
	passing               // all at once
)

// A worker works on one step after the other. Its caches are its own.
type worker struct {
	r    *Runner
	no   int
	ways map[transition]*transitionPlan
}

// A transition is what a step does, on whatever path: many steps do the same.
type transition struct {
	kind          perm.Kind
	before, after perm.Set
}

// A transitionPlan is how a path gets from one state to another.
type transitionPlan struct {
	err      error
	turn     transition
	narrowed perm.Set
	moves    [3]Moves   // by stage
	between  []perm.Set // every state that the path passes through
	plain    bool       // there are modes alone, on both sides
	anew     bool       // it gets other entries from above than it had
	loses    bool       // somewhere on the way a program has less power than before
}

const maxWays = 10_000 // that a worker remembers

func (d *worker) plan(s plan.Step) *transitionPlan {
	t := transition{s.Kind, s.Before, s.After}
	w := d.ways[t]
	if w == nil {
		if d.ways == nil || len(d.ways) >= maxWays {
			d.ways = map[transition]*transitionPlan{}
		}
		w = newTransitionPlan(t)
		d.ways[t] = w
	}
	return w
}

func newTransitionPlan(t transition) *transitionPlan {
	w := &transitionPlan{turn: t}
	if w.narrowed, w.err = perm.Narrow(t.kind, t.before, t.after); w.err != nil {
		return w
	}
	if t.kind == perm.Link { // it has an owner only
		w.narrowed = t.after
	}
	w.anew = perm.TakesAnew(t.before, t.after)

	before, ok := t.before.State().(perm.Stepwise)
	if !ok { // it changes at once
		to := Moves{To: t.after}
		w.moves = [3]Moves{to, to, to}
		w.between = []perm.Set{t.before, t.after}
		return w
	}

	narrow, after := w.narrowed.State().(perm.Stepwise), t.after.State().(perm.Stepwise)
	shut, open := before.Sequence(t.kind, narrow), narrow.Sequence(t.kind, after)
	w.moves = [3]Moves{
		entering: {Ops: shut, To: w.narrowed},
		leaving:  {Ops: open, To: t.after},
		passing:  movesOf(t.kind, t.before, t.before, t.after, slices.Concat(shut, open)),
	}
	w.between = append(w.through(t.before, shut), w.through(w.narrowed, open)...)
	if direct, ok := before.Direct(t.kind, after); ok && w.moves[passing].Power == 0 {
		w.moves[passing].Ops = direct
		w.between = append(w.between, w.through(t.before, direct)...)
	}

	w.loses = slices.ContainsFunc(w.between, func(s perm.Set) bool { return perm.Empowers(t.kind, s, t.before) })
	w.plain = before.Plain() && after.Plain()
	return w
}

// through returns every state that moves lead through, both ends included.
func (w *transitionPlan) through(from perm.Set, moves []perm.Move) []perm.Set {
	out := []perm.Set{from}
	for _, m := range moves {
		out = append(out, m.State)
	}
	return out
}

// An openStep is a step whose path is open and was found as reviewed, or that has an outcome already.
type openStep struct {
	no       int
	above    int    // see numbered
	thing    Handle // nil once it is closed
	stage    stage
	way      *transitionPlan
	seen     fsys.Stat
	content  tree.Hash // found, of a program that loses what it may have to get back one day
	reviewed tree.Hash // what is to be in a program that gets power
	moves    Moves
	settled  time.Time // from then on whatever is done to it bears another time
	outcome  plan.Outcome
	reason   string
	away     error // nothing can be reached any more: the step has no outcome yet
}

func (h *openStep) close() {
	if h.thing != nil {
		_ = h.thing.Close() // it was only pointed at
		h.thing = nil
	}
}

func (h *openStep) original() Original { return Original{h.seen.Dev, h.file(), h.seen.Set} }

// file is which file a step found, with the hash of its content if that was read.
func (h *openStep) file() plan.Identity {
	return plan.Identity{Inode: h.seen.Ino, Born: h.seen.Born, Content: h.content}
}

// examine opens a step's path and decides whether it may be changed.
func (d *worker) examine(n numbered, st stage) openStep {
	h := openStep{no: n.no, above: n.above, stage: st}
	end := func(o plan.Outcome, reason string) openStep {
		h.close()
		h.outcome, h.reason = o, reason
		return h
	}
	if _, ok := under(d.r.Allowed, n.Path); !ok {
		return end(plan.Refused, "this host does not allow changes there: its own list of roots does not hold the path")
	}
	h.way = d.plan(n.Step)
	if h.way.err != nil {
		return end(plan.Refused, fmt.Sprintf("the step is not for this host: %v", h.way.err))
	}

	var err error
	h.thing, err = d.open(n.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return end(plan.Skipped, err.Error())
	}

	if errors.Is(err, ErrAway) {
		h.away = err
		return h
	}

	if err != nil {
		return end(plan.Refused, err.Error())
	}

	h.seen, err = h.thing.Stat(d.no)
	switch {
	case errors.Is(err, ErrAway):
		h.close()
		h.away = err
		return h
	case err != nil:
		return end(plan.Refused, err.Error())
	case h.seen.Kind != n.Kind:
		return end(plan.Skipped, fmt.Sprintf("no longer as reviewed: it was a %s and is a %s now", n.Kind, h.seen.Kind))
	case h.seen.Kind != perm.Folder && h.seen.Links > 1:
		return end(plan.Refused,
			fmt.Sprintf("the %s has %d hard links: changing it here would change it under its other names too",
				h.seen.Kind, h.seen.Links))
	}

	if h.seen.Kind != perm.Folder { // which has one name
		h.settled = time.Now().Add(h.thing.ClockGranularity(h.seen))
	}

	w, found := h.way, h.seen.Set
	known := d.r.Journal.steps[n.no].original
	if !n.File.Is(h.file()) {
		return end(plan.Skipped, "another file lies there than the one that was reviewed")
	}
	if known != nil && (known.Dev != h.seen.Dev || !known.File.Is(h.file())) {
		return end(plan.Skipped, "the path was replaced by another while the run was under way")
	}

	switch {
	case st == leaving && found == w.narrowed, st != leaving && found == n.Before:
		h.moves = w.moves[st]
	case known != nil && found == n.After:
		return end(plan.Done, "")
	case known != nil && slices.Contains(w.between, found):
		// A crash left the step half done: go on from where it stands.
		h.moves = w.moves[st]
		if from, ok := found.State().(perm.Stepwise); ok {
			ops := from.Sequence(n.Kind, w.narrowed.State())
			if st != entering {
				ops = append(ops, w.moves[leaving].Ops...)
			}

			h.moves = movesOf(n.Kind, n.Before, found, h.moves.To, ops)
		}

	case found == n.After:
		return end(plan.Already, "it is already as planned")
	default:
		return end(plan.Skipped, "no longer as reviewed: "+difference(n.Kind, w.turn.before, found))
	}

	if h.moves.Power > 0 && n.File.Content.IsZero() {
		return end(plan.Refused,
			"it would get set-ID bits, capabilities or root's ownership, and what is in it was not known when the "+
				"step was drafted: put it there anew, from where it came from")
	}

	h.reviewed = n.File.Content

	// A program that loses power may be given it back, but only if it still is that program.
	if known == nil && w.loses {
		h.content, _ = h.thing.Content() // where it cannot be read it is not given back either, and that says why
	}

	return h
}

// open opens a path beneath the root of the plan that holds it.
func (d *worker) open(path string) (Handle, error) {
	at, ok := under(d.r.Roots, path)
	if !ok {
		return nil, errors.New("the path lies under none of the plan's roots")
	}
	return d.r.reach.Open(d.no, at, path)
}

// change makes the calls of one open step, and looks at the result. A step that then has no outcome is a folder that
// is narrowed.
func (d *worker) change(h *openStep) {
	if h.outcome != plan.Pending {
		return
	}

	pause := d.r.pause
	if pause != nil {
		pause()
	}

	end := func(o plan.Outcome, reason string) { h.outcome, h.reason = o, reason }
	gone := func(err error) bool {
		if errors.Is(err, ErrAway) {
			h.away = err
		}
		return h.away != nil
	}

	err := d.revalidate(h)
	if gone(err) {
		return
	}

	if err == nil {
		err = d.follows(h)
	}

	if gone(err) {
		return
	}

	if err != nil {
		end(plan.Skipped, err.Error())
		return
	}

	err = d.make(h, h.moves, h.reviewed)
	want := h.moves.To
	now, lookErr := d.result(h)
	if gone(err) || gone(lookErr) {
		return
	}

	switch {
	case err != nil:
		reason := err.Error()
		if lookErr == nil && now != h.way.turn.before { // do not leave half a step behind
			if back := d.restore(h, now); back != nil {
				reason += "; and putting it back failed: " + back.Error()
			}
		}
		if errors.Is(err, errContent) {
			end(plan.Skipped, reason)
		} else {
			end(plan.Refused, reason)
		}

	case lookErr != nil:
		end(plan.Refused, "changed, but the result cannot be read: "+lookErr.Error())
	case now != want:
		end(plan.Refused, "changed, but the result is not as planned: "+difference(h.way.turn.kind, want, now))
	case want == h.way.turn.after:
		end(plan.Done, "")
	}
}

// follows makes sure that a step gives its path no entries marked as inherited that its folder does not pass on: what
// depends on a step of the folder waits for that one to be done, and if somebody else changes the folder, there is
// nothing left to depend on.
func (d *worker) follows(h *openStep) error {
	if !h.way.anew {
		return nil
	}

	failed := ""
	if h.above != none {
		if s := d.r.Journal.steps[h.above]; s.outcome == plan.Skipped || s.outcome == plan.Refused {
			failed = s.outcome.String() + ": " + s.reason
			if first, again := strings.CutPrefix(s.reason, followed); again { // which says why already
				failed = first
			}
		}
	}

	if d.r.PutBack && failed == "" {
		return nil // it was so
	}

	how, err := h.thing.Astray(h.way.turn.after)
	switch {
	case err != nil:
		return err
	case how == "":
		return nil
	case failed != "":
		return errors.New(followed + failed)
	}

	return errors.New("no longer as reviewed: its folder is another than it was, and of what the step would give it " +
		"as from above " +
		how)
}

const followed = "it follows from the step of its folder, which was "

// make makes a step's calls. Before a program gets more power than it had, nobody may have it open for writing, and
// its content has to be what was reviewed; if somebody begins to open it meanwhile, the step is undone.
func (d *worker) make(h *openStep, m Moves, content tree.Hash) error {
	if m.Power == 0 {
		return h.thing.Apply(m, d.r.pause)
	}
	until, from := m.split()
	if err := h.thing.Apply(until, d.r.pause); err != nil {
		return err
	}
	hold, err := h.thing.Hold()
	if err != nil {
		return err
	}
	defer hold.Release()

	if hold.Content() != content {
		return errContent
	}
	if err := h.thing.Apply(from, d.r.pause); err != nil {
		return err
	}
	if !hold.Kept() {
		return fsys.ErrWritten
	}

	return nil
}

var errContent = errors.New("no longer as reviewed: what is in it is something else")

// written is how often an inode that never stops changing, such as a log in use, is sampled.
const written = 10

var errMoment = errors.New("no longer as reviewed: it changed in this very moment")

// revalidate resolves the path again just before it is changed, and fails unless it names the same inode with the same
// link count and ctime as when it was examined. The journal was written in between.
//
// Counting links once is not enough: an attacker can link a foreign file here, let the run open it, and unlink the
// other name before the count. Both link and unlink change the ctime, so equal ctimes prove that neither happened
// (decision 16), provided that the clock's granularity was waited for. The ctime of a file under constant writing is
// never the same twice: it is sampled [written] times, at random moments.
func (d *worker) revalidate(h *openStep) error {
	for n := 0; ; n++ {
		time.Sleep(time.Until(h.settled))
		same, err := h.thing.Revalidate(d.no, h.seen)
		if err != nil || same {
			return err
		}

		now, err := h.thing.Stat(d.no)
		switch {
		case errors.Is(err, ErrAway):
			return err
		case err != nil || now.Set != h.seen.Set || now.Links != h.seen.Links:
			return errMoment
		case n == written || h.seen.Kind == perm.Folder:
			return nil
		}

		h.seen.Stamp = now.Stamp
		grain := now.Grain()
		h.settled = time.Now().Add(grain + rand.N(grain))
	}
}

// result reads the outcome of a step. If there were no lists and capabilities and none were set, the mode is enough
// here: Verify looks at everything once more.
func (d *worker) result(h *openStep) (perm.Set, error) {
	if h.way.plain {
		return h.thing.Reread(d.no)
	}
	now, err := h.thing.Stat(d.no)
	return now.Set, err
}

// restore leads a path back to what it was, narrowed in between as on the way there. A program gets back the power it
// had only if it still is that program; otherwise it stays without.
func (d *worker) restore(h *openStep, from perm.Set) error {
	back := newTransitionPlan(transition{h.way.turn.kind, from, h.way.turn.before})
	if back.err != nil {
		return back.err
	}
	if back.moves[passing].Power > 0 {
		return d.make(h, back.moves[passing], h.content)
	}
	return errors.Join(h.thing.Apply(back.moves[entering], d.r.pause), h.thing.Apply(back.moves[leaving], d.r.pause))
}

// settle returns the state in which a begun step has left its path, if that is another than it was. The state that a
// step without an outcome finds counts only if it is one on its way. A folder that was narrowed and is not there any
// more was moved, and is as it was left.
func (d *worker) settle(s plan.Step, p progress) perm.Set {
	w, o := d.plan(s), *p.original
	narrowed := func() perm.Set {
		if p.narrowed && w.err == nil && w.narrowed != o.Set {
			return w.narrowed
		}
		return perm.Set{}
	}

	thing, err := d.open(s.Path)
	if err != nil {
		return narrowed()
	}
	defer thing.Close()

	now, err := thing.Stat(d.no)
	if err != nil || w.err != nil || now.Dev != o.Dev || !o.File.Is(plan.Identity{Inode: now.Ino, Born: now.Born}) {
		return narrowed()
	}
	if now.Set == o.Set || p.outcome == plan.Pending && !slices.Contains(w.between, now.Set) {
		return perm.Set{}
	}

	return now.Set
}

// giveBack returns a folder that was narrowed to the state that it had, wherever somebody has moved it since.
func (d *worker) giveBack(h *openStep, s plan.Step, thing Handle) {
	w := d.plan(s)
	now, err := thing.Stat(d.no)
	if err != nil {
		h.reason += "; how it was left cannot be read: " + err.Error()
		return
	}
	if now.Set != w.narrowed || now.Set == s.Before { // it was not left so by this run
		return
	}
	back := openStep{no: h.no, thing: thing, way: w, seen: now}
	if err := d.restore(&back, now.Set); err != nil {
		h.reason += "; it was narrowed, and putting that back failed: " + err.Error()
		return
	}
	h.reason += "; it was narrowed while the run went on, and is as it was before again, wherever it is now"
}

func (d *worker) verify(s plan.Step) error {
	thing, err := d.open(s.Path)
	if err != nil {
		return fmt.Errorf("afterwards: %w", err)
	}
	defer thing.Close()
	now, err := thing.Stat(d.no)
	if err != nil {
		return fmt.Errorf("afterwards: %w", err)
	}
	if now.Set != s.After {
		return fmt.Errorf("afterwards somebody changed it again: %s", difference(s.Kind, s.After, now.Set))
	}
	return nil
}

func difference(k perm.Kind, reviewed, now perm.Set) string {
	text := func(s perm.Set) string {
		v := perm.Describe(k, s, nil)
		if v.FromAbove() {
			return fmt.Sprintf("%s, entries %s, %v", v.Owner, v.Inheritance, v.Entries)
		}

		line := fmt.Sprintf("%s:%s %s", v.Owner, v.Group, v.Mode)
		if len(v.Entries) > 0 {
			line += fmt.Sprintf(" with entries %v", v.Entries)
		}

		if len(v.Defaults) > 0 {
			line += fmt.Sprintf(" and defaults %v", v.Defaults)
		}

		for _, f := range v.Flags {
			line += ", " + f
		}

		return line
	}

	return fmt.Sprintf("reviewed as %s, now %s", text(reviewed), text(now))
}
