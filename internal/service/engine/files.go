package engine

import (
	"context"
	"errors"
	"iter"
	"slices"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
)

// identified makes steps say which files they mean, as the host knows them now: whatever somebody moves, makes or
// links to their paths afterwards is something else. Steps that came with their files, from the originals of a run,
// keep them. What is no longer on the host as it was seen is left; if the host does not answer, steps that would give
// a program power are left too.
func (d *Engine) identified(
	ctx context.Context, b *builder, host string, roots []string, steps []plan.Step,
) ([]plan.Step, error) {
	if d.Files == nil {
		return steps, nil
	}

	var out, unknown []plan.Step
	for _, s := range steps {
		switch {
		case !s.Fits(): // it comes into no plan
			out = append(out, s)
		case s.File.Inode == 0:
			unknown = append(unknown, s)
		case s.File.Content.IsZero() && perm.Empowers(s.Kind, s.Before, s.After):
			b.leave(host, s.Path,
				"it would get back set-ID bits, capabilities or root's ownership, and what was in it then is not known")
		default:
			out = append(out, s)
		}
	}

	silent := false
	for some := range portions(unknown) {
		if !silent {
			known, err := d.askFiles(ctx, b, host, roots, some)
			if err == nil {
				out = append(out, known...)
				continue
			}

			if !errors.Is(err, ErrSilent) {
				return nil, err
			}

			silent = true
		}
		for _, s := range some {
			if perm.Empowers(s.Kind, s.Before, s.After) {
				b.leave(host, s.Path,
					"it would get set-ID bits, capabilities or root's ownership, and the host does not answer what "+
						"is in it: draft it while its agent runs")
			} else {
				out = append(out, s)
			}
		}
	}

	return out, nil
}

// maxAsked bounds the bytes of paths and states in one question: it goes to the host, and comes back, in a
// body that is bounded, too.
const maxAsked = 6 << 20

// portions divides steps into what is asked for at once.
func portions(steps []plan.Step) iter.Seq[[]plan.Step] {
	return func(yield func([]plan.Step) bool) {
		for len(steps) > 0 {
			n, bytes := 0, 0
			for n < min(len(steps), plan.StepsPerChunk) && bytes < maxAsked {
				bytes += len(steps[n].Path) + len(steps[n].Before.Bytes()) + len(steps[n].After.Bytes())
				n++
			}
			if !yield(steps[:n:n]) {
				return
			}
			steps = steps[n:]
		}
	}
}

// askFiles asks the host about some steps. Its agent may be hostile: only the files of its answer are used.
func (d *Engine) askFiles(
	ctx context.Context, b *builder, host string, roots []string, steps []plan.Step,
) (out []plan.Step, err error) {
	slices.SortFunc(steps, func(x, y plan.Step) int { return pathname.Compare(x.Path, y.Path) })
	known, left, err := d.Files(ctx, host, roots, steps)
	if err != nil {
		return nil, err
	}

	files := make(map[string]plan.Identity, len(known))
	for _, s := range known {
		files[s.Path] = s.File
	}

	why := make(map[string]string, len(left))
	for _, l := range left {
		why[l.Path] = l.Reason
	}

	for _, s := range steps {
		if id, ok := files[s.Path]; ok && id.Inode != 0 {
			s.File = id
			out = append(out, s)
			continue
		}

		reason, ok := why[pathname.Escape(s.Path)]
		if !ok {
			reason = "it does not say why"
		}

		b.leave(host, s.Path, "the host says that it is not there as it was seen: "+reason)
	}

	return out, nil
}
