package nt

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/perm/schemetest"
	"idletally/internal/testkit/seeded"
)

var (
	surveyor = ntsd.NewSID(5, 21, 1, 2, 3, 1001)
	crewSID  = ntsd.NewSID(5, 21, 1, 2, 3, 1100)
	mates    = ntsd.NewSID(5, 21, 1, 2, 3, 1101)
	stray    = ntsd.NewSID(5, 21, 1, 2, 3, 4711)
)

func server() *perm.Directory {
	return (&perm.Directory{
		Accounts: []perm.Account{
			{ID: PrincipalOf(surveyor), Name: "surveyor", Groups: []perm.Principal{PrincipalOf(crewSID)}},
			{ID: PrincipalOf(ntsd.System), Name: "system"},
			{
				ID: PrincipalOf(ntsd.NewSID(5, 21, 1, 2, 3, 1002)), Name: "both",
				Groups: []perm.Principal{PrincipalOf(crewSID), PrincipalOf(mates)},
			},
		},
		Groups: []perm.Account{{ID: PrincipalOf(crewSID), Name: "crew"}, {ID: PrincipalOf(mates), Name: "mates"}},
	}).Index()
}

func nt(t testing.TB, sddl string) perm.Set {
	t.Helper()
	sddl = strings.NewReplacer("surveyor", surveyor.String(), "crew", crewSID.String(), "mates", mates.String(),
		"stray", stray.String()).Replace(sddl)
	d, err := ntsd.ParseSDDL(sddl)
	if err != nil {
		t.Fatal(err)
	}
	s, err := SetOf(d)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestNTSet(t *testing.T) {
	s := nt(t, "O:surveyorG:BAD:PAI(D;;0x2;;;crew)(A;OICIID;FA;;;SY)")
	if back, err := perm.ParseSet(s.Bytes()); err != nil || back != s {
		t.Errorf("%x, %v", back.Bytes(), err)
	}

	for _, bad := range []string{"\x02", "\x02\x01\x00", s.Bytes() + "x", s.Bytes()[:len(s.Bytes())-1], "\x03abc"} {
		t.Run(bad, func(t *testing.T) {
			if got, err := perm.ParseSet(bad); err == nil {
				t.Errorf("%x was read as %x", bad, got.Bytes())
			}
		})
	}

	if _, err := posix.Of(s); err == nil {
		t.Error("it is a POSIX state, too")
	}

	if _, ok := Of(posix.State{}.Set()); ok {
		t.Error("a POSIX state is a descriptor, too")
	}

	if got := perm.TraitsOf(s); got != perm.WithEntries {
		t.Errorf("traits %v", got)
	}
}

// An account that is known by a second identity is in that as in a group, so that somebody knows who that is.
func TestAlsoKnown(t *testing.T) {
	d := server()
	id := ntsd.NewSID(22, 1, 1000)
	below := PrincipalOf(id)
	if !Undissolved(d, id) || !Undissolved(d, ntsd.NewSID(22, 2, 1000)) {
		t.Error("the system's accounts are known before anybody said who they are")
	}

	d.AlsoKnown("S-1-5-21-9-9-9-9", below)
	d.AlsoKnown(d.Accounts[0].ID, below)
	d.AlsoKnown(d.Accounts[0].ID, below)
	d.Index()
	if Undissolved(d, id) || !Undissolved(d, ntsd.NewSID(22, 1, 1001)) {
		t.Error("it is not known who that is, or of another one it is")
	}

	token, ok := TokenOf(d.Accounts[0].ID, d)
	if !ok || !token.Has(id) || len(d.Accounts[0].Groups) != len(slices.Compact(slices.Clone(d.Accounts[0].Groups))) {
		t.Errorf("%+v", token)
	}
}

func TestNTView(t *testing.T) {
	d := server()
	v := perm.Describe(perm.Folder, nt(t, "O:strayD:AI(D;OICI;0x10000;;;crew)(A;OICIID;FA;;;SY)(A;ID;FR;;;WD)"), d)
	if v.Owner != stray.String() || len(v.Unknown) != 1 || v.Inheritance != perm.InheritsFromAbove {
		t.Errorf("%+v", v)
	}

	want := "deny crew: delete | allow system: full; inherited | allow everyone: read; reaches here; inherited"
	if got := strings.Join(v.Entries, " | "); got != want {
		t.Errorf("%s, want %s", got, want)
	}

	// What the entries of a share's own list reach is not said, whatever their flags.
	for sddl, want := range map[string]string{
		"O:SYD:(D;;SD;;;crew)(A;CI;FA;;;SY)": "deny crew: delete | allow system: full",
		"O:SYD:":                             "",
		"O:SYD:NO_ACCESS_CONTROL":            perm.NoListAtAll,
	} {
		t.Run(sddl, func(t *testing.T) {
			got, ok := perm.ShareEntries(nt(t, sddl), d)
			if text := strings.Join(got, " | "); !ok || text != want {
				t.Errorf("%s: %s, %t", sddl, text, ok)
			}
		})
	}

	if _, ok := perm.ShareEntries(perm.Set{}, d); ok {
		t.Error("no list is one")
	}

	if v := perm.Describe(perm.File, nt(t, "O:SYD:NO_ACCESS_CONTROL"), d); v.Inheritance != perm.NoListAtAll {
		t.Errorf("%+v", v)
	}
}

func TestNTBetween(t *testing.T) {
	for _, c := range []struct {
		name, from, to, want string
		kind                 perm.Kind
	}{
		{"everyone gets everything", "O:SYD:", "O:SYD:(A;;FA;;;WD)",
			"opens for everyone: list, add and remove entries, pass through, change permissions, remove others' " +
				"entries, delete",
			perm.Folder},
		{"a deny comes", "O:SYD:(A;;FR;;;crew)", "O:SYD:(D;;FR;;;crew)(A;;FR;;;crew)", "closes for group crew: read",
			perm.File},
		{"a deny goes that only somebody in both groups met", "O:SYD:(D;;FW;;;crew)(A;;FA;;;mates)",
			"O:SYD:(A;;FA;;;mates)", "opens for both: write", perm.File},
		{"an owner", "O:surveyorD:", "O:SYD:", "closes for surveyor: change permissions", perm.File},
		{"what is only for children", "O:SYD:", "O:SYD:(A;OICIIO;FA;;;crew)", "changes nobody's access", perm.Folder},
		{"the same", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)", "changes nobody's access", perm.File},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := perm.Between(c.kind, nt(t, c.from), nt(t, c.to), server()).String()
			// A group's member gains and loses with it.
			got, _, _ = strings.Cut(got, "; surveyor")
			if got != c.want {
				t.Errorf("%s: %q, want %q", c.name, got, c.want)
			}
		})
	}

	if e := perm.Between(perm.File, nt(t, "O:SYD:"), posix.State{}.Set(), nil); e.Word() != "neither" {
		t.Errorf("between two schemes: %+v", e)
	}
}

func TestNTEntries(t *testing.T) {
	above := []perm.Above{
		{Path: "/", Set: nt(t, "D:NO_ACCESS_CONTROL")},
		{Path: "/charts", Set: nt(t, "D:P(A;OICI;FA;;;BA)(A;OICIIO;FA;;;CO)")},
		{Path: "/charts/a", Set: nt(t, "O:SYD:AI(A;OICI;FR;;;crew)(A;OICIID;FA;;;BA)(A;OICIIOID;FA;;;CO)")},
	}
	lines := perm.Entries(perm.File,
		nt(t, "O:surveyorD:AI(D;;0x2;;;stray)(A;ID;FR;;;crew)(A;ID;FA;;;BA)(A;ID;FA;;;surveyor)(A;ID;FX;;;WD)"), above,
		server())
	for i, want := range []string{
		"set here", "from /charts/a", "from /charts", "from /charts", "from no folder above",
	} {
		t.Run(want, func(t *testing.T) {
			if lines[i].Origin != want {
				t.Errorf("%s comes %s, want %s", lines[i].Text, lines[i].Origin, want)
			}
		})
	}

	// Each folder on the way has to pass on just this: to files or to folders, as far as it says, for who owns it.
	for _, c := range []struct {
		name  string
		kind  perm.Kind
		found string // its last entry is asked for
		way   []string
		want  string
	}{
		{"for folders only, so that it came from further up", perm.File, "D:AI(A;ID;FX;;;crew)",
			[]string{"D:P(A;OICI;FX;;;crew)", "D:AI(A;CI;FX;;;crew)(A;OICIID;FX;;;crew)"}, "from /0"},
		{"one level only", perm.File, "D:AI(A;ID;FA;;;crew)",
			[]string{
				"D:P(A;OICI;FA;;;crew)", "D:AI(A;OICINP;FA;;;crew)(A;OICIID;FA;;;crew)", "D:AI(A;OICIID;FA;;;crew)",
			},
			"from /0"},
		{"the creator is somebody else", perm.File, "O:surveyorD:AI(A;ID;FX;;;stray)",
			[]string{"D:P(A;OICI;FX;;;stray)", "D:AI(A;OICI;FX;;;CO)(A;OICIID;FX;;;stray)"}, "from /0"},
		{"moved here", perm.File, "D:AI(A;ID;FA;;;crew)", []string{"D:P(A;OICI;FA;;;WD)", "D:AI(A;OICIID;FA;;;WD)"},
			"from no folder above"},
		{"in a folder that was moved", perm.File, "D:AI(A;ID;FA;;;crew)",
			[]string{"D:P(A;OICI;FA;;;WD)", "D:AI(A;OICIID;FA;;;crew)", "D:AI(A;OICIID;FA;;;crew)"},
			"from /0/1, which has it from no folder above"},
		{"behind one that takes nothing", perm.File, "D:AI(A;ID;FA;;;crew)",
			[]string{"D:P(A;OICI;FA;;;crew)", "D:PAI(A;OICI;FA;;;WD)"}, "from no folder above"},
		{"from above the share", perm.File, "D:AI(A;ID;FA;;;crew)", []string{"D:AI(A;OICIID;FA;;;crew)"},
			"from above /0"},
		{"where nobody looked", perm.File, "D:AI(A;ID;FA;;;crew)", nil, "from a folder above"},
		{"nearer", perm.Folder, "D:AI(A;CIID;FA;;;crew)",
			[]string{"D:P(A;CI;FA;;;crew)", "D:AI(A;CIID;FA;;;crew)(A;CI;FA;;;crew)"}, "from /0/1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			way, at := []perm.Above{{Path: "/", Set: nt(t, "D:NO_ACCESS_CONTROL")}}, ""
			for i, sddl := range c.way {
				at += "/" + strconv.Itoa(i)
				way = append(way, perm.Above{Path: at, Set: nt(t, sddl)})
			}

			lines := perm.Entries(c.kind, nt(t, c.found), way, server())
			if got := lines[len(lines)-1].Origin; got != c.want {
				t.Errorf("%s: %s, want %s", c.name, got, c.want)
			}
		})
	}

	if !lines[0].Deny || !lines[0].Unknown || lines[1].Deny {
		t.Errorf("%+v", lines[:2])
	}

	words := strings.Join(perm.Explain(perm.Folder, nt(t, "O:SYD:P(A;;FR;;;WD)(D;;FA;;;AN)")), " ")
	for _, want := range []string{
		"inherits no entries", "Everybody who signs in can list", "not stand in the usual order",
	} {
		t.Run(want, func(t *testing.T) {
			if !strings.Contains(words, want) {
				t.Errorf("%q is not said: %s", want, words)
			}
		})
	}
}

func TestNTWorries(t *testing.T) {
	for _, c := range []struct {
		name, from, to string
		want           string // kinds, grave ones with an exclamation mark
	}{
		{"everyone gets everything", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)(A;;FA;;;WD)", "everyone!"},
		{"everyone may write", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)(A;;FW;;;WD)", "everyone!"},
		{"a deny meets who is let in", "O:SYD:(A;;FA;;;BA)(A;;FA;;;mates)",
			"O:SYD:(D;;FW;;;crew)(A;;FA;;;BA)(A;;FA;;;mates)", "deny!"},
		{"a deny meets nobody else", "O:SYD:(A;;FA;;;BA)(A;;FR;;;mates)",
			"O:SYD:(D;;FW;;;crew)(A;;FA;;;BA)(A;;FR;;;mates)", ""},
		{"nobody can repair it", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FR;;;BA)", "locked!"},
		{"inheriting stops", "O:SYD:AI(A;ID;FA;;;BA)", "O:SYD:P(A;;FA;;;BA)", "stopped"},
		{"owning is not access", "O:SYD:(A;;FA;;;BA)", "O:surveyorD:(A;;FA;;;BA)", "owning"},
		{"a group gains", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)(A;;FR;;;crew)", "joining"},
		{"nothing", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)", ""},
		{"what was set there goes", "O:SYD:AI(A;;FR;;;surveyor)(A;ID;FA;;;BA)", "O:SYD:AI(A;ID;FA;;;BA)", "wiped"},
		{"some of it stays", "O:SYD:AI(A;;FR;;;surveyor)(A;;FW;;;surveyor)(A;ID;FA;;;BA)",
			"O:SYD:AI(A;;FR;;;surveyor)(A;ID;FA;;;BA)", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, w := range perm.Cautions(perm.File, nt(t, c.from), nt(t, c.to), server(), nil) {
				kind := w.Kind
				if w.Grave {
					kind += "!"
				}

				got = append(got, kind)
				if w.Text == "" || w.Instead == "" {
					t.Errorf("%s: %+v says nothing", c.name, w)
				}
			}
			if s := strings.Join(got, " "); s != c.want {
				t.Errorf("%s: %q, want %q", c.name, s, c.want)
			}
		})
	}

	lost := perm.Cautions(perm.File, nt(t, "O:SYD:(A;;FA;;;BA)(A;;FR;;;crew)"), nt(t, "O:SYD:(A;;FA;;;BA)"), server(),
		[]perm.Principal{
			PrincipalOf(surveyor),
		})
	if len(lost) != 1 || lost[0].Kind != perm.CautionReading || !strings.Contains(lost[0].Text, "surveyor") {
		t.Errorf("%+v", lost)
	}
}

// What came from above is what the folder passes on, and nothing else: what was moved there from another
// folder has something else.
func TestAstray(t *testing.T) {
	yes := true
	w := &perm.Desired{Inherits: &yes, Rule: map[perm.Aspect]int{}}
	const folder = "O:SYD:AI(A;OICI;FA;;;mates)(A;CI;FR;;;crew)(A;OICIIO;FR;;;CO)"

	for _, c := range []struct{ name, found, says, mended string }{
		{"as it is handed on", "O:surveyorD:AI(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)", "", ""},
		{"in another order, and twice", "O:surveyorD:AI(A;ID;FR;;;surveyor)(A;ID;FA;;;mates)(A;ID;FA;;;mates)", "", ""},
		{"with entries of its own", "O:surveyorD:AI(A;;FR;;;WD)(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)", "", ""},
		{"moved here", "O:surveyorD:AI(A;;FR;;;WD)(A;ID;FA;;;crew)(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)",
			"from above, but not inheritable from the folder above: allow crew: full",
			"O:surveyorD:AI(A;;FR;;;WD)(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)"},
		{"made by another", "O:surveyorD:AI(A;ID;FA;;;mates)(A;ID;FR;;;stray)",
			"from above, but not inheritable from the folder above: allow " + stray.String() +
				": read; missing, though inheritable: allow surveyor: read",
			"O:surveyorD:AI(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)"},
		{"nothing came", "O:surveyorD:(A;;FR;;;WD)",
			"from above, but missing, though inheritable: allow mates: full | allow surveyor: read",
			"O:surveyorD:AI(A;;FR;;;WD)(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)"},
		{"with less", "O:surveyorD:AI(A;ID;FR;;;mates)(A;ID;FR;;;surveyor)",
			"from above, but not inheritable from the folder above: allow mates: read; missing, though inheritable: " +
				"allow mates: full",
			"O:surveyorD:AI(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)"},
		{"where no marks are kept", "O:surveyorD:(A;;FR;;;WD)(A;;FA;;;mates)(A;;FR;;;surveyor)", "", ""},
		{"cut off", "O:surveyorD:PAI(A;;FR;;;WD)", "stopped",
			"O:surveyorD:AI(A;;FR;;;WD)(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := perm.In(nt(t, folder), perm.File, nt(t, c.found))
			var says string
			for _, x := range w.Differences(f, server()) {
				says = x.Found
				if want := nt(t, c.mended); x.Mended != want {
					t.Errorf("%s: mended %v, want %v", c.name, perm.Describe(perm.File, x.Mended, server()),
						perm.Describe(perm.File, want, server()))
				}
				if left := w.Differences(perm.In(f.Above, perm.File, x.Mended), server()); len(left) > 0 {
					t.Errorf("%s: mended there is still %+v", c.name, left)
				}
			}

			if says != c.says {
				t.Errorf("%s: %q, want %q", c.name, says, c.says)
			}
		})
	}

	// Where no marks are kept, entries of its own cannot be taken away without what came from above: that is
	// fetched again.
	w.Grants = &perm.DesiredGrants{}
	unmarked := perm.In(nt(t, folder), perm.File, nt(t, "O:surveyorD:(A;;FR;;;WD)(A;;FA;;;mates)(A;;FR;;;surveyor)"))
	if got := w.Differences(unmarked, server()); len(got) != 1 || got[0].Aspect != perm.AspectGrants ||
		got[0].Mended != nt(t, "O:surveyorD:AI(A;ID;FA;;;mates)(A;ID;FR;;;surveyor)") {
		t.Errorf("%+v", got)
	}

	for aspect, fetches := range map[perm.Aspect][2]bool{
		perm.AspectInheritance: {true, true},
		perm.AspectGrants:      {true, false},
		perm.AspectOwner:       {false, false},
	} {
		t.Run(fmt.Sprint(aspect), func(t *testing.T) {
			for i, found := range []perm.Set{unmarked.Set, nt(t, "O:surveyorD:AI(A;ID;FA;;;mates)")} {
				if got := w.Fetches(found, []perm.Aspect{aspect}); got != fetches[i] {
					t.Errorf("%s of %v: %t", aspect, perm.Describe(perm.File, found, server()), got)
				}
			}
		})
	}

	w.Grants = nil

	// Where nobody has seen the folder, nothing is said of what comes from it.
	if got := w.Differences(perm.Found{Kind: perm.File, Set: nt(t, "O:SYD:AI(A;ID;FA;;;crew)")}, server()); len(
		got,
	) > 0 {
		t.Errorf("%+v", got)
	}
}

// What holds for every scheme.
func TestConformance(t *testing.T) {
	schemetest.Run(t, Scheme{}, seeded.Rand(t), func(r *rand.Rand, _ perm.Kind) perm.Set { return randomSet(r) })
}

// randomSet returns a descriptor of the server's accounts.
func randomSet(r *rand.Rand) perm.Set {
	who := []ntsd.SID{
		ntsd.Everyone,
		ntsd.Administrators,
		ntsd.NewSID(5, 21, 1, 2, 3, 1001),
		ntsd.NewSID(5, 21, 1, 2, 3, 1100),
	}
	d := ntsd.Descriptor{Owner: who[1+r.IntN(3)], Group: who[r.IntN(4)]}
	for range r.IntN(4) {
		masks := []ace.Mask{ace.ReadSet, ace.ReadSet | ace.WriteSet, ace.Full, ace.Execute}
		d.Entries = append(d.Entries, ntsd.Entry{
			Type: ntsd.Type(r.IntN(2)),
			Mask: masks[r.IntN(len(masks))],
			SID:  who[r.IntN(len(who))],
		})
	}
	ntsd.Sort(d.Entries)
	s, err := SetOf(d)
	if err != nil {
		panic(err) // made of what it accepts
	}
	return s
}

// No value is empty, which is what waivers take for one that nobody knows; and entries that are said in the same words
// are one value.
func TestValuesOfNothing(t *testing.T) {
	empty := State{ntsd.Descriptor{Owner: ntsd.Administrators}}
	for _, a := range []perm.Aspect{perm.AspectOwner, perm.AspectInheritance, perm.AspectGrants} {
		if empty.value(a, perm.Found{}) == "" {
			t.Errorf("a descriptor without any entry has no value of its %s", a)
		}
	}

	of := func(m ace.Mask) []ntsd.Entry { return []ntsd.Entry{{Mask: m, SID: ntsd.Administrators}} }
	for _, m := range []ace.Mask{ace.ReadSet, ace.ReadSet | ace.WriteSet, ace.Full, ace.Execute} {
		with, without := of(m|ace.Synchronize), of(m&^ace.Synchronize)
		said := list(perm.File, with, nil) == list(perm.File, without, nil)
		if known := entryList(with) == entryList(without); !known {
			t.Errorf("%s is known by %s, and %s by %s, said alike: %t", list(perm.File, with, nil), entryList(with),
				list(perm.File, without, nil), entryList(without), said)
		}
	}
	generic, mapped := of(ace.GenericRead), of(ace.GenericRead.Map())
	if list(perm.File, generic, nil) != list(perm.File, mapped, nil) && entryList(generic) == entryList(mapped) {
		t.Errorf("%s and %s are one value", list(perm.File, generic, nil), list(perm.File, mapped, nil))
	}
}

// A list that is so long that what is declared cannot be set on it is not as declared.
func TestTooLongIsNoExcuse(t *testing.T) {
	d := ntsd.Descriptor{Owner: ntsd.System}
	for i := range 1700 {
		d.Entries = append(d.Entries, ntsd.Entry{
			Mask: ace.ReadSet, Flags: ace.Inherited, SID: ntsd.NewSID(5, 21, 1, 2, 3, uint32(i)),
		})
	}
	for { // as long as can be
		longer := d
		longer.Entries = append(slices.Clone(d.Entries),
			ntsd.Entry{Mask: ace.ReadSet, Flags: ace.Inherited, SID: crewSID})
		if _, err := SetOf(longer); err != nil {
			break
		}
		d = longer
	}
	s, err := SetOf(d)
	if err != nil {
		t.Fatal(err)
	}
	w := &perm.Desired{Grants: &perm.DesiredGrants{
		List: []perm.DesiredGrant{{Party: perm.Party{Who: PrincipalOf(mates)}, Rights: ace.ReadSet}},
	}}
	f := perm.Found{Kind: perm.File, Set: s}
	if got := w.Differences(f, server()); len(got) != 1 || got[0].Mended != s {
		t.Errorf("%d differences", len(got))
	}
}

// Where a path stops inheriting, what came down becomes its own, or goes.
func TestStopsInheriting(t *testing.T) {
	const found = "O:SYD:AI(D;;FR;;;crew)(A;OICI;FA;;;mates)(A;OICIID;FR;;;WD)"
	for drops, want := range map[bool]string{
		false: "O:SYD:P(D;;FR;;;crew)(A;OICI;FA;;;mates)(A;OICI;FR;;;WD)",
		true:  "O:SYD:P(D;;FR;;;crew)(A;OICI;FA;;;mates)",
	} {
		t.Run(want, func(t *testing.T) {
			no := false
			w := &perm.Desired{Inherits: &no, Drops: drops, Rule: map[perm.Aspect]int{}}
			got, err := w.Apply(perm.In(perm.Set{}, perm.Folder, nt(t, found)))
			if err != nil || got != nt(t, want) {
				t.Errorf("%v, want %v, %v", perm.Describe(perm.Folder, got, server()),
					perm.Describe(perm.Folder, nt(t, want), server()), err)
			}
		})
	}
}
