// Package least finds the least changes that would let somebody do what they may not: an entry for them or for a group
// that they are in, joining a group, a bit of the mode, ownership; each with whom else it lets in, and those first that
// let in the fewest.
//
//	way := access.Way{…, {Path: "/srv/charts/tides.csv", Kind: perm.File, Set: set}}
//	list, err := least.Find(ctx, least.Ask{Way: way, Who: clerk, Operation: access.Read, Names: names})
//	// list[0]: an entry for the clerk on the file, which lets in nobody else
//
// It knows no scheme of permissions: what it tries are words of the baseline language, which each scheme takes in its
// own way, and what comes of them is asked of package access.
package least

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"idletally/internal/core/access"
	"idletally/internal/core/perm"
)

// A Means is what a proposal changes.
type Means string

// The means, in the order in which equal ones are proposed.
const (
	ForAccount Means = "account" // an entry for the account
	ForGroup   Means = "group"   // an entry for a group that the account is in
	NoDeny     Means = "deny"    // an entry that denies is taken away
	Join       Means = "join"    // the account joins a group that may do it already
	ByMode     Means = "mode"    // bits of the mode
	OnShare    Means = "share"   // the share's own list lets the account do it: nothing on the path has to change
	Ownership  Means = "owner"   // the path becomes the account's: never proposed first
)

var order = []Means{ForAccount, ForGroup, NoDeny, Join, ByMode, OnShare, Ownership}

// An Ask is what somebody would like to do, and may not.
type Ask struct {
	Way       access.Way
	Who       access.Subject
	Operation access.Operation
	Names     *perm.Directory
}

// A Change is one place's.
type Change struct {
	Place         int // of the way
	Before, After perm.Set
	Words         Words // by which a rule says the same
}

// A Proposal is changes that together let somebody do what they asked for. Each of them is needed.
type Proposal struct {
	Means   Means
	Party   perm.Principal // whom entries name, or the group that is joined
	Changes []Change       // none of a group that is joined
	// Accounts besides the one who asks that can do more than before with one of the paths, in the order of the host's.
	Others   []perm.Principal
	Everyone bool // also who is nobody in particular
	Share    bool // the share's own list has to let the account do it besides, which no change of paths brings about
	Extra    int  // rights that the one who asks gets besides what is needed, counted over the paths
}

// maxGroups is how many groups are proposed, of those that the account is in and of those that it could join: the ones
// with the fewest members.
const maxGroups = 20

// Find returns proposals, the one that lets in the fewest first, and none where somebody may do it already, or where no
// permission is what denies it. It ends with the context's error when that is over: hosts have many accounts.
func Find(ctx context.Context, a Ask) ([]Proposal, error) {
	if access.NewAsker(a.Who).Can(a.Way, a.Operation) {
		return nil, nil
	}
	list, err := a.onPaths(ctx)
	b, shared := a.unshared()
	if err != nil || !shared || slices.ContainsFunc(list, func(p Proposal) bool { return p.Means != Join }) {
		return list, err
	}
	// Whatever the paths allow, the share's own list denies it: but for a group, perhaps, that it lets in.
	besides, err := b.besidesShare(ctx)
	for _, p := range besides {
		if p.Means != Join || !slices.ContainsFunc(list, func(q Proposal) bool { return q.Party == p.Party }) {
			list = append(list, p)
		}
	}
	slices.SortStableFunc(list, Proposal.compare)
	return list, err
}

// unshared is the same question where no share's own list holds anybody back, and whether one does that here.
func (a Ask) unshared() (b Ask, shared bool) {
	b = a
	b.Way = slices.Clone(a.Way)
	for i := range b.Way {
		shared = shared || !b.Way[i].Mount.Share.IsZero()
		b.Way[i].Mount.Share = perm.Set{}
	}
	return b, shared
}

// besidesShare returns proposals for a question that the share's own list denies: each of them takes that besides.
func (a Ask) besidesShare(ctx context.Context) ([]Proposal, error) {
	if access.NewAsker(a.Who).Can(a.Way, a.Operation) {
		return []Proposal{{Means: OnShare, Party: a.Who.ID, Share: true}}, nil
	}
	list, err := a.onPaths(ctx)
	for i := range list {
		list[i].Share = true
	}
	return list, err
}

// onPaths finds proposals on the paths alone.
func (a Ask) onPaths(ctx context.Context) ([]Proposal, error) {
	var found []Proposal
	add := func(p Proposal, ok bool) bool {
		if ok = ok && !slices.ContainsFunc(found, p.same); ok {
			found = append(found, p)
		}
		return ok
	}
	for _, m := range []Means{ForAccount, NoDeny, ByMode, Ownership} {
		add(a.by(m, a.Who.ID))
	}
	own, others := a.groups()
	for _, g := range own[:min(len(own), maxGroups)] {
		add(a.by(ForGroup, g))
	}
	joined := 0
	for _, g := range others {
		if joined < maxGroups && add(a.joining(g)) {
			joined++
		}
	}

	for i := range found {
		if err := a.weigh(ctx, &found[i]); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(found, Proposal.compare)
	return found, nil
}

// groups returns those that the account is in, and all others of the host, each by how many members they have.
func (a Ask) groups() (own, others []perm.Principal) {
	own = slices.Clone(a.Who.Groups)
	if a.Names == nil {
		return own, nil
	}
	members := map[perm.Principal]int{}
	for i := range a.Names.Accounts {
		for _, g := range a.Names.Accounts[i].Groups {
			members[g]++
		}
	}
	for _, g := range a.Names.Groups {
		if !slices.Contains(own, g.ID) {
			others = append(others, g.ID)
		}
	}
	few := func(x, y perm.Principal) int { return cmp.Compare(members[x], members[y]) }
	slices.SortStableFunc(own, few)
	slices.SortStableFunc(others, few)
	return own, others
}

// same reports whether another proposal comes to the same states.
func (p Proposal) same(q Proposal) bool {
	return len(p.Changes) > 0 && slices.EqualFunc(p.Changes, q.Changes, func(a, b Change) bool {
		return a.Place == b.Place && a.After == b.After
	})
}

// compare puts those that let in fewer first; ownership comes last.
func (p Proposal) compare(q Proposal) int {
	flag := func(on bool) int {
		if on {
			return 1
		}
		return 0
	}
	return cmp.Or(
		cmp.Compare(flag(p.Means == Ownership), flag(q.Means == Ownership)),
		cmp.Compare(flag(p.Everyone), flag(q.Everyone)),
		cmp.Compare(len(p.Others), len(q.Others)),
		cmp.Compare(flag(p.Means == Join), flag(q.Means == Join)), // which opens what is elsewhere, too
		cmp.Compare(p.Extra, q.Extra),
		cmp.Compare(len(p.Changes), len(q.Changes)),
		cmp.Compare(slices.Index(order, p.Means), slices.Index(order, q.Means)),
	)
}

// joining proposes that the account joins a group.
func (a Ask) joining(group perm.Principal) (Proposal, bool) {
	if slices.Contains(a.Who.Groups, group) {
		return Proposal{}, false
	}
	with := a.Who
	with.Groups = append(slices.Clone(with.Groups), group)
	return Proposal{Means: Join, Party: group}, access.NewAsker(with).Can(a.Way, a.Operation)
}

// by proposes changes of one means for a party: at each place that stops the account the smallest that lets it on.
// Where the means does nothing, such as an entry for the owner, bits of the mode take its place.
func (a Ask) by(m Means, party perm.Principal) (Proposal, bool) {
	p := Proposal{Means: m, Party: party}
	used := false
	way := slices.Clone(a.Way)
	for range 2 * len(way) { // a place may stop somebody twice: for a right, and for a sticky bit
		stop, ok := a.stop(way)
		if ok {
			return p.joined(), used
		}
		if stop.place < 0 {
			return p, false
		}
		c, ok := a.change(way, stop, m, party)
		used = used || ok
		if !ok && m != Ownership {
			c, ok = a.change(way, stop, ByMode, party)
		}
		if !ok {
			return p, false
		}
		way[stop.place].Set = c.After
		p.Changes = append(p.Changes, c)
	}
	return p, false
}

// joined puts changes of one place together.
func (p Proposal) joined() Proposal {
	var out []Change
	for _, c := range p.Changes {
		if n := len(out); n > 0 && out[n-1].Place == c.Place {
			out[n-1].After, out[n-1].Words = c.After, out[n-1].Words.and(c.Words)
			continue
		}
		out = append(out, c)
	}
	p.Changes = out
	return p
}

// A stop is where somebody comes no further.
type stop struct {
	place int // whose permissions stop them; -1 where no permission does
	code  access.Code
}

// stop returns where the account comes no further on a way, and whether it may do all of it.
func (a Ask) stop(way access.Way) (stop, bool) {
	asker := access.NewAsker(a.Who)
	last := len(way) - 1
	for i := range way[:last] {
		if v := asker.Passes(&way[i]); !v.OK {
			return at(i, v), false
		}
	}

	folder := way.FolderOf(last)
	v := asker.Decide(folder, &way[last], a.Operation)
	if v.OK {
		return stop{}, true
	}
	if !v.Folder || folder == nil {
		return at(last, v), false
	}
	for i := range way {
		if &way[i] == folder {
			return at(i, v), false
		}
	}
	return stop{place: -1}, false
}

// at is a stop by a verdict, unless no permission is what stops somebody.
func at(place int, v access.Verdict) stop {
	switch v.Code {
	case access.ByReadOnly, access.ByNoExec, access.ByNoDev, access.ByNoFollow, access.ByImmutable, access.ByAppendOnly,
		access.ByMountPoint:
		return stop{place: -1, code: v.Code}
	}
	if !v.Decided() {
		return stop{place: -1, code: v.Code}
	}
	return stop{place, v.Code}
}

// change returns the smallest change of a means at the place where somebody stops, after which they stop there no more,
// or only for its sticky bit.
func (a Ask) change(way access.Way, s stop, m Means, party perm.Principal) (Change, bool) {
	place := &way[s.place]
	if m == ForGroup { // it takes what an entry for the account would take
		own, ok := a.change(way, s, ForAccount, a.Who.ID)
		if !ok {
			return Change{}, false
		}
		return a.first(way, s, []Words{own.Words.forAnother(party, a.Names)})
	}
	if !changeable(place, a.Names) {
		return Change{}, false
	}
	return a.first(way, s, a.tries(m, party, place, s.code))
}

// changeable reports whether anybody can change a place's permissions: no mount and no flag fixes them.
func changeable(p *access.Place, names *perm.Directory) bool {
	return !p.Mount.Shut() && len(perm.Describe(p.Kind, p.Set, names).Flags) == 0
}

// first returns the first of some changes of a place that lets the account on.
func (a Ask) first(way access.Way, s stop, tries []Words) (Change, bool) {
	place := &way[s.place]
	for _, words := range tries {
		desired := words.desired(a.Names)
		after, err := desired.Ready().Apply(perm.Found{Kind: place.Kind, Set: place.Set})
		if err != nil || after == place.Set {
			continue
		}
		next := slices.Clone(way)
		next[s.place].Set = after
		left, ok := a.stop(next)
		further := left.place != s.place || left.code == access.BySticky && s.code != access.BySticky
		if ok || left.place >= 0 && further {
			return Change{s.place, place.Set, after, words}, true
		}
	}
	return Change{}, false
}

// A transition is what a change makes of one path, for whoever has rights there.
type transition struct {
	k             perm.Kind
	before, after perm.State
}

// gains returns the rights that somebody has then, and has not now.
func (x transition) gains(who perm.Principal, d *perm.Directory) perm.Rights {
	return x.after.Rights(x.k, who, d) &^ x.before.Rights(x.k, who, d)
}

// weigh adds whom else a proposal lets in.
func (a Ask) weigh(ctx context.Context, p *Proposal) error {
	if a.Names == nil || len(p.Changes) == 0 {
		return nil
	}
	var moves []transition
	named := map[perm.Principal]bool{} // by a state of one of the paths: others differ in nothing but in these
	for _, c := range p.Changes {
		moves = append(moves, transition{a.Way[c.Place].Kind, c.Before.State(), c.After.State()})
		for _, s := range []perm.Set{c.Before, c.After} {
			for _, m := range perm.Mentioned(s, a.Names) {
				named[m.ID] = true
			}
		}
	}
	for _, x := range moves {
		p.Everyone = p.Everyone || x.gains(perm.Everyone, a.Names) != 0
		p.Extra += max(ones(x.gains(a.Who.ID, a.Names))-1, 0)
	}

	seen := map[perm.Principal]bool{a.Who.ID: true} // one number may have several names
	alike := map[string]bool{}                      // whether those gain who are in the same of the named groups
	for i := range a.Names.Accounts {
		if i%1000 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		who := &a.Names.Accounts[i]
		if seen[who.ID] || slices.ContainsFunc(moves, func(x transition) bool { return x.after.Untold(who.ID) }) {
			continue
		}
		seen[who.ID] = true
		key := alikeBy(who, named)
		gains, known := alike[key]
		if !known {
			gains = slices.ContainsFunc(moves, func(x transition) bool { return x.gains(who.ID, a.Names) != 0 })
			alike[key] = gains
		}
		if gains {
			p.Others = append(p.Others, who.ID)
		}
	}
	return nil
}

// alikeBy returns a text that accounts share which states that name just these do not tell apart.
func alikeBy(who *perm.Account, named map[perm.Principal]bool) string {
	if named[who.ID] {
		return "account " + string(who.ID)
	}
	return groupsAmong(who, named)
}

// groupsAmong returns a text of the groups that an account is in, of some.
func groupsAmong(who *perm.Account, some map[perm.Principal]bool) string {
	var b strings.Builder
	for _, g := range who.Groups {
		if some[g] {
			b.WriteString(string(g))
			b.WriteByte(' ')
		}
	}
	return b.String()
}
