package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
)

// handDown adds to steps on a share what follows from them: where a folder passes on something else, paths below
// inherit that instead, and keep their own entries; a path that inherits again, or anew, gets what its folder passes
// on. A file server does none of this by itself. What is below a protected path stays as it is. A path that cannot have
// what it would get is left, with the reason, and so is what would follow from it.
func handDown(
	ctx context.Context, nodes tree.Source, forest tree.Hash, steps []plan.Step, anew map[string]bool,
) (out []plan.Step, left map[string]error, err error) {
	if !slices.ContainsFunc(steps, func(s plan.Step) bool { return s.After.Scheme().FromAbove() }) {
		return steps, nil, nil
	}

	h := handing{asked: map[string]plan.Step{}, anew: anew, left: map[string]error{}}
	for _, s := range steps {
		h.asked[s.Path] = s
	}
	err = tree.Walk(ctx, nodes, forest, h.visit)
	for _, s := range h.asked { // what the snapshot does not hold, the run will tell of
		h.out = append(h.out, s)
	}
	return h.out, h.left, err
}

// A handing is how far handing down has come.
type handing struct {
	asked map[string]plan.Step // steps by path, which the walk has not come to
	anew  map[string]bool      // paths that inherit anew
	up    []level              // folders above, the uppermost first
	out   []plan.Step
	left  map[string]error
}

// A level is a folder above, as it is and as it is to be.
type level struct {
	path          string
	before, after perm.Inheriting
}

// visit adds the step of a path, if it has one.
func (h *handing) visit(path string, e tree.Entry) error {
	for len(h.up) > 0 && !pathname.Under(path, h.up[len(h.up)-1].path) {
		h.up = h.up[:len(h.up)-1]
	}
	found, ok := e.Set.State().(perm.Inheriting)
	if !ok || e.Kind == perm.Link {
		return nil
	}
	after, ok := h.becomes(path, e.Kind, found)
	if !ok {
		return nil
	}

	set, err := after.Encode()
	if err != nil { // such as a list that is too long with what comes from above
		h.left[path], set, after = err, e.Set, found
	}
	if e.Kind == perm.Folder {
		h.up = append(h.up, level{path, found, after})
	}
	if set == e.Set {
		return nil
	}
	h.out = append(h.out, plan.Step{Path: path, Kind: e.Kind, Before: e.Set, After: set})
	if len(h.out) > maxSteps {
		return fmt.Errorf("%w: the plan would have more than %d steps: draft it in parts", ErrBad, maxSteps)
	}
	return nil
}

// becomes returns what a path is to be, by its own step and what its folder passes on. It is false where its step leads
// to what does not inherit.
func (h *handing) becomes(path string, kind perm.Kind, found perm.Inheriting) (after perm.Inheriting, ok bool) {
	after = found
	if s, asked := h.asked[path]; asked {
		if after, ok = s.After.State().(perm.Inheriting); !ok {
			return nil, false
		}
		delete(h.asked, path)
	}
	if n := len(h.up); n > 0 {
		above := &h.up[n-1]
		if found.Resumes(after) || h.anew[path] || !above.before.PassesOnSame(above.after) {
			after = after.Reinherit(kind, above.after)
		}
	}
	return after, true
}

// passedDown adds to steps on a host what follows from them, and tells what is left.
func (d *Engine) passedDown(
	ctx context.Context, b *builder, snap store.Snapshot, steps []plan.Step, anew map[string]bool,
) ([]plan.Step, error) {
	out, left, err := handDown(ctx, d.Store, snap.Hash(), steps, anew)
	for _, path := range slices.Sorted(maps.Keys(left)) {
		b.leave(snap.Host, path, "it cannot have this: "+left[path].Error())
	}
	return out, err
}
