package perm

import (
	"strings"
	"testing"

	"idletally/internal/core/ntsd"
)

var (
	surveyor = ntsd.NewSID(5, 21, 1, 2, 3, 1001)
	crewSID  = ntsd.NewSID(5, 21, 1, 2, 3, 1100)
	mates    = ntsd.NewSID(5, 21, 1, 2, 3, 1101)
	stray    = ntsd.NewSID(5, 21, 1, 2, 3, 4711)
)

func server() *Directory {
	return (&Directory{
		Accounts: []Account{{ID: SIDOf(surveyor), Name: "surveyor", Groups: []Principal{SIDOf(crewSID)}}, {ID: SIDOf(ntsd.System), Name: "system"},
			{ID: SIDOf(ntsd.NewSID(5, 21, 1, 2, 3, 1002)), Name: "both", Groups: []Principal{SIDOf(crewSID), SIDOf(mates)}}},
		Groups: []Account{{ID: SIDOf(crewSID), Name: "crew"}, {ID: SIDOf(mates), Name: "mates"}},
	}).Index()
}

func nt(t testing.TB, sddl string) Set {
	t.Helper()
	sddl = strings.NewReplacer("surveyor", surveyor.String(), "crew", crewSID.String(), "mates", mates.String(), "stray", stray.String()).Replace(sddl)
	d, err := ntsd.ParseSDDL(sddl)
	if err != nil {
		t.Fatal(err)
	}
	s, err := NTSet(d)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestNTSet(t *testing.T) {
	s := nt(t, "O:surveyorG:BAD:PAI(D;;0x2;;;crew)(A;OICIID;FA;;;SY)")
	if back, err := ParseSet(s.Bytes()); err != nil || back != s {
		t.Errorf("%x, %v", back.Bytes(), err)
	}
	for _, bad := range []string{"\x02", "\x02\x01\x00", s.Bytes() + "x", s.Bytes()[:len(s.Bytes())-1], "\x03abc"} {
		if got, err := ParseSet(bad); err == nil {
			t.Errorf("%x was read as %x", bad, got.Bytes())
		}
	}
	if _, err := POSIXOf(s); err == nil {
		t.Error("it is a POSIX state, too")
	}
	if _, ok := NTOf(POSIX{}.Set()); ok {
		t.Error("a POSIX state is a descriptor, too")
	}
	if got := TraitsOf(s); got != WithEntries {
		t.Errorf("traits %v", got)
	}
}

func TestNTView(t *testing.T) {
	d := server()
	v := Describe(Folder, nt(t, "O:strayD:AI(D;OICI;0x10000;;;crew)(A;OICIID;FA;;;SY)(A;ID;FR;;;WD)"), d)
	if v.Owner != stray.String() || len(v.Unknown) != 1 || v.Inheritance != InheritsFromAbove {
		t.Errorf("%+v", v)
	}
	want := "deny crew: delete | allow system: full; inherited | allow everyone: read; this folder only; inherited"
	if got := strings.Join(v.Entries, " | "); got != want {
		t.Errorf("%s, want %s", got, want)
	}
	if v := Describe(File, nt(t, "O:SYD:NO_ACCESS_CONTROL"), d); v.Inheritance != NoListAtAll {
		t.Errorf("%+v", v)
	}
}

func TestNTBetween(t *testing.T) {
	for _, c := range []struct {
		name, from, to, want string
		kind                 Kind
	}{
		{"everyone gets everything", "O:SYD:", "O:SYD:(A;;FA;;;WD)", "opens for everyone: list, add and remove entries, pass through, change permissions, remove others' entries, delete", Folder},
		{"a deny comes", "O:SYD:(A;;FR;;;crew)", "O:SYD:(D;;FR;;;crew)(A;;FR;;;crew)", "closes for group crew: read", File},
		{"a deny goes that only somebody in both groups met", "O:SYD:(D;;FW;;;crew)(A;;FA;;;mates)", "O:SYD:(A;;FA;;;mates)", "opens for both: write", File},
		{"an owner", "O:surveyorD:", "O:SYD:", "closes for surveyor: change permissions", File},
		{"what is only for children", "O:SYD:", "O:SYD:(A;OICIIO;FA;;;crew)", "changes nobody's access", Folder},
		{"the same", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)", "changes nobody's access", File},
	} {
		got := Between(c.kind, nt(t, c.from), nt(t, c.to), server()).String()
		// A group's member gains and loses with it.
		if got, _, _ = strings.Cut(got, "; surveyor"); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	if e := Between(File, nt(t, "O:SYD:"), POSIX{}.Set(), nil); e.Word() != "neither" {
		t.Errorf("between two schemes: %+v", e)
	}
}

func TestNTEntries(t *testing.T) {
	above := []Above{{"/", nt(t, "D:NO_ACCESS_CONTROL")}, {"/charts", nt(t, "D:P(A;OICI;FA;;;BA)(A;OICIIO;FA;;;CO)")}, {"/charts/a", nt(t, "D:AI(A;OICI;FR;;;crew)(A;OICIID;FA;;;BA)(A;OICIIOID;FA;;;CO)")}}
	lines := Entries(File, nt(t, "O:surveyorD:AI(D;;0x2;;;stray)(A;ID;FR;;;crew)(A;ID;FA;;;BA)(A;ID;FA;;;surveyor)(A;ID;FX;;;WD)"), above, server())
	for i, want := range []string{"set here", "from /charts/a", "from /charts", "from /charts", "from a folder above"} {
		if lines[i].Origin != want {
			t.Errorf("%s comes %s, want %s", lines[i].Text, lines[i].Origin, want)
		}
	}
	if !lines[0].Deny || !lines[0].Unknown || lines[1].Deny {
		t.Errorf("%+v", lines[:2])
	}
	words := strings.Join(Explain(Folder, nt(t, "O:SYD:P(A;;FR;;;WD)(D;;FA;;;AN)")), " ")
	for _, want := range []string{"takes no entries from above", "Everybody who signs in can list", "not stand in the usual order"} {
		if !strings.Contains(words, want) {
			t.Errorf("%q is not said: %s", want, words)
		}
	}
}

func TestNTWorries(t *testing.T) {
	for _, c := range []struct {
		name, from, to string
		want           string // kinds, grave ones with an exclamation mark
	}{
		{"everyone gets everything", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)(A;;FA;;;WD)", "everyone!"},
		{"everyone may write", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)(A;;FW;;;WD)", "everyone!"},
		{"a deny meets who is let in", "O:SYD:(A;;FA;;;BA)(A;;FA;;;mates)", "O:SYD:(D;;FW;;;crew)(A;;FA;;;BA)(A;;FA;;;mates)", "deny!"},
		{"a deny meets nobody else", "O:SYD:(A;;FA;;;BA)(A;;FR;;;mates)", "O:SYD:(D;;FW;;;crew)(A;;FA;;;BA)(A;;FR;;;mates)", ""},
		{"nobody can repair it", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FR;;;BA)", "locked!"},
		{"inheriting stops", "O:SYD:AI(A;ID;FA;;;BA)", "O:SYD:P(A;;FA;;;BA)", "stopped"},
		{"owning is not access", "O:SYD:(A;;FA;;;BA)", "O:surveyorD:(A;;FA;;;BA)", "owning"},
		{"a group gains", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)(A;;FR;;;crew)", "joining"},
		{"nothing", "O:SYD:(A;;FA;;;BA)", "O:SYD:(A;;FA;;;BA)", ""},
		{"what was set there goes", "O:SYD:AI(A;;FR;;;surveyor)(A;ID;FA;;;BA)", "O:SYD:AI(A;ID;FA;;;BA)", "wiped"},
		{"some of it stays", "O:SYD:AI(A;;FR;;;surveyor)(A;;FW;;;surveyor)(A;ID;FA;;;BA)", "O:SYD:AI(A;;FR;;;surveyor)(A;ID;FA;;;BA)", ""},
	} {
		var got []string
		for _, w := range Worries(File, nt(t, c.from), nt(t, c.to), server(), nil) {
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
	}
	lost := Worries(File, nt(t, "O:SYD:(A;;FA;;;BA)(A;;FR;;;crew)"), nt(t, "O:SYD:(A;;FA;;;BA)"), server(), []Principal{SIDOf(surveyor)})
	if len(lost) != 1 || lost[0].Kind != WorryReading || !strings.Contains(lost[0].Text, "surveyor") {
		t.Errorf("%+v", lost)
	}
}
