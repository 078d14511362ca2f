package perm

import (
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
)

// A Desired is what a baseline says of one path, its accounts already found on the host. A nil
// field says nothing; Rule holds, for each aspect that is declared, the rule that decided it.
//
// It is in the words of the baseline language, which are the same for all schemes. What they come to is for each scheme
// to say: see [Desire].
type Desired struct {
	Owner, Group *Principal
	Mode         *mode.Declared
	Entries      *DesiredEntries // named entries
	Defaults     *DesiredEntries // named default entries; an empty list is no default list at all
	Caps         *string         // the capability attribute; empty is none
	On, Off      Flags
	Grants       *DesiredGrants // the path's own entries, apart from those that come from above
	Inherits     *bool          // whether it takes entries from above
	Drops        bool           // where it stops taking them, what came down is not kept as the path's own
	Absent       bool           // nothing is to be there
	LeaveAlone   bool
	Rule         map[Aspect]int

	ready []Desire // by the schemes' order; nil before Ready
}

// DesiredEntries are named entries of a list.
type DesiredEntries struct {
	List    []DesiredEntry // none: no named entry
	AtLeast bool           // other entries may stand beside them, and these may grant more
	Without []Principal    // but none for these
	// Derived default entries are the folder's access entries: the declared ones, or else those that it has.
	Derived bool
}

// A DesiredEntry is one entry of them.
type DesiredEntry struct {
	Who  Principal
	Perm mode.Perm
}

// DesiredGrants are entries that allow and deny.
type DesiredGrants struct {
	List    []DesiredGrant // none: no entry of its own
	AtLeast bool           // others may stand beside them, and these may grant more
	Without []Party        // but none for these
}

// A DesiredGrant is one of them.
type DesiredGrant struct {
	Deny bool
	Party
	Rights ace.Mask
	Flags  ace.Flags // what it reaches, of a folder; 0 of all else
}

// A Party is somebody whom an entry names, and the host's name for them: some lists hold names.
type Party struct {
	Who  Principal
	Name string
}

// Found is how a path was found. Above is the state of its parent folder, which decides what a path of some schemes
// inherits; it is zero if that folder was not read, as for a root.
type Found struct {
	Kind  Kind
	Set   Set
	Above Set
}

// In returns a Found for a path in folder. The folder's state is kept only if the scheme needs it, so that equal paths
// compare equal.
func In(folder Set, k Kind, s Set) Found {
	if !s.Scheme().FromAbove() {
		folder = Set{}
	}
	return Found{k, s, folder}
}

// FromAbove reports whether the state of a folder matters in judging a path in it.
func (id SchemeID) FromAbove() bool {
	s := schemeOf(id)
	return s != nil && s.FromAbove()
}

// Ready prepares a Desired for many questions. It has to be called again after every change.
func (w *Desired) Ready() *Desired {
	w.ready = nil
	ready := make([]Desire, len(schemes))
	for i, s := range schemes {
		ready[i] = s.Desire(w)
	}
	w.ready = ready
	return w
}

// in returns a Desired in the terms of a scheme, which has to be known.
func (w *Desired) in(id SchemeID) Desire {
	for i, s := range schemes {
		if s.ID() == id && w.ready != nil {
			return w.ready[i]
		} else if s.ID() == id {
			return s.Desire(w)
		}
	}
	panic("perm: a set has an " + id.String())
}

// Judges reports whether anything at all is asked of a path of some kind. What a rule only clears, by any, is not,
// and modes are not asked of shares. What could not be read is judged if any scheme would.
func (w *Desired) Judges(k Kind, found Set) bool {
	switch {
	case w == nil || w.LeaveAlone:
		return false
	case w.Absent:
		return true
	case found.IsZero():
		return slices.ContainsFunc(schemes, func(s Scheme) bool { return w.in(s.ID()).Judges(k) })
	}
	return w.in(found.Scheme()).Judges(k)
}

// Differences compares a found state with the declaration, one aspect after another.
func (w *Desired) Differences(f Found, d *Directory) []Difference {
	switch {
	case w == nil || w.LeaveAlone || f.Set.IsZero():
		return nil
	case w.Absent: // what is not to be there is not to be mended either
		return []Difference{{AspectPresence, w.Rule[AspectPresence], "absent", "there", "absent", "there", f.Set}}
	}
	return w.in(f.Set.Scheme()).Differences(f, f.Set.State(), d)
}

// AnyText is the declared value of what is not declared.
const AnyText = "any"

// Text returns the declared value of a for display. Derived defaults depend on the current state, which is why it takes
// found. An aspect that found does not have is told as a scheme tells it that does.
func (w *Desired) Text(a Aspect, k Kind, found Set, d *Directory) string {
	switch {
	case a == AspectPresence && w.Absent:
		return "absent"
	case a == AspectPresence:
		return "there"
	case a == AspectOwner && w.Owner != nil:
		return d.Name(*w.Owner)
	case a == AspectGroup && w.Group != nil:
		return d.Name(*w.Group)
	case a == AspectMode && w.Mode != nil:
		return w.Mode.String()
	}
	if s := schemeOf(found.Scheme()); s != nil && slices.Contains(s.Aspects(), a) {
		return w.in(s.ID()).Text(a, k, found.State(), d)
	}
	for _, s := range schemes {
		if slices.Contains(s.Aspects(), a) {
			return w.in(s.ID()).Text(a, k, nil, d)
		}
	}
	return AnyText
}

// Value returns the declared value of the owner, the group or the mode, as it is known in every scheme; it is empty of
// what is not declared, and of what each scheme has words of its own for.
func (w *Desired) Value(a Aspect) Value {
	switch {
	case a == AspectOwner && w.Owner != nil:
		return Value(*w.Owner)
	case a == AspectGroup && w.Group != nil:
		return Value(*w.Group)
	case a == AspectMode && w.Mode != nil:
		return Value(w.Mode.String())
	}
	return ""
}

// Apply returns the state that is wanted where found is there now: declared aspects as declared,
// the others kept.
func (w *Desired) Apply(f Found) (Set, error) {
	if w == nil || w.LeaveAlone || w.Absent {
		return f.Set, nil
	}
	return w.ApplyOnly(f, Aspects)
}

// ApplyOnly returns the found state with some aspects as declared.
func (w *Desired) ApplyOnly(f Found, aspects []Aspect) (Set, error) {
	if f.Set.IsZero() {
		return Set{}, errNoState
	}
	return w.in(f.Set.Scheme()).Apply(f, f.Set.State(), aspects)
}

// Fetches reports whether making some aspects of a path as declared means inheriting anew.
func (w *Desired) Fetches(found Set, aspects []Aspect) bool {
	return !found.IsZero() && w.in(found.Scheme()).Fetches(found.State(), aspects)
}

// Declares joins what is to be there at the least, and for whom there is to be no entry, into one text.
func Declares(atLeast string, none []string) string {
	var parts []string
	if atLeast != "" {
		parts = append(parts, "at least "+atLeast)
	}
	if len(none) > 0 {
		parts = append(parts, "none for "+strings.Join(none, ", "))
	}
	return strings.Join(parts, "; ")
}
