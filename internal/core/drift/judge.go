package drift

import (
	"cmp"
	"context"
	"slices"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// A JudgementChange is paths on which two baselines judge one aspect differently, all alike.
type JudgementChange struct {
	Kind    perm.Kind
	Aspect  perm.Aspect
	Found   string
	Was, Is string // what is declared where it differs from what was found; "" where nothing differs
	OldRule string
	NewRule string
	Effect  perm.Effect // of what was found against what is declared now, or was before
	Count   int
	Folder  pathname.Path
	Example pathname.Path
}

// A Verdict is how the judgement of a snapshot changes as a whole.
type Verdict struct {
	Before, After      int // findings
	New, Gone, Changed int
}

// maxShifts bounds the shifts that are kept apart.
const maxShifts = 5000

// Judge compares a snapshot with two baselines, and returns where they judge differently. The first may be nil:
// nothing was declared before.
func Judge(
	ctx context.Context, src tree.Source, forest tree.Hash, old, fresh *baseline.Matcher, d *perm.Directory,
) (Verdict, []JudgementChange, error) {
	type shiftKey struct {
		kind    perm.Kind
		aspect  perm.Aspect
		was, is perm.Value
		found   perm.Value
		or, nr  string
		effect  string
	}

	var v Verdict
	shifts := map[shiftKey]*JudgementChange{}
	one := func(path string, k perm.Kind, found perm.Set, was, is *perm.Difference) {
		if was != nil {
			v.Before++
		}

		if is != nil {
			v.After++
		}

		s := JudgementChange{Kind: k}
		either := is
		switch {
		case was == nil:
			v.New++
		case is == nil:
			v.Gone++
			either = was
		case was.Wants == is.Wants:
			return
		default:
			v.Changed++
		}

		if was != nil {
			s.Was, s.OldRule = was.Declared, old.Rule(was.Rule).Name
		}

		if is != nil {
			s.Is, s.NewRule = is.Declared, fresh.Rule(is.Rule).Name
		}

		s.Aspect, s.Found = either.Aspect, either.Found
		if s.Aspect != perm.AspectPresence {
			s.Effect = perm.Between(k, either.Mended, found, d)
		}

		key := shiftKey{k, s.Aspect, wants(was), wants(is), either.Has, s.OldRule, s.NewRule, s.Effect.Key()}
		at := shifts[key]
		if at == nil {
			if len(shifts) == maxShifts {
				return
			}

			s.Folder, s.Example = pathname.Path(pathname.Folder(path)), pathname.Path(path)
			at = &s
			shifts[key] = at
		}

		at.Count++
		at.Folder = pathname.Widen(at.Folder, path)
	}

	sides := []*baseline.Matcher{old, fresh}
	presences := [2]*presence{{}, newPresence(fresh)}
	if old != nil {
		presences[0] = newPresence(old)
	}

	type place struct {
		in    [2]*baseline.State
		above perm.Set
	}
	err := tree.Fold(ctx, src, forest, place{}, func(path string, e tree.Entry, at place) (place, error) {
		in, out := at.in, place{above: e.Set}
		var diffs [2][]perm.Difference
		for i, m := range sides {
			if m == nil {
				continue
			}

			if in[i] == nil {
				out.in[i] = m.Root(path)
			} else {
				out.in[i] = m.Step(in[i], e.Name)
			}

			presences[i].see([]byte(path), e.Kind)
			want := m.Desired(out.in[i], e.Kind, e.Set)
			if e.Gap != tree.NoGap && (want == nil || !want.LeaveAlone) {
				presences[i].gap(path)
			}

			if !e.Set.IsZero() && e.Gap != tree.Mount {
				diffs[i] = want.Differences(perm.In(at.above, e.Kind, e.Set), d)
			}
		}

		pairs(diffs, func(was, is *perm.Difference) { one(path, e.Kind, e.Set, was, is) })
		return out, nil
	})

	if err != nil {
		return v, nil, err
	}

	var missing [2]map[string]perm.Difference
	kinds := map[string]perm.Kind{}
	for i := range presences {
		missing[i] = map[string]perm.Difference{}
		nobodyKnows := func(context.Context, string) (bool, error) { return false, nil }
		_ = presences[i].missing(ctx, nobodyKnows,
			func(path string, r baseline.Required, diff perm.Difference, _ bool) error {
				// it gives no error of its own
				missing[i][path], kinds[path] = diff, r.Kind
				return nil
			})
	}

	for path, k := range kinds {
		var diffs [2][]perm.Difference
		for i := range missing {
			if diff, ok := missing[i][path]; ok {
				diffs[i] = append(diffs[i], diff)
			}
		}
		pairs(diffs, func(was, is *perm.Difference) { one(path, k, perm.Set{}, was, is) })
	}

	out := make([]JudgementChange, 0, len(shifts))
	for _, s := range shifts {
		out = append(out, *s)
	}

	slices.SortFunc(out, func(a, b JudgementChange) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), pathname.Compare(string(a.Example), string(b.Example)),
			cmp.Compare(a.Aspect, b.Aspect), cmp.Compare(a.Was, b.Was))
	})
	return v, out, nil
}

// wants returns what is declared where something differs.
func wants(d *perm.Difference) perm.Value {
	if d == nil {
		return ""
	}
	return d.Wants
}

// pairs puts the differences of two judgements beside each other, aspect by aspect.
func pairs(diffs [2][]perm.Difference, f func(was, is *perm.Difference)) {
	for i := range diffs[0] {
		was := &diffs[0][i]
		j := slices.IndexFunc(diffs[1], func(x perm.Difference) bool { return x.Aspect == was.Aspect })
		if j < 0 {
			f(was, nil)
		} else {
			f(was, &diffs[1][j])
		}
	}
	for j := range diffs[1] {
		is := &diffs[1][j]
		if !slices.ContainsFunc(diffs[0], func(x perm.Difference) bool { return x.Aspect == is.Aspect }) {
			f(nil, is)
		}
	}
}
