package engine

import (
	"context"
	"fmt"
	"slices"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/store"
)

// handDown adds to steps on a share what follows from them: where a folder passes on something else, paths below
// inherit that instead, and keep their own entries; a path that inherits again, or anew, gets what its folder passes
// on. A file server does none of this by itself. What is below a protected path stays as it is.
func (d *Engine) handDown(
	ctx context.Context, snap store.Snapshot, steps []plan.Step, anew map[string]bool,
) ([]plan.Step, error) {
	if !slices.ContainsFunc(steps, func(s plan.Step) bool { return s.After.Scheme().FromAbove() }) {
		return steps, nil
	}

	asked := map[string]plan.Step{}
	for _, s := range steps {
		asked[s.Path] = s
	}

	type level struct {
		path          string
		before, after perm.Inheriting
	}
	var up []level
	var out []plan.Step
	err := tree.Walk(ctx, d.Store, snap.Hash(), func(path string, e tree.Entry) error {
		for len(up) > 0 && !pathname.Under(path, up[len(up)-1].path) {
			up = up[:len(up)-1]
		}

		found, ok := e.Set.State().(perm.Inheriting)
		if !ok || e.Kind == perm.Link {
			return nil
		}

		after := found
		if s, ok := asked[path]; ok {
			if after, ok = s.After.State().(perm.Inheriting); !ok {
				return nil
			}
			delete(asked, path)
		}

		if n := len(up); n > 0 {
			above := &up[n-1]
			if found.Resumes(after) || anew[path] || !above.before.PassesOnSame(above.after) {
				after = after.Reinherit(e.Kind, above.after)
			}
		}

		if e.Kind == perm.Folder {
			up = append(up, level{path, found, after})
		}

		set, err := after.Encode()
		if err != nil {
			return fmt.Errorf("%w: %s: %w", ErrBad, pathname.Escape(path), err)
		}
		if set == e.Set {
			return nil
		}
		out = append(out, plan.Step{Path: path, Kind: e.Kind, Before: e.Set, After: set})
		if len(out) > maxSteps {
			return fmt.Errorf("%w: the plan would have more than %d steps: draft it in parts", ErrBad, maxSteps)
		}

		return nil
	})

	for _, s := range asked { // what the snapshot does not hold, the run will tell of
		out = append(out, s)
	}

	return out, err
}
