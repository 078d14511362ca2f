package schemes

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/core/baseline"
	"idletally/internal/core/mode"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/unixid"
)

// Every scheme of the table runs the suite that holds for all of them.
func TestEverySchemeConforms(t *testing.T) {
	if len(perm.Schemes()) < 2 {
		t.Fatalf("there are %d schemes: the table is not seen", len(perm.Schemes()))
	}
	for _, s := range perm.Schemes() {
		files, err := filepath.Glob(filepath.Join("..", "perm", s.String(), "*_test.go"))
		if err != nil {
			t.Fatal(err)
		}
		conforms := false
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			conforms = conforms || strings.Contains(string(b), "schemetest.Run(")
		}
		if !conforms {
			t.Errorf("the tests of scheme %s do not run schemetest", s)
		}
	}
}

func descriptor(t *testing.T, sddl string) perm.Set {
	t.Helper()
	d, err := ntsd.ParseSDDL(sddl)
	if err != nil {
		t.Fatal(err)
	}
	s, err := nt.SetOf(d)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// A set of a scheme that this package does not know cannot be made, and if one is made by mistake it is a loud one:
// none of these may take it for as declared, for harmless, or for nobody's.
func TestUnknownSchemeIsNoAnswer(t *testing.T) {
	strange := perm.Encoded([]byte("\x09whatever"))
	plain := posix.State{Mode: 0o640}.Set()
	if s, err := perm.ParseSet(strange.Bytes()); err == nil {
		t.Errorf("it is read: %v", s)
	}

	owner := unixid.UID(1)
	want := &perm.Desired{Owner: &owner, Rule: map[perm.Aspect]int{}}
	for name, f := range map[string]func(){
		"Between":     func() { perm.Between(perm.File, strange, plain, nil) },
		"Between, to": func() { perm.Between(perm.File, plain, strange, nil) },
		"Worries":     func() { perm.Cautions(perm.File, strange, plain, nil, nil) },
		"Mentioned":   func() { perm.Mentioned(strange, nil) },
		"TraitsOf":    func() { perm.TraitsOf(strange) },
		"RightsOf":    func() { perm.RightsOf(perm.File, strange, owner, nil) },
		"Describe":    func() { perm.Describe(perm.File, strange, nil) },
		"Entries":     func() { perm.Entries(perm.File, strange, nil, nil) },
		"Explain":     func() { perm.Explain(perm.File, strange) },
		"Sayings": func() {
			perm.Terms(perm.In(perm.Set{}, perm.File, strange), nil,
				func(perm.Principal) string { return "" })
		},
		"Judges":      func() { want.Judges(perm.File, strange) },
		"Differences": func() { want.Differences(perm.In(perm.Set{}, perm.File, strange), nil) },
		"Apply":       func() { _, _ = want.Apply(perm.In(perm.Set{}, perm.File, strange)) },
		"Narrow":      func() { _, _ = perm.Narrow(perm.File, strange, strange) },
	} {
		t.Run(name, func(t *testing.T) {
			defer func() {
				if recover() == nil {
					t.Error("it has an answer for a scheme that nobody knows")
				}
			}()
			f()
		})
	}
}

// Between schemes an effect is told all the same: whoever one of them does not know is nobody in particular there.
func TestBetweenSchemes(t *testing.T) {
	open, shut := posix.State{UID: 1, Mode: 0o666}.Set(), descriptor(t, "O:BAD:P(A;;FA;;;BA)")
	if e := perm.Between(perm.File, open, shut, nil); e.Word() == "neither" || len(e.Closes) == 0 {
		t.Errorf("from everybody's to administrators' alone: %s", e)
	}
	if _, err := perm.Narrow(perm.File, open, shut); err == nil {
		t.Error("something stands between states of two schemes")
	}
}

// A path counts as judged where something is asked of it: not by what holds for other kinds of paths, or is
// only taken back.
func TestJudges(t *testing.T) {
	share := descriptor(t, "O:SYD:")
	yes, owner, none, md := true, unixid.UID(1), "", mode.Exactly(0o640)
	for _, c := range []struct {
		what  string
		want  *perm.Desired
		kind  perm.Kind
		found perm.Set
		judge bool
	}{
		{"no rule", nil, perm.File, posix.State{}.Set(), false},
		{"left alone", &perm.Desired{LeaveAlone: true, Owner: &owner}, perm.File, posix.State{}.Set(), false},
		{"all of it taken back", &perm.Desired{Rule: map[perm.Aspect]int{perm.AspectOwner: 1}}, perm.File,
			posix.State{}.Set(), false},
		{"an owner", &perm.Desired{Owner: &owner}, perm.Link, posix.State{}.Set(), true},
		{"a mode", &perm.Desired{Mode: &md}, perm.File, posix.State{}.Set(), true},
		{"a mode of a link", &perm.Desired{Mode: &md}, perm.Link, posix.State{}.Set(), false},
		{"defaults", &perm.Desired{Defaults: &perm.DesiredEntries{}}, perm.Folder, posix.State{}.Set(), true},
		{"defaults of a file", &perm.Desired{Defaults: &perm.DesiredEntries{}}, perm.File, posix.State{}.Set(), false},
		{"a capability", &perm.Desired{Caps: &none}, perm.File, posix.State{}.Set(), true},
		{"a capability of a folder", &perm.Desired{Caps: &none}, perm.Folder, posix.State{}.Set(), false},
		{"a flag", &perm.Desired{Off: perm.Immutable}, perm.Folder, posix.State{}.Set(), true},
		{"a flag of a pipe", &perm.Desired{Off: perm.Immutable}, perm.Pipe, posix.State{}.Set(), false},
		{"absence", &perm.Desired{Absent: true}, perm.Pipe, posix.State{}.Set(), true},
		{"a mode on a share", &perm.Desired{Mode: &md}, perm.File, share, false},
		{"inheritance", &perm.Desired{Inherits: &yes}, perm.File, share, true},
		{"inheritance elsewhere", &perm.Desired{Inherits: &yes}, perm.File, posix.State{}.Set(), false},
		{"grants", &perm.Desired{Grants: &perm.DesiredGrants{}}, perm.Folder, share, true},
		{"an owner on a share", &perm.Desired{Owner: &owner}, perm.Link, share, true},
	} {
		t.Run(c.what, func(t *testing.T) {
			if got := c.want.Judges(c.kind, c.found); got != c.judge {
				t.Errorf("%s: %t", c.what, got)
			}
		})
	}
}

// On a host of one sort, owners and entries of POSIX lists name its accounts, and nobody that another scheme knows: a
// rule that names such a one cannot be judged there. Taken for an entry for nobody it would take all others away.
func TestNamesStayOnTheirHosts(t *testing.T) {
	linux := (&perm.Directory{Accounts: []perm.Account{{ID: "u1", Name: "purser"}}}).Index()
	server := (&perm.Directory{Accounts: []perm.Account{{ID: "S-1-5-21-1-2-3-1001", Name: "purser"}}}).Index()
	for _, c := range []struct {
		says string
		host *perm.Directory
		ok   bool
	}{
		{"owner: everyone", linux, false},
		{"owner: everyone", server, true},
		{"owner: 1", linux, true},
		{"group: everyone", linux, false},
		{`entries: ["user:everyone:r"]`, linux, false},
		{`entries: ["user:purser:r"]`, linux, true},
		{`grants: ["allow everyone: read"]`, linux, true},
		{`grants: ["allow OWNER@: read"]`, linux, true},
		{`grants: ["allow OWNER@: read"]`, server, false},
		{`grants: ["allow administrators: read"]`, server, true},
		{`grants: ["allow administrators: read"]`, linux, false},
	} {
		t.Run(c.says, func(t *testing.T) {
			d, err := baseline.Parse([]byte("idletally: 1\napplication: a\nhosts: {names: [h]}\nroots: [/a]\nrules:\n" +
				"  - {rule: r, paths: /a/**, " + c.says + "}\n"))
			if err != nil {
				t.Fatal(err)
			}
			m, problems := baseline.Compile(d, c.host)
			if ok := len(problems) == 0; ok != c.ok {
				t.Errorf("%s: problems %v", c.says, problems)
			}
			if w := m.Desired(m.Root("/a/x"), perm.File, posix.State{}.Set()); !c.ok && w != nil {
				t.Errorf("%s: declared as %+v", c.says, w)
			}
		})
	}
}
