package perm

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
)

// A NTDesired is what a baseline says of a share's path beside its owner.
type NTDesired struct {
	Grants   *[]ntsd.Entry // the path's own entries, those apart that come from above; empty is none
	AtLeast  bool          // others may stand beside them, and these may grant more
	Without  []ntsd.SID    // but none for these
	Inherits *bool         // whether it takes entries from above
}

func own(list []ntsd.Entry) []ntsd.Entry {
	return slices.DeleteFunc(slices.Clone(list), func(e ntsd.Entry) bool { return e.Flags&ace.Inherited != 0 })
}

func sameGrants(a, b []ntsd.Entry) bool {
	order := func(list []ntsd.Entry) []ntsd.Entry {
		out := make([]ntsd.Entry, len(list))
		for i, e := range list {
			out[i] = e.Plain()
		}
		slices.SortFunc(out, func(x, y ntsd.Entry) int {
			return cmp.Or(-cmp.Compare(x.Type, y.Type), strings.Compare(x.SID.Bytes(), y.SID.Bytes()),
				cmp.Compare(x.Flags, y.Flags), cmp.Compare(x.Mask, y.Mask))
		})
		return out
	}
	return slices.Equal(order(a), order(b))
}

// covers reports whether an entry is there for whom another one asks, and grants as much at least.
func covers(have, want ntsd.Entry) bool {
	return have.Type == want.Type && have.SID == want.SID && have.Flags == want.Flags &&
		want.Plain().Mask&^have.Plain().Mask == 0
}

// satisfied reports whether the own entries are as declared. Where they stand out of the usual order, so that what is
// allowed comes before what is withheld, they are not.
func (w *NTDesired) satisfied(d *ntsd.Descriptor) bool {
	mine := own(d.Entries)
	if d.Open || !ntsd.Canonical(d.Entries) {
		return false
	}
	if !w.AtLeast {
		return sameGrants(mine, *w.Grants)
	}
	for _, want := range *w.Grants {
		if !slices.ContainsFunc(mine, func(e ntsd.Entry) bool { return covers(e, want) }) {
			return false
		}
	}
	return !slices.ContainsFunc(mine, func(e ntsd.Entry) bool { return slices.Contains(w.Without, e.SID) })
}

// nearest returns the own entries that are nearest to those that were found.
func (w *NTDesired) nearest(d *ntsd.Descriptor) []ntsd.Entry {
	if !w.AtLeast {
		return slices.Clone(*w.Grants)
	}
	mine := slices.DeleteFunc(own(d.Entries), func(e ntsd.Entry) bool { return slices.Contains(w.Without, e.SID) })
	for _, want := range *w.Grants {
		i := slices.IndexFunc(mine, func(e ntsd.Entry) bool {
			return e.Type == want.Type && e.SID == want.SID && e.Flags == want.Flags
		})
		if i < 0 {
			mine = append(mine, want)
		} else {
			mine[i].Mask |= want.Mask
		}
	}
	return mine
}

// ntApply makes one aspect as declared, of a path in a folder.
func (w *Desired) ntApply(a Aspect, f Found, d ntsd.Descriptor) ntsd.Descriptor {
	k := f.Kind
	switch {
	case a == AspectOwner && w.Owner != nil:
		if s, ok := w.Owner.SID(); ok {
			d.Owner = s
		}
	case k == Link:
	case a == AspectInheritance && w.NT.Inherits != nil && !*w.NT.Inherits:
		if d.Control&ntsd.Protected == 0 {
			d = ntsd.Stop(&d, true)
		}
	case a == AspectInheritance && w.NT.Inherits != nil:
		if d.Control&ntsd.Protected != 0 {
			d.Control = d.Control&^ntsd.Protected | ntsd.AutoInherited
		}
		if above, missing, left := f.astray(&d); len(missing)+len(left) > 0 {
			d = ntsd.Reinherit(&d, above, k == Folder)
		}

	case a == AspectGrants && w.NT.Grants != nil && !w.NT.satisfied(&d):
		list := w.NT.nearest(&d)
		for _, e := range d.Entries {
			if e.Flags&ace.Inherited != 0 {
				list = append(list, e)
			}
		}

		ntsd.Sort(list)
		d.Open, d.Entries = false, list
		if above, ok := NTOf(f.Above); ok && w.fetches(a, &d) {
			d = ntsd.Reinherit(&d, &above, k == Folder)
		}
	}

	return d
}

// Fetches reports whether to make some aspects of a path as declared is to take what comes from above anew.
func (w *Desired) Fetches(found Set, aspects []Aspect) bool {
	d, ok := NTOf(found)
	return ok && slices.ContainsFunc(aspects, func(a Aspect) bool { return w.fetches(a, &d) })
}

// fetches is Fetches for one aspect. Where a list keeps no marks, what came from above stands among its own
// entries, and goes with them.
func (w *Desired) fetches(a Aspect, d *ntsd.Descriptor) bool {
	inherits := w.NT.Inherits != nil && *w.NT.Inherits
	return inherits && (a == AspectInheritance || a == AspectGrants && d.Control&ntsd.AutoInherited == 0)
}

func (w *Desired) ntDifferences(f Found, n ntsd.Descriptor, d *Directory) (out []Difference) {
	for _, a := range []Aspect{AspectOwner, AspectInheritance, AspectGrants} {
		after := w.ntApply(a, f, n)
		if after.Equal(n) {
			continue
		}
		if s, err := NTSet(after); err == nil {
			out = append(out, Difference{
				a, w.Rule[a], w.ntText(a, f.Kind, d), ntFound(a, f, &n, d), w.ntDeclared(a), ntState{n}.value(a, f), s,
			})
		}
	}
	return out
}

// Astray says in which entries a path differs from what its folder passes on to it; "" where it has just
// these, takes nothing from above, or is of a scheme in which nothing comes from there.
func Astray(f Found, dir *Directory) string {
	d, ok := NTOf(f.Set)
	if !ok || f.Kind == Link {
		return ""
	}
	return f.astrayText(&d, dir)
}

// astray returns the folder's descriptor, and in which entries another one of the path differs from what that
// passes on; nothing where nobody has seen the folder.
func (f Found) astray(d *ntsd.Descriptor) (above *ntsd.Descriptor, missing, left []ntsd.Entry) {
	up, ok := NTOf(f.Above)
	if !ok {
		return nil, nil, nil
	}
	missing, left = ntsd.Astray(d, &up, f.Kind == Folder)
	return &up, missing, left
}

// TakesAnew reports whether a change gives a path other entries from above than it had from there.
func TakesAnew(before, after Set) bool {
	a, ok := NTOf(before)
	b, both := NTOf(after)
	return ok && both && ntsd.TakesAnew(&a, &b)
}

func (f Found) astrayText(d *ntsd.Descriptor, dir *Directory) string {
	_, missing, left := f.astray(d)
	var parts []string
	for _, p := range []struct {
		what string
		list []ntsd.Entry
	}{{"the folder above does not hand on: ", left}, {"missing of what it hands on: ", missing}} {
		if len(p.list) > 0 {
			for i := range p.list { // that these are marked as inherited is said already
				p.list[i].Flags &^= ace.Inherited
			}
			parts = append(parts, p.what+ntList(f.Kind, p.list, dir))
		}
	}
	return strings.Join(parts, "; ")
}

// ntText returns what is declared of an aspect.
func (w *Desired) ntText(a Aspect, k Kind, d *Directory) string {
	switch {
	case a == AspectOwner && w.Owner != nil:
		return d.Name(*w.Owner)
	case a == AspectInheritance && w.NT.Inherits != nil && *w.NT.Inherits:
		return InheritsFromAbove
	case a == AspectInheritance && w.NT.Inherits != nil:
		return InheritsStopped
	case a == AspectGrants && w.NT.Grants != nil:
		text := ntList(k, *w.NT.Grants, d)
		if !w.NT.AtLeast {
			return text
		}

		var parts []string
		if len(*w.NT.Grants) > 0 {
			parts = append(parts, "at least "+text)
		}

		for _, s := range w.NT.Without {
			parts = append(parts, "none for "+d.Name(SIDOf(s)))
		}

		return strings.Join(parts, "; ")
	}

	return "any"
}

func ntFound(a Aspect, f Found, n *ntsd.Descriptor, d *Directory) string {
	switch a {
	case AspectOwner:
		return d.Name(SIDOf(n.Owner))
	case AspectInheritance:
		text := inheritanceOf(n)
		if how := f.astrayText(n, d); how != "" {
			text += ", but " + how
		}
		return text
	}

	if n.Open {
		return NoListAtAll
	}

	text := ntList(f.Kind, own(n.Entries), d)
	if !ntsd.Canonical(n.Entries) {
		text += " (not in the usual order)"
	}

	return text
}

func ntList(k Kind, list []ntsd.Entry, d *Directory) string {
	var parts []string
	for _, e := range list {
		parts = append(parts, EntryText(k, e, d))
	}
	if len(parts) == 0 {
		return "none"
	}
	return strings.Join(parts, " | ")
}

// ntTerms is Sayings for a share.
func ntTerms(f Found, d *ntsd.Descriptor, name func(Principal) string) []Term {
	k := f.Kind
	who := func(s ntsd.SID) []string {
		if n := name(SIDOf(s)); n != "" {
			return []string{n}
		}
		return nil
	}

	out := []Term{{Key: "owner", Values: who(d.Owner)}}
	if k == Link || d.Open { // no rule asks for there being no list
		return out
	}

	inherits := Term{Key: "inherits", Values: []string{inheritanceOf(d)}}
	if _, missing, left := f.astray(d); len(missing)+len(left) > 0 {
		inherits.Values = nil
	}

	out = append(out, inherits)
	mine := own(d.Entries)
	var texts []string

	for _, e := range mine {
		n := who(e.SID)
		if e.Foreign() || n == nil || !ntsd.Canonical(d.Entries) {
			return append(out, Term{Key: "grants"})
		}

		g := Grant{Who: n[0], Type: "allow", Rights: e.Mask.Map().Words(k == Folder)}
		if e.Type == ntsd.Deny {
			g.Type = "deny"
		}

		if k == Folder {
			g.Reaches = e.Flags.Reaches()
		}

		texts = append(texts, strconv.Quote(g.String()))
	}

	text := "none"
	if len(texts) > 0 {
		text = "[" + strings.Join(texts, ", ") + "]"
	}

	return append(out, Term{Key: "grants", Values: []string{text}})
}
