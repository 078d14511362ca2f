package drift

import (
	"fmt"

	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
)

// A Waiver accepts findings on the paths of a pattern: only those of a rule, a kind of path, an aspect and a found
// value, where these are given.
type Waiver struct {
	ID      string
	Pattern string // escaped text
	Rule    string
	Kind    string
	Aspect  perm.Aspect

	// What was found, as it is known; for waivers that say it in words alone, as people read it.
	Has   perm.Value
	Found string
}

// Waivers finds the waiver of a finding. It may be used by one goroutine at a time.
type Waivers struct {
	list     []Waiver
	patterns *baseline.Patterns
	meant    map[string]map[perm.Value]bool // by waivers that say what was found in words
}

// NewWaivers makes waivers ready. Of several that accept a finding the first counts.
func NewWaivers(list []Waiver) (*Waivers, error) {
	if len(list) == 0 {
		return nil, nil
	}
	w := &Waivers{list: list, meant: map[string]map[perm.Value]bool{}}
	var ps []baseline.Pattern
	for _, x := range list {
		p, err := baseline.ParsePattern(x.Pattern)
		if err != nil {
			return nil, fmt.Errorf("waiver %s: %w", x.ID, err)
		}
		ps = append(ps, p)
	}
	w.patterns = baseline.NewPatterns(ps)
	return w, nil
}

// of returns the waiver that accepts a finding, "" where none does.
func (w *Waivers) of(path, rule string, k perm.Kind, diff *perm.Difference) string {
	if w == nil {
		return ""
	}
	for _, i := range w.patterns.Match(path) {
		x := w.list[i]
		if (x.Rule == "" || x.Rule == rule) && (x.Kind == "" || x.Kind == k.String()) &&
			(x.Aspect == "" || x.Aspect == diff.Aspect) && x.accepts(diff) {
			if x.Has == "" && x.Found != "" && x.Aspect != "" { // of each aspect the same words mean something else
				w.learn(x.ID, diff.Has)
			}
			return x.ID
		}
	}
	return ""
}

// accepts reports whether what was found is what the waiver speaks of, if it speaks of that at all.
func (x Waiver) accepts(diff *perm.Difference) bool {
	switch {
	case x.Has != "":
		return x.Has == diff.Has
	case x.Found != "":
		return x.Found == diff.Found
	}
	return true
}

func (w *Waivers) learn(id string, has perm.Value) {
	if w.meant[id] == nil {
		w.meant[id] = map[perm.Value]bool{}
	}
	w.meant[id][has] = true
}

// Meant returns, by waiver, the one value that its words stood for in this comparison: from then on it can be known
// by that. Waivers whose words stood for nothing, or for several values, are not in it.
func (w *Waivers) Meant() map[string]perm.Value {
	out := map[string]perm.Value{}
	if w == nil {
		return out
	}
	for id, values := range w.meant {
		if len(values) != 1 {
			continue
		}
		for has := range values {
			out[id] = has
		}
	}
	return out
}
