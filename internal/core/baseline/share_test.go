package baseline

import (
	"strings"
	"testing"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/perm/posix"
)

const shareText = `
idletally: 1
application: charts
hosts: {names: [chartroom]}
roots: [/charts]
rules:
  - rule: everything
    paths: /charts/**
    owner: keepers
    inherits: from above
    grants: none
  - rule: top
    paths: /charts
    inherits: stopped
    grants: ["allow keepers: full", "allow crew: read, execute", "deny stoker: delete; reaches here"]
  - rule: drop
    paths: /charts/drop/**
    owner: any
    grants: {at-least: ["allow crew: add-files, add-folders; reaches here"], without: [everyone]}
  - rule: own
    paths: /charts/free/**
    grants: any
`

// What a baseline says of shares is found to differ where it does, and mended nothing differs any more.
func TestShares(t *testing.T) {
	keepers := ntsd.NewSID(5, 21, 1, 2, 3, 1100)
	crew := ntsd.NewSID(5, 21, 1, 2, 3, 1101)
	stoker := ntsd.NewSID(5, 21, 1, 2, 3, 1001)
	dir := (&perm.Directory{
		Accounts: []perm.Account{{ID: nt.PrincipalOf(stoker), Name: "stoker"}},
		Groups: []perm.Account{{ID: nt.PrincipalOf(keepers), Name: "keepers"},
			{ID: nt.PrincipalOf(crew), Name: "crew"}},
	}).Index()
	doc, err := Parse([]byte(shareText))
	if err != nil {
		t.Fatal(err)
	}

	m, problems := Compile(doc, dir)
	if len(problems) > 0 {
		t.Fatal(problems)
	}

	for _, c := range []struct {
		path  string
		kind  perm.Kind
		found string
		diffs string
	}{
		{"/charts", perm.Folder, "O:keepersD:P(A;OICI;FA;;;keepers)(A;OICI;0x1200a9;;;crew)",
			"grants deny stoker: delete; reaches here | allow keepers: full | allow crew: read, traverse/allow " +
				"keepers: full | allow crew: read, traverse"},
		{"/charts", perm.Folder, "O:keepersD:P(D;;SD;;;stoker)(A;OICI;0x1200a9;;;crew)(A;OICI;GA;;;keepers)", ""},
		{"/charts", perm.Folder, "O:keepersD:P(A;OICI;0x1200a9;;;crew)(A;OICI;GA;;;keepers)(D;;SD;;;stoker)",
			"grants deny stoker: delete; reaches here | allow keepers: full | allow crew: read, traverse/allow " +
				"crew: read, traverse | allow keepers: generic-all | deny stoker: delete; reaches here (not in " +
				"the usual order)"},
		{"/charts/a", perm.File, "O:keepersD:AI(A;ID;FA;;;keepers)", ""},
		{"/charts/a", perm.File, "O:stokerD:AI(A;;FA;;;WD)(A;ID;FA;;;keepers)",
			"owner keepers/stoker; grants none/allow everyone: full"},
		{"/charts/a", perm.File, "O:keepersD:P(A;;FA;;;keepers)",
			"inheritance from above/stopped; grants none/allow keepers: full"},
		{"/charts/a", perm.File, "O:keepersD:NO_ACCESS_CONTROL", "grants none/no list: everybody may do everything"},
		{"/charts/drop", perm.Folder, "O:stokerD:AI(A;;FA;;;WD)",
			"grants at least allow crew: add-files, add-folders; reaches here; none for everyone/allow everyone: " +
				"full; reaches here"},
		{"/charts/drop", perm.Folder, "O:stokerD:AI(A;;0x1f0007;;;crew)(A;OICI;FR;;;stoker)", ""},
		{"/charts/free/x", perm.File, "O:keepersD:AI(A;;FA;;;stoker)", ""},
	} {
		t.Run(c.path, func(t *testing.T) {
			sddl := strings.NewReplacer("keepers", keepers.String(), "crew", crew.String(), "stoker",
				stoker.String()).Replace(c.found)
			d, err := ntsd.ParseSDDL(sddl)
			if err != nil {
				t.Fatal(err)
			}

			set, err := nt.SetOf(d)
			if err != nil {
				t.Fatal(err)
			}

			w := m.Desired(m.Root(c.path), c.kind, set)
			var got []string
			for _, x := range w.Differences(perm.Found{Kind: c.kind, Set: set}, dir) {
				got = append(got, string(x.Aspect)+" "+x.Declared+"/"+x.Found)
			}

			if s := strings.Join(got, "; "); s != c.diffs {
				t.Errorf("%s %s:\n got %s\nwant %s", c.path, c.found, s, c.diffs)
			}

			after, err := w.Apply(perm.Found{Kind: c.kind, Set: set})
			if err != nil {
				t.Fatal(err)
			}

			if left := w.Differences(perm.Found{Kind: c.kind, Set: after}, dir); len(left) > 0 {
				t.Errorf("%s %s: mended there is still %+v", c.path, c.found, left)
			}
		})
	}

	if w := m.Desired(m.Root("/charts"), perm.Folder, posix.State{Mode: 0o755}.Set()); w.Grants == nil {
		t.Error("a state of another scheme has another declaration")
	}
}

func TestShareFaults(t *testing.T) {
	for bad, says := range map[string]string{
		`grants: ["permit crew: full"]`:                    "want allow NAME",
		`grants: ["allow crew: fly"]`:                      `"fly" is unknown`,
		`grants: ["allow : full"]`:                         "names nobody",
		`grants: ["allow crew: full; the moon"]`:           "behind the semicolon stands reaches",
		`grants: ["allow crew: full; reaches the moon"]`:   `"the moon" is nothing that an entry reaches`,
		`grants: ["allow crew: full; reaches here, once"]`: "once goes with folders or files",
		`grants: {without: ["a:b"]}`:                       "cannot be an account's name",
		`inherits: sometimes`:                              `want "from above" or "stopped"`,
	} {
		t.Run(bad, func(t *testing.T) {
			_, err := Parse([]byte("idletally: 1\napplication: a\nhosts: {names: [h]}\nroots: [/a]\n" +
				"rules:\n  - rule: r\n    paths: /a/**\n    " + bad + "\n"))
			if err == nil || !strings.Contains(err.Error(), says) {
				t.Errorf("%s: %v, want %q", bad, err, says)
			}
		})
	}

	doc, err := Parse([]byte(
		"idletally: 1\napplication: a\nhosts: {names: [h]}\nroots: [/a]\nrules:\n  - rule: r\n    paths: /a/**\n    " +
			"grants: [\"allow nobody-there: full\"]\n"))
	if err != nil {
		t.Fatal(err)
	}

	_, problems := Compile(doc, (&perm.Directory{}).Index())
	if len(problems) != 1 || !strings.Contains(problems[0].Message, "nobody-there") {
		t.Errorf("%+v", problems)
	}
}

// Each kind of warning about shares comes of a rule that triggers exactly it; what is well declared gives none.
func TestWarnShares(t *testing.T) {
	id := func(rid uint32) ntsd.SID { return ntsd.NewSID(5, 21, 1, 2, 3, rid) }
	account := func(rid uint32, name string, groups ...uint32) perm.Account {
		a := perm.Account{ID: nt.PrincipalOf(id(rid)), Name: name}
		for _, g := range groups {
			a.Groups = append(a.Groups, nt.PrincipalOf(id(g)))
		}
		return a
	}

	dir := (&perm.Directory{
		Accounts: []perm.Account{account(1001, "stoker", 1101), account(1002, "surveyor", 1101, 1100)},
		Groups:   []perm.Account{account(1100, "surveyors"), account(1101, "crew")},
	}).Index()
	set := func(sddl string) perm.Set {
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

	walk := tree(seenPath{"/charts", perm.Folder, set("O:BAD:P(A;OICI;FA;;;BA)")},
		seenPath{"/charts/a", perm.Folder, set("O:BAD:AI(A;OICIID;FA;;;BA)")},
		seenPath{"/charts/a/b", perm.File, set("O:BAD:AI(A;ID;FA;;;BA)")})
	for _, c := range []struct {
		rule  string
		about About
		says  string
		shows string
		write string
	}{
		{`    paths: /charts/**` + "\n" + `    grants: {at-least: ["allow everyone: full"]}`, EveryoneWrite,
			"may change permissions there (allow everyone: full)", "", "read, write, execute, delete for a group"},
		{
			`    paths: /charts/**` + "\n" +
				`    grants: {at-least: ["allow authenticated: read, write, execute, delete"]}`,
			EveryoneWrite, "may write or delete there", "", "read, execute for the others",
		},
		{
			`    paths: /charts/**` + "\n" +
				`    grants: {at-least: ["deny crew: write", "allow surveyors: read, write, execute, delete"]}`,
			DenyMeets, "it also meets surveyor, whom this rule lets in by another group", "", "without a deny",
		},
		{
			`    paths: /charts` + "\n    inherits: stopped\n" +
				`    grants: ["allow crew: read, write, execute, delete"]`,
			NobodyRepairs, "only the owner could repair it", "", "full for administrators",
		},
		{`    paths: /charts/a` + "\n    inherits: stopped\n" + `    grants: ["allow administrators: full"]`,
			InheritStops, "lies deep in the share", "/charts/a", "at the top of the share alone"},
		{
			`    paths: /charts/**` + "\n" +
				`    grants: {at-least: ["allow S-1-5-21-1-2-3-4711: read, write, execute, delete"]}`,
			NobodysNumber, "whoever is given it next", "", "the name of an account",
		},
		{
			`    paths: /charts` + "\n    inherits: stopped\n" +
				`    grants: ["allow administrators: full", "allow crew: read, execute", "deny stoker: write"]`,
			"", "", "", "",
		},
		{`    paths: /charts/**` + "\n    inherits: from above\n    grants: none", "", "", "", ""},
		{
			`    paths: /charts` + "\n" +
				`    grants: {at-least: ["allow everyone: read, execute", "allow creator owner: read, write, execute, delete; reaches folders, files"]}`,
			"", "", "", "",
		},
	} {
		t.Run(c.rule, func(t *testing.T) {
			text := "idletally: 1\napplication: charts\nhosts: {names: [chartroom]}\nroots: " +
				"[/charts]\nrules:\n  - rule: r\n" +
				c.rule + "\n"
			d, err := Parse([]byte(text))
			if err != nil {
				t.Fatalf("%v\n%s", err, text)
			}

			m, problems := Compile(d, dir)
			if len(problems) > 0 {
				t.Fatal(problems, text)
			}

			got, err := Warn(Facts{Matcher: m, Walk: walk})
			if err != nil {
				t.Fatal(err)
			}

			if c.about == "" {
				if len(got) > 0 {
					t.Errorf("%+v\n%s", got, c.rule)
				}
				return
			}

			if len(got) != 1 || got[0].About != c.about || !strings.Contains(got[0].Message, c.says) ||
				got[0].Example != c.shows || !strings.Contains(got[0].Instead, c.write) {
				t.Errorf("%s: %+v\n%s", c.about, got, c.rule)
			}
		})
	}
}
