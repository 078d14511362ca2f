package drift

import (
	"maps"
	"slices"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// presence keeps an eye on paths that must be there, while a walk goes by.
type presence struct {
	required map[string]baseline.Required
	unread   []string // folders in which nobody can say what is missing
}

func newPresence(m *baseline.Matcher) *presence { return &presence{required: m.Required()} }

// see takes note of a path that is there.
func (p *presence) see(path []byte, k perm.Kind) {
	if r, ok := p.required[string(path)]; ok {
		if r.Admits(k) {
			delete(p.required, string(path))
		} else {
			r.Found = "a " + k.String()
			p.required[string(path)] = r
		}
	}
}

// awaits says whether a path that must be there, and was not seen, would lie in a folder.
func (p *presence) awaits(folder []byte) bool {
	for path := range p.required {
		if pathname.Under(path, string(folder)) {
			return true
		}
	}
	return false
}

// gap takes note of a folder whose content could not be read.
func (p *presence) gap(path string) {
	if len(p.required) > 0 {
		p.unread = append(p.unread, path)
	}
}

// missing hands out what is missing, by path.
func (p *presence) missing(f func(path string, r baseline.Required, diff perm.Difference) error) error {
	for _, path := range slices.SortedFunc(maps.Keys(p.required), pathname.Compare) {
		if slices.ContainsFunc(p.unread, func(at string) bool { return pathname.Under(path, at) && path != at }) {
			continue
		}
		r := p.required[path]
		if err := f(path, r, perm.Difference{Aspect: perm.AspectPresence, Rule: r.Rule, Declared: r.Declared, Found: r.Found}); err != nil {
			return err
		}
	}
	return nil
}
