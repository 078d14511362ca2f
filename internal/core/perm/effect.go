package perm

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/posixacl"
)

// Rights are what somebody can do with one path by its own permission state.
type Rights uint16

// The rights.
const (
	CanRead Rights = 1 << iota
	CanWrite
	CanExecute
	CanChange       // change its permissions: the owner can
	CanRunAs        // run it with the owner's or group's identity (set-ID, capabilities)
	CanRemoveOthers // remove other accounts' entries from a folder: no sticky bit
	CanDelete       // delete it, whatever the folder above says: on shares
)

var rightWords = map[bool][]string{
	false: {"read", "write", "execute", "change permissions", "run with its identity", "", "delete"},
	true: {"list", "add and remove entries", "pass through", "change permissions", "", "remove others' entries",
		"delete"},
}

// Words names the rights as they act on a kind of path.
func (r Rights) Words(k Kind) []string {
	var out []string
	for i, w := range rightWords[k == Folder] {
		if r&(1<<i) != 0 && w != "" {
			out = append(out, w)
		}
	}
	return out
}

// A Gain is somebody who has certain rights in one state and not in the other.
type Gain struct {
	Who    string   `json:"who" doc:"Account or group, as its host names it, or everyone"`
	Group  bool     `json:"group,omitempty" doc:"Who is a group"`
	Rights []string `json:"rights"`
}

// An Effect says what going from one state to another does: it opens the path to some and closes
// it to others. Neither is possible too: a set-group-ID bit on a folder changes what comes later.
type Effect struct {
	Opens  []Gain `json:"opens,omitempty"`
	Closes []Gain `json:"closes,omitempty"`
}

// Word sums an effect up: opens, closes, both or neither.
func (e Effect) Word() string {
	switch {
	case len(e.Opens) > 0 && len(e.Closes) > 0:
		return "both"
	case len(e.Opens) > 0:
		return "opens"
	case len(e.Closes) > 0:
		return "closes"
	}
	return "neither"
}

// OpensEveryone says whether everyone gains something.
func (e Effect) OpensEveryone() bool {
	return slices.ContainsFunc(e.Opens, func(g Gain) bool { return g.Who == string(Everyone) })
}

// String puts an effect into one line.
func (e Effect) String() string {
	line := func(word string, gains []Gain) string {
		if len(gains) == 0 {
			return ""
		}

		parts := make([]string, len(gains))
		for i, g := range gains {
			who := g.Who
			if g.Group {
				who = "group " + who
			}
			parts[i] = who + ": " + strings.Join(g.Rights, ", ")
		}

		return word + " for " + strings.Join(parts, "; ")
	}

	opens, closes := line("opens", e.Opens), line("closes", e.Closes)
	switch {
	case opens != "" && closes != "":
		return opens + " · " + closes
	case opens+closes != "":
		return opens + closes
	}

	return "changes nobody's access"
}

// A change is what somebody gains and loses.
type change struct{ opens, closes Rights }

func changeOf(was, is Rights) change { return change{is &^ was, was &^ is} }

func (c change) with(x change) change { return change{c.opens | x.opens, c.closes | x.closes} }

// add tells of somebody what others do not gain and lose with them.
func (e *Effect) add(k Kind, who string, group bool, c, except change) {
	if r := (c.opens &^ except.opens).Words(k); len(r) > 0 {
		e.Opens = append(e.Opens, Gain{who, group, r})
	}
	if r := (c.closes &^ except.closes).Words(k); len(r) > 0 {
		e.Closes = append(e.Closes, Gain{who, group, r})
	}
}

// Between computes the effect of a path of kind k going from one state to another, for everyone
// and for each account and group that either state names.
func Between(k Kind, from, to Set, d *Directory) Effect {
	if x, ok := NTOf(from); ok {
		if y, ok := NTOf(to); ok && k != Link {
			return ntBetween(k, x, y, d)
		}
		return Effect{}
	}

	a, errA := POSIXOf(from)
	b, errB := POSIXOf(to)
	if errA != nil || errB != nil || k == Link {
		return Effect{}
	}

	rightsOf := func(s posixacl.Subject) change { return changeOf(a.rights(k, s), b.rights(k, s)) }

	// An id that cannot be an account stands for whoever is nobody in particular.
	nobody := posixacl.NoID
	all := rightsOf(posixacl.Subject{UID: nobody})
	var e Effect
	e.add(k, string(Everyone), false, all, change{})
	spoken := mentioned(a, b)
	told := map[Principal]change{}
	var groups []Principal

	for _, id := range spoken {
		n, _ := id.ID()
		if !id.IsGroup() && n == 0 {
			continue // root can do all of it anyway
		}

		c := rightsOf(subjectOf(id, n, d))
		e.add(k, d.Name(id), id.IsGroup(), c, all)
		told[id] = c
		if id.IsGroup() {
			groups = append(groups, id)
		}
	}

	// Who is in several of the groups may gain by one what another kept from them.
	for _, acc := range d.membersOf(groups) {
		n, ok := acc.ID.ID()
		if !ok || n == 0 || slices.Contains(spoken, acc.ID) {
			continue
		}

		except := all
		for _, g := range acc.Groups {
			except = except.with(told[g])
		}

		e.add(k, acc.Name, false, rightsOf(subjectOf(acc.ID, n, d)), except)
	}

	return e
}

// maxMembers bounds whom an effect is computed for one by one.
const maxMembers = 200

// membersOf gives accounts that are in two or more of some groups, at most maxMembers.
func (d *Directory) membersOf(groups []Principal) (out []*Account) {
	if d == nil || len(groups) < 2 {
		return nil
	}

	groups = slices.Clone(groups)
	slices.SortFunc(groups, func(a, b Principal) int { return cmp.Compare(len(d.members[a]), len(d.members[b])) })
	found := map[int32]bool{}

	for _, g := range groups[:len(groups)-1] { // who is in two is in one of these
		for _, i := range d.members[g] {
			n := 0
			for _, x := range d.Accounts[i].Groups {
				if slices.Contains(groups, x) {
					n++
				}
			}
			if n > 1 && len(found) < maxMembers {
				found[i] = true
			}
		}
	}

	for _, i := range slices.Sorted(maps.Keys(found)) {
		out = append(out, &d.Accounts[i])
	}

	return out
}

// A Mention is somebody that a state speaks of, and as what.
type Mention struct {
	ID Principal
	As string
}

// Mentioned lists who a state speaks of: owning group, owner, and those that entries name.
func Mentioned(s Set) (out []Mention) {
	if d, ok := NTOf(s); ok {
		for _, id := range ntMentioned(&d) {
			as := "named by an entry"
			if id == d.Owner {
				as = "owner"
			}
			out = append(out, Mention{SIDOf(id), as})
		}
		return out
	}

	p, err := POSIXOf(s)
	if err != nil {
		return nil
	}

	out = []Mention{{GID(p.GID), "owning group"}, {UID(p.UID), "owner"}}
	for _, e := range p.Access {
		switch e.Tag {
		case posixacl.User:
			out = append(out, Mention{UID(e.ID), "named by an entry"})
		case posixacl.Group:
			out = append(out, Mention{GID(e.ID), "group named by an entry"})
		}
	}

	return out
}

func mentioned(states ...POSIX) (out []Principal) {
	for _, groups := range []bool{true, false} { // groups first: they say more
		for _, s := range states {
			for _, m := range Mentioned(s.Set()) {
				if m.ID.IsGroup() == groups && !slices.Contains(out, m.ID) {
					out = append(out, m.ID)
				}
			}
		}
	}
	return out
}

func (p POSIX) rights(k Kind, s posixacl.Subject) Rights {
	may := func(want mode.Perm) bool { return posixacl.Check(p.UID, p.GID, p.Mode, p.Access, s, want).Granted }
	var r Rights
	set := func(right Rights, on bool) {
		if on {
			r |= right
		}
	}
	set(CanRead, may(mode.Read))
	set(CanExecute, may(mode.Execute))
	set(CanChange, s.UID == p.UID)
	if k == Folder { // changing a folder's entries needs both at once
		set(CanWrite, may(mode.Write|mode.Execute))
		set(CanRemoveOthers, r&CanWrite != 0 && (p.Mode&mode.Sticky == 0 || s.UID == p.UID))
		return r
	}

	set(CanWrite, may(mode.Write))

	// Set-user-ID gives an owner nothing; the group's identity, and capabilities, they get as everybody does
	// (execve(2)).
	set(CanRunAs, k == File && r&CanExecute != 0 &&
		(p.Mode&mode.SetUID != 0 && s.UID != p.UID || p.Mode&mode.SetGID != 0 && p.Mode&0o010 != 0 || p.Caps != ""))
	return r
}
