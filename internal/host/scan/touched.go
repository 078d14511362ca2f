//go:build linux

package scan

import (
	"strings"

	"idletally/internal/core/pathname"
)

// Touched are the paths that may differ from what the last scan found: those that a watch reported. A scan that is
// given them looks at them again, and at what lies in them if they are folders, and takes all the rest from its
// cache.
type Touched struct {
	self  bool
	below map[string]*Touched
}

// Touch makes a set of paths. They are whole paths; "/" stands for everything in it as well.
func Touch(paths ...string) *Touched {
	t := &Touched{}
	for _, p := range paths {
		at := t
		for name := range strings.SplitSeq(strings.Trim(p, "/"), "/") {
			if name == "" {
				continue
			}

			next := at.below[name]
			if next == nil {
				if at.below == nil {
					at.below = map[string]*Touched{}
				}
				next = &Touched{}
				at.below[name] = next
			}

			at = next
		}
		at.self = true
	}

	return t
}

// in returns what is touched at and below a path; nil if nothing is.
func (t *Touched) in(path string) *Touched {
	for name := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
		if name != "" {
			t = t.at(name)
		}
	}
	return t
}

func (t *Touched) at(name string) *Touched {
	if t == nil {
		return nil
	}
	return t.below[name]
}

// is reports whether the path itself is to be looked at again.
func (t *Touched) is() bool { return t != nil && t.self }

// rescanned are the places where a scan has found out anew what can be read.
type rescanned struct {
	paths   map[string]bool
	folders map[string]bool // with what lies in them
	trees   map[string]bool // with all below
}

func newRescanned() *rescanned {
	return &rescanned{map[string]bool{}, map[string]bool{}, map[string]bool{}}
}

// counts reports whether what was said of a path before is still valid.
func (m *rescanned) counts(path string) bool {
	if m.paths[path] || m.folders[pathname.Folder(path)] {
		return false
	}
	for at := path; ; at = pathname.Folder(at) {
		if m.trees[at] {
			return false
		}
		if at == "/" || at == "" {
			return true
		}
	}
}
