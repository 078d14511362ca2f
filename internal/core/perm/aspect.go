package perm

import (
	"fmt"
	"slices"
	"strings"
)

// An Aspect is one part of a permission state that a rule can speak of by itself.
type Aspect string

// The aspects.
const (
	AspectOwner    Aspect = "owner"
	AspectGroup    Aspect = "group"
	AspectMode     Aspect = "mode"
	AspectEntries  Aspect = "entries"
	AspectDefaults Aspect = "defaults"
	AspectCaps     Aspect = "capability"
	AspectFlags    Aspect = "flags"

	// Of shares:
	AspectGrants      Aspect = "grants"      // a path's own entries
	AspectInheritance Aspect = "inheritance" // whether it takes entries from above

	AspectPresence Aspect = "presence" // that the path is there at all, or is not
)

// Aspects lists those that a change of permissions can mend, in the order in which they are shown.
var Aspects = []Aspect{
	AspectOwner, AspectGroup, AspectMode, AspectEntries, AspectDefaults, AspectCaps, AspectFlags, AspectInheritance,
	AspectGrants,
}

// AllAspects lists those that can be declared.
var AllAspects = append(slices.Clone(Aspects), AspectPresence)

// A Difference is one aspect of one path that is not as declared.
type Difference struct {
	Aspect          Aspect
	Rule            int    // the rule that says so
	Declared, Found string // as people read it
	Wants, Has      Value  // the same, as it is known
	Mended          Set    // the found state with this aspect alone as declared
}

// Traits are what rules can ask of a state besides the kind of its path.
type Traits uint8

// The traits.
const (
	Executable  Traits = 1 << iota // somebody may execute it: a file that is a program
	WithEntries                    // it has access entries beyond the mode
)

// TraitsOf returns a state's traits.
func TraitsOf(s Set) Traits { return s.State().Traits() }

// A Value is what a state has of one aspect, or what a rule asks of it: in numbers, and in one form alone. Findings,
// groups of findings and waivers are identified by values, not by the text beside them. A value holds no name, so
// that renaming an account changes none; and it is never shown, so that the wording that people read can be improved.
// Values are kept in the database: their form stays.
type Value string

// Key distinguishes effects as [Effect.String] does, without names.
func (e Effect) Key() string {
	var b strings.Builder
	for _, side := range [][]Gain{e.Opens, e.Closes} {
		for _, g := range side {
			fmt.Fprintf(&b, "%s %x,", g.ID, uint16(g.Can))
		}
		b.WriteByte(';')
	}
	return b.String()
}
