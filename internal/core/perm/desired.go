package perm

import (
	"slices"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/posixacl"
)

// A Desired is what a baseline says of one path, its accounts already found on the host. A nil
// field says nothing; Rule holds, for each aspect that is declared, the rule that decided it.
type Desired struct {
	Owner, Group *Principal
	Mode         *mode.Declared
	Entries      *posixacl.List // named entries; empty is none
	AtLeast      bool           // other entries may stand beside them, and these may grant more
	Without      posixacl.List  // but none for these
	Defaults     *posixacl.List // named default entries; empty is no default list at all
	// Derived default entries are the folder's access entries: the declared ones, or else those that it has.
	Derived bool
	// Like AtLeast and Without, for default entries. If no named entry remains, the default ACL keeps its three base
	// entries.
	DefaultsAtLeast bool
	DefaultsWithout posixacl.List
	Caps            *string // the capability attribute; empty is none
	On, Off         Flags
	NT              NTDesired
	Absent          bool // nothing is to be there
	Rule            map[Aspect]int
	LeaveAlone      bool
}

// Found is how a path was found. Above is the state of its parent folder, which decides what a path of a
// share inherits; it is zero if that folder was not read, as for a root.
type Found struct {
	Kind  Kind
	Set   Set
	Above Set
}

// In returns a Found for a path in folder. The folder's state is kept only if the scheme needs it, so that equal paths
// compare equal.
func In(folder Set, k Kind, s Set) Found {
	if s.Scheme() != SchemeNT {
		folder = Set{}
	}
	return Found{k, s, folder}
}

// Judges reports whether anything at all is asked of a path of some kind: what a rule only takes back, by any,
// is not, and what it says of modes is not asked of shares.
func (w *Desired) Judges(k Kind, found Set) bool {
	switch {
	case w == nil || w.LeaveAlone:
		return false
	case w.Absent:
		return true
	}
	return found.state().judged(w, k)
}

func (p POSIX) judged(w *Desired, k Kind) bool {
	if w.Owner != nil || w.Group != nil {
		return true
	}
	flags := w.On|w.Off != 0 && (k == File || k == Folder)
	return k != Link &&
		(w.Mode != nil || w.Entries != nil || w.Defaults != nil && k == Folder || w.Caps != nil && k == File || flags)
}

// Differences holds a found state against the declaration, one aspect after another.
func (w *Desired) Differences(f Found, d *Directory) []Difference {
	switch {
	case w == nil || w.LeaveAlone || f.Set.IsZero():
		return nil
	case w.Absent: // what is not to be there is not to be mended either
		return []Difference{{AspectPresence, w.Rule[AspectPresence], "absent", "there", "absent", "there", f.Set}}
	}
	return f.Set.state().differences(w, f, d)
}

func (p POSIX) differences(w *Desired, f Found, d *Directory) []Difference {
	k := f.Kind
	var out []Difference
	add := func(a Aspect, declared, found string, mended POSIX) {
		out = append(out, Difference{a, w.Rule[a], declared, found, w.declared(a, mended), p.value(a), mended.Set()})
	}
	if w.Owner != nil && *w.Owner != UID(p.UID) {
		add(AspectOwner, d.Name(*w.Owner), d.Name(UID(p.UID)), w.apply(AspectOwner, k, p))
	}

	if w.Group != nil && *w.Group != GID(p.GID) {
		add(AspectGroup, d.Name(*w.Group), d.Name(GID(p.GID)), w.apply(AspectGroup, k, p))
	}

	if k == Link {
		return out // a link has no permissions of its own but its owner and group
	}

	if w.Mode != nil && w.Mode.Apply(p.declaredMode(), k == Folder) != p.declaredMode() {
		add(AspectMode, w.Mode.String(), p.declaredMode().String(), w.apply(AspectMode, k, p))
	}

	name := Names(d)
	if w.Entries != nil && !w.satisfied(p) {
		add(AspectEntries, w.entriesText(name), entriesText(p.Access.Named(), maskOver(p), name),
			w.apply(AspectEntries, k, p))
	}

	if w.Defaults != nil && k == Folder {
		if m := w.apply(AspectDefaults, k, p); !slices.Equal(m.Default, p.Default) {
			add(AspectDefaults, entriesText(m.Default, nil, name), entriesText(p.Default, nil, name), m)
		}
	}

	if w.Caps != nil && k == File && *w.Caps != p.Caps {
		add(AspectCaps, CapsText(*w.Caps), CapsText(p.Caps), w.apply(AspectCaps, k, p))
	}

	if m := w.apply(AspectFlags, k, p); m.Flags != p.Flags && (k == File || k == Folder) {
		add(AspectFlags, flagsText(m.Flags), flagsText(p.Flags), m)
	}

	return out
}

// Text returns the declared value of a for display. Derived defaults depend on the current state, which is why it takes
// found.
func (w *Desired) Text(a Aspect, k Kind, found Set, d *Directory) string {
	if a == AspectGrants || a == AspectInheritance {
		return w.ntText(a, k, d)
	}

	p, _ := POSIXOf(found) // of nothing that was found: for nothing
	switch {
	case a == AspectOwner && w.Owner != nil:
		return d.Name(*w.Owner)
	case a == AspectGroup && w.Group != nil:
		return d.Name(*w.Group)
	case a == AspectMode && w.Mode != nil:
		return w.Mode.String()
	case a == AspectEntries && w.Entries != nil:
		return w.entriesText(Names(d))
	case a == AspectDefaults && w.Defaults != nil:
		return entriesText(w.apply(AspectDefaults, k, p).Default, nil, Names(d))
	case a == AspectCaps && w.Caps != nil:
		return CapsText(*w.Caps)
	case a == AspectFlags:
		return flagsText(w.apply(AspectFlags, k, p).Flags)
	case a == AspectPresence && w.Absent:
		return "absent"
	case a == AspectPresence:
		return "there"
	}

	return "any"
}

func (w *Desired) entriesText(name posixacl.NameFunc) string {
	if !w.AtLeast {
		return entriesText(*w.Entries, nil, name)
	}
	var parts []string
	if len(*w.Entries) > 0 {
		parts = append(parts, "at least "+entriesText(*w.Entries, nil, name))
	}
	if len(w.Without) > 0 {
		list := make([]string, len(w.Without))
		for i, e := range w.Without {
			list[i] = strings.TrimSuffix(e.Text(name), ":---")
		}
		parts = append(parts, "none for "+strings.Join(list, ", "))
	}
	return strings.Join(parts, "; ")
}

// satisfied reports whether the named entries are as declared.
func (w *Desired) satisfied(p POSIX) bool {
	if !w.AtLeast {
		return p.grants(*w.Entries)
	}
	_, _, _, named := p.masked()
	for _, e := range *w.Entries {
		if got, ok := named.Find(e.Tag, e.ID); !ok || e.Perm&^got != 0 {
			return false
		}
	}
	return !slices.ContainsFunc(named, w.Without.Has)
}

// nearest returns the named entries that are nearest to those that were found.
func (w *Desired) nearest(p POSIX) posixacl.List {
	if !w.AtLeast {
		return *w.Entries
	}
	_, _, _, named := p.masked()
	return merged(named, *w.Entries, w.Without)
}

// merged returns named entries with some that are to be there, at the least, and without others.
func merged(named, atLeast, without posixacl.List) posixacl.List {
	named = slices.DeleteFunc(slices.Clone(named), without.Has)
	for _, e := range atLeast {
		i := slices.IndexFunc(named, func(x posixacl.Entry) bool { return x.Tag == e.Tag && x.ID == e.ID })
		if i < 0 {
			named = append(named, e)
		} else {
			named[i].Perm |= e.Perm
		}
	}
	named.Sort()
	return named
}

func flagsText(f Flags) string {
	if f == 0 {
		return "none"
	}
	return strings.Join(f.Words(), ", ")
}

// grants reports whether the named entries are exactly these, the mask counted: an entry that came
// from a folder's defaults is often wider than the mask lets it be, and means what it grants.
func (p POSIX) grants(want posixacl.List) bool {
	_, _, _, named := p.masked()
	return slices.Equal(named, want)
}

// maskOver returns the mask of a list where it takes something away or stands alone, since then
// it has to be shown to explain a difference.
func maskOver(p POSIX) *mode.Perm {
	_, g, _, mask := p.classes()
	if mask == nil {
		return nil
	}
	union := g
	for _, e := range p.Access.Named() {
		union |= e.Perm
	}
	if union == *mask && len(p.Access.Named()) > 0 {
		return nil
	}
	return mask
}

func entriesText(l posixacl.List, mask *mode.Perm, name posixacl.NameFunc) string {
	parts := []string{}
	for _, e := range l {
		parts = append(parts, e.Text(name))
	}
	if mask != nil {
		parts = append(parts, "mask::"+mask.String())
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, ", ")
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
	return f.Set.state().apply(w, f, aspects)
}

func (p POSIX) apply(w *Desired, f Found, aspects []Aspect) (Set, error) {
	for _, a := range Aspects {
		if slices.Contains(aspects, a) {
			p = w.apply(a, f.Kind, p)
		}
	}
	return p.Set(), nil
}

func (w *Desired) apply(a Aspect, k Kind, p POSIX) POSIX {
	switch {
	case a == AspectOwner && w.Owner != nil:
		if id, ok := w.Owner.ID(); ok {
			p.UID = id
		}
	case a == AspectGroup && w.Group != nil:
		if id, ok := w.Group.ID(); ok {
			p.GID = id
		}
	case k == Link:
	case a == AspectMode && w.Mode != nil:
		want := w.Mode.Apply(p.declaredMode(), k == Folder)
		if p.Access == nil {
			p.Mode = want
			break
		}

		// The owning group must get what is declared: where the mask is in the way it is raised, and what it
		// kept from the others is taken off their entries, for nobody declared that they get more.
		_, _, _, mask := p.classes()
		keep, named := mask, p.Access.Named()
		if mask != nil && want.Group()&^*mask != 0 {
			wider := *mask | want.Group()
			keep = &wider
			_, _, _, named = p.masked()
		}

		p = p.rebuild(want, named, keep)

	case a == AspectEntries && w.Entries != nil && !w.satisfied(p):
		// The owning group keeps what the mask let it have: the new mask is of all entries together.
		_, g, _, _ := p.masked()
		p = p.rebuild(p.Mode.With(p.Mode.Owner(), g, p.Mode.Other()), w.nearest(p), nil)
	case a == AspectDefaults && w.Defaults != nil && k == Folder && w.DefaultsAtLeast && p.Default != nil:
		o, g, x, has := POSIX{Mode: p.Default.Mode(0), Access: p.Default}.masked()
		if named := merged(has, *w.Defaults, w.DefaultsWithout); !slices.Equal(named, has) {
			p.Default = posixacl.Build(o, g, x, named, nil)
			if p.Default == nil {
				p.Default = posixacl.FromMode(mode.Mode(0).With(o, g, x))
			}
		}

	case a == AspectDefaults && w.Defaults != nil && k == Folder:
		named := *w.Defaults
		if w.Derived && w.Entries != nil {
			named = w.nearest(p)
		} else if w.Derived {
			_, _, _, named = p.masked()
		}

		p.Default = nil
		if len(named) > 0 {
			// New things get what this folder's classes have; the sticky and set-ID bits are not inherited.
			o, g, x, _ := p.masked()
			if w.Mode != nil {
				m := w.Mode.Apply(p.declaredMode(), true)
				o, g, x = m.Owner(), m.Group(), m.Other()
			}
			p.Default = posixacl.Build(o, g, x, named, nil)
		}

	case a == AspectCaps && w.Caps != nil && k == File:
		p.Caps = *w.Caps
	case a == AspectFlags:
		p.Flags = p.Flags&^w.Off | w.On
	}

	return p
}
