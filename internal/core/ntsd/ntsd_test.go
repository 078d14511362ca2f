package ntsd

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/ace"
	"idletally/internal/core/privilege"
	"idletally/internal/testkit/seeded"
)

// world is a handful of identities, so that the interesting meetings happen often.
var world = []SID{
	Everyone,
	CreatorOwner,
	OwnerRights,
	Administrators,
	NewSID(5, 21, 1, 2, 3, 1001),
	NewSID(5, 21, 1, 2, 3, 1002),
	NewSID(5, 21, 1, 2, 3, 1100),
	CreatorGroup,
}

func pick(r *rand.Rand) SID { return world[r.IntN(len(world))] }

func randomEntry(r *rand.Rand) Entry {
	e := Entry{Type: Type(r.IntN(2)), Flags: ace.Flags(r.IntN(32)), Mask: ace.Mask(r.Uint32()) & ace.Full, SID: pick(r)}
	switch r.IntN(8) {
	case 0:
		e.Mask = []ace.Mask{ace.GenericAll, ace.GenericRead, ace.GenericWrite | ace.GenericExecute}[r.IntN(3)]
	case 1:
		e.Mask = []ace.Mask{
			ace.Full, ace.ReadSet | ace.WriteSet | ace.Execute | ace.Delete, ace.ReadSet | ace.Execute, ace.ReadSet,
			ace.WriteSet,
		}[r.IntN(5)]
	}
	return e
}

func randomDescriptor(r *rand.Rand) Descriptor {
	d := Descriptor{Owner: pick(r), Group: pick(r), Control: []Control{0, Protected, AutoInherited}[r.IntN(3)]}
	if r.IntN(20) == 0 {
		d.Open = true
		return d
	}
	for range r.IntN(8) {
		d.Entries = append(d.Entries, randomEntry(r))
	}
	return d
}

func TestSIDs(t *testing.T) {
	for _, c := range []struct {
		text string
		sid  SID
		name string
	}{
		{"S-1-1-0", Everyone, "everyone"},
		{"S-1-5-32-544", Administrators, "administrators"},
		{"S-1-5-21-1-2-3-1001", NewSID(5, 21, 1, 2, 3, 1001), ""},
		{"S-1-0x100000000000-7", NewSID(0x100000000000, 7), ""},
		{"S-1-5", NewSID(5), ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := ParseSID(c.text)
			if err != nil || got != c.sid || got.String() != c.text {
				t.Errorf("%s: %s, %v", c.text, got, err)
			}

			if name, _ := got.Known(); name != c.name {
				t.Errorf("%s is called %q", c.text, name)
			}

			if back, n, err := SIDFromBytes([]byte(c.sid.Bytes() + "more")); err != nil || back != c.sid ||
				n != len(c.sid.Bytes()) {
				t.Errorf("%s from bytes: %s, %d, %v", c.text, back, n, err)
			}
		})
	}

	for _, bad := range []string{
		"",
		"S-1",
		"S-2-5-1",
		"S-1-x",
		"S-1-5-4294967296",
		"S-1-281474976710656",
		"S-1-5" + strings.Repeat("-1", 16),
		"everyone",
	} {
		t.Run(bad, func(t *testing.T) {
			if _, err := ParseSID(bad); err == nil {
				t.Errorf("%q was read", bad)
			}
		})
	}

	if domain, rid, ok := NewSID(5, 21, 1, 2, 3, 1001).RID(); !ok || rid != 1001 || domain != NewSID(5, 21, 1, 2, 3) {
		t.Errorf("%s, %d", domain, rid)
	}
}

func TestWords(t *testing.T) {
	for _, c := range []struct {
		mask   ace.Mask
		folder bool
		want   string
	}{
		{ace.Full, true, "full"},
		{ace.ReadSet | ace.WriteSet | ace.Execute | ace.Delete, false, "read, write, execute, delete"},
		{ace.ReadSet | ace.Execute, true, "read, traverse"},
		{ace.FileRead | ace.FileExecute | ace.WriteSet, false, "read, write, execute"},
		{ace.ReadSet, false, "read"},
		{ace.Execute | ace.ReadAttributes | ace.Synchronize, true, "traverse, read-attributes, synchronize"},
		{ace.WriteData | ace.AppendData, true, "add-files, add-folders"},
		{ace.WriteData, false, "write-data"},
		{0x200, false, "0x200"},
		{0, false, "nothing"},
		{ace.GenericAll, false, "generic-all"},
	} {
		t.Run(c.want, func(t *testing.T) {
			got := c.mask.Words(c.folder)
			if got != c.want {
				t.Errorf("%#x: %q, want %q", uint32(c.mask), got, c.want)
			}
			if back, err := ace.ParseMask(got); err != nil || back != c.mask {
				t.Errorf("%q is read as %#x, %v; it was %#x", got, uint32(back), err, uint32(c.mask))
			}
		})
	}

	r := seeded.Rand(t)
	for range 20000 {
		m := ace.Mask(r.Uint32())
		if back, err := ace.ParseMask(m.Words(r.IntN(2) == 0)); err != nil ||
			back|ace.Synchronize != m|ace.Synchronize {
			t.Fatalf("%#x through %q is %#x, %v", uint32(m), m.Words(true), uint32(back), err)
		}
	}

	if _, err := ace.ParseMask("read, fly"); err == nil || !strings.Contains(err.Error(), `"fly" is unknown`) {
		t.Errorf("an unknown right: %v", err)
	}
}

func TestForms(t *testing.T) {
	r := seeded.Rand(t)
	for range 20000 {
		d := randomDescriptor(r)
		b, err := d.Append([]byte("before"))
		if err != nil {
			t.Fatal(err)
		}

		back, err := Parse(b[6:])
		if err != nil || !back.Equal(d) {
			t.Fatalf("%+v through bytes is %+v, %v", d, back, err)
		}

		text, err := d.SDDL()
		if err != nil {
			t.Fatal(err)
		}

		if back, err = ParseSDDL(text); err != nil || !back.Equal(d) {
			t.Fatalf("%+v through %s is %+v, %v", d, text, back, err)
		}
	}

	for text, want := range map[string]Descriptor{
		"O:BAG:SYD:PAI(A;OICI;FA;;;SY)(D;ID;0x20;;;S-1-5-21-1-2-3-1001)": {
			Owner: Administrators, Group: System, Control: Protected | AutoInherited,
			Entries: []Entry{
				{Flags: ace.ObjectInherit | ace.ContainerInherit, Mask: ace.Full, SID: System},
				{Type: Deny, Flags: ace.Inherited, Mask: ace.Execute, SID: NewSID(5, 21, 1, 2, 3, 1001)},
			},
		},
		"D:":                       {Control: 0},
		"O:WDD:NO_ACCESS_CONTROL":  {Owner: Everyone, Open: true},
		"D:(A;;GRSD;;;AU)":         {Entries: []Entry{{Mask: ace.GenericRead | ace.Delete, SID: Authenticated}}},
		"D:AR(A;;RPWPDTLOCR;;;CO)": {Entries: []Entry{{Mask: 0x1f0, SID: CreatorOwner}}},
	} {
		t.Run(text, func(t *testing.T) {
			if got, err := ParseSDDL(text); err != nil || !got.Equal(want) {
				t.Errorf("%s is read as %+v, %v", text, got, err)
			}
		})
	}

	for bad, says := range map[string]string{
		"O:XXD:": "want an identity", "O:BAO:BA": "stands twice", "D:(X;;FA;;;BA)": "type A or D",
		"D:(A;ZZ;FA;;;BA)": "want flags", "D:(A;;QQ;;;BA)": "want rights",
		"D:(A;;FA;;;BA": "without its )", "S:": "system lists", "hello": "want O:", "D:(A;;0xfffffffff;;;BA)": "rights",
		"D:(A;;FA;x;;BA)": "kinds of objects", "O:S-1-5-99999999999D:": "32 bits",
	} {
		t.Run(bad, func(t *testing.T) {
			if _, err := ParseSDDL(bad); err == nil || !strings.Contains(err.Error(), says) ||
				!strings.Contains(err.Error(), "character") {
				t.Errorf("%s: %v, want %q", bad, err, says)
			}
		})
	}
}

// What nobody here understands is kept byte by byte.
func TestForeignEntries(t *testing.T) {
	d := Descriptor{
		Owner: System,
		Entries: []Entry{
			{Type: 5, Flags: ace.Inherited, Extra: "12345678"},
			{Mask: ace.Full, SID: Everyone},
			{Type: 9, Extra: "abcd"},
		},
	}

	b, err := d.Append(nil)
	if err != nil {
		t.Fatal(err)
	}

	back, err := Parse(b)
	if err != nil || !back.Equal(d) {
		t.Errorf("%+v, %v", back, err)
	}

	if _, err := d.SDDL(); err == nil {
		t.Error("it has text")
	}

	long := Descriptor{}
	for range 3000 {
		long.Entries = append(long.Entries, Entry{Mask: ace.Full, SID: NewSID(5, 21, 1, 2, 3, 4)})
	}

	if _, err := long.Append(nil); err == nil || !strings.Contains(err.Error(), "at most 65535") {
		t.Errorf("a list that is too long: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 20 {
		d := randomDescriptor(r)
		b, _ := d.Append(nil)
		f.Add(b)
	}

	f.Fuzz(func(t *testing.T, b []byte) {
		keep := bytes.Clone(b)
		d, err := Parse(b)
		if !bytes.Equal(b, keep) {
			t.Fatal("parsing changes what is parsed")
		}

		if err != nil {
			return
		}
		again, err := d.Append(nil)
		if err != nil {
			return // longer than what was read: sizes that overlapped
		}

		back, err := Parse(again)
		if err != nil || !back.Equal(d) {
			t.Fatalf("%+v comes back as %+v, %v", d, back, err)
		}
	})
}

func FuzzSDDL(f *testing.F) {
	f.Add("O:BAG:SYD:PAI(A;OICI;FA;;;SY)(D;ID;0x20;;;S-1-5-21-1-2-3-1001)")
	f.Add("D:NO_ACCESS_CONTROL")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := ParseSDDL(text)
		if err != nil {
			return
		}

		out, err := d.SDDL()
		if err != nil {
			t.Fatal(err)
		}

		back, err := ParseSDDL(out)
		if err != nil || !back.Equal(d) {
			t.Fatalf("%q: %+v comes back as %+v, %v", text, d, back, err)
		}
	})
}

func TestAccess(t *testing.T) {
	purser := NewSID(5, 21, 1, 2, 3, 1001)
	clerk := NewSID(5, 21, 1, 2, 3, 1002)
	crew := NewSID(5, 21, 1, 2, 3, 1100)
	everybody := []SID{Everyone, Authenticated}
	tp, tc := Token{User: purser, Groups: append([]SID{crew}, everybody...)}, Token{User: clerk, Groups: everybody}
	sd := func(text string) *Descriptor {
		text = strings.NewReplacer("purser", purser.String(), "clerk", clerk.String(), "crew", crew.String()).Replace(
			text)
		d, err := ParseSDDL(text)
		if err != nil {
			t.Fatal(err)
		}

		return &d
	}

	for _, c := range []struct {
		what  string
		d     *Descriptor
		token Token
		want  ace.Mask
		by    map[ace.Mask]Verdict
	}{
		{"no list", sd("O:SYD:NO_ACCESS_CONTROL"), tc, ace.Full,
			map[ace.Mask]Verdict{ace.ReadData: {true, ByNoList, 0}}},
		{"an empty list, and not the owner", sd("O:SYD:"), tc, 0, map[ace.Mask]Verdict{ace.ReadData: {}}},
		{"an empty list, and the owner", sd("O:clerkD:"), tc, ace.ReadControl | ace.WriteDAC,
			map[ace.Mask]Verdict{ace.WriteDAC: {true, ByOwner, 0}, ace.ReadData: {}}},
		{"a group's entry", sd("O:SYD:(A;;FR;;;crew)"), tp, ace.FileRead,
			map[ace.Mask]Verdict{ace.ReadData: {true, ByEntry, 0}}},
		{"deny before allow", sd("O:SYD:(D;;0x1;;;crew)(A;;FR;;;purser)"), tp, ace.FileRead &^ ace.ReadData,
			map[ace.Mask]Verdict{ace.ReadData: {false, ByEntry, 0}, ace.ReadControl: {true, ByEntry, 1}}},
		{"allow before deny", sd("O:SYD:(A;;0x1;;;purser)(D;;FA;;;crew)"), tp, ace.ReadData,
			map[ace.Mask]Verdict{ace.ReadData: {true, ByEntry, 0}}},
		{"what is only for children", sd("O:SYD:(A;OIIO;FA;;;purser)"), tp, 0, nil},
		{"owner rights withhold what owners may", sd("O:purserD:(A;;RC;;;OW)"), tp, ace.ReadControl,
			map[ace.Mask]Verdict{ace.WriteDAC: {}}},
		{"owner rights that are only for children", sd("O:purserD:(A;OIIO;RC;;;OW)"), tp,
			ace.ReadControl | ace.WriteDAC, nil},
		{"an owner whom a deny names", sd("O:purserD:(D;;FA;;;purser)"), tp, ace.ReadControl | ace.WriteDAC, nil},
		{"a privilege", sd("O:SYD:"), Token{User: clerk, Privileges: privilege.TakeOwnership}, ace.WriteOwner,
			map[ace.Mask]Verdict{ace.WriteOwner: {true, ByPrivilege, 0}}},
		{"generic rights", sd("O:SYD:(A;;GR;;;WD)"), tc, ace.FileRead, nil},
	} {
		t.Run(c.what, func(t *testing.T) {
			if got := c.d.Maximum(c.token); got != c.want {
				t.Errorf("%s: %s, want %s", c.what, got.Words(true), c.want.Words(true))
			}
			got := c.d.Check(c.token, ace.Full)
			for right, v := range c.by {
				if got[right] != v {
					t.Errorf("%s: %s is %+v, want %+v", c.what, right.Words(true), got[right], v)
				}
			}
		})
	}

	p := Place{
		Descriptor: sd("O:SYD:(A;;WD;;;clerk)"),
		Parent:     sd("O:SYD:(A;;DCCC;;;clerk)(A;;DT;;;clerk)"),
		Share:      ace.Full &^ ace.WriteDAC,
	}
	for right, v := range map[ace.Mask]Verdict{
		ace.Delete:         {true, ByParent, 0},
		ace.ReadAttributes: {true, ByParent, 0},
		ace.WriteDAC:       {false, ByShare, 0},
		ace.ReadData:       {},
	} {
		t.Run(fmt.Sprint(right), func(t *testing.T) {
			if got := p.Check(tc, ace.Full)[right]; got != v {
				t.Errorf("%s on a share: %+v, want %+v", right.Words(false), got, v)
			}
		})
	}
}

func TestInheritance(t *testing.T) {
	owner, group := NewSID(5, 21, 1, 2, 3, 1001), NewSID(5, 21, 1, 2, 3, 513)
	for _, c := range []struct{ what, parent, folder, file string }{
		{"everything goes down, unmarked", "D:(A;OICI;FA;;;BA)", "D:(A;OICI;FA;;;BA)", "D:(A;;FA;;;BA)"},
		{"everything goes down", "D:AI(A;OICI;FA;;;BA)", "D:AI(A;OICIID;FA;;;BA)", "D:AI(A;ID;FA;;;BA)"},
		{"folders only", "D:AI(A;CI;FR;;;WD)(A;OICI;FA;;;BA)", "D:AI(A;CIID;FR;;;WD)(A;OICIID;FA;;;BA)",
			"D:AI(A;ID;FA;;;BA)"},
		{"files only, through folders", "D:AI(A;OI;FR;;;WD)", "D:AI(A;OIIOID;FR;;;WD)", "D:AI(A;ID;FR;;;WD)"},
		{"one level down", "D:AI(A;OICINP;FR;;;WD)", "D:AI(A;ID;FR;;;WD)", "D:AI(A;ID;FR;;;WD)"},
		{"files only, one level down", "D:AI(A;OINP;FR;;;WD)(A;CI;FX;;;WD)", "D:AI(A;CIID;FX;;;WD)",
			"D:AI(A;ID;FR;;;WD)"},
		{"for the creator", "D:AI(A;OICIIO;FA;;;CO)", "D:AI(A;ID;FA;;;S-1-5-21-1-2-3-1001)(A;OICIIOID;FA;;;CO)",
			"D:AI(A;ID;FA;;;S-1-5-21-1-2-3-1001)"},
		{"generic rights", "D:AI(A;OICI;GR;;;WD)", "D:AI(A;ID;FR;;;WD)(A;OICIIOID;GR;;;WD)", "D:AI(A;ID;FR;;;WD)"},
		{"nothing", "D:(A;;FA;;;BA)", "D:(A;;FA;;;SY)", "D:(A;;FA;;;SY)"},
	} {
		t.Run(c.what, func(t *testing.T) {
			p, err := ParseSDDL(c.parent)
			if err != nil {
				t.Fatal(err)
			}
			for folder, want := range map[bool]string{true: c.folder, false: c.file} {
				t.Run(fmt.Sprint(folder), func(t *testing.T) {
					got := Child(&p, folder, owner, group, []Entry{{Mask: ace.Full, SID: System}})
					got.Owner, got.Group = SID{}, SID{}
					if text, _ := got.SDDL(); text != want {
						t.Errorf("%s, folder %t: %s, want %s", c.what, folder, text, want)
					}
				})
			}
		})
	}

	sd := func(text string) Descriptor {
		d, err := ParseSDDL(text)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}

	parent := sd("D:(A;OICI;FR;;;BU)")
	d := sd("D:AI(A;;FA;;;SY)(A;OICIID;FA;;;WD)")
	for _, c := range []struct {
		what, want string
		got        Descriptor
	}{
		{"from above anew, its own kept", "D:AI(A;;FA;;;SY)(A;OICIID;FR;;;BU)", Reinherit(&d, &parent, true)},
		{"stopped, kept", "D:P(A;;FA;;;SY)(A;OICI;FA;;;WD)", Stop(&d, true)},
		{"stopped, dropped", "D:P(A;;FA;;;SY)", Stop(&d, false)},
		{"reset", "D:AI(A;OICIID;FR;;;BU)", Reset(&d, &parent, true)},
	} {
		t.Run(c.what, func(t *testing.T) {
			if text, _ := c.got.SDDL(); text != c.want {
				t.Errorf("%s: %s, want %s", c.what, text, c.want)
			}
		})
	}

	if p := Stop(&d, true); !Reinherit(&p, &parent, true).Equal(p) {
		t.Error("what is protected takes from above")
	}

	// Taking from above settles: the second time nothing is another.
	r := seeded.Rand(t)
	for range 20000 {
		parent := randomDescriptor(r)
		d := randomDescriptor(r)
		folder := r.IntN(2) == 0
		once := Reinherit(&d, &parent, folder)
		if twice := Reinherit(&once, &parent, folder); !twice.Equal(once) {
			t.Fatalf("%+v from %+v: %+v, then %+v", d, parent, once, twice)
		}

		for _, e := range d.Entries {
			if e.Flags&ace.Inherited == 0 && !reflect.DeepEqual(once, d) {
				if !contains(once.Entries, e) {
					t.Fatalf("an own entry %+v is gone from %+v", e, once)
				}
			}
		}
	}
}

// What a server makes in a folder, and what takes from there anew, has just what the folder passes on; what
// lacks an entry of that, or has another one that is marked so, does not.
func TestAstray(t *testing.T) {
	r := seeded.Rand(t)
	lacking, over := 0, 0
	for range 20000 {
		parent := randomDescriptor(r)
		d := randomDescriptor(r)
		folder := r.IntN(2) == 0
		if parent.Open {
			continue
		}

		made := Child(&parent, folder, d.Owner, d.Group, nil)
		anew := Reinherit(&d, &parent, folder)
		for _, x := range []Descriptor{made, anew} {
			if missing, left := Astray(&x, &parent, folder); len(missing)+len(left) > 0 {
				t.Fatalf("%+v in %+v lacks %+v and has %+v left over", x, parent, missing, left)
			}
		}

		if anew.Control&Protected != 0 || anew.Open {
			continue
		}

		for i, e := range anew.Entries {
			if e.Flags&ace.Inherited == 0 {
				continue
			}

			less := anew
			less.Entries = slices.Delete(slices.Clone(anew.Entries), i, i+1)
			again := slices.ContainsFunc(less.Entries, func(x Entry) bool { return x.Plain() == e.Plain() })
			if missing, _ := Astray(&less, &parent, folder); (len(missing) == 1 &&
				missing[0].Plain() == e.Plain()) == again {
				t.Fatalf("%+v in %+v lacks %+v: %+v", less, parent, e, missing)
			}

			lacking++
		}

		more := anew
		stray := Entry{Flags: ace.Inherited, Mask: 1, SID: NewSID(5, 21, 9)}

		// which nobody here understands
		more.Entries = append(
			slices.Clone(anew.Entries),
			stray,
			Entry{Type: 5, Flags: ace.Inherited, Extra: "12345678"},
		)
		if missing, left := Astray(&more, &parent, folder); len(missing) > 0 || !slices.Equal(left, []Entry{stray}) {
			t.Fatalf("%+v in %+v: %+v are missing, %+v left over", more, parent, missing, left)
		}

		back := Reinherit(&more, &parent, folder)
		if !contains(back.Entries, more.Entries[len(more.Entries)-1]) || contains(back.Entries, stray) {
			t.Fatalf("%+v taken anew: %+v", more, back)
		}

		over++
	}

	if lacking < 1000 || over < 1000 {
		t.Errorf("%d lacked something, %d had something left over: too little was tried", lacking, over)
	}
}

func contains(list []Entry, e Entry) bool {
	for _, x := range list {
		if x == e {
			return true
		}
	}
	return false
}

func TestOrder(t *testing.T) {
	r := seeded.Rand(t)
	for range 5000 {
		d := randomDescriptor(r)
		Sort(d.Entries)
		if !Canonical(d.Entries) {
			t.Fatalf("sorted, and not in order: %+v", d.Entries)
		}
	}
	if Canonical([]Entry{{}, {Type: Deny}}) || Canonical([]Entry{{Flags: ace.Inherited}, {}}) ||
		!Canonical([]Entry{{Type: Deny}, {}, {Flags: ace.Inherited}, {Type: Deny, Flags: ace.Inherited}}) {
		t.Error("the usual order is another one")
	}
}

// What an entry reaches is written and read for all flags, and in any order.
func TestReaches(t *testing.T) {
	for f := range ace.Passed + 1 {
		s := f.Reaches()
		want := f
		if f&ace.Heritable == 0 {
			want &^= ace.NoPropagate // which says nothing there
		}

		if back, err := ace.ParseReach(s); err != nil || back != want {
			t.Errorf("flags %d are %q, which are flags %d: %v", f, s, back, err)
		}
	}

	for _, c := range []struct {
		text string
		want ace.Flags
		why  string
	}{
		{"here", 0, ""},
		{" files ,here", ace.ObjectInherit, ""},
		{"once, folders", ace.ContainerInherit | ace.InheritOnly | ace.NoPropagate, ""},
		{ace.ReachesAll, ace.ObjectInherit | ace.ContainerInherit, ""},
		{"nothing", ace.InheritOnly, ""},
		{"", 0, "want any of here, folders and files"},
		{"here, nothing", 0, `"nothing" is nothing that an entry reaches`},
		{"here, files, here", 0, `"here" stands there twice`},
		{"here, once", 0, "once goes with folders or files"},
		{"here folders", 0, `"here folders" is nothing`},
	} {
		t.Run(c.text, func(t *testing.T) {
			got, err := ace.ParseReach(c.text)
			if c.why == "" && (err != nil || got != c.want) ||
				c.why != "" && (err == nil || !strings.Contains(err.Error(), c.why)) {
				t.Errorf("%q: %d, %v", c.text, got, err)
			}
		})
	}
}
