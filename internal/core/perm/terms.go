package perm

import "idletally/internal/core/mode"

// A Term is what a rule has to say of one aspect for a state to be as declared: a key of the
// baseline language, and values of it of which each will do. Loose ones leave something free. Where
// there is none the language has no words for the state.
type Term struct {
	Key    string
	Values []string
	Loose  []string
}

// TermKeys lists the keys in the order in which rules are written.
var TermKeys = []string{
	"owner", "group", "files", "folders", "entries", "defaults", "capability", "immutable", "append-only", "inherits",
	"grants",
}

// Terms returns what a rule has to say for a path of a kind to be as it is. Accounts are called as
// name says; "" is for those that have no name which a rule could use.
func Terms(f Found, d *Directory, name func(Principal) string) []Term {
	return f.Set.State().Terms(f, d, name)
}

// Common is what the modes of several states have in common.
type Common struct {
	some   bool
	limits mode.Limits
}

// See counts one state in.
func (c *Common) See(s Set) {
	m, ok := s.State().DeclaredMode()
	if !ok {
		return
	}
	if !c.some {
		c.some, c.limits = true, mode.Limits{Must: m, MustNot: mode.All &^ m}
	}
	c.limits.Must &= m
	c.limits.MustNot &^= m
}

// Value returns the limits that all of them keep, as a rule says them; "" where there are none.
func (c *Common) Value() string { return c.limits.String() }

// DeclaredMode returns the mode that a rule would declare for a state, and false where its scheme has none.
func DeclaredMode(s Set) (mode.Mode, bool) { return s.State().DeclaredMode() }
