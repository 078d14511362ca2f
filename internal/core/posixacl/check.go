package posixacl

import (
	"slices"

	"idletally/internal/core/mode"
)

// A Subject is somebody who asks for access.
type Subject struct {
	UID    uint32
	Groups []uint32
}

// In reports whether the subject is a member of a group.
func (s Subject) In(gid uint32) bool { return slices.Contains(s.Groups, gid) }

// A Ruling is what a mode and list say to a request, and the one entry that decided.
type Ruling struct {
	Granted bool
	Entry   Entry
	Masked  bool      // the entry alone would grant it; the mask takes it away
	Mask    mode.Perm // where Masked
	Idle    bool      // there is a list, but its mask is empty and Linux passes over it
}

// Check decides whether the subject gets everything it wants at once, after POSIX.1e draft 17
// section 23.1.5: the owner's entry decides for the owner, then a named account's, then the
// matching groups', then others'. Of several matching groups one has to grant all of it by
// itself. Privileges are not counted.
//
// In one point Linux differs from the draft: a list is asked only where the mode's group digit,
// its mask, is not empty (fs/namei.c, acl_permission_check). Where it is empty, whoever is
// neither the owner nor in the owning group gets what others get, named or not.
func Check(owner, group uint32, m mode.Mode, l List, s Subject, want mode.Perm) Ruling {
	class := func(tag Tag, p mode.Perm) Ruling {
		return Ruling{Granted: want&^p == 0, Entry: Entry{tag, NoID, p}}
	}
	if s.UID == owner {
		return class(UserObj, m.Owner())
	}

	if len(l) == 0 || m.Group() == 0 {
		r := class(Other, m.Other())
		if s.In(group) {
			r = class(GroupObj, m.Group())
		}

		r.Idle = len(l) > 0
		return r
	}

	mask := mode.Perm(7)
	if p, ok := l.Find(Mask, NoID); ok {
		mask = p
	}

	rule := func(e Entry) Ruling {
		r := Ruling{Granted: want&^(e.Perm&mask) == 0, Entry: e}
		if !r.Granted && want&^e.Perm == 0 {
			r.Masked, r.Mask = true, mask
		}
		return r
	}

	var denied Ruling
	matched := false
	for _, e := range l {
		switch {
		case e.Tag == User && e.ID == s.UID:
			return rule(e)
		case e.Tag == GroupObj && s.In(group), e.Tag == Group && s.In(e.ID):
			r := rule(e)
			if r.Granted || r.Masked { // the first that has it all decides, mask or not
				return r
			}

			if !matched {
				denied = r
			}

			matched = true
		}
	}

	if matched {
		return denied
	}

	return class(Other, m.Other())
}

// Access returns every permission that the subject gets by itself. Two that come from different
// groups are not granted in one request: where both are needed at once, ask Check.
func Access(owner, group uint32, m mode.Mode, l List, s Subject) (got mode.Perm) {
	for _, want := range []mode.Perm{mode.Read, mode.Write, mode.Execute} {
		if Check(owner, group, m, l, s, want).Granted {
			got |= want
		}
	}
	return got
}

// Effective is what an entry of this list grants once the mask has taken its part.
func (l List) Effective(e Entry) mode.Perm {
	if mask, ok := l.Find(Mask, NoID); ok && (e.Tag == User || e.Tag == GroupObj || e.Tag == Group) {
		return e.Perm & mask
	}
	return e.Perm
}

// Mode is the mode that a listing shows for a path with this list: the mask stands where the
// group's permissions stand otherwise. Special bits are those of m.
func (l List) Mode(m mode.Mode) mode.Mode {
	if len(l) == 0 {
		return m
	}
	u, _ := l.Find(UserObj, NoID)
	g, masked := l.Find(Mask, NoID)
	if !masked {
		g, _ = l.Find(GroupObj, NoID)
	}
	o, _ := l.Find(Other, NoID)
	return m.With(u, g, o)
}

// Chmod is what a list becomes when the mode of its path is changed: the owner's and the others'
// entries follow the mode; the group digit sets the mask, or the owning group's entry where there
// is none (POSIX.1e section 23.3).
func (l List) Chmod(m mode.Mode) List {
	if len(l) == 0 {
		return l
	}

	_, masked := l.Find(Mask, NoID)
	out := slices.Clone(l)
	for i, e := range out {
		switch {
		case e.Tag == UserObj:
			out[i].Perm = m.Owner()
		case e.Tag == Mask, e.Tag == GroupObj && !masked:
			out[i].Perm = m.Group()
		case e.Tag == Other:
			out[i].Perm = m.Other()
		}
	}

	return out
}

// Minimal reports whether a list says no more than a mode can.
func (l List) Minimal() bool {
	return !slices.ContainsFunc(l, func(e Entry) bool { return e.Tag == User || e.Tag == Group || e.Tag == Mask })
}

// Inherit is what a new path gets from its folder's default entries when a program asks for mode
// m: each class gets what both the entry and the program allow (POSIX.1e section 23.4). The umask
// has no part in it. The list is nil where a mode says it all.
func (l List) Inherit(m mode.Mode) (List, mode.Mode) {
	_, masked := l.Find(Mask, NoID)
	out := slices.Clone(l)
	for i, e := range out {
		switch {
		case e.Tag == UserObj:
			out[i].Perm &= m.Owner()
		case e.Tag == Mask, e.Tag == GroupObj && !masked:
			out[i].Perm &= m.Group()
		case e.Tag == Other:
			out[i].Perm &= m.Other()
		}
	}

	m = out.Mode(m)
	if out.Minimal() {
		return nil, m
	}

	return out, m
}
