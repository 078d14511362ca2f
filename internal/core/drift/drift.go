// Package drift holds a snapshot against a baseline: findings, per path and aspect, and groups
// of findings that are the same change.
package drift

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// A Finding is one path and one aspect where snapshot and baseline differ.
type Finding struct {
	Path     string
	Kind     perm.Kind
	Aspect   perm.Aspect
	Declared string
	Found    string
	Rule     int
	Severity baseline.Severity
	FoundSet perm.Set
	Mended   perm.Set    // what was found, with this aspect as declared
	Effect   perm.Effect // of going from what was declared to what was found
	Group    string
}

// An Unread is a path that could not be judged, and why.
type Unread struct {
	Path string
	Why  string
}

// A Group is all findings of the same change: same rule, aspect, kind, declared, found.
type Group struct {
	ID       string
	Rule     string
	Why      string
	Severity baseline.Severity
	Aspect   perm.Aspect
	Kind     perm.Kind
	Declared string
	Found    string
	Effect   perm.Effect
	Count    int
	Folder   pathname.Path // the deepest folder that holds them all
	Example  pathname.Path // the first path of a walk
}

// A Summary is what a comparison says as a whole.
type Summary struct {
	Paths    int // looked at
	Judged   int // of these, paths that a rule speaks of
	Findings int
	Unread   int
}

// A Report takes what a comparison finds, in the order of a walk.
type Report struct {
	Finding func(Finding) error
	Unread  func(Unread) error
}

// Compare walks a snapshot and reports every difference. The groups come back sorted: what opens
// most first, then by severity and number.
func Compare(ctx context.Context, src tree.Source, forest tree.Hash, m *baseline.Matcher, d *perm.Directory, to Report) (Summary, []Group, error) {
	var sum Summary
	effects := map[effectKey]perm.Effect{}
	groups := map[groupKey]*Group{}
	file := func(path string, k perm.Kind, found perm.Set, diff perm.Difference) error {
		sum.Findings++
		var effect perm.Effect
		if diff.Aspect != perm.AspectPresence {
			key := effectKey{k, diff.Mended, found}
			var ok bool
			if effect, ok = effects[key]; !ok {
				effect = perm.Between(k, diff.Mended, found, d)
				effects[key] = effect
			}
		}
		rule := m.Rule(diff.Rule)
		gk := groupKey{diff.Rule, diff.Aspect, k, diff.Declared, diff.Found, effect.String()}
		g := groups[gk]
		if g == nil {
			g = &Group{ID: gk.id(), Rule: rule.Name, Why: rule.Why, Severity: rule.Severity, Aspect: diff.Aspect, Kind: k,
				Declared: diff.Declared, Found: diff.Found, Effect: effect, Folder: pathname.Path(pathname.Folder(path)), Example: pathname.Path(path)}
			groups[gk] = g
		}
		g.Count++
		for !pathname.Under(path, string(g.Folder)) {
			g.Folder = pathname.Path(pathname.Folder(string(g.Folder)))
		}
		return to.Finding(Finding{path, k, diff.Aspect, diff.Declared, diff.Found, diff.Rule, rule.Severity, found, diff.Mended, effect, g.ID})
	}
	present := newPresence(m)
	err := tree.Fold(ctx, src, forest, (*baseline.State)(nil), func(path string, e tree.Entry, in *baseline.State) (*baseline.State, error) {
		var s *baseline.State
		if in == nil {
			s = m.Root(path)
		} else {
			s = m.Step(in, e.Name)
		}
		sum.Paths++
		present.see(path, e.Kind)
		want := m.Want(s, e.Kind, e.Set)
		if want != nil && !want.LeaveAlone {
			sum.Judged++
		}
		if e.Gap != tree.Whole && (want == nil || !want.LeaveAlone) {
			sum.Unread++
			present.gap(path)
			if err := to.Unread(Unread{path, e.Gap.String()}); err != nil {
				return s, err
			}
		}
		if e.Set.IsZero() || e.Gap == tree.Mount { // a mount point shows the other file system's root
			return s, nil
		}
		for _, diff := range want.Differences(e.Kind, e.Set, d) {
			if err := file(path, e.Kind, e.Set, diff); err != nil {
				return s, err
			}
		}
		return s, nil
	})
	if err != nil {
		return sum, nil, err
	}
	if err := present.missing(func(path string, r baseline.Required, diff perm.Difference) error {
		return file(path, r.Kind, perm.Set{}, diff)
	}); err != nil {
		return sum, nil, err
	}
	out := make([]Group, 0, len(groups))
	for _, g := range groups {
		out = append(out, *g)
	}
	slices.SortFunc(out, func(a, b Group) int {
		for _, by := range []int{b.Weight() - a.Weight(), b.Count - a.Count, strings.Compare(a.ID, b.ID)} {
			if by != 0 {
				return by
			}
		}
		return 0
	})
	return sum, out, nil
}

// Weight orders groups: opening to everyone weighs more than opening, opening more than closing,
// and each more the graver its rule.
func (g Group) Weight() int {
	w := 10 * slices.Index(baseline.Severities, g.Severity)
	switch {
	case g.Effect.OpensEveryone():
		w += 25
	case len(g.Effect.Opens) > 0:
		w += 15
	case len(g.Effect.Closes) > 0:
		w += 5
	}
	return w
}

type effectKey struct {
	kind     perm.Kind
	from, to perm.Set
}

type groupKey struct {
	rule            int
	aspect          perm.Aspect
	kind            perm.Kind
	declared, found string
	effect          string
}

// id names a group the same way in every report, so that it can be pointed at.
func (k groupKey) id() string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s\x00%d\x00%s\x00%s\x00%s", k.rule, k.aspect, k.kind, k.declared, k.found, k.effect))
	return hex.EncodeToString(sum[:6])
}
