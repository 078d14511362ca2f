package perm

import (
	"cmp"
	"maps"
	"slices"
	"strings"
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

	// Who and Rights as they are known; not kept.
	ID  Principal `json:"-"`
	Can Rights    `json:"-"`
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

// OpensEveryone reports whether everyone gains something.
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

// gain returns the gain of somebody, without rights yet.
func (d *Directory) gain(who Principal) Gain {
	return Gain{Who: d.Name(who), Group: d.IsGroup(who), ID: who}
}

// add records what somebody gains and loses, except what everyone else gains and loses with them.
func (e *Effect) add(k Kind, who Gain, c, except change) {
	who.Can = c.opens &^ except.opens
	who.Rights = who.Can.Words(k)
	if len(who.Rights) > 0 {
		e.Opens = append(e.Opens, who)
	}
	who.Can = c.closes &^ except.closes
	who.Rights = who.Can.Words(k)
	if len(who.Rights) > 0 {
		e.Closes = append(e.Closes, who)
	}
}

// Untold reports whether an effect on a state leaves somebody out: they may do all of it anyway, or are no account.
func Untold(s Set, who Principal) bool { return s.State().Untold(who) }

// Between computes the effect of a path of kind k going from one state to another, for everyone
// and for each account and group that either state names. Where nothing is known of one of them it is none.
func Between(k Kind, from, to Set, d *Directory) Effect {
	if k == Link || from.IsZero() || to.IsZero() {
		return Effect{}
	}

	a, b := from.State(), to.State()
	rightsOf := func(id Principal) change { return changeOf(a.Rights(k, id, d), b.Rights(k, id, d)) }
	all := rightsOf(Everyone)
	var e Effect
	e.add(k, d.gain(Everyone), all, change{})

	spoken := slices.DeleteFunc(mentioned(a, b, d), func(id Principal) bool { return a.Untold(id) || b.Untold(id) })
	told := make([]change, len(spoken))
	for i, id := range spoken {
		told[i] = rightsOf(id)
		e.add(k, d.gain(id), told[i], all)
	}

	// Whoever is in several of the groups may gain by one what another denied them: no group by itself shows that.
	for _, acc := range d.membersOf(spoken) {
		if slices.Contains(spoken, acc.ID) || a.Untold(acc.ID) || b.Untold(acc.ID) {
			continue
		}
		except := all
		for i, id := range spoken {
			if slices.Contains(acc.Groups, id) {
				except = except.with(told[i])
			}
		}
		e.add(k, Gain{Who: acc.Name, ID: acc.ID}, rightsOf(acc.ID), except)
	}

	return e
}

// MaxMembers bounds whom an effect is computed for one by one.
const MaxMembers = 200

// membersOf returns accounts that are in two or more of some groups, at most maxMembers.
func (d *Directory) membersOf(groups []Principal) (out []*Account) {
	if d == nil {
		return nil
	}
	some := 0
	for _, g := range groups {
		if len(d.members[g]) > 0 {
			some++
		}
	}
	if some < 2 {
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
			if n > 1 && len(found) < MaxMembers {
				found[i] = true
			}
		}
	}

	for _, i := range slices.Sorted(maps.Keys(found)) {
		out = append(out, &d.Accounts[i])
	}

	return out
}

// A Mention is somebody whom a state names, and in which role.
type Mention struct {
	ID Principal
	As string
}

// Mentioned lists whom a state names: owning group, owner, and those in entries.
func Mentioned(s Set, d *Directory) []Mention { return s.State().Mentions(d) }

// mentioned returns whom two states speak of, each once, in the order in which an effect tells of them.
func mentioned(a, b State, d *Directory) []Principal {
	out := b.Speaks(a.Speaks(make([]Principal, 0, 8), d), d)
	if a.GroupsFirst() { // they say more
		slices.SortStableFunc(out, func(x, y Principal) int {
			switch {
			case identify(x).Group == identify(y).Group:
				return 0
			case identify(x).Group:
				return -1
			}
			return 1
		})
	}
	return out
}
