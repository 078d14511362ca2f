package nt

import (
	"cmp"
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
)

// A desired is what is asked of a path of a share.
type desired struct {
	*perm.Desired
	NT grants
}

type grants struct {
	Grants   *[]ntsd.Entry // the path's own entries, those apart that come from above; empty is none
	AtLeast  bool          // others may stand beside them, and these may grant more
	Without  []ntsd.SID    // but none for these
	Inherits *bool         // whether it takes entries from above
}

func newDesired(w *perm.Desired) *desired {
	out := &desired{w, grants{Inherits: w.Inherits}}
	if w.Grants == nil {
		return out
	}

	list := []ntsd.Entry{}
	for _, g := range w.Grants.List {
		sid, ok := SID(g.Who)
		if !ok { // somebody of another scheme is nobody here
			continue
		}
		e := ntsd.Entry{Mask: g.Rights, Flags: g.Flags, SID: sid}
		if g.Deny {
			e.Type = ntsd.Deny
		}
		list = append(list, e)
	}
	ntsd.Sort(list)

	out.NT.Grants, out.NT.AtLeast = &list, w.Grants.AtLeast
	for _, who := range w.Grants.Without {
		if sid, ok := SID(who.Who); ok {
			out.NT.Without = append(out.NT.Without, sid)
		}
	}
	return out
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

// covers reports whether there is an entry for the same identity that grants at least as much as another one.
func covers(have, want ntsd.Entry) bool {
	return have.Type == want.Type && have.SID == want.SID && have.Flags == want.Flags &&
		want.Plain().Mask&^have.Plain().Mask == 0
}

// satisfied reports whether the own entries are as declared. Out of the usual order, with one that allows before one
// that denies, they are not.
func (w *grants) satisfied(d *ntsd.Descriptor) bool {
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
func (w *grants) nearest(d *ntsd.Descriptor) []ntsd.Entry {
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

// apply makes one aspect as declared, of a path in a folder.
func (w *desired) apply(a perm.Aspect, f perm.Found, d ntsd.Descriptor) ntsd.Descriptor {
	k := f.Kind
	switch {
	case a == perm.AspectOwner && w.Owner != nil:
		if s, ok := SID(*w.Owner); ok {
			d.Owner = s
		}
	case k == perm.Link:
	case a == perm.AspectInheritance && w.NT.Inherits != nil && !*w.NT.Inherits:
		if d.Control&ntsd.Protected == 0 {
			d = ntsd.Stop(&d, !w.Drops)
		}
	case a == perm.AspectInheritance && w.NT.Inherits != nil:
		if d.Control&ntsd.Protected != 0 {
			d.Control = d.Control&^ntsd.Protected | ntsd.AutoInherited
		}
		if above, missing, left := astray(f, &d); len(missing)+len(left) > 0 {
			d = ntsd.Reinherit(&d, above, k == perm.Folder)
		}

	case a == perm.AspectGrants && w.NT.Grants != nil && !w.NT.satisfied(&d):
		list := w.NT.nearest(&d)
		for _, e := range d.Entries {
			if e.Flags&ace.Inherited != 0 {
				list = append(list, e)
			}
		}

		ntsd.Sort(list)
		d.Open, d.Entries = false, list
		if above, ok := Of(f.Above); ok && w.fetches(a, &d) {
			d = ntsd.Reinherit(&d, &above, k == perm.Folder)
		}
	}

	return d
}

// Fetches reports whether making some aspects of a path as declared means inheriting anew.
func (w *desired) Fetches(s perm.State, aspects []perm.Aspect) bool {
	d := s.(State).Descriptor
	return slices.ContainsFunc(aspects, func(a perm.Aspect) bool { return w.fetches(a, &d) })
}

// fetches is Fetches for one aspect. Where a list keeps no marks, what it inherited stands among its own entries, and
// goes with them.
func (w *desired) fetches(a perm.Aspect, d *ntsd.Descriptor) bool {
	inherits := w.NT.Inherits != nil && *w.NT.Inherits
	return inherits && (a == perm.AspectInheritance || a == perm.AspectGrants && d.Control&ntsd.AutoInherited == 0)
}

func (w *desired) Differences(f perm.Found, s perm.State, d *perm.Directory) (out []perm.Difference) {
	n := s.(State)
	for _, a := range []perm.Aspect{perm.AspectOwner, perm.AspectInheritance, perm.AspectGrants} {
		after := w.apply(a, f, n.Descriptor)
		if after.Equal(n.Descriptor) {
			continue
		}
		mended, err := SetOf(after)
		if err != nil { // its list would be too long: it cannot be mended, and is not as declared all the same
			mended = f.Set
		}
		out = append(out, perm.Difference{
			Aspect:   a,
			Rule:     w.Rule[a],
			Declared: w.Desired.Text(a, f.Kind, f.Set, d),
			Found:    found(a, f, &n.Descriptor, d),
			Wants:    w.declared(a),
			Has:      n.value(a, f),
			Mended:   mended,
		})
	}
	return out
}

// Judges reports whether anything is asked of a path: a link has an owner only.
func (w *desired) Judges(k perm.Kind) bool {
	return w.Owner != nil || k != perm.Link && (w.NT.Inherits != nil || w.NT.Grants != nil)
}

// Apply returns the state with some aspects as declared.
func (w *desired) Apply(f perm.Found, s perm.State, aspects []perm.Aspect) (perm.Set, error) {
	d := s.(State).Descriptor
	for _, a := range perm.Aspects {
		if slices.Contains(aspects, a) {
			d = w.apply(a, f, d)
		}
	}
	return SetOf(d)
}

// Astray says in which entries a path differs from what it should inherit.
func (n State) Astray(f perm.Found, dir *perm.Directory) string {
	if f.Kind == perm.Link {
		return ""
	}
	return astrayText(f, &n.Descriptor, dir)
}

// astray returns the folder's descriptor, and in which entries the path's differs from what it should inherit;
// nothing if nobody has seen the folder.
func astray(f perm.Found, d *ntsd.Descriptor) (above *ntsd.Descriptor, missing, left []ntsd.Entry) {
	up, ok := Of(f.Above)
	if !ok {
		return nil, nil, nil
	}
	missing, left = ntsd.Astray(d, &up, f.Kind == perm.Folder)
	return &up, missing, left
}

// TakesAnew reports whether a change gives a path other inherited entries than it had.
func (n State) TakesAnew(to perm.State) bool {
	b := to.(State)
	return ntsd.TakesAnew(&n.Descriptor, &b.Descriptor)
}

func astrayText(f perm.Found, d *ntsd.Descriptor, dir *perm.Directory) string {
	_, missing, left := astray(f, d)
	var parts []string
	for _, p := range []struct {
		what string
		list []ntsd.Entry
	}{{"not inheritable from the folder above: ", left}, {"missing, though inheritable: ", missing}} {
		if len(p.list) > 0 {
			for i := range p.list { // that these are marked as inherited is said already
				p.list[i].Flags &^= ace.Inherited
			}
			parts = append(parts, p.what+list(f.Kind, p.list, dir))
		}
	}
	return strings.Join(parts, "; ")
}

// Text returns what is declared of an aspect.
func (w *desired) Text(a perm.Aspect, k perm.Kind, _ perm.State, d *perm.Directory) string {
	switch {
	case a == perm.AspectInheritance && w.NT.Inherits != nil && *w.NT.Inherits:
		return perm.InheritsFromAbove
	case a == perm.AspectInheritance && w.NT.Inherits != nil:
		return perm.InheritsStopped
	case a == perm.AspectGrants && w.NT.Grants != nil:
		text := list(k, *w.NT.Grants, d)
		if !w.NT.AtLeast {
			return text
		}
		if len(*w.NT.Grants) == 0 {
			text = ""
		}

		none := make([]string, len(w.NT.Without))
		for i, s := range w.NT.Without {
			none[i] = d.Name(PrincipalOf(s))
		}
		return perm.Declares(text, none)
	}

	return perm.AnyText
}

func found(a perm.Aspect, f perm.Found, n *ntsd.Descriptor, d *perm.Directory) string {
	switch a {
	case perm.AspectOwner:
		return d.Name(PrincipalOf(n.Owner))
	case perm.AspectInheritance:
		text := inheritanceOf(n)
		if how := astrayText(f, n, d); how != "" {
			text += ", but " + how
		}
		return text
	}

	if n.Open {
		return perm.NoListAtAll
	}

	text := list(f.Kind, own(n.Entries), d)
	if !ntsd.Canonical(n.Entries) {
		text += " (not in the usual order)"
	}

	return text
}

func list(k perm.Kind, list []ntsd.Entry, d *perm.Directory) string {
	return perm.GrantsText(grantsOf(k, &ntsd.Descriptor{Entries: list}, d))
}
