package least

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nfs4"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	_ "idletally/internal/core/schemes"
	"idletally/internal/core/unixid"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
)

// The crew of a host: the clerk is in the office, the deckhand and the mate are in the crew, and the purser in both.
var names = (&perm.Directory{
	Accounts: []perm.Account{
		{ID: unixid.UID(0), Name: "root"},
		{ID: unixid.UID(1), Name: "clerk", Groups: []perm.Principal{unixid.GID(10)}},
		{ID: unixid.UID(2), Name: "deckhand", Groups: []perm.Principal{unixid.GID(11)}},
		{ID: unixid.UID(3), Name: "mate", Groups: []perm.Principal{unixid.GID(11)}},
		{ID: unixid.UID(4), Name: "purser", Groups: []perm.Principal{unixid.GID(10), unixid.GID(11)}},
	},
	Groups: []perm.Account{{ID: unixid.GID(10), Name: "office"}, {ID: unixid.GID(11), Name: "crew"},
		{ID: unixid.GID(12), Name: "yard"}},
}).Index()

// place is a path of the deckhand and the crew.
func place(path string, k perm.Kind, m mode.Mode) access.Place {
	return access.Place{Path: pathname.Path(path), Kind: k, Set: posix.State{UID: 2, GID: 11, Mode: m}.Set()}
}

func way(folder, file mode.Mode) access.Way {
	return access.Way{place("/", perm.Folder, 0o755), place("/charts", perm.Folder, folder),
		place("/charts/tides", perm.File, file)}
}

// told is a proposal in a line.
func told(p Proposal) string {
	out := []string{string(p.Means)}
	if p.Party != "" {
		out = append(out, names.Name(p.Party))
	}
	for _, c := range p.Changes {
		out = append(out, perm.Describe(perm.File, c.After, names).Mode)
	}
	for _, o := range p.Others {
		out = append(out, "+"+names.Name(o))
	}
	if p.Everyone {
		out = append(out, "+everyone")
	}
	return strings.Join(out, " ")
}

func find(t *testing.T, a Ask) []Proposal {
	t.Helper()
	list, err := Find(t.Context(), a)
	testkit.Must(t, err)
	return list
}

func TestFind(t *testing.T) {
	for _, c := range []struct {
		name      string
		way       access.Way
		who       uint32
		operation access.Operation
		first     Means
		others    int
		has       []Means
	}{
		{"may do it already", way(0o755, 0o644), 1, access.Read, "", 0, nil},
		{"a file of others", way(0o755, 0o640), 1, access.Read, ForAccount, 0,
			[]Means{Join, ForGroup, ByMode, Ownership}},
		{"the folder and the file", way(0o750, 0o640), 1, access.Read, ForAccount, 0, []Means{Join, ByMode}},
		{"the folder alone", way(0o750, 0o644), 1, access.Read, ForAccount, 0, []Means{Join, ByMode}},
		{"the owner, who took it off", way(0o755, 0o044), 2, access.Read, ByMode, 0, nil},
		{"a program", way(0o755, 0o644), 3, access.Execute, ForAccount, 0, []Means{ByMode}},
		{"to take out of a folder", way(0o755, 0o644), 3, access.Delete, ForAccount, 0, []Means{ByMode, Ownership}},
		{"to take out of a sticky folder", way(0o1775, 0o644), 3, access.Delete, ByMode, 1, []Means{Ownership}},
		{"nor into a sticky one", way(0o1755, 0o644), 3, access.Delete, ForAccount, 0, []Means{Ownership}},
		{"to change its permissions", way(0o755, 0o644), 3, access.Change, Ownership, 0, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			who := access.SubjectOf(names, unixid.UID(c.who))
			list := find(t, Ask{Way: c.way, Who: who, Operation: c.operation, Names: names})
			var means []Means
			for _, p := range list {
				t.Log(told(p))
				means = append(means, p.Means)
			}
			if c.first == "" {
				if len(list) > 0 {
					t.Error("there are proposals")
				}
				return
			}
			if len(list) == 0 || list[0].Means != c.first || len(list[0].Others) != c.others {
				t.Fatalf("the first is not by %s", c.first)
			}
			for _, m := range c.has {
				if !slices.Contains(means, m) {
					t.Errorf("none is by %s", m)
				}
			}
			if i := slices.Index(means, Ownership); i >= 0 && i != len(means)-1 {
				t.Error("ownership is not the last one")
			}
		})
	}
}

// Where no permission denies it there is nothing to propose.
func TestNothingToPropose(t *testing.T) {
	who := access.SubjectOf(names, unixid.UID(1))
	readOnly := way(0o755, 0o640)
	readOnly[2].Mount.ReadOnly = true
	fixed := way(0o755, 0o600)
	fixed[2].Set = posix.State{UID: 2, GID: 11, Mode: 0o600, Flags: perm.Immutable}.Set()
	noFolder := way(0o755, 0o644)
	noFolder[1].Kind = perm.File
	unread := way(0o755, 0o640)
	unread[2].Set = perm.Set{}
	for name, w := range map[string]access.Way{
		"a read-only file system": readOnly, "an immutable file": fixed, "no folder": noFolder, "not read": unread,
	} {
		t.Run(name, func(t *testing.T) {
			for _, p := range find(t, Ask{Way: w, Who: who, Operation: access.Write, Names: names}) {
				if p.Means != Join {
					t.Error(told(p))
				}
			}
		})
	}
}

// What the share's own list denies no change of paths brings about: that is said, alone or besides.
func TestByTheShare(t *testing.T) {
	clerk := ntsd.NewSID(5, 21, 1, 2, 3, 1001)
	server := (&perm.Directory{Accounts: []perm.Account{{ID: nt.PrincipalOf(clerk), Name: "clerk"}}}).Index()
	list := func(text string) perm.Set {
		d, err := ntsd.ParseSDDL("O:SYG:SY" + text)
		testkit.Must(t, err)
		set, err := nt.SetOf(d)
		testkit.Must(t, err)
		return set
	}
	for _, c := range []struct {
		name, share, path string
		op                access.Operation
		means             Means
		besides           bool
	}{
		{"the path lets them", "D:(A;;FR;;;WD)", "D:P(A;;FA;;;WD)", access.Write, OnShare, true},
		{"neither does", "D:(A;;FR;;;WD)", "D:P(A;;FR;;;WD)", access.Write, ForAccount, true},
		{"only the path does not", "D:(A;;FA;;;WD)", "D:P(A;;FR;;;WD)", access.Write, ForAccount, false},
		{"the share lets nobody in", "D:(A;;FA;;;SY)", "D:P(A;;FA;;;WD)", access.Read, OnShare, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			share := access.Mount{Share: list(c.share)}
			got := find(t, Ask{
				Way: access.Way{
					{Path: "/charts", Kind: perm.Folder, Set: list("D:P(A;;FA;;;WD)"), Mount: share},
					{Path: "/charts/tides", Kind: perm.File, Set: list(c.path), Mount: share},
				},
				Who: access.SubjectOf(server, nt.PrincipalOf(clerk)), Operation: c.op, Names: server,
			})
			if len(got) == 0 || got[0].Means != c.means || got[0].Share != c.besides ||
				(len(got[0].Changes) == 0) != (c.means == OnShare) {
				t.Errorf("%+v", got)
			}
		})
	}
}

// A group that the share lets in is proposed by itself: joining it takes nothing of the share's list.
func TestJoiningPastTheShare(t *testing.T) {
	clerk, crew := ntsd.NewSID(5, 21, 1, 2, 3, 1001), ntsd.NewSID(5, 21, 1, 2, 3, 1100)
	server := (&perm.Directory{
		Accounts: []perm.Account{{ID: nt.PrincipalOf(clerk), Name: "clerk"}},
		Groups:   []perm.Account{{ID: nt.PrincipalOf(crew), Name: "crew"}},
	}).Index()
	list := func(text string) perm.Set {
		d, err := ntsd.ParseSDDL("O:SYG:SY" + text)
		testkit.Must(t, err)
		set, err := nt.SetOf(d)
		testkit.Must(t, err)
		return set
	}
	share := access.Mount{Share: list("D:(A;;FA;;;" + crew.String() + ")")}
	got := find(t, Ask{
		Way: access.Way{
			{Path: "/charts", Kind: perm.Folder, Set: list("D:P(A;;FA;;;WD)"), Mount: share},
			{Path: "/charts/tides", Kind: perm.File, Set: list("D:P(A;;FA;;;WD)"), Mount: share},
		},
		Who: access.SubjectOf(server, nt.PrincipalOf(clerk)), Operation: access.Write, Names: server,
	})
	if len(got) != 2 || got[0].Means != OnShare || got[1].Means != Join || got[1].Share {
		t.Errorf("%+v", got)
	}
}

// On a share an entry that denies is what has to go: none that allows helps.
func TestDenied(t *testing.T) {
	clerk, office := ntsd.NewSID(5, 21, 1, 2, 3, 1001), ntsd.NewSID(5, 21, 1, 2, 3, 1100)
	server := (&perm.Directory{
		Accounts: []perm.Account{{ID: nt.PrincipalOf(clerk), Name: "clerk",
			Groups: []perm.Principal{nt.PrincipalOf(office)}}},
		Groups: []perm.Account{{ID: nt.PrincipalOf(office), Name: "office"}},
	}).Index()
	for _, c := range []struct {
		name, list string
		means      Means
		rights     int // single rights of the entry
	}{
		{"nothing allows it", "D:P(A;;FA;;;SY)", ForAccount, 1},
		{"the group is denied it", "D:P(D;;0x1;;;" + office.String() + ")(A;;FA;;;WD)", NoDeny, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := ntsd.ParseSDDL("O:SYG:SY" + c.list)
			testkit.Must(t, err)
			set, err := nt.SetOf(d)
			testkit.Must(t, err)
			top, err := ntsd.ParseSDDL("O:SYG:SYD:P(A;;FA;;;WD)")
			testkit.Must(t, err)
			open, err := nt.SetOf(top)
			testkit.Must(t, err)
			list := find(t, Ask{
				Way: access.Way{
					{Path: "/", Kind: perm.Folder, Set: open},
					{Path: "/charts", Kind: perm.Folder, Set: open},
					{Path: "/charts/tides", Kind: perm.File, Set: set},
				},
				Who:       access.SubjectOf(server, nt.PrincipalOf(clerk)),
				Operation: access.Read,
				Names:     server,
			})
			if len(list) == 0 || list[0].Means != c.means {
				t.Fatalf("%+v", list)
			}
			if g := list[0].Changes[0].Words.Grant; c.rights > 0 && (g == nil || ones(perm.Rights(g.Rights)) > 2) {
				t.Errorf("%+v is more than it takes", g)
			}
		})
	}
}

// NFSv4 lists take an entry, or lose the one that denies.
func TestFindNFS4(t *testing.T) {
	list := func(l nfs4.List) perm.Set { return nfs4.State{UID: 2, GID: 11, List: l}.Set() }
	open := list(nfs4.List{{Type: nfs4.Allow, Mask: ace.Full, Who: nfs4.Everyone}})
	for _, c := range []struct {
		name  string
		list  nfs4.List
		means Means
	}{
		{"nothing allows it", nfs4.List{{Type: nfs4.Allow, Mask: ace.Full, Who: nfs4.Owner}}, ForAccount},
		{"the account is denied it", nfs4.List{{Type: nfs4.Deny, Mask: ace.ReadData, Who: "1"},
			{Type: nfs4.Allow, Mask: ace.Full, Who: nfs4.Everyone}}, NoDeny},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := Ask{
				Way: access.Way{
					{Path: "/", Kind: perm.Folder, Set: open},
					{Path: "/charts", Kind: perm.Folder, Set: open},
					{Path: "/charts/tides", Kind: perm.File, Set: list(c.list)},
				},
				Who:       access.SubjectOf(names, unixid.UID(1)),
				Operation: access.Read,
				Names:     names,
			}
			list := find(t, a)
			if len(list) == 0 || list[0].Means != c.means || len(list[0].Others) > 0 {
				t.Fatalf("%+v", list)
			}
			for _, p := range list {
				checkProposal(t, a, p)
			}
		})
	}
}

// random is a way to a file whose folders and itself are anything.
func random(r *rand.Rand) access.Way {
	state := func() perm.Set {
		s := posix.State{UID: uint32(1 + r.IntN(4)), GID: uint32(10 + r.IntN(3)), Mode: mode.Mode(r.IntN(0o1000))}
		if r.IntN(3) == 0 {
			s.Mode |= 0o1000
		}
		if r.IntN(2) == 0 {
			mask := s.Mode.Group()
			s.Access = posixacl.Build(s.Mode.Owner(), mode.Perm(r.IntN(8)), s.Mode.Other(), posixacl.List{
				{Tag: posixacl.User, ID: uint32(1 + r.IntN(4)), Perm: mode.Perm(r.IntN(8))},
				{Tag: posixacl.Group, ID: uint32(10 + r.IntN(3)), Perm: mode.Perm(r.IntN(8))},
			}, &mask)
		}
		return s.Set()
	}
	return access.Way{
		{Path: "/", Kind: perm.Folder, Set: state()},
		{Path: "/charts", Kind: perm.Folder, Set: state()},
		{Path: "/charts/tides", Kind: perm.File, Set: state()},
	}
}

var operations = []access.Operation{access.Read, access.Write, access.Execute, access.Delete, access.Rename}

// Of anything that somebody may not do, each proposal lets them, each of its changes is needed, and nobody can do more
// on the paths than it says; and no mode of a single path that takes nothing away lets in fewer.
func TestProposals(t *testing.T) {
	r := seeded.Rand(t)
	asked, proposed := 0, 0
	for range testkit.Rounds(400, 4000) {
		w := random(r)
		a := Ask{Way: w, Who: access.SubjectOf(names, unixid.UID(uint32(1+r.IntN(4)))), Names: names,
			Operation: operations[r.IntN(len(operations))]}
		if access.NewAsker(a.Who).Can(w, a.Operation) {
			continue
		}
		asked++
		list := find(t, a)
		if len(list) == 0 {
			t.Fatalf("%s of %v: nothing is proposed", a.Operation, w)
		}
		for _, p := range list {
			proposed++
			checkProposal(t, a, p)
		}
		if best := list[0]; len(best.Others) > 0 || best.Everyone {
			for i := range w {
				bruteForce(t, a, best, i)
			}
		}
	}
	t.Logf("%d questions, %d proposals", asked, proposed)
}

// made is the way as a proposal makes it, but for one of its changes; -1 leaves out none.
func made(w access.Way, p Proposal, without int) access.Way {
	w = slices.Clone(w)
	for i, c := range p.Changes {
		if i != without {
			w[c.Place].Set = c.After
		}
	}
	return w
}

func checkProposal(t *testing.T, a Ask, p Proposal) {
	t.Helper()
	who := a.Who
	if p.Means == Join {
		who.Groups = append(slices.Clone(who.Groups), p.Party)
	}
	if !access.NewAsker(who).Can(made(a.Way, p, -1), a.Operation) {
		t.Fatalf("%s does not let %s %s", told(p), a.Who.Name, a.Operation)
	}
	for i := range p.Changes {
		if access.NewAsker(a.Who).Can(made(a.Way, p, i), a.Operation) {
			t.Errorf("%s: change %d is not needed", told(p), i)
		}
	}

	// Whoever can do something on one of the paths that they could not is said to.
	for _, acc := range names.Accounts {
		if acc.ID == a.Who.ID || slices.Contains(p.Others, acc.ID) || acc.ID == unixid.UID(0) {
			continue
		}
		asker := access.NewAsker(access.SubjectOf(names, acc.ID))
		for _, c := range p.Changes {
			was, is := a.Way[c.Place], a.Way[c.Place]
			is.Set = c.After
			for _, op := range access.For(was.Kind, was.Set.Scheme()) {
				if op == access.Delete || op == access.Rename { // which the folder decides
					continue
				}
				if asker.Decide(nil, &is, op).OK && !asker.Decide(nil, &was, op).OK {
					t.Fatalf("%s: %s can %s %s, which is not said", told(p), acc.Name, op, was.Path)
				}
			}
		}
	}
}

// bruteForce tries every mode of one path.
func bruteForce(t *testing.T, a Ask, best Proposal, place int) {
	t.Helper()
	s, err := posix.Of(a.Way[place].Set)
	testkit.Must(t, err)
	if s.Access != nil {
		return
	}
	was := s.Mode &^ mode.Sticky
	for m := range mode.Mode(0o2000) {
		if m&was != was {
			continue
		}
		s.Mode = m
		c := Change{Place: place, Before: a.Way[place].Set, After: s.Set()}
		p := Proposal{Means: ByMode, Changes: []Change{c}}
		testkit.Must(t, a.weigh(t.Context(), &p))
		if access.NewAsker(a.Who).Can(made(a.Way, p, -1), a.Operation) && (len(p.Others) < len(best.Others) ||
			!p.Everyone && best.Everyone) {
			t.Fatalf("%s lets in more than mode %s of %s", told(best), m, a.Way[place].Path)
		}
	}
}

// A server with many accounts and groups is asked within a bound.
func TestManyAccounts(t *testing.T) {
	sid := func(n int) perm.Principal { return nt.PrincipalOf(ntsd.NewSID(5, 21, 1, 2, 3, uint32(n))) }
	many := &perm.Directory{}
	for i := range 1000 {
		many.Groups = append(many.Groups, perm.Account{ID: sid(100_000 + i), Name: fmt.Sprintf("group-%d", i)})
	}
	for i := range 10_000 {
		one := perm.Account{ID: sid(i), Name: fmt.Sprintf("hand-%d", i)}
		for j := range 10 {
			one.Groups = append(one.Groups, many.Groups[(i*7+j*101)%1000].ID)
		}
		many.Accounts = append(many.Accounts, one)
	}
	many.Accounts[0].Groups = nil
	for _, g := range many.Groups[:200] {
		many.Accounts[0].Groups = append(many.Accounts[0].Groups, g.ID)
	}
	many.Index()

	d, err := ntsd.ParseSDDL("O:SYG:SYD:P(A;;FA;;;SY)")
	testkit.Must(t, err)
	shut, err := nt.SetOf(d)
	testkit.Must(t, err)
	a := Ask{
		Way: access.Way{{Path: "/", Kind: perm.Folder, Set: shut}, {Path: "/charts", Kind: perm.Folder, Set: shut},
			{Path: "/charts/tides", Kind: perm.File, Set: shut}},
		Who:       access.SubjectOf(many, sid(0)),
		Operation: access.Read,
		Names:     many,
	}
	start := time.Now()
	list := find(t, a)
	t.Logf("%d proposals of 10,000 accounts and 1,000 groups: %v", len(list), time.Since(start))
	if len(list) < 2 || len(list) > 2*maxGroups+4 || list[0].Means != ForAccount {
		t.Errorf("%d proposals", len(list))
	}

	over, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Find(over, a); !errors.Is(err, context.Canceled) {
		t.Errorf("it goes on: %v", err)
	}
}
