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
	j := &judging{
		sides:     [2]*baseline.Matcher{old, fresh},
		presences: [2]*presence{{}, newPresence(fresh)},
		directory: d,
		shifts:    map[shiftKey]*JudgementChange{},
	}
	if old != nil {
		j.presences[0] = newPresence(old)
	}

	if err := tree.Fold(ctx, src, forest, judgedPlace{}, j.see); err != nil {
		return j.verdict, nil, err
	}
	j.missing(ctx)

	out := make([]JudgementChange, 0, len(j.shifts))
	for _, s := range j.shifts {
		out = append(out, *s)
	}
	slices.SortFunc(out, func(a, b JudgementChange) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), pathname.Compare(string(a.Example), string(b.Example)),
			cmp.Compare(a.Aspect, b.Aspect), cmp.Compare(a.Was, b.Was))
	})
	return j.verdict, out, nil
}

// judging collects where two baselines judge a snapshot differently.
type judging struct {
	sides     [2]*baseline.Matcher // the one before, which may be nil, and the one after
	presences [2]*presence
	directory *perm.Directory
	verdict   Verdict
	shifts    map[shiftKey]*JudgementChange
}

// A shiftKey is what changes of judgement have in common that are told as one.
type shiftKey struct {
	kind             perm.Kind
	aspect           perm.Aspect
	was, is, found   perm.Value
	oldRule, newRule string
	effect           string
}

// A judgedPlace is where the walk is: what both baselines say there, and what the folder above has.
type judgedPlace struct {
	in    [2]*baseline.State
	above perm.Set
}

// see judges one path by both baselines.
func (j *judging) see(path string, e tree.Entry, at judgedPlace) (judgedPlace, error) {
	out := judgedPlace{above: e.Set}
	var diffs [2][]perm.Difference
	for i, m := range j.sides {
		if m == nil {
			continue
		}

		if at.in[i] == nil {
			out.in[i] = m.Root(path)
		} else {
			out.in[i] = m.Step(at.in[i], e.Name)
		}

		j.presences[i].see([]byte(path), e.Kind)
		want := m.Desired(out.in[i], e.Kind, e.Set)
		if e.Gap != tree.NoGap && (want == nil || !want.LeaveAlone) {
			j.presences[i].gap(path)
		}

		if !e.Set.IsZero() && e.Gap != tree.Mount {
			diffs[i] = want.Differences(perm.In(at.above, e.Kind, e.Set), j.directory)
		}
	}

	pairs(diffs, func(was, is *perm.Difference) { j.note(path, e.Kind, e.Set, was, is) })
	return out, nil
}

// missing judges what has to be there and is not.
func (j *judging) missing(ctx context.Context) {
	var missing [2]map[string]perm.Difference
	kinds := map[string]perm.Kind{}
	for i := range j.presences {
		missing[i] = map[string]perm.Difference{}
		nobodyKnows := func(context.Context, string) (bool, error) { return false, nil }
		_ = j.presences[i].missing(ctx, nobodyKnows,
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
		pairs(diffs, func(was, is *perm.Difference) { j.note(path, k, perm.Set{}, was, is) })
	}
}

// note counts how one aspect of a path was judged and is judged now; nil is as declared.
func (j *judging) note(path string, k perm.Kind, found perm.Set, was, is *perm.Difference) {
	if was != nil {
		j.verdict.Before++
	}
	if is != nil {
		j.verdict.After++
	}

	either := is
	switch {
	case was == nil:
		j.verdict.New++
	case is == nil:
		j.verdict.Gone++
		either = was
	case was.Wants == is.Wants:
		return
	default:
		j.verdict.Changed++
	}
	j.add(path, j.changeOf(k, found, was, is, either), shiftKey{was: wants(was), is: wants(is), found: either.Has})
}

// changeOf returns a change of judgement, without where it is.
func (j *judging) changeOf(k perm.Kind, found perm.Set, was, is, either *perm.Difference) JudgementChange {
	s := JudgementChange{Kind: k, Aspect: either.Aspect, Found: either.Found}
	if was != nil {
		s.Was, s.OldRule = was.Declared, j.sides[0].Rule(was.Rule).Name
	}
	if is != nil {
		s.Is, s.NewRule = is.Declared, j.sides[1].Rule(is.Rule).Name
	}
	if s.Aspect != perm.AspectPresence {
		s.Effect = perm.Between(k, either.Mended, found, j.directory)
	}
	return s
}

// add adds a path to the change that it has in common with others. What is more than are kept apart is only counted.
func (j *judging) add(path string, s JudgementChange, key shiftKey) {
	key.kind, key.aspect, key.effect = s.Kind, s.Aspect, s.Effect.Key()
	key.oldRule, key.newRule = s.OldRule, s.NewRule
	at := j.shifts[key]
	if at == nil {
		if len(j.shifts) == maxShifts {
			return
		}
		s.Folder, s.Example = pathname.Path(pathname.Folder(path)), pathname.Path(path)
		at = &s
		j.shifts[key] = at
	}

	at.Count++
	at.Folder = pathname.Widen(at.Folder, path)
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
