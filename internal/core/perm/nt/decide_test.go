package nt

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/privilege"
)

// What somebody can do on a share, and the entry that says so.
func TestShares(t *testing.T) {
	surveyor, crew := ntsd.NewSID(5, 21, 1, 2, 3, 1001), ntsd.NewSID(5, 21, 1, 2, 3, 1100)
	d := (&perm.Directory{
		Accounts: []perm.Account{
			{ID: PrincipalOf(surveyor), Name: "surveyor", Groups: []perm.Principal{PrincipalOf(crew)}},
		},
		Groups: []perm.Account{{ID: PrincipalOf(crew), Name: "crew"}},
	}).Index()

	set := func(sddl string) perm.Set {
		return described(t, strings.NewReplacer("surveyor", surveyor.String(), "crew", crew.String()).Replace(sddl))
	}
	way := func(folder, file string) access.Way {
		return access.Way{
			{Path: "/", Kind: perm.Folder, Set: set("D:NO_ACCESS_CONTROL")},
			{Path: "/charts", Kind: perm.Folder, Set: set(folder)},
			{Path: pathname.Path("/charts/x"), Kind: perm.File, Set: set(file)},
		}
	}

	type question struct {
		what         string
		folder, file string
		op           access.Operation
		ok           bool
		cause        access.Code
		at, says     string
	}

	ask := func(c question, w access.Way) {
		t.Helper()
		a := access.NewAsker(access.SubjectOf(d, PrincipalOf(surveyor))).May(w, c.op, d)
		if a.Allowed != c.ok || a.Cause != c.cause || string(a.At) != c.at ||
			!strings.Contains(a.Reason+" "+a.Entry+strings.Join(a.Notes, " "), c.says) {
			t.Errorf("%s: %+v", c.what, a)
		}

		if got := access.NewAsker(access.SubjectOf(d, PrincipalOf(surveyor))).Can(w, c.op); got != c.ok {
			t.Errorf("%s: in short %t", c.what, got)
		}
	}

	for _, c := range []question{
		{"by the group's entry", "O:SYD:", "O:SYD:(A;;FR;;;crew)", access.Read, true, ByAllow, "/charts/x",
			"allow crew: read"},
		{"a deny before it", "O:SYD:", "O:SYD:(D;;FR;;;crew)(A;;FR;;;surveyor)", access.Read, false, ByDeny,
			"/charts/x",
			"denies read-data: deny crew"},
		{"nothing", "O:SYD:(A;OICI;FA;;;WD)", "O:SYD:P", access.Read, false, ByNoEntry, "/charts/x",
			"no entry on the path grants surveyor read-data"},
		{"an owner", "O:SYD:", "O:surveyorD:", access.Change, true, access.ByOwnership, "/charts/x",
			"surveyor owns it"},
		{"owning is not access", "O:SYD:", "O:surveyorD:", access.Read, false, ByNoEntry, "/charts/x", "no entry"},
		{"deleting by the folder", "O:SYD:(A;;DT;;;crew)", "O:SYD:", access.Delete, true, ByDeleteChild, "/charts",
			"whatever the path's own list says"},
		{"renaming needs the folder, too", "O:SYD:", "O:SYD:(A;;SD;;;crew)", access.Rename, false, ByNoEntry, "/charts",
			"add-files"},
		{"no list", "O:SYD:", "O:SYD:NO_ACCESS_CONTROL", access.Write, true, ByNoList, "/charts/x",
			"everybody may do everything"},
	} {
		ask(c, way(c.folder, c.file))
	}

	// Of a folder: files and folders take rights of their own.
	for _, c := range []question{
		{"a folder for files is none for folders", "O:SYD:", "O:SYD:(A;;0x1200ab;;;WD)", access.CreateFolder, false,
			ByNoEntry,
			"/charts/x", "add-folders"},
		{"and the other way round", "O:SYD:", "O:SYD:(A;;0x1200ad;;;WD)", access.CreateFile, false, ByNoEntry,
			"/charts/x",
			"add-files"},
		{"files alone", "O:SYD:", "O:SYD:(A;;0x1200ab;;;WD)", access.Create, true, ByAllow, "/charts/x", "files alone"},
		{"folders alone", "O:SYD:", "O:SYD:(A;;0x1200ad;;;WD)", access.Create, true, ByAllow, "/charts/x",
			"folders alone"},
		{"neither", "O:SYD:", "O:SYD:(A;;FR;;;WD)", access.Create, false, ByNoEntry, "/charts/x", "add-files"},
		{"where owner rights say otherwise", "O:SYD:", "O:surveyorD:(A;;FA;;;WD)(D;;FW;;;OW)", access.CreateFile, true,
			ByAllow, "/charts/x", "Samba passes over it"},
		{"a folder gets a name in a folder for folders", "O:SYD:(A;;0x1200ad;;;WD)", "O:SYD:(A;;FA;;;WD)",
			access.Rename, true,
			ByAllow, "/charts/x", "delete"},
		{"and none in one for files", "O:SYD:(A;;0x1200ab;;;WD)", "O:SYD:(A;;FA;;;WD)", access.Rename, false, ByNoEntry,
			"/charts", "add-folders"},
	} {
		w := way(c.folder, c.file)
		w[2].Kind = perm.Folder
		ask(c, w)
	}

	// Nobody removes a share, nor makes one, by the list of what is in it.
	share := way("O:SYD:(A;;FA;;;WD)", "O:SYD:")[:2]
	for op, w := range map[access.Operation]access.Way{
		access.Delete:     share,
		access.Rename:     share,
		access.Create:     share[:1],
		access.CreateFile: share[:1],
		access.Change:     share[:1],
	} {
		if a := access.NewAsker(access.SubjectOf(d, PrincipalOf(surveyor))).May(w, op, d); a.Allowed ||
			a.Cause != ByShareTop && a.Cause != access.ByRoot {
			t.Errorf("%s %s: %+v", op, w[len(w)-1].Path, a)
		}
	}

	holders := access.Everybody(way("O:SYD:", "O:SYD:(A;;FR;;;crew)"), access.Read, d)
	if len(holders) != 3 || holders[0].Answers[0].Allowed || !holders[1].Answers[0].Allowed {
		t.Errorf("%+v", holders)
	}

	privileged(t)
	markedReadOnly(t)

	joined := access.SubjectOf(d, perm.Everyone)
	joined.Groups = append(joined.Groups, PrincipalOf(crew))
	if !access.NewAsker(joined).Can(way("O:SYD:", "O:SYD:(A;;FR;;;crew)"), access.Read) {
		t.Error("who joins the group gains nothing")
	}
}

// described is a share's state by its descriptor in text.
func described(t *testing.T, sddl string) perm.Set {
	t.Helper()
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

// What is marked as read-only is neither written nor deleted, whatever the lists say; where nobody looked a
// yes says so.
func markedReadOnly(t *testing.T) {
	t.Helper()
	for _, c := range []struct {
		mark access.Mark
		list string
		op   access.Operation
		ok   bool
		says string
	}{
		{access.Unmarked, "D:(A;;FA;;;WD)", access.Write, true, ""},
		{access.MarkReadOnly, "D:(A;;FA;;;WD)", access.Write, false, "the account may take the mark off"},
		{access.MarkReadOnly, "D:(A;;0x10002;;;WD)", access.Write, false, ""},
		{access.MarkReadOnly, "D:(A;;0x10002;;;WD)", access.Delete, false, ""},
		{access.MarkReadOnly, "D:(A;;FA;;;WD)", access.Read, true, ""},
		{access.MarkReadOnly, "D:(A;;FA;;;WD)", access.Rename, true, ""},
		{access.NotLooked, "D:(A;;FA;;;WD)", access.Write, true, "which snapshots do not hold"},
		{access.NotLooked, "D:", access.Write, false, ""},
	} {
		t.Run(c.list, func(t *testing.T) {
			var sets []perm.Set
			for _, sddl := range []string{"O:SYD:(A;;FA;;;WD)", "O:SY" + c.list} {
				sets = append(sets, described(t, sddl))
			}

			w := access.Way{
				{Path: "/", Kind: perm.Folder, Set: sets[0]},
				{Path: "/charts", Kind: perm.Folder, Set: sets[0]},
				{Path: "/charts/x", Kind: perm.File, Set: sets[1], Mark: c.mark},
			}
			a := access.NewAsker(access.SubjectOf(nil, PrincipalOf(ntsd.NewSID(5, 21, 1, 2, 3, 9)))).May(w, c.op, nil)
			said := strings.Join(a.Notes, "; ")
			if a.Allowed != c.ok || (c.says == "") != (said == "") || !strings.Contains(said, c.says) {
				t.Errorf("%s, marked %q, %s: %+v", c.list, c.mark, c.op, a)
			}
		})
	}
}

// Of a list of thousands, as whoever owns something may make one, no entry costs more than a look into a
// table for each who is asked for.
func TestLongListsCostLittle(t *testing.T) {
	d := (&perm.Directory{
		Groups: []perm.Account{{ID: PrincipalOf(ntsd.NewSID(5, 21, 7, 7, 7, 1)), Name: `FAR\pilots`}},
	}).Index()
	x := ntsd.Descriptor{Owner: ntsd.System}
	for i := range 1500 {
		x.Entries = append(x.Entries, ntsd.Entry{Mask: ace.ReadSet, SID: ntsd.NewSID(5, 21, 1, 2, 3, uint32(i))})
	}

	s, err := SetOf(x)
	if err != nil {
		t.Fatal(err)
	}

	a := access.NewAsker(access.SubjectOf(d, PrincipalOf(ntsd.NewSID(5, 21, 1, 2, 3, 9000))))
	w := access.Way{{Path: "/charts/x", Kind: perm.File, Set: s}}
	if n := testing.AllocsPerRun(10, func() { a.Sure(w, access.Read, d) }); n > 100 {
		t.Errorf("%v allocations for an answer", n)
	}
}

// Privileges count, by themselves and by groups; what a program has to ask for is told beside a no, and so is
// what nobody told.
func privileged(t *testing.T) {
	t.Helper()
	names := map[string]ntsd.SID{
		"owner":  ntsd.NewSID(5, 21, 1, 2, 3, 1),
		"saver":  ntsd.NewSID(5, 21, 1, 2, 3, 2),
		"member": ntsd.NewSID(5, 21, 1, 2, 3, 3),
		"keeper": ntsd.NewSID(5, 21, 1, 2, 3, 4),
		"clerk":  ntsd.NewSID(5, 21, 1, 2, 3, 5),
	}

	powers := map[string]privilege.Set{
		"owner":  privilege.TakeOwnership,
		"saver":  privilege.Backup | privilege.Restore,
		"keeper": privilege.Everything,
	}
	d := &perm.Directory{Untold: []string{"the weather"}}
	for name, sid := range names {
		a := perm.Account{ID: PrincipalOf(sid), Name: name, Privileges: powers[name]}
		if name == "member" {
			a.Groups = []perm.Principal{PrincipalOf(ntsd.Administrators)}
		}
		d.Accounts = append(d.Accounts, a)
	}

	d.Groups = []perm.Account{
		{
			ID:         PrincipalOf(ntsd.Administrators),
			Name:       "administrators",
			Privileges: privilege.TakeOwnership | privilege.Backup,
		},
	}
	s := described(t, "O:SYD:P")
	d.Index()

	w := access.Way{
		{Path: "/", Kind: perm.Folder, Set: s},
		{Path: "/charts", Kind: perm.Folder, Set: s},
		{Path: "/charts/x", Kind: perm.File, Set: s},
	}
	for _, c := range []struct {
		who  string
		op   access.Operation
		ok   bool
		says string
	}{
		{"owner", access.Own, true, "owner holds SeTakeOwnershipPrivilege, which passes over the list of the path"},
		{"owner", access.Read, false, "not counted, since the server does not tell it: the weather"},
		{"member", access.Own, true, "member holds SeTakeOwnershipPrivilege (by administrators)"},
		{"member", access.Read, false,
			"holds SeBackupPrivilege (by administrators): programs that ask for it read whatever lists say"},
		{"member", access.Write, false, "no entry"},
		{"member", access.Execute, false, "holds SeBackupPrivilege (by administrators)"},
		{"saver", access.Read, false, "holds SeBackupPrivilege: programs that ask for it read"},
		{"saver", access.Delete, false, "holds SeRestorePrivilege: programs that ask for it write"},
		{"keeper", access.Write, true, "the server lets keeper do everything"},
		{"keeper", access.Delete, true, "the server lets keeper do everything"},
		{"clerk", access.Own, false, "no entry"},
	} {
		t.Run(c.who, func(t *testing.T) {
			a := access.NewAsker(access.SubjectOf(d, PrincipalOf(names[c.who]))).May(w, c.op, d)
			if a.ByAsking != strings.Contains(strings.Join(a.Notes, ""), "programs that ask") {
				t.Errorf("%s %s, by asking: %+v", c.who, c.op, a)
			}

			said := a.Reason + "; " + strings.Join(a.Notes, "; ")
			if a.Allowed != c.ok || !strings.Contains(said, c.says) || c.ok && a.Cause != access.ByPrivilege {
				t.Errorf("%s %s: %+v", c.who, c.op, a)
			}
		})
	}

	b, hash, err := d.Encode()
	if err != nil {
		t.Fatal(err)
	}

	var back perm.Directory
	if err := json.Unmarshal(b, &back); err != nil {
		t.Fatal(err)
	}

	if _, again, err := back.Encode(); err != nil || again != hash {
		t.Errorf("read back it is another one: %v, %s", err, b)
	}

	if err := json.Unmarshal([]byte(`{"accounts":[{"id":"S-1-1-0","privileges":"SeFlyPrivilege"}]}`),
		&back); err == nil {
		t.Error("a privilege that is none")
	}
}

// What somebody makes on a share gets what the folder passes on.
func TestNewOnShare(t *testing.T) {
	maker := ntsd.NewSID(5, 21, 1, 2, 3, 1001)
	d := (&perm.Directory{Accounts: []perm.Account{{ID: PrincipalOf(maker), Name: "surveyor"}}}).Index()
	for _, c := range []struct {
		folder, want, says string
		kind               perm.Kind
	}{
		{"O:SYD:PAI(A;OICI;FR;;;WD)(A;OICIIO;FA;;;CO)",
			"allow everyone: read; inherited | allow surveyor: full; inherited", "creator owner goes to surveyor",
			perm.File},
		{"O:SYD:PAI(A;OI;FR;;;WD)", "allow everyone: read; reaches files; inherited", "inherited from the folder",
			perm.Folder},
		{"O:SYD:P(A;;FA;;;WD)", "allow surveyor: full | allow system: full", "nothing is handed on to a file",
			perm.File},
	} {
		t.Run(c.folder, func(t *testing.T) {
			m, err := access.New(described(t, c.folder), c.kind, access.SubjectOf(d, PrincipalOf(maker)),
				access.Asked{}, d)
			if err != nil {
				t.Fatal(err)
			}

			v := perm.Describe(c.kind, m.Set, d)
			got := strings.Join(v.Entries, " | ")
			if got != c.want || v.Owner != "surveyor" || !strings.Contains(strings.Join(m.Notes, " "), c.says) {
				t.Errorf("in %s: %s by %s, %v", c.folder, got, v.Owner, m.Notes)
			}
		})
	}
}

// An entry of a group of which nobody knows who is in it is not nobody's: where it would turn an answer
// round, there is none.
func TestGroupsThatNobodyKnows(t *testing.T) {
	surveyor := ntsd.NewSID(5, 21, 1, 2, 3, 1001)
	crew := ntsd.NewSID(5, 21, 1, 2, 3, 1100)
	far := ntsd.NewSID(5, 21, 7, 7, 7, 1200)
	d := (&perm.Directory{
		Accounts: []perm.Account{
			{ID: PrincipalOf(surveyor), Name: "surveyor", Groups: []perm.Principal{PrincipalOf(crew)}},
		},
		Groups: []perm.Account{
			{ID: PrincipalOf(crew), Name: `CHARTROOM\crew`},
			{ID: PrincipalOf(far), Name: `FAR\pilots`},
			{ID: "S-1-22-2-7", Name: `Unix Group\office`},
		},
	}).Index()

	var many string
	for i := range maxUndissolved + 1 {
		many += fmt.Sprintf("(A;;0x2;;;S-1-22-2-%d)", i)
	}

	for _, c := range []struct {
		what, folder, file string
		op                 access.Operation
		unknown            bool
	}{
		{"a group of the system below", "D:", "D:(A;;FR;;;S-1-22-2-7)", access.Read, true},
		{"a number that has no name", "D:", "D:(A;;FR;;;S-1-22-2-8)", access.Read, true},
		{"another name of an account", "D:", "D:(A;;FR;;;S-1-22-1-4)", access.Read, true},
		{"a group of another domain", "D:", "D:(A;;FR;;;far)", access.Read, true},
		{"one that keeps out", "D:", "D:(D;;FR;;;S-1-22-2-7)(A;;FR;;;surveyor)", access.Read, true},
		{"what makes no difference", "D:", "D:(A;;FR;;;surveyor)(A;;FR;;;S-1-22-2-7)", access.Read, false},
		{"another right", "D:", "D:(A;;FR;;;S-1-22-2-7)", access.Write, false},
		{"by the folder", "D:(A;;DT;;;S-1-22-2-7)", "D:", access.Delete, true},
		{"a group whose members are known", "D:", "D:(D;;FR;;;crew)(A;;FR;;;surveyor)", access.Read, false},
		{"more of them than are tried", "D:", "D:" + many, access.Read, true},
		{"somebody who left", "D:", "D:(A;;FR;;;S-1-5-21-1-2-3-4711)", access.Read, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			place := func(path pathname.Path, k perm.Kind, sddl string) access.Place {
				text := strings.NewReplacer("surveyor", surveyor.String(), "crew", crew.String(), "far",
					far.String()).Replace("O:SY" +
					sddl)
				return access.Place{Path: path, Kind: k, Set: described(t, text)}
			}

			way := access.Way{
				place("/", perm.Folder, "D:NO_ACCESS_CONTROL"),
				place("/charts", perm.Folder, c.folder),
				place("/charts/x", perm.File, c.file),
			}
			a := access.NewAsker(access.SubjectOf(d, PrincipalOf(surveyor))).May(way, c.op, d)
			if a.Unknown != c.unknown ||
				a.Unknown && !strings.Contains(strings.Join(a.Notes, " "), "the server does not tell who is in") {
				t.Errorf("%s: %+v", c.what, a)
			}

			if ok, unknown := access.NewAsker(access.SubjectOf(d, PrincipalOf(surveyor))).Sure(way, c.op,
				d); ok != a.Allowed ||
				unknown != a.Unknown {
				t.Errorf("%s: in short %t, %t", c.what, ok, unknown)
			}
		})
	}
}
