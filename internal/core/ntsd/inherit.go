package ntsd

import (
	"slices"

	"idletally/internal/core/ace"
)

// Child returns what something new in a folder gets (MS-DTYP 2.5.3.4): the entries that it inherits, with its maker
// in place of the creator. They are marked as inherited if the folder's own list keeps such marks. If it inherits
// nothing, it gets own: what the maker has for new things by default.
func Child(parent *Descriptor, folder bool, owner, group SID, own []Entry) Descriptor {
	d := Descriptor{
		Owner:   owner,
		Group:   group,
		Control: parent.Control & AutoInherited,
		Entries: inherited(parent, folder, owner, group),
	}
	if len(d.Entries) == 0 {
		d.Entries, d.Control = slices.Clone(own), 0
	}
	if d.Control == 0 {
		for i := range d.Entries {
			d.Entries[i].Flags &^= ace.Inherited
		}
	}
	return d
}

// inherited returns the entries that a file or a folder inherits from its folder.
func inherited(parent *Descriptor, folder bool, owner, group SID) (out []Entry) {
	for _, e := range parent.Entries {
		out = append(out, e.HandedOn(folder, owner, group)...)
	}
	return out
}

// HandedOn returns what a folder's entry becomes in a file or a folder in it, with whoever owns that in place of the
// creator: nothing, one entry, or two if it takes effect there in another form than it is inherited in further down.
func (e Entry) HandedOn(folder bool, owner, group SID) []Entry {
	if e.Foreign() {
		return nil
	}

	counts := e.Flags&ace.ObjectInherit != 0
	if folder {
		counts = e.Flags&ace.ContainerInherit != 0
	}

	on := ace.Flags(0) // passed on further
	if folder && e.Flags&ace.NoPropagate == 0 {
		on = e.Flags & ace.Heritable
	}

	if !counts && on == 0 {
		return nil
	}

	here := e
	here.Mask, here.SID = e.Mask.Map(), made(e.SID, owner, group)

	// An entry for the creator, or with generic rights, takes effect resolved, and is inherited unresolved.
	if counts && on != 0 && (here.SID != e.SID || here.Mask != e.Mask) {
		here.Flags = ace.Inherited
		e.Flags = on | ace.InheritOnly | ace.Inherited
		return []Entry{here, e}
	}

	if !counts {
		here.SID, here.Mask = e.SID, e.Mask
		on |= ace.InheritOnly
	}

	here.Flags = on | ace.Inherited
	return []Entry{here}
}

func made(s, owner, group SID) SID {
	switch {
	case s == CreatorOwner && !owner.IsZero():
		return owner
	case s == CreatorGroup && !group.IsZero():
		return group
	}
	return s
}

// Reinherit returns what becomes of a descriptor when its folder's changes: its own entries stay, inherited ones are
// taken anew. A protected one stays as it is.
func Reinherit(d, parent *Descriptor, folder bool) Descriptor {
	out := *d
	if d.Control&Protected != 0 || d.Open {
		return out
	}
	out.Control |= AutoInherited
	out.Entries = slices.DeleteFunc(slices.Clone(d.Entries), fromAbove)
	there := setOf(out.Entries)
	for _, e := range inherited(parent, folder, d.Owner, d.Group) {
		if !there[e] { // two that became the same say nothing more than one
			there[e] = true
			out.Entries = append(out.Entries, e)
		}
	}
	return out
}

// setOf returns entries for looking them up: whoever owns something, or its folder, may give it a list of thousands.
func setOf(list []Entry) map[Entry]bool {
	out := make(map[Entry]bool, len(list))
	for _, e := range list {
		out[e] = true
	}
	return out
}

// fromAbove reports whether an entry is marked as inherited. One that is not understood is kept as it is, wherever it
// came from.
func fromAbove(e Entry) bool { return e.Flags&ace.Inherited != 0 && !e.Foreign() }

// Astray compares the entries that are marked as inherited with those that the folder passes on. It returns those
// that are missing, and those that are left over, as after a move from another folder. A protected descriptor has
// neither. One that keeps no such marks, because its folder's list keeps none (see Child), has what it inherited
// among its own.
func Astray(d, parent *Descriptor, folder bool) (missing, left []Entry) {
	if d.Control&Protected != 0 || d.Open || parent.Open {
		return nil, nil
	}

	plain := func(e Entry) Entry {
		if d.Control&AutoInherited == 0 {
			e.Flags &^= ace.Inherited
		}
		return e.Plain()
	}

	has, due := map[Entry]bool{}, map[Entry]bool{}
	for _, e := range d.Entries {
		has[plain(e)] = true
	}

	for _, e := range inherited(parent, folder, d.Owner, d.Group) {
		p := plain(e)
		due[p] = true
		if !has[p] {
			has[p] = true // it is told once
			missing = append(missing, e)
		}
	}

	for _, e := range d.Entries {
		if p := plain(e); fromAbove(e) && !due[p] {
			due[p] = true
			left = append(left, e)
		}
	}

	return missing, left
}

// TakesAnew reports whether a descriptor, in becoming another one, gets other inherited entries than it had.
func TakesAnew(before, after *Descriptor) bool {
	if after.Open || after.Control&Protected != 0 {
		return false
	}
	had, has := setOf(before.Entries), setOf(after.Entries)
	return slices.ContainsFunc(before.Entries, func(e Entry) bool { return e.Flags&ace.Inherited != 0 && !has[e] }) ||
		slices.ContainsFunc(after.Entries, func(e Entry) bool { return e.Flags&ace.Inherited != 0 && !had[e] })
}

// Plain returns an entry without what makes no difference: generic rights are written out, and waiting for a
// file is part of every right to open it.
func (e Entry) Plain() Entry {
	e.Mask = e.Mask.Map() | ace.Synchronize
	return e
}

// HandsOnSame reports whether what is below inherits the same from two lists.
func HandsOnSame(a, b *Descriptor) bool {
	heritable := func(d *Descriptor) []Entry {
		return slices.DeleteFunc(slices.Clone(d.Entries), func(e Entry) bool { return e.Flags&ace.Heritable == 0 })
	}
	return slices.EqualFunc(heritable(a), heritable(b), func(x, y Entry) bool {
		x.Flags, y.Flags = x.Flags&^ace.Inherited, y.Flags&^ace.Inherited
		return x == y
	})
}

// Stop returns the descriptor protected from inheriting. What it inherited is kept as its own, or dropped.
func Stop(d *Descriptor, keep bool) Descriptor {
	out := *d
	out.Control = d.Control&^AutoInherited | Protected
	out.Entries = nil
	for _, e := range d.Entries {
		if e.Flags&ace.Inherited != 0 && !keep {
			continue
		}
		e.Flags &^= ace.Inherited
		out.Entries = append(out.Entries, e)
	}
	Sort(out.Entries)
	return out
}

// Reset returns a descriptor with what it inherits and nothing of its own.
func Reset(d, parent *Descriptor, folder bool) Descriptor {
	out := *d
	out.Control, out.Open, out.Entries = AutoInherited, false, inherited(parent, folder, d.Owner, d.Group)
	return out
}
