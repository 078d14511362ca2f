package drift

import (
	"context"
	"maps"
	"slices"

	"idletally/internal/core/baseline"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// presence keeps track, during a walk, of paths that must be there.
type presence struct {
	required map[string]baseline.Required
	unread   []string // folders in which nobody can say what is missing
	away     []string // roots at which nobody looked
}

func newPresence(m *baseline.Matcher) *presence { return &presence{required: m.Required()} }

// see takes note of a path that is there.
func (p *presence) see(path []byte, k perm.Kind) {
	if r, ok := p.required[string(path)]; ok {
		if r.Admits(k) {
			delete(p.required, string(path))
		} else {
			r.Found, r.Has = "a "+k.String(), perm.Value(k.String())
			p.required[string(path)] = r
		}
	}
}

// awaits reports whether a path that must be there, and was not seen, would lie in a folder.
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

// missing hands out the missing paths in their order. Of one in a folder that could not be read it asks whether it
// was missing before.
func (p *presence) missing(
	ctx context.Context,
	before func(ctx context.Context, path string) (bool, error),
	f func(path string, r baseline.Required, diff perm.Difference, unread bool) error,
) error {
	for _, path := range slices.SortedFunc(maps.Keys(p.required), pathname.Compare) {
		unread := slices.ContainsFunc(p.unread, func(at string) bool {
			return pathname.Under(path, at) && path != at
		}) ||
			slices.ContainsFunc(p.away, func(root string) bool { return pathname.Under(path, root) })
		if unread {
			was, err := before(ctx, path)
			if err != nil {
				return err
			}
			if !was {
				continue
			}
		}

		r := p.required[path]
		diff := perm.Difference{
			Aspect:   perm.AspectPresence,
			Rule:     r.Rule,
			Declared: r.Declared,
			Found:    r.Found,
			Wants:    r.Wants(),
			Has:      r.Has,
		}
		if err := f(path, r, diff, unread); err != nil {
			return err
		}
	}

	return nil
}
