package perm

import (
	"slices"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/posixacl"
)

// A Want is what a baseline says of one path, its accounts already found on the host. A nil
// field says nothing; Rule holds, for each aspect that is declared, the rule that decided it.
type Want struct {
	Owner, Group *Principal
	Mode         *mode.Mode
	Entries      *posixacl.List // named entries, exactly these; empty is none
	Defaults     *posixacl.List // named default entries; empty is no default list at all
	Rule         map[Aspect]int
	LeaveAlone   bool
}

// Differences holds a found state against the declaration, one aspect after another.
func (w *Want) Differences(k Kind, found Set, d *Directory) []Difference {
	if w == nil || w.LeaveAlone {
		return nil
	}
	p, err := POSIXOf(found)
	if err != nil {
		return nil
	}
	var out []Difference
	add := func(a Aspect, declared, found string, mended POSIX) {
		out = append(out, Difference{a, w.Rule[a], declared, found, mended.Set()})
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
	if w.Mode != nil && *w.Mode != p.declaredMode() {
		add(AspectMode, w.Mode.String(), p.declaredMode().String(), w.apply(AspectMode, k, p))
	}
	name := Names(d)
	if w.Entries != nil && !p.grants(*w.Entries) {
		add(AspectEntries, entriesText(*w.Entries, nil, name), entriesText(p.Access.Named(), maskOver(p), name), w.apply(AspectEntries, k, p))
	}
	if w.Defaults != nil && k == Folder {
		if m := w.apply(AspectDefaults, k, p); !slices.Equal(m.Default, p.Default) {
			add(AspectDefaults, entriesText(m.Default, nil, name), entriesText(p.Default, nil, name), m)
		}
	}
	return out
}

// grants says whether the named entries are exactly these, the mask counted: an entry that came
// from a folder's defaults is often wider than the mask lets it be, and means what it grants.
func (p POSIX) grants(want posixacl.List) bool {
	_, _, _, named := p.masked()
	return slices.Equal(named, want)
}

// maskOver gives the mask of a list where it takes something away or stands alone, since then
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

// Apply gives the state that is wanted where found is there now: declared aspects as declared,
// the others kept.
func (w *Want) Apply(k Kind, found Set) (Set, error) {
	p, err := POSIXOf(found)
	if err != nil {
		return Set{}, err
	}
	if w == nil || w.LeaveAlone {
		return found, nil
	}
	for _, a := range Aspects {
		p = w.apply(a, k, p)
	}
	return p.Set(), nil
}

// ApplyOnly gives the found state with some aspects as declared.
func (w *Want) ApplyOnly(k Kind, found Set, aspects []Aspect) (Set, error) {
	p, err := POSIXOf(found)
	if err != nil {
		return Set{}, err
	}
	for _, a := range Aspects {
		if slices.Contains(aspects, a) {
			p = w.apply(a, k, p)
		}
	}
	return p.Set(), nil
}

func (w *Want) apply(a Aspect, k Kind, p POSIX) POSIX {
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
		if p.Access == nil {
			p.Mode = *w.Mode
			break
		}
		// The owning group must get what is declared: where the mask is in the way it is raised
		// to the union of what entries and group say.
		_, _, _, mask := p.classes()
		keep := mask
		if mask != nil && w.Mode.Group()&^*mask != 0 {
			wider := *mask | w.Mode.Group()
			keep = &wider
		}
		p = p.rebuild(*w.Mode, p.Access.Named(), keep)
	case a == AspectEntries && w.Entries != nil && !p.grants(*w.Entries):
		_, g, _, _ := p.classes()
		p = p.rebuild(p.Mode.With(p.Mode.Owner(), g, p.Mode.Other()), *w.Entries, nil)
	case a == AspectDefaults && w.Defaults != nil && k == Folder:
		p.Default = nil
		if len(*w.Defaults) > 0 {
			// New things get what this folder's classes have; the sticky and set-ID bits are not inherited.
			o, g, x := p.Mode.Owner(), p.Mode.Group(), p.Mode.Other()
			if w.Mode != nil {
				o, g, x = w.Mode.Owner(), w.Mode.Group(), w.Mode.Other()
			} else if p.Access != nil {
				_, g, _, _ = p.classes()
			}
			p.Default = posixacl.Build(o, g, x, *w.Defaults, nil)
		}
	}
	return p
}
