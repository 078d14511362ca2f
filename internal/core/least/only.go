package least

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
)

// An Only is who alone is to be able to do something.
type Only struct {
	Way       access.Way
	Keep      []access.Subject
	Operation access.Operation
	Names     *perm.Directory
}

// A Closing is what has to be taken away so that nobody else can do something, and what that costs.
type Closing struct {
	Changes []Taken
	// Who can do it now, and cannot then: accounts, numbers without one, and groups that no account is known to be in,
	// for whoever is. perm.Everyone is whoever is nobody in particular.
	Out    []perm.Principal
	Less   []perm.Principal // others that can do less then with one of the paths
	Left   []perm.Principal // who can do it all the same: by privileges, or by what is decided elsewhere
	Unsure []perm.Principal // who cannot as far as is known: who is in a group the host does not tell
	Back   []perm.Principal // of Out: they may change a path's permissions, and let themselves in again
	Short  []perm.Principal // of those who are to be able to: they cannot, now or then
}

// Taken is what is said of one place, one word after the other, and what comes of it.
type Taken struct {
	Place         int
	Before, After perm.Set
	Words         []Words
}

// maxTaken bounds the words that are said of one place, and the entries of its list that are tried: whoever is let in
// by what lies beyond is told to be left.
const maxTaken = 64

// A sort is accounts that no state on the way tells apart.
type sort struct {
	access.Subject
	who  []perm.Principal
	keep bool
}

// state is what was said so far of each place, and the way as it is then.
type state struct {
	said map[int][]Words
	way  access.Way
}

// Find returns the changes after which nobody but those who are kept can do something, each of them needed: those that
// take the least from others, as far as one after the other finds them. It ends with the context's error when that is
// over.
func (o Only) Find(ctx context.Context) (Closing, error) {
	sorts := o.sorts()
	at := state{map[int][]Words{}, o.Way}
	for range maxTaken {
		next, ok, err := o.step(ctx, sorts, at)
		if err != nil {
			return Closing{}, err
		}
		if !ok {
			break
		}
		at = next
	}
	return o.closing(sorts, o.needed(sorts, o.giveBack(sorts, at))), nil
}

// sorts puts accounts together that are alike on the way; those who are kept are by themselves, and so is whoever is
// nobody in particular. Numbers without an account, and groups that no account is known to be in, are somebody, too:
// who has such a number, or comes into such a group, is let in by it.
func (o Only) sorts() []sort {
	spoken, list := o.spoken()
	kept := map[perm.Principal]bool{}
	for _, k := range o.Keep {
		kept[k.ID] = true
	}

	out := []sort{{Subject: access.SubjectOf(o.Names, perm.Everyone), who: []perm.Principal{perm.Everyone}}}
	index := map[string]int{}
	met := map[perm.Principal]bool{perm.Everyone: true}
	for i := range o.accounts() {
		a := &o.Names.Accounts[i]
		s := access.SubjectNamed(o.Names, a) // one number may have several names, each with groups of its own
		key := fmt.Sprint(spoken[a.ID], kept[a.ID], groupsAmong(a, spoken), s.Privileges, s.Held)
		if spoken[a.ID] || kept[a.ID] {
			key += string(a.ID)
		}
		j, ok := index[key]
		if !ok {
			j = len(out)
			index[key] = j
			out = append(out, sort{Subject: s, keep: kept[a.ID]})
		}
		out[j].who = append(out[j].who, a.ID)
		met[a.ID] = true
		for _, g := range a.Groups {
			met[g] = true
		}
	}

	for _, k := range o.Keep {
		if !met[k.ID] {
			out, met[k.ID] = append(out, sort{Subject: k, who: []perm.Principal{k.ID}, keep: true}), true
		}
	}
	for _, id := range list {
		if !met[id] {
			out = append(out, o.unlisted(id))
		}
	}
	return out
}

// spoken returns whom the states on the way speak of, and a list of those that more than privileges decide about.
func (o Only) spoken() (all map[perm.Principal]bool, list []perm.Principal) {
	all = map[perm.Principal]bool{}
	for _, p := range o.Way {
		for _, m := range perm.Mentioned(p.Set, o.Names) {
			if !all[m.ID] && !perm.Untold(p.Set, m.ID) {
				list = append(list, m.ID)
			}
			all[m.ID] = true
		}
	}
	return all, list
}

// unlisted is a number without an account, or whoever is in a group that no account is known to be in.
func (o Only) unlisted(id perm.Principal) sort {
	s := sort{Subject: access.SubjectOf(o.Names, id), who: []perm.Principal{id}}
	if o.Names.IsGroup(id) {
		s.Subject = access.SubjectOf(o.Names, perm.Everyone, id)
	}
	return s
}

func (o Only) accounts() []perm.Account {
	if o.Names == nil {
		return nil
	}
	return o.Names.Accounts
}

func (o Only) can(s sort, way access.Way) bool {
	return access.NewAsker(s.Subject).Can(way, o.Operation)
}

// cost is what a way takes away, compared with how it is: how many can do it who are not kept, how many cannot who are,
// and how many rights are lost.
func (o Only) cost(sorts []sort, way access.Way) (open, kept, less int) {
	for _, s := range sorts {
		switch can := o.can(s, way); {
		case s.keep && !can && o.can(s, o.Way):
			kept++
		case !s.keep && can:
			open += len(s.who)
		}
		less += len(s.who) * o.lost(s, o.Way, way)
	}
	return open, kept, less
}

// lost counts the rights that somebody loses on the way.
func (o Only) lost(s sort, was, way access.Way) (n int) {
	for i := range way {
		if way[i].Set != was[i].Set {
			k := way[i].Kind
			n += ones(was[i].Set.State().Rights(k, s.ID, o.Names) &^ way[i].Set.State().Rights(k, s.ID, o.Names))
		}
	}
	return n
}

// doors counts the groups by which somebody can do it who is not kept: where two let the same one in, closing either is
// a step, though it shuts out nobody yet.
func (o Only) doors(sorts []sort, way access.Way) int {
	groups := map[perm.Principal]bool{}
	for _, s := range sorts {
		if !s.keep && o.can(s, way) {
			for _, g := range s.Groups {
				groups[g] = true
			}
		}
	}
	n := 0
	for g := range groups {
		if o.can(sort{Subject: access.SubjectOf(o.Names, perm.Everyone, g)}, way) {
			n++
		}
	}
	return n
}

// step takes away what shuts somebody out at the least cost for all others; false where nothing more does.
func (o Only) step(ctx context.Context, sorts []sort, at state) (best state, found bool, err error) {
	open, _, _ := o.cost(sorts, at.way)
	if open == 0 {
		return at, false, nil
	}
	doors := o.doors(sorts, at.way)

	var least [4]int
	for _, place := range o.places(sorts, at.way) {
		for _, w := range o.takings(&at.way[place]) {
			if err := ctx.Err(); err != nil {
				return at, false, err
			}
			next, ok := o.add(at, place, w)
			if !ok {
				continue
			}
			left, kept, less := o.cost(sorts, next.way)
			ajar := o.doors(sorts, next.way)
			score := [4]int{kept, less, left, ajar}
			if (left < open || left == open && ajar < doors) && (!found || slices.Compare(score[:], least[:]) < 0) {
				best, least, found = next, score, true
			}
		}
	}
	return best, found, nil
}

// places are those whose permissions let somebody do it who is not kept.
func (o Only) places(sorts []sort, way access.Way) (out []int) {
	last := len(way) - 1
	folder := way.FolderOf(last)
	for _, s := range sorts {
		if s.keep || !o.can(s, way) {
			continue
		}
		place := last
		if v := access.NewAsker(s.Subject).Decide(folder, &way[last], o.Operation); v.Folder && folder != nil {
			place = slices.IndexFunc(way, func(p access.Place) bool { return p.Path == folder.Path })
		}
		if place >= 0 && changeable(&way[place], o.Names) && !slices.Contains(out, place) {
			out = append(out, place)
		}
	}
	return out
}

// takings lists what may be taken away at a place: permissions of a class, an entry, or part of one.
func (o Only) takings(p *access.Place) (out []Words) {
	if p.Kind == perm.File || p.Kind == perm.Folder {
		for _, class := range []string{"o", "g", "u"} {
			for _, bits := range permissions {
				out = append(out, Words{Mode: class + "-" + bits.letters()})
			}
		}
	}
	named := perm.Mentioned(p.Set, o.Names)
	for _, m := range named[:min(len(named), maxTaken)] {
		for _, bits := range append(slices.Clone(permissions), 0) {
			out = append(out, Words{NoEntry: m.ID, Entry: &perm.DesiredEntry{Who: m.ID, Perm: mode.Perm(bits)}})
		}
		out = append(out, Words{NoEntry: m.ID}, Words{Without: m.ID})
	}
	return out
}

// add adds one word of a place; false where that changes nothing there, or cannot be said.
func (o Only) add(at state, place int, w Words) (state, bool) {
	words := append(slices.Clone(at.said[place]), w)
	set, ok := o.after(place, words)
	if !ok || set == at.way[place].Set {
		return at, false
	}
	return at.with(place, words, set), true
}

// places are those of which something was said, in their order.
func (s state) places() []int { return slices.Sorted(maps.Keys(s.said)) }

// with is a state with other words of a place.
func (s state) with(place int, words []Words, set perm.Set) state {
	next := state{maps.Clone(s.said), slices.Clone(s.way)}
	next.said[place] = words
	next.way[place].Set = set
	return next
}

// after returns what words make of a place, all of them together as one rule says them.
func (o Only) after(place int, words []Words) (perm.Set, bool) {
	p := o.Way[place]
	set, err := together(words, o.Names).Ready().Apply(perm.Found{Kind: p.Kind, Set: p.Set})
	return set, err == nil
}

// giveBack gives those who are kept what they lose, by entries of their own, where that lets in nobody else.
func (o Only) giveBack(sorts []sort, at state) state {
	for _, s := range sorts {
		if !s.keep || o.can(s, at.way) || !o.can(s, o.Way) {
			continue
		}
		open, _, _ := o.cost(sorts, at.way)
		best, fewest := at, -1
		ask := Ask{Way: at.way, Who: s.Subject, Operation: o.Operation, Names: o.Names}
		for _, place := range at.places() {
			for _, w := range ask.entries(s.ID, &at.way[place]) {
				next, ok := o.add(at, place, w)
				if !ok || !o.can(s, next.way) {
					continue
				}
				// Neither more than they had, nor less.
				n := o.lost(s, o.Way, next.way) + o.lost(s, next.way, o.Way)
				if after, _, _ := o.cost(sorts, next.way); after <= open && (fewest < 0 || n < fewest) {
					best, fewest = next, n
				}
			}
		}
		at = best
	}
	return at
}

// needed leaves out the words without which it is the same, or better.
func (o Only) needed(sorts []sort, at state) state {
	for _, place := range at.places() {
		words := at.said[place]
		for i := 0; i < len(words); {
			fewer := slices.Delete(slices.Clone(words), i, i+1)
			set, ok := o.after(place, fewer)
			next := at.with(place, fewer, set)
			a, b, c := o.cost(sorts, at.way)
			x, y, z := o.cost(sorts, next.way)
			if ok && cmp.Or(cmp.Compare(x, a), cmp.Compare(y, b), cmp.Compare(z, c)) <= 0 {
				at, words = next, fewer
				continue
			}
			i++
		}
	}
	return at
}

// closing tells what comes of it all.
func (o Only) closing(sorts []sort, at state) (out Closing) {
	for _, place := range at.places() {
		if words := at.said[place]; len(words) > 0 {
			out.Changes = append(out.Changes, Taken{place, o.Way[place].Set, at.way[place].Set, words})
		}
	}
	for _, s := range sorts {
		can, unknown := access.NewAsker(s.Subject).Sure(at.way, o.Operation, o.Names)
		could := o.can(s, o.Way)
		if !s.keep && !can && unknown {
			out.Unsure = append(out.Unsure, s.who...)
		}
		switch {
		case s.keep && !can:
			out.Short = append(out.Short, s.who...)
		case s.keep:
		case can:
			out.Left = append(out.Left, s.who...)
		case could:
			out.Out = append(out.Out, s.who...)
			if slices.ContainsFunc(out.Changes, func(c Taken) bool {
				return access.NewAsker(s.Subject).Can(at.way[:c.Place+1], access.Change)
			}) {
				out.Back = append(out.Back, s.who...)
			}
		case o.lost(s, o.Way, at.way) > 0:
			out.Less = append(out.Less, s.who...)
		}
	}
	return out
}
