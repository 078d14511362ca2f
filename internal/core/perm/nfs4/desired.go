package nfs4

import (
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
)

// A desired is what is asked of a path with an NFSv4 list: owner, group, the mode that follows from the list, and the
// entries that were not inherited. Named entries of POSIX lists, default entries and capabilities are not asked of it.
type desired struct{ *perm.Desired }

func newDesired(w *perm.Desired) desired { return desired{w} }

// Judges reports whether anything is asked of a path: a link has owner and group only.
func (w desired) Judges(k perm.Kind) bool {
	return w.Owner != nil || w.Group != nil || k != perm.Link && (w.Mode != nil || w.Grants != nil)
}

// Fetches is false: entries from above are copied when a path is made.
func (w desired) Fetches(perm.State, []perm.Aspect) bool { return false }

// Differences holds a state against what is asked.
func (w desired) Differences(f perm.Found, s perm.State, d *perm.Directory) (out []perm.Difference) {
	is := s.(State)
	for _, a := range (Scheme{}).Aspects() {
		set, err := w.apply(a, f.Kind, is).Encode()
		if err != nil {
			set = perm.Set{} // it cannot be mended, and is not as declared all the same
		}
		if set == f.Set {
			continue
		}
		if err != nil {
			set = f.Set
		}
		out = append(out, perm.Difference{
			Aspect:   a,
			Rule:     w.Rule[a],
			Declared: w.Desired.Text(a, f.Kind, f.Set, d),
			Found:    is.text(a, f.Kind, d),
			Wants:    w.value(a),
			Has:      is.value(a),
			Mended:   set,
		})
	}
	return out
}

// Apply returns the state with some aspects as asked.
func (w desired) Apply(f perm.Found, s perm.State, aspects []perm.Aspect) (perm.Set, error) {
	is := s.(State)
	for _, a := range perm.Aspects {
		if slices.Contains(aspects, a) {
			is = w.apply(a, f.Kind, is)
		}
	}
	return is.Encode()
}

func (w desired) apply(a perm.Aspect, k perm.Kind, s State) State {
	switch {
	case a == perm.AspectOwner && w.Owner != nil:
		if n, ok := unixid.Number(*w.Owner); ok {
			s.UID = n
		}
	case a == perm.AspectGroup && w.Group != nil:
		if n, ok := unixid.Number(*w.Group); ok {
			s.GID = n
		}
	case k == perm.Link:
	case a == perm.AspectMode && w.Mode != nil:
		if want := w.Mode.Apply(s.Derived(), k == perm.Folder); want != s.Derived() {
			s = s.withMode(want, k)
		}
	case a == perm.AspectGrants && w.Grants != nil:
		if !w.satisfied(k, s) {
			s.List = w.nearest(k, s)
		}
	}
	return s
}

// classRights are what the bits of a mode stand for (RFC 8881 section 6.3.1.3). Everybody may read the list and the
// attributes, as with any mode.
func classRights(p mode.Perm, k perm.Kind) ace.Mask {
	m := ace.ReadControl | ace.ReadAttributes | ace.Synchronize
	if p&mode.Read != 0 {
		m |= ace.ReadData | ace.ReadExtended
	}
	if p&mode.Write != 0 {
		m |= ace.WriteData | ace.AppendData
		if k == perm.Folder {
			m |= ace.DeleteChild
		}
	}
	if p&mode.Execute != 0 {
		m |= ace.Execute
	}
	return m
}

// ownerRights are what an owner has beside them.
const ownerRights = ace.WriteAttributes | ace.WriteExtended | ace.WriteDAC

// withMode returns a state whose list comes to a mode: the entries for OWNER@, GROUP@ and EVERYONE@ that decide are
// made anew, and all others stay in their order, those that deny before those that allow. Where one of the three
// denied somebody what an entry behind it allows, that entry does not allow it any more: nobody declared that they
// get it.
func (s State) withMode(m mode.Mode, k perm.Kind) State {
	var denied, allowed, passing List
	var before ace.Mask // that one of the three denied
	for _, e := range s.List {
		switch {
		case !e.decides():
			passing = append(passing, e)
		case e.Who == Owner || e.Who == Group || e.Who == Everyone:
			if e.Type == Deny {
				before |= e.Mask
			}
			// What it reaches below stays as it was.
			if e.Flags&(FileInherit|FolderInherit) != 0 {
				e.Flags |= InheritOnly
				passing = append(passing, e)
			}
		case e.Type == Deny:
			denied = append(denied, e)
		default:
			e.Mask &^= before
			allowed = append(allowed, e)
		}
	}

	const deciding = ace.ReadData | ace.WriteData | ace.AppendData | ace.Execute | ace.DeleteChild
	owner, group, other := classRights(m.Owner(), k), classRights(m.Group(), k), classRights(m.Other(), k)
	out := List{}
	deny := func(rights ace.Mask, who string, f Flags) {
		if rights &= deciding; rights != 0 {
			out = append(out, Entry{Deny, f, rights, who})
		}
	}
	deny((group|other)&^owner, Owner, 0)
	out = append(out, denied...)
	out = append(out, Entry{Allow, 0, owner | ownerRights, Owner})
	out = append(out, allowed...)
	deny(other&^group, Group, IdentifierGroup)
	out = append(out, Entry{Allow, IdentifierGroup, group, Group}, Entry{Allow, 0, other, Everyone})

	s.List = append(out, passing...)
	s.Special = m & specialBits
	return s
}

// own returns the entries that were not inherited, without those that decide nothing about access.
func own(l List) (out List) {
	for _, e := range l {
		if e.Flags&Inherited == 0 && e.Type <= Deny {
			out = append(out, e)
		}
	}
	return out
}

// plain returns an entry without what makes no difference: servers set and take away some bits by themselves.
func (e Entry) plain(k perm.Kind) Entry {
	e.Mask = e.Mask.Map() &^ ace.Synchronize
	if k != perm.Folder {
		e.Mask &^= ace.DeleteChild
		e.Flags &^= reaching
	}
	e.Flags &= reaching | IdentifierGroup
	if special[e.Who] {
		e.Flags &^= IdentifierGroup
	}
	return e
}

// entries returns the grants that are asked for as entries, those that deny first. An account that the list already
// names keeps that name; others are named as in the rest of the list, by name@domain or by number.
func (w desired) entries(s State) (out List) {
	domain := domainOf(s.List)
	for _, deny := range []bool{true, false} {
		for _, g := range w.Grants.List {
			if g.Deny != deny {
				continue
			}
			e := Entry{Mask: g.Rights, Flags: Flags(g.Flags) & reaching}
			if deny {
				e.Type = Deny
			}
			e.Who, e.Flags = whoOf(g.Party, s.List, domain, e.Flags)
			out = append(out, e)
		}
	}
	return out
}

// domainOf returns the domain that a list's names have; "" if it holds none, or several.
func domainOf(l List) (domain string) {
	for _, e := range l {
		if _, x, ok := strings.Cut(e.Who, "@"); ok && !special[e.Who] {
			if domain != "" && domain != x {
				return ""
			}
			domain = x
		}
	}
	return domain
}

func whoOf(p perm.Party, l List, domain string, f Flags) (string, Flags) {
	if who, ok := strings.CutPrefix(string(p.Who), userPrefix); ok {
		return who, f
	}
	if who, ok := strings.CutPrefix(string(p.Who), groupPrefix); ok {
		return who, f | IdentifierGroup
	}

	group := unixid.IsGroup(p.Who)
	if group {
		f |= IdentifierGroup
	}
	for _, e := range l {
		if e.group() == group && !special[e.Who] && names(e, p) {
			return e.Who, f
		}
	}
	if domain != "" && p.Name != "" && strings.Trim(p.Name, "0123456789") != "" {
		return p.Name + "@" + domain, f
	}
	return strings.TrimLeft(string(p.Who), "ug"), f
}

// names reports whether an entry names a party, by number or by name.
func names(e Entry, p perm.Party) bool {
	if special[e.Who] {
		return string(p.Who) == userPrefix+e.Who
	}
	if named(e.Who, e.group(), nil) == p.Who {
		return true
	}
	local, _, ok := strings.Cut(e.Who, "@")
	return ok && local == p.Name && e.group() == unixid.IsGroup(p.Who)
}

// known returns an entry without what makes no difference, and with one name for whoever the rule speaks of: a list may
// name somebody by number and by name.
func (w desired) known(e Entry, k perm.Kind) Entry {
	e = e.plain(k)
	for _, g := range w.Grants.List {
		if names(e, g.Party) {
			e.Who = string(g.Who)
			break
		}
	}
	return e
}

// satisfied reports whether the list's own entries are the declared ones, those that deny first: behind one that
// allows, an entry that denies means something else.
func (w desired) satisfied(k perm.Kind, s State) bool {
	mine, want := own(s.List), w.entries(s)
	if !canonical(mine) {
		return false
	}
	if w.Grants.AtLeast && slices.ContainsFunc(mine, w.unwanted) {
		return false
	}
	for i := range mine {
		mine[i] = w.known(mine[i], k)
	}
	for i := range want {
		want[i] = w.known(want[i], k)
	}

	if w.Grants.AtLeast {
		return !slices.ContainsFunc(want, func(e Entry) bool {
			return !slices.ContainsFunc(mine, func(x Entry) bool { return covers(x, e) })
		})
	}
	slices.SortFunc(mine, compare)
	slices.SortFunc(want, compare)
	return slices.Equal(mine, want)
}

func covers(have, want Entry) bool {
	return have.Type == want.Type && have.Who == want.Who && have.Flags == want.Flags && want.Mask&^have.Mask == 0
}

func (w desired) unwanted(e Entry) bool {
	return slices.ContainsFunc(w.Grants.Without, func(p perm.Party) bool { return names(e, p) })
}

// nearest returns the list that is nearest to the one that was found. Inherited entries stay, and so do those that
// only ask for auditing.
func (w desired) nearest(k perm.Kind, s State) List {
	mine := w.entries(s)
	if w.Grants.AtLeast {
		mine = slices.DeleteFunc(own(s.List), w.unwanted)
		for _, e := range w.entries(s) {
			i := slices.IndexFunc(mine, func(x Entry) bool {
				a, b := w.known(x, k), w.known(e, k)
				return a.Type == b.Type && a.Who == b.Who && a.Flags == b.Flags
			})
			if i < 0 {
				mine = append(mine, e)
			} else {
				mine[i].Mask |= e.Mask
			}
		}
		slices.SortStableFunc(mine, func(a, b Entry) int { return int(b.Type) - int(a.Type) }) // those that deny first
	}

	out := append(List{}, mine...)
	for _, e := range s.List {
		if e.Flags&Inherited != 0 || e.Type > Deny {
			out = append(out, e)
		}
	}
	return out
}
