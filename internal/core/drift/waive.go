package drift

import (
	"fmt"

	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
)

// A Waiver accepts findings: those on the paths of a pattern, and of these only those of a rule, a
// kind of path, an aspect and a value found, where they are given.
type Waiver struct {
	ID      string
	Pattern string // escaped text
	Rule    string
	Kind    string
	Aspect  perm.Aspect
	Found   string
}

// Waivers finds the waiver of a finding. It may be used by one goroutine at a time.
type Waivers struct {
	list     []Waiver
	patterns *baseline.Patterns
}

// NewWaivers makes waivers ready. Of several that accept a finding the first counts.
func NewWaivers(list []Waiver) (*Waivers, error) {
	if len(list) == 0 {
		return nil, nil
	}
	w := &Waivers{list: list}
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

// of gives the waiver that accepts a finding, "" where none does.
func (w *Waivers) of(path, rule string, k perm.Kind, diff *perm.Difference) string {
	if w == nil {
		return ""
	}
	for _, i := range w.patterns.Match(path) {
		x := w.list[i]
		if (x.Rule == "" || x.Rule == rule) && (x.Kind == "" || x.Kind == k.String()) &&
			(x.Aspect == "" || x.Aspect == diff.Aspect) && (x.Found == "" || x.Found == diff.Found) {
			return x.ID
		}
	}
	return ""
}
