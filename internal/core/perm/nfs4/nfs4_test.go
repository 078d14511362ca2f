package nfs4

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/schemetest"
	"idletally/internal/core/unixid"
	"idletally/internal/testkit/seeded"
)

func crew() *perm.Directory {
	return (&perm.Directory{
		Accounts: []perm.Account{
			{ID: "u0", Name: "root"},
			{ID: "u1", Name: "purser", Groups: []perm.Principal{"g10"}},
			{ID: "u2", Name: "pim", Groups: []perm.Principal{"g10", "g11"}},
			{ID: "u3", Name: "stray"},
		},
		Groups: []perm.Account{{ID: "g10", Name: "crew"}, {ID: "g11", Name: "clerks"}},
	}).Index()
}

func randomEntry(r *rand.Rand, k perm.Kind) Entry {
	who := []string{Owner, Group, Everyone, "1", "2", "purser@saltmarsh.example", "pim@saltmarsh.example",
		"crew@saltmarsh.example"}
	masks := []ace.Mask{
		ace.ReadSet, ace.ReadSet | ace.WriteSet, ace.Full, ace.Execute, ace.ReadData, ace.WriteData, ace.AppendData,
		ace.WriteDAC, ace.Delete, ace.DeleteChild,
	}
	e := Entry{Type: Type(r.IntN(2)), Mask: masks[r.IntN(len(masks))], Who: who[r.IntN(len(who))]}
	e.Mask |= masks[r.IntN(len(masks))]
	if strings.HasPrefix(e.Who, "crew") || e.Who == "1" && r.IntN(2) == 0 || e.Who == Group {
		e.Flags |= IdentifierGroup
	}
	if k == perm.Folder {
		e.Flags |= Flags(r.IntN(16))
	}
	if r.IntN(8) == 0 {
		e.Flags |= Inherited
	}
	if r.IntN(20) == 0 {
		e.Type = Audit
	}
	return e
}

func randomState(r *rand.Rand, k perm.Kind) State {
	s := State{UID: r.Uint32N(4), GID: 10 + r.Uint32N(2), List: List{}}
	if r.IntN(4) == 0 {
		s.Special = []mode.Mode{mode.SetUID, mode.SetGID, mode.Sticky}[r.IntN(3)]
	}
	for range r.IntN(6) {
		s.List = append(s.List, randomEntry(r, k))
	}
	return s
}

// What holds for every scheme.
func TestConformance(t *testing.T) {
	schemetest.Run(t, Scheme{}, seeded.Rand(t), func(r *rand.Rand,
		k perm.Kind) perm.Set {
		return randomState(r, k).Set()
	})
}

// What is asked is there afterwards, and asking again changes nothing.
func TestApplySettles(t *testing.T) {
	r, d := seeded.Rand(t), crew()
	for range 20_000 {
		k := []perm.Kind{perm.File, perm.Folder}[r.IntN(2)]
		found := randomState(r, k)
		w := &perm.Desired{Rule: map[perm.Aspect]int{}}
		if r.IntN(2) == 0 {
			m := mode.Exactly(mode.Mode(r.Uint32N(0o1000)))
			w.Mode = &m
		}
		if r.IntN(2) == 0 {
			w.Grants = &perm.DesiredGrants{AtLeast: r.IntN(2) == 0}
			for i := range 1 + r.IntN(3) { // each of somebody else: a rule names nobody twice
				g := perm.DesiredGrant{Rights: ace.ReadSet | ace.Execute, Deny: r.IntN(3) == 0}
				g.Party = []perm.Party{
					{Who: "u2", Name: "pim"}, {Who: "g10", Name: "crew"}, {Who: userPrefix + Owner, Name: Owner},
				}[i]
				if k == perm.Folder {
					g.Flags = ace.ObjectInherit | ace.ContainerInherit
				}
				w.Grants.List = append(w.Grants.List, g)
			}
			if w.Grants.AtLeast {
				w.Grants.Without = []perm.Party{{Who: "u1", Name: "purser"}}
			}
		}
		if w.Grants != nil && w.Mode != nil {
			w.Mode = nil // both say what the list is to be: see TestModeAndGrants
		}

		after, err := w.Apply(perm.Found{Kind: k, Set: found.Set()})
		if err != nil {
			t.Fatal(err)
		}
		if left := w.Differences(perm.Found{Kind: k, Set: after}, d); len(left) > 0 {
			t.Fatalf("%+v\nmended as %+v\nis %+v\nand there is still %+v", found, w, after.State(), left)
		}
		if again, err := w.Apply(perm.Found{Kind: k, Set: after}); err != nil || again != after {
			t.Fatalf("mended twice: %+v, and %+v, %v", after.State(), again.State(), err)
		}
		if _, err := perm.ParseSet(after.Bytes()); err != nil {
			t.Fatalf("%+v cannot be read: %v", after.State(), err)
		}
	}
}

// RFC 8881 section 6.3.2: the mode follows from three who alone, in the order of the entries.
func TestDerived(t *testing.T) {
	const rw = ace.ReadData | ace.WriteData | ace.AppendData
	for _, c := range []struct {
		name string
		list List
		want mode.Mode
	}{
		{"nothing", nil, 0},
		{"everyone is the owner, too", List{{Allow, 0, ace.ReadData, Everyone}}, 0o444},
		{"append alone is no write", List{{Allow, 0, ace.ReadData | ace.AppendData, Owner}}, 0o400},
		{"what is denied first", List{{Deny, 0, ace.WriteData, Owner}, {Allow, 0, rw, Owner}}, 0o400},
		{"what is denied too late", List{{Allow, 0, rw, Owner}, {Deny, 0, ace.WriteData, Owner}}, 0o600},
		{"a named account", List{{Allow, 0, rw, "pim@saltmarsh.example"}}, 0},
		{"for what is below alone", List{{Allow, InheritOnly | FileInherit, rw, Owner}}, 0},
		{"each its own", List{
			{Allow, 0, ace.Full, Owner}, {Allow, IdentifierGroup, ace.ReadData | ace.Execute, Group},
			{Allow, 0, ace.Execute, Everyone},
		}, 0o751},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := (State{List: c.list}).Derived(); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}

// A mode that is declared is the one that follows from the list afterwards, whatever it was, and named entries stay;
// what they allow may be less, where one of the three denied it before them (see TestWithModeWidensNothing).
func TestWithMode(t *testing.T) {
	r := seeded.Rand(t)
	for range 5000 {
		k := []perm.Kind{perm.File, perm.Folder}[r.IntN(2)]
		s, m := randomState(r, k), mode.Mode(r.Uint32N(0o10000))
		got := s.withMode(m, k)
		if got.Derived() != m {
			t.Fatalf("%+v with mode %s comes to %s: %+v", s, m, got.Derived(), got)
		}
		for _, e := range s.List {
			stays := func(x Entry) bool {
				less := e.Type == Allow && e.decides() && x.Mask&^e.Mask == 0
				return x.Type == e.Type && x.Flags == e.Flags && x.Who == e.Who && (x.Mask == e.Mask || less)
			}
			if !special[e.Who] && !slices.ContainsFunc(got.List, stays) {
				t.Fatalf("%+v is lost from %+v", e, got)
			}
		}
	}
}

// What a rule says in words that such a list does not have is not asked of it.
func TestNotJudged(t *testing.T) {
	s := State{UID: 1, GID: 10, List: List{{Allow, 0, ace.Full, Owner}}}
	caps, inherits := "", true
	w := &perm.Desired{
		Entries: &perm.DesiredEntries{}, Defaults: &perm.DesiredEntries{}, Caps: &caps, Inherits: &inherits,
		On: perm.Immutable, Rule: map[perm.Aspect]int{},
	}
	for _, k := range []perm.Kind{perm.File, perm.Folder} {
		f := perm.Found{Kind: k, Set: s.Set()}
		if w.Judges(k, f.Set) || len(w.Differences(f, crew())) > 0 {
			t.Errorf("a %s is judged: %+v", k, w.Differences(f, crew()))
		}
	}
}

func TestDecide(t *testing.T) {
	d := crew()
	folder := State{UID: 1, GID: 10, List: List{
		{Allow, 0, ace.ReadSet | ace.Execute, Everyone},
		{Allow, IdentifierGroup, ace.WriteData | ace.AppendData, "crew@saltmarsh.example"},
	}}
	file := State{UID: 1, GID: 10, List: List{
		{Deny, IdentifierGroup, ace.WriteData, "clerks@saltmarsh.example"},
		{Allow, 0, ace.Full &^ (ace.Delete | ace.WriteDAC), Owner},
		{Allow, IdentifierGroup, ace.ReadSet | ace.WriteSet, Group},
		{Allow, 0, ace.ReadData, "NETWORK@"},
	}}
	sticky := folder
	sticky.Special = mode.Sticky

	for _, c := range []struct {
		name    string
		who     string
		folder  State
		op      access.Operation
		ok      bool
		cause   access.Code
		unknown bool
	}{
		{"the owning group", "pim", folder, access.Read, true, ByAllow, false},
		{"denied first", "pim", folder, access.Write, false, ByDeny, false},
		{"the owner", "purser", folder, access.Write, true, ByAllow, false},
		{"nobody speaks of it", "stray", folder, access.Write, false, ByNoEntry, false},
		{"only the server knows", "stray", folder, access.Read, false, ByNoEntry, true},
		{"who may add may delete", "pim", folder, access.Delete, true, ByAdding, false},
		{"who may not add", "stray", folder, access.Delete, false, ByNoEntry, false},
		{"in a sticky folder", "pim", sticky, access.Delete, false, access.BySticky, false},
		{"its owner in a sticky folder", "purser", sticky, access.Delete, true, ByAdding, false},
		{"the owner, whom the list forgets", "purser", folder, access.Change, false, ByNoEntry, true},
		{"root", "root", folder, access.Write, true, ByServer, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			way := access.Way{
				{Path: "/", Kind: perm.Folder, Set: folder.Set()},
				{Path: "/charts", Kind: perm.Folder, Set: c.folder.Set()},
				{Path: "/charts/tide", Kind: perm.File, Set: file.Set()},
			}
			a := access.NewAsker(access.SubjectNamed(d, d.AccountNamed(c.who))).May(way, c.op, d)
			if a.Allowed != c.ok || a.Cause != c.cause || a.Unknown != c.unknown {
				t.Errorf("%+v", a)
			}
		})
	}
}

// While a run changes owners, nobody has what neither end gives, by any call that may be the last.
func TestSequenceOpensNothing(t *testing.T) {
	r, d := seeded.Rand(t), crew()
	for range 5000 {
		k := []perm.Kind{perm.File, perm.Folder}[r.IntN(2)]
		from, to := randomState(r, k), randomState(r, k)
		narrow, err := from.Narrow(k, to)
		if err != nil {
			t.Fatal(err)
		}
		mid := narrow.State().(State)
		moves := append(from.Sequence(k, mid), mid.Sequence(k, to)...)
		if len(moves) > 0 && moves[len(moves)-1].State != to.Set() || len(moves) == 0 && from.Set() != to.Set() {
			t.Fatalf("%+v to %+v does not get there: %+v", from, to, moves)
		}
		for _, m := range moves {
			for _, a := range d.Accounts[1:] {
				most := from.Rights(k, a.ID, d) | to.Rights(k, a.ID, d)
				if more := m.State.State().Rights(k, a.ID, d) &^ most; more != 0 {
					t.Fatalf("%s: %s can %v after %q, on the way from %+v to %+v", k, a.Name, more.Words(k),
						m.Call.What, from,
						to)
				}
			}
		}
	}
}

// What a person reads of a list.
func ExampleState_View() {
	s := State{UID: 1, GID: 10, List: List{
		{Deny, IdentifierGroup, ace.WriteData | ace.AppendData, "clerks@saltmarsh.example"},
		{Allow, 0, ace.Full, Owner},
		{Allow, Inherited, ace.ReadSet, "pim@saltmarsh.example"},
	}}
	v := s.View(perm.File, crew())
	fmt.Println(v.Mode)
	for _, g := range v.Grants {
		fmt.Println(g)
	}
	// Output:
	// 0700
	// deny group clerks: write-data, append-data
	// allow OWNER@: full
	// allow pim: read; inherited
}

// The bytes are those of the standard: XDR of nfsace4 (RFC 8881 section 6.2.1, RFC 4506).
func TestXattr(t *testing.T) {
	l := List{{Allow, 0, 0x16019f, Owner}, {Deny, IdentifierGroup, 2, "crew@saltmarsh.example"}}
	want := "\x00\x00\x00\x02" +
		"\x00\x00\x00\x00\x00\x00\x00\x00\x00\x16\x01\x9f\x00\x00\x00\x06OWNER@\x00\x00" +
		"\x00\x00\x00\x01\x00\x00\x00\x40\x00\x00\x00\x02\x00\x00\x00\x16crew@saltmarsh.example\x00\x00"
	if got := string(l.AppendXattr(nil)); got != want {
		t.Errorf("%q", got)
	}
	for name, bad := range map[string]string{
		"too short": want[:len(want)-1],
		"too long":  want + "\x00",
		"too many":  "\x00\x00\x04\x01",
		"unknown type": strings.Replace(want, "\x00\x00\x00\x01\x00\x00\x00\x40",
			"\x00\x00\x00\x04\x00\x00\x00\x40", 1),
		"unknown flags":            strings.Replace(want, "\x00\x00\x00\x40", "\x00\x00\x01\x40", 1),
		"not filled up":            want[:len(want)-1] + "x",
		"a name of hidden letters": strings.Replace(want, "OWNER@", "OW\nER@", 1),
	} {
		t.Run(name, func(t *testing.T) {
			if got, err := DecodeXattr([]byte(bad)); err == nil {
				t.Errorf("%s: %v", name, got)
			}
		})
	}
}

func FuzzDecodeXattr(f *testing.F) {
	f.Add(List{{Allow, 0, ace.Full, Owner}, {Deny, IdentifierGroup, 2, "crew@saltmarsh.example"}}.AppendXattr(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := DecodeXattr(b)
		if err != nil {
			return
		}
		if again := l.AppendXattr(nil); !bytes.Equal(again, b) {
			t.Fatalf("%x is written as %x", b, again)
		}
		s := State{List: l}
		set, err := s.Encode()
		if err != nil {
			return
		}
		if back, err := perm.ParseSet(set.Bytes()); err != nil || back != set {
			t.Fatalf("%x: %v", set.Bytes(), err)
		}
		for _, k := range []perm.Kind{perm.File, perm.Folder} {
			perm.Describe(k, set, crew())
			perm.Explain(k, set)
			perm.Rights(0).Words(k)
			perm.RightsOf(k, set, unixid.UID(1), crew())
		}
	})
}

// A mode that is mended lets nobody do more than they could, or than the mode says: a named entry that stood behind one
// that denies everybody stays as narrow as that made it.
func TestWithModeWidensNothing(t *testing.T) {
	r, d := seeded.Rand(t), crew()
	for range 20_000 {
		k := []perm.Kind{perm.File, perm.Folder}[r.IntN(2)]
		s, m := randomState(r, k), mode.Mode(r.Uint32N(0o1000))
		after := s.withMode(m, k)
		for _, a := range d.Accounts[1:] {
			q := requesterOf(a.ID, d)
			declared := classRights(m.Other(), k)
			if q.uid == numeric(s.UID) {
				declared |= classRights(m.Owner(), k) | ownerRights
			}
			if slices.Contains(q.gids, numeric(s.GID)) {
				declared |= classRights(m.Group(), k)
			}
			if more := after.maximum(&q) &^ (s.maximum(&q) | declared); more != 0 {
				t.Fatalf("%s may %s more:\n%+v\nwith mode %s is\n%+v", a.Name, more.Words(false), s.List, m, after.List)
			}
		}
	}
}

// A list that has grown so long that what is declared cannot be set on it is not as declared: whoever made it so hides
// nothing.
func TestTooLongIsNoExcuse(t *testing.T) {
	s := State{UID: 1, GID: 10}
	for i := range MaxEntries {
		s.List = append(s.List, Entry{Mask: ace.Full, Flags: Inherited, Who: fmt.Sprint(5000 + i)})
	}
	w := &perm.Desired{Grants: &perm.DesiredGrants{
		List: []perm.DesiredGrant{{Party: perm.Party{Who: "u2", Name: "pim"}, Rights: ace.ReadSet}},
	}}
	f := perm.Found{Kind: perm.File, Set: s.Set()}
	if got := w.Differences(f, crew()); len(got) != 1 || got[0].Mended != f.Set {
		t.Errorf("%d differences", len(got))
	}
	if set, err := w.Apply(f); err == nil {
		t.Errorf("it was mended as %d bytes", len(set.Bytes()))
	}
}

// What a list calls somebody is shown so that it cannot pass for something else: another name, another domain, or the
// end of an entry and the beginning of the next.
func TestNamesAreShownAsTheyAre(t *testing.T) {
	d := crew()
	show := func(l List) (out []string) {
		for _, g := range (State{List: l}).View(perm.File, d).Grants {
			out = append(out, g.Who)
		}
		return out
	}
	entry := func(who string) Entry { return Entry{Mask: ace.ReadSet, Who: who} }
	for _, c := range []struct {
		name string
		list List
		want []string
	}{
		{"one domain", List{entry("pim@saltmarsh.example")}, []string{"pim"}},
		{"two domains", List{entry("pim@saltmarsh.example"), entry("pim@elsewhere.example")},
			[]string{"pim@saltmarsh.example", "pim@elsewhere.example"}},
		{"an entry in a name", List{entry("nobody: read | allow OWNER@")}, []string{`"nobody: read | allow OWNER@"`}},
		{"a number", List{entry("2")}, []string{"pim"}},
		{"a number that is none", List{entry("02")}, []string{"02"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := show(c.list); !slices.Equal(got, c.want) {
				t.Errorf("%q, want %q", got, c.want)
			}
		})
	}

	// Nor is it decided by such a one: "02" is nobody's number, and of two domains nobody knows which is the host's.
	for who, unknown := range map[string]bool{"02": false, "pim@saltmarsh.example": true} {
		t.Run(who, func(t *testing.T) {
			way := access.Way{
				{Path: "/", Kind: perm.Folder, Set: State{List: List{{Allow, 0, ace.Full, Everyone}}}.Set()},
				{Path: "/x", Kind: perm.File, Set: State{List: List{entry(who), entry("stray@elsewhere.example"),
					entry("purser@saltmarsh.example")}}.Set()},
			}
			a := access.NewAsker(access.SubjectNamed(d, d.AccountNamed("pim"))).May(way, access.Read, d)
			if a.Unknown != unknown || !unknown && a.Allowed {
				t.Errorf("%s: %+v", who, a)
			}
		})
	}
}
