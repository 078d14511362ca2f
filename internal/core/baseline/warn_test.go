package baseline

import (
	"strings"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
)

type seenPath struct {
	path string
	kind perm.Kind
	set  perm.Set
}

func tree(paths ...seenPath) func(func(string, perm.Kind, perm.Set) error) error {
	return func(visit func(string, perm.Kind, perm.Set) error) error {
		for _, p := range paths {
			if err := visit(p.path, p.kind, p.set); err != nil {
				return err
			}
		}
		return nil
	}
}

func seen(path string, k perm.Kind, m mode.Mode) seenPath {
	return seenPath{"/srv/ticketing" + path, k, posix.State{UID: 1, GID: 1, Mode: m}.Set()}
}

func clerks() *perm.Directory {
	return (&perm.Directory{
		Accounts: []perm.Account{
			{ID: "u1", Name: "purser", Groups: []perm.Principal{"g1", "g3"}},
			{ID: "u2", Name: "www-tickets", Groups: []perm.Principal{"g2"}},
			{ID: "u4", Name: "clerk", Groups: []perm.Principal{"g1", "g4"}},
		},
		Groups: []perm.Account{
			{ID: "g1", Name: "crew"},
			{ID: "g2", Name: "www"},
			{ID: "g3", Name: "leavers"},
			{ID: "g4", Name: "clerks"},
		},
	}).Index()
}

// Each kind of warning comes of a baseline that triggers exactly it, with position, example and advice.
func TestWarn(t *testing.T) {
	usual := []seenPath{
		seen("", perm.Folder, 0o750),
		seen("/a", perm.File, 0o640),
		seen("/b", perm.File, 0o640),
		seen("/bin", perm.Folder, 0o750),
		seen("/bin/tool", perm.File, 0o750),
		seen("/link", perm.Link, 0o777),
		seen("/site", perm.Folder, 0o750),
		seen("/site/img", perm.Folder, 0o750),
	}

	for _, c := range []struct {
		rules string
		about About
		at    string
		says  string
		shows string // example
		write string // instead
	}{
		{"  - rule: gone\n    paths: /srv/ticketing/none/*\n    files: 0640\n", NeverMatches, "7:12",
			"no path of the last snapshot matches", "", "the path as it is"},
		{
			"  - rule: first\n    paths: /srv/ticketing/a\n    files: 0640\n  - rule: last\n    paths: " +
				"/srv/ticketing/[ab]\n    files: 0600\n",
			Overruled, "6:11", `there it is rule "last"`, "/srv/ticketing/a", "narrower paths",
		},
		{
			"  - rule: first\n    paths: /srv/ticketing/bin\n    folders: 0750\n    owner: purser\n  - rule: last\n " +
				"   paths: /srv/ticketing/bin\n    folders: 0700\n    owner: www-tickets\n",
			Overruled, "6:11", `rule "last" says differently of the same paths`, "", "one rule for both",
		},
		{"  - rule: open\n    paths: /srv/ticketing/**\n    files: 0666\n", EveryoneWrite, "8:12",
			"everybody on the host can write", "", "without write for others"},
		{"  - rule: open\n    paths: /srv/ticketing/**\n    folders: 0777\n", EveryoneWrite, "8:14",
			"add, remove and rename entries", "", "sticky bit: 1777"},
		{"  - rule: setid\n    paths: /srv/ticketing/bin/*\n    files: 4770\n", SetIDWritable, "8:12",
			"who writes one becomes that account", "", "such as 4750"},
		{"  - rule: setid\n    paths: /srv/ticketing/bin/*\n    files: 4750\n    entries: [\"group:clerks:rw\"]\n",
			SetIDWritable, "8:12", "others than the owner can write them", "", "entries without w"},
		{"  - rule: out\n    paths: /srv/ticketing/**\n    owner: purser\n    entries: [\"group:leavers:---\"]\n",
			DenyOwners, "9:14", "purser, whom this baseline makes an owner, is one of them", "", "one by one"},
		{
			"  - rule: out\n    paths: /srv/ticketing/**\n    group: crew\n    files: 0640\n    entries: " +
				"[\"group:clerks:---\"]\n",
			DenyNothing, "10:14", "does not keep clerk out", "", "user:NAME:---",
		},
		{"  - rule: out\n    paths: /srv/ticketing/**\n    entries: {at-least: [\"user:www-tickets:---\"]}\n",
			DenyNothing, "8:14", "does not keep user:www-tickets out", "", "without: [user:www-tickets]"},
		{"  - rule: out\n    paths: /srv/ticketing/**\n    defaults: {at-least: [\"group:clerks:---\"]}\n", DenyNothing,
			"8:15", "does not keep group:clerks out", "", "without: [group:clerks]"},
		{"  - rule: link\n    paths: /srv/ticketing/link\n    entries: [\"user:www-tickets:r\"]\n", OnLink, "7:12",
			"this path is a link", "/srv/ticketing/link", "that the link leads to"},
		{"  - rule: links\n    paths: /srv/ticketing/**\n    only: link\n    owner: purser\n    files: 0640\n", OnLink,
			"8:11", "links have no permissions of their own", "", "target's path"},
		{
			"  - rule: site\n    paths: /srv/ticketing/site/**\n    defaults: [\"user:www-tickets:r-x\"]\n  - rule: " +
				"img\n    paths: /srv/ticketing/site/img\n    defaults: none\n",
			InheritStops, "11:15", "no longer gets them", "/srv/ticketing/site/img", "defaults: derived",
		},
		{"  - rule: left\n    paths: /srv/ticketing/**\n    group: 4711\n", NobodysNumber, "8:12",
			"whoever is given it next", "", "the name of an account"},
		{"  - rule: run\n    paths: /srv/ticketing/**\n    files: 0750\n", ExecuteData, "8:12",
			"of 3 files that this rule makes executable, 2 are none now", "/srv/ticketing/a", "u=rwX,g=rX,o="},
	} {
		t.Run(c.rules, func(t *testing.T) {
			d, err := Parse([]byte(with("", c.rules)))
			if err != nil {
				t.Fatalf("%v\n%s", err, c.rules)
			}

			m, problems := Compile(d, clerks())
			if len(problems) > 0 {
				t.Fatal(problems)
			}

			got, err := Warn(Facts{Matcher: m, Walk: tree(usual...)})
			if err != nil {
				t.Fatal(err)
			}

			if len(got) == 0 {
				t.Errorf("%s: nothing\n%s", c.about, c.rules)
				return
			}

			for _, w := range got {
				if w.About != c.about {
					t.Errorf("%s: also %s: %s\n%s", c.about, w.About, w.Message, c.rules)
				}
			}

			if w := got[0]; w.Position.String() != c.at || !strings.Contains(w.Message, c.says) ||
				w.Example != c.shows || !strings.Contains(w.Instead, c.write) {
				t.Errorf("%s: %s %q, example %q, instead %q\n%s", c.about, w.Position, w.Message, w.Example, w.Instead,
					c.rules)
			}
		})
	}
}

// What is well declared gives no warning.
func TestWarnNothing(t *testing.T) {
	text := with("",
		"  - rule: all\n    paths: /srv/ticketing/**\n    owner: purser\n    group: crew\n    files: "+
			"u=rwX,g=rX,o=\n    folders: 2750\n    entries: none\n"+
			"  - rule: drop\n    paths: /srv/ticketing/drop\n    folders: 1777\n  - rule: bin\n    paths: "+
			"/srv/ticketing/bin/*\n    only: [file, executable]\n    files: 0755\n  - rule: none\n    paths: "+
			"/srv/ticketing/old/**\n    exists: no\n")

	d, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}

	m, _ := Compile(d, clerks())
	got, err := Warn(Facts{
		Matcher: m,
		Walk: tree(seen("", perm.Folder, 0o2750), seen("/bin", perm.Folder, 0o2750),
			seen("/bin/tool", perm.File, 0o755), seen("/drop", perm.Folder, 0o1777)),
	})
	if err != nil || len(got) > 0 {
		t.Errorf("%+v, %v", got, err)
	}

	// Without a snapshot only the text and the accounts speak.
	if got, err = Warn(Facts{Matcher: m}); err != nil || len(got) > 0 {
		t.Errorf("%+v, %v", got, err)
	}
}

func TestExplain(t *testing.T) {
	text := with("leave-alone: /srv/ticketing/spool/**\n",
		"  - rule: all\n    paths: /srv/ticketing/**\n    why: The crew works here.\n    owner: purser\n    files: "+
			"0640\n  - rule: run\n    paths: /srv/ticketing/bin/*\n    only: executable\n    files: 0750\n"+
			"  - rule: site\n    paths: /srv/ticketing/bin/*\n    files: 0755\n    entries: {at-least: "+
			"[\"user:www-tickets:r\"]}\n  - rule: gone\n    paths: /srv/ticketing/bin/x\n    only: not-executable\n "+
			"   exists: no\n")

	d, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}

	m, _ := Compile(d, clerks())
	x := m.Explain("/srv/ticketing/bin/x", perm.Found{
		Kind: perm.File,
		Set:  posix.State{UID: 1, Mode: 0o711, Access: posixacl.List(nil)}.Set(),
	})
	var got []string
	for _, a := range x.Aspects {
		got = append(got,
			string(a.Aspect)+" "+a.Rule+" "+a.Declared+"/"+a.Found+" over "+strings.Join(a.Overruled, ","))
	}

	s := strings.Join(got, "; ")
	if s != "owner all purser/ over ; mode site 0755/0711 over all,run; entries site at least "+
		"user:www-tickets:r--/none over " ||
		len(x.NotFor) != 1 || x.NotFor[0] != "gone" {
		t.Errorf("%q, not for %v", s, x.NotFor)
	}

	if x := m.Explain("/srv/ticketing/spool/a", perm.Found{Kind: perm.File, Set: posix.State{}.Set()}); !x.LeaveAlone ||
		len(x.Aspects) > 0 {
		t.Errorf("%+v", x)
	}
}
