package posix

import (
	"slices"
	"strings"

	"idletally/internal/core/caps"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// A desired is what is asked of a path on a POSIX host.
type desired struct {
	*perm.Desired
	Entries         *posixacl.List // named entries; empty is none
	AtLeast         bool           // other entries may stand beside them, and these may grant more
	Without         posixacl.List  // but none for these
	Defaults        *posixacl.List // named default entries; empty is no default list at all
	Derived         bool           // they are the folder's access entries
	DefaultsAtLeast bool           // the same of default entries; if no named one remains the list keeps its three
	DefaultsWithout posixacl.List
}

func newDesired(w *perm.Desired) *desired {
	out := &desired{Desired: w}
	if e := w.Entries; e != nil {
		out.Entries, out.Without = listOf(e)
		out.AtLeast = e.AtLeast
	}
	if e := w.Defaults; e != nil {
		out.Defaults, out.DefaultsWithout = listOf(e)
		out.DefaultsAtLeast, out.Derived = e.AtLeast, e.Derived
	}
	return out
}

// listOf returns entries as a list. Principals of other schemes count as nobody.
func listOf(e *perm.DesiredEntries) (list *posixacl.List, without posixacl.List) {
	add := func(to *posixacl.List, who perm.Principal, p mode.Perm) {
		n, ok := unixid.Number(who)
		if !ok {
			return
		}
		tag := posixacl.User
		if unixid.IsGroup(who) {
			tag = posixacl.Group
		}
		*to = append(*to, posixacl.Entry{Tag: tag, ID: n, Perm: p})
	}

	list = &posixacl.List{}
	for _, x := range e.List {
		add(list, x.Who, x.Perm)
	}
	for _, who := range e.Without {
		add(&without, who, 0)
	}
	list.Sort()
	without.Sort()
	return list, without
}

func (w *desired) Judges(k perm.Kind) bool {
	if w.Owner != nil || w.Group != nil {
		return true
	}
	flags := w.On|w.Off != 0 && (k == perm.File || k == perm.Folder)
	return k != perm.Link &&
		(w.Mode != nil || w.Entries != nil || w.Defaults != nil && k == perm.Folder || w.Caps != nil &&
			k == perm.File || flags)
}

func (w *desired) Differences(f perm.Found, s perm.State, d *perm.Directory) []perm.Difference {
	k, p := f.Kind, s.(State)
	var out []perm.Difference
	add := func(a perm.Aspect, declared, found string, mended State) {
		out = append(out, perm.Difference{Aspect: a, Rule: w.Rule[a], Declared: declared, Found: found,
			Wants: w.declared(a, mended), Has: p.value(a), Mended: mended.Set()},
		)
	}
	if w.Owner != nil && *w.Owner != unixid.UID(p.UID) {
		add(perm.AspectOwner, d.Name(*w.Owner), d.Name(unixid.UID(p.UID)), w.apply(perm.AspectOwner, k, p))
	}

	if w.Group != nil && *w.Group != unixid.GID(p.GID) {
		add(perm.AspectGroup, d.Name(*w.Group), d.Name(unixid.GID(p.GID)), w.apply(perm.AspectGroup, k, p))
	}

	if k == perm.Link {
		return out // a link has no permissions of its own but its owner and group
	}

	if w.Mode != nil && w.Mode.Apply(p.declaredMode(), k == perm.Folder) != p.declaredMode() {
		add(perm.AspectMode, w.Mode.String(), p.declaredMode().String(), w.apply(perm.AspectMode, k, p))
	}

	name := Names(d)
	if w.Entries != nil && !w.satisfied(p) {
		add(perm.AspectEntries, w.entriesText(name), entriesText(p.Access.Named(), maskOver(p), name),
			w.apply(perm.AspectEntries, k, p))
	}

	if w.Defaults != nil && k == perm.Folder {
		if m := w.apply(perm.AspectDefaults, k, p); !slices.Equal(m.Default, p.Default) {
			add(perm.AspectDefaults, entriesText(m.Default, nil, name), entriesText(p.Default, nil, name), m)
		}
	}

	if w.Caps != nil && k == perm.File && *w.Caps != p.Caps {
		add(perm.AspectCaps, caps.Text(*w.Caps), caps.Text(p.Caps), w.apply(perm.AspectCaps, k, p))
	}

	if m := w.apply(perm.AspectFlags, k, p); m.Flags != p.Flags && (k == perm.File || k == perm.Folder) {
		add(perm.AspectFlags, flagsText(m.Flags), flagsText(p.Flags), m)
	}

	return out
}

func (w *desired) entriesText(name posixacl.NameFunc) string {
	if !w.AtLeast {
		return entriesText(*w.Entries, nil, name)
	}
	atLeast := ""
	if len(*w.Entries) > 0 {
		atLeast = entriesText(*w.Entries, nil, name)
	}
	none := make([]string, len(w.Without))
	for i, e := range w.Without {
		none[i] = strings.TrimSuffix(e.Text(name), ":---")
	}
	return perm.Declares(atLeast, none)
}

// satisfied reports whether the named entries are as declared.
func (w *desired) satisfied(p State) bool {
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
func (w *desired) nearest(p State) posixacl.List {
	if !w.AtLeast {
		return *w.Entries
	}
	_, _, _, named := p.masked()
	return merged(named, *w.Entries, w.Without)
}

// merged returns named entries with those that must be there at the least, and without others.
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

func flagsText(f perm.Flags) string {
	if f == 0 {
		return "none"
	}
	return strings.Join(f.Words(), ", ")
}

// grants reports whether the named entries are exactly these, the mask counted: an entry that came
// from a folder's defaults is often wider than the mask lets it be, and means what it grants.
func (p State) grants(want posixacl.List) bool {
	_, _, _, named := p.masked()
	return slices.Equal(named, want)
}

// maskOver returns the mask of a list where it takes something away or stands alone, since then
// it has to be shown to explain a difference.
func maskOver(p State) *mode.Perm {
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

func (w *desired) Apply(f perm.Found, s perm.State, aspects []perm.Aspect) (perm.Set, error) {
	p := s.(State)
	for _, a := range perm.Aspects {
		if slices.Contains(aspects, a) {
			p = w.apply(a, f.Kind, p)
		}
	}
	return p.Set(), nil
}

func (w *desired) apply(a perm.Aspect, k perm.Kind, p State) State {
	switch {
	case a == perm.AspectOwner && w.Owner != nil:
		if id, ok := unixid.Number(*w.Owner); ok {
			p.UID = id
		}
	case a == perm.AspectGroup && w.Group != nil:
		if id, ok := unixid.Number(*w.Group); ok {
			p.GID = id
		}
	case k == perm.Link:
	case a == perm.AspectMode && w.Mode != nil:
		want := w.Mode.Apply(p.declaredMode(), k == perm.Folder)
		if p.Access == nil {
			p.Mode = want
			break
		}

		// The owning group must get what is declared: if the mask is in the way it is raised, and what it denied to
		// the others is taken off their entries, for nobody declared that they get more.
		_, _, _, mask := p.classes()
		keep, named := mask, p.Access.Named()
		if mask != nil && want.Group()&^*mask != 0 {
			wider := *mask | want.Group()
			keep = &wider
			_, _, _, named = p.masked()
		}

		p = p.rebuild(want, named, keep)

	case a == perm.AspectEntries && w.Entries != nil && !w.satisfied(p):
		// The owning group keeps what the mask allowed it: the new mask is of all entries together.
		_, g, _, _ := p.masked()
		p = p.rebuild(p.Mode.With(p.Mode.Owner(), g, p.Mode.Other()), w.nearest(p), nil)
	case a == perm.AspectDefaults && w.Defaults != nil && k == perm.Folder && w.DefaultsAtLeast && p.Default != nil:
		o, g, x, has := State{Mode: p.Default.Mode(0), Access: p.Default}.masked()
		if named := merged(has, *w.Defaults, w.DefaultsWithout); !slices.Equal(named, has) {
			p.Default = posixacl.Build(o, g, x, named, nil)
			if p.Default == nil {
				p.Default = posixacl.FromMode(mode.Mode(0).With(o, g, x))
			}
		}

	case a == perm.AspectDefaults && w.Defaults != nil && k == perm.Folder:
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

	case a == perm.AspectCaps && w.Caps != nil && k == perm.File:
		p.Caps = *w.Caps
	case a == perm.AspectFlags:
		p.Flags = p.Flags&^w.Off | w.On
	}

	return p
}

// Text returns what is declared; derived default entries depend on what was found.
func (w *desired) Text(a perm.Aspect, k perm.Kind, s perm.State, d *perm.Directory) string {
	p, _ := s.(State) // of nothing that was found: for nothing
	switch {
	case a == perm.AspectEntries && w.Entries != nil:
		return w.entriesText(Names(d))
	case a == perm.AspectDefaults && w.Defaults != nil:
		return entriesText(w.apply(perm.AspectDefaults, k, p).Default, nil, Names(d))
	case a == perm.AspectCaps && w.Caps != nil:
		return caps.Text(*w.Caps)
	case a == perm.AspectFlags:
		return flagsText(w.apply(perm.AspectFlags, k, p).Flags)
	}
	return perm.AnyText
}

// Fetches is false: paths inherit only when they are made.
func (w *desired) Fetches(perm.State, []perm.Aspect) bool { return false }
