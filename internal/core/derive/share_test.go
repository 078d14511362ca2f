package derive

import (
	"strings"
	"testing"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/tree"
)

// A share that is right becomes a baseline of few rules, which it keeps.
func TestDraftOfAShare(t *testing.T) {
	keepers := ntsd.NewSID(5, 21, 1, 2, 3, 1100)
	crew := ntsd.NewSID(5, 21, 1, 2, 3, 1101)
	twin := ntsd.NewSID(5, 21, 1, 2, 3, 1102)
	d := (&perm.Directory{
		Accounts: []perm.Account{{ID: nt.PrincipalOf(ntsd.NewSID(5, 21, 1, 2, 3, 1001)), Name: "twin"}},
		Groups: []perm.Account{
			{ID: nt.PrincipalOf(keepers), Name: "keepers"},
			{ID: nt.PrincipalOf(crew), Name: "crew"},
			{ID: nt.PrincipalOf(twin), Name: "twin"},
		},
	}).Index()

	w := world{}
	add := func(path string, k perm.Kind, sddl string) {
		t.Helper()
		x, err := ntsd.ParseSDDL(strings.NewReplacer("keepers", keepers.String(), "crew", crew.String(), "twin",
			twin.String()).Replace(sddl))
		if err != nil {
			t.Fatal(err)
		}

		s, err := nt.SetOf(x)
		if err != nil {
			t.Fatal(err)
		}

		w[path] = tree.Entry{Kind: k, Set: s}
	}

	add("/charts", perm.Folder, "O:keepersD:PAI(A;OICI;FA;;;keepers)(A;OICI;0x1200a9;;;crew)")
	add("/charts/drop", perm.Folder,
		"O:keepersD:AI(D;;SD;;;twin)(A;;0x6;;;crew)(A;OICIID;FA;;;keepers)(A;OICIID;0x1200a9;;;crew)")
	for _, n := range []string{"a", "b", "c", "d"} {
		add("/charts/"+n, perm.File, "O:keepersD:AI(A;ID;FA;;;keepers)(A;ID;0x1200a9;;;crew)")
		add("/charts/drop/"+n, perm.File, "O:keepersD:AI(A;ID;FA;;;keepers)(A;ID;0x1200a9;;;crew)")
	}

	// What was moved there has entries that no folder passes on: the language has no words for that.
	add("/charts/drop/moved", perm.File, "O:keepersD:AI(A;ID;FA;;;keepers)(A;ID;0x1200a9;;;crew)(A;ID;FA;;;twin)")
	got := derived(t, w.seen("chartroom", "/charts", d))
	_, rule, _ := strings.Cut(got.Text, "paths: /charts/drop/moved\n")
	if !strings.HasPrefix(strings.TrimSpace(rule), "inherits: any") {
		t.Errorf("what is said of the moved file:\n%s", got.Text)
	}

	for _, want := range []string{
		"owner: keepers",
		`inherits: "from above"`,
		"grants: none",
		`"allow keepers: full"`,
		`"deny ` + twin.String() + `: delete; reaches here"`,
	} {
		t.Run(want, func(t *testing.T) {
			if !strings.Contains(got.Text, want) {
				t.Errorf("%s is not in\n%s", want, got.Text)
			}
		})
	}

	if n := strings.Count(got.Text, "- rule:"); n > 5 {
		t.Errorf("%d rules:\n%s", n, got.Text)
	}
}
