package wish

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/baseline"
	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/testkit/seeded"
)

var crew = (&perm.Directory{
	Accounts: []perm.Account{{ID: "u1", Name: "purser"}, {ID: "u2", Name: "mate"}, {ID: "u3", Name: "temp"}},
	Groups:   []perm.Account{{ID: "g1", Name: "crew"}, {ID: "g2", Name: "auditors"}},
}).Index()

// made returns what wishes make of a path.
func made(t *testing.T, path string, k perm.Kind, s perm.Set, list ...Wish) perm.Set {
	t.Helper()
	text, err := Changes(list)
	if err != nil {
		t.Fatal(err)
	}
	changes, err := baseline.ParseChanges([]byte(text), []string{"/srv"}, nil)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	c, problems := changes.For(crew)
	if len(problems) > 0 {
		t.Fatalf("%v\n%s", problems, text)
	}
	got, err := c.Change(path, perm.Found{Kind: k, Set: s})
	if err != nil {
		t.Fatal(err)
	}
	return got
}

func listed(uid, gid uint32, m mode.Mode, named, defaults posixacl.List) perm.Set {
	p := posix.State{UID: uid, GID: gid, Mode: m}
	p.Access = posixacl.Build(m.Owner(), m.Group(), m.Other(), named, nil)
	if p.Access != nil {
		p.Mode = p.Access.Mode(p.Mode)
	}
	p.Default = posixacl.Build(m.Owner(), m.Group(), m.Other(), defaults, nil)
	return p.Set()
}

func TestChanges(t *testing.T) {
	temp, auditors := posixacl.Entry{Tag: posixacl.User, ID: 3, Perm: 6},
		posixacl.Entry{Tag: posixacl.Group, ID: 2, Perm: 4}
	plain := func(m mode.Mode) perm.Set { return listed(1, 1, m, nil, nil) }
	a := []string{"/srv/a"}
	for _, c := range []struct {
		name, path  string
		kind        perm.Kind
		found, want perm.Set
		wish        Wish
	}{
		{"an owner", "/srv/a", perm.File, plain(0o640), listed(2, 1, 0o640, nil, nil),
			Wish{Paths: a, Set: Basics{Owner: "mate"}}},
		{"the path alone", "/srv/a/b", perm.File, plain(0o640), plain(0o640),
			Wish{Paths: a, Set: Basics{Owner: "mate"}}},
		{"all in it", "/srv/a/b/c", perm.File, plain(0o640), listed(2, 1, 0o640, nil, nil),
			Wish{Paths: a, Depth: All, Set: Basics{Owner: "mate"}}},
		{"and itself", "/srv/a", perm.Folder, plain(0o750), listed(2, 1, 0o750, nil, nil),
			Wish{Paths: a, Depth: All, Set: Basics{Owner: "mate"}}},
		{"only what is in it", "/srv/a", perm.Folder, plain(0o750), plain(0o750),
			Wish{Paths: a, Depth: Content, Set: Basics{Owner: "mate"}}},
		{"which is below it", "/srv/a/b", perm.File, plain(0o640), listed(2, 1, 0o640, nil, nil),
			Wish{Paths: a, Depth: Content, Set: Basics{Owner: "mate"}}},
		{"of files alone", "/srv/a/b", perm.Folder, plain(0o750), plain(0o750),
			Wish{Paths: a, Depth: All, Only: []string{"file"}, Set: Basics{Owner: "mate"}}},
		{"where it is so", "/srv/a", perm.File, plain(0o666), plain(0o640),
			Wish{Paths: a, Where: Basics{Files: "0666", Owner: "purser"}, Set: Basics{Files: "0640"}}},
		{"and not elsewhere", "/srv/a", perm.File, plain(0o666), plain(0o666),
			Wish{Paths: a, Where: Basics{Owner: "mate"}, Set: Basics{Files: "0640"}}},
		{"by a form", "/srv/a", perm.File, plain(0o644), plain(0o600), Wish{Paths: a, Form: "private-key"}},
		{"by a form for somebody", "/srv/a", perm.File, plain(0o700),
			listed(1, 1, 0o755, posixacl.List{{Tag: posixacl.User, ID: 3}}, nil),
			Wish{Paths: a, Form: "withheld", For: []string{"temp"}}},
		{"an entry more", "/srv/a", perm.File, listed(1, 1, 0o640, posixacl.List{temp}, nil),
			listed(1, 1, 0o640, posixacl.List{temp, auditors}, nil),
			Wish{Paths: a, Entries: EntryChange{Give: []string{"group:auditors:r"}}}},
		{"an entry less", "/srv/a", perm.File, listed(1, 1, 0o640, posixacl.List{temp, auditors}, nil),
			listed(1, 1, 0o640, posixacl.List{auditors}, nil),
			Wish{Paths: a, Entries: EntryChange{Without: []string{"user:temp"}}}},
		{"no entries", "/srv/a", perm.File, listed(1, 1, 0o640, posixacl.List{temp, auditors}, nil), plain(0o640),
			Wish{Paths: a, Entries: EntryChange{None: true}}},
		{"these and no others", "/srv/a", perm.File, listed(1, 1, 0o640, posixacl.List{temp}, nil),
			listed(1, 1, 0o640, posixacl.List{auditors}, nil),
			Wish{Paths: a, Entries: EntryChange{Give: []string{"group:auditors:r"}, None: true}}},
		{"later, too", "/srv/a", perm.Folder, plain(0o750),
			listed(1, 1, 0o750, posixacl.List{auditors}, posixacl.List{auditors}),
			Wish{Paths: a, Entries: EntryChange{Give: []string{"group:auditors:r"}}, Later: true}},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := made(t, c.path, c.kind, c.found, c.wish); got != c.want {
				t.Errorf("%+v, want %+v", perm.Describe(c.kind, got, crew), perm.Describe(c.kind, c.want, crew))
			}
		})
	}
}

// A path is that path, whatever is in its name, and nothing beside it.
func TestPathsAreNoPatterns(t *testing.T) {
	r := seeded.Rand(t)
	pieces := []string{"*", "**", "?", "[a]", `\`, "'", `"`, " ", "#", ": ", "{", "-", "é", "\n", "\xff", "a", "${x}"}
	name := func() string {
		var b strings.Builder
		for range 1 + r.IntN(5) {
			b.WriteString(pieces[r.IntN(len(pieces))])
		}
		return b.String()
	}
	before := listed(1, 1, 0o640, nil, nil)
	for range 3000 {
		this, other := "/srv/"+name(), "/srv/"+name()
		w := Wish{Paths: []string{pathname.Escape(this)}, Set: Basics{Owner: "mate"}}
		if got := made(t, this, perm.File, before, w); got == before {
			t.Fatalf("%q does not fit itself", this)
		}
		if got := made(t, other, perm.File, before, w); other != this && got != before {
			t.Fatalf("%q fits %q", this, other)
		}
		w.Depth = Content
		if got := made(t, this+"/"+name(), perm.File, before, w); got == before {
			t.Fatalf("%q does not fit what is in it", this)
		}
	}
}

// Whatever is typed into a field stays in that field: nothing becomes a key, a line or another change.
func TestFieldsStayFields(t *testing.T) {
	r := seeded.Rand(t)
	texts := []string{"mate", "'", "'}", "a: b", "x\nowner: root", "- paths: /", "#", "\t", "&a", "*a", "!!int 1",
		"\u2028", "", "0640", "]", "}, set: {owner: root", "\x00",
		"'\n  - paths: ['/srv/**']\n    set: {owner: 'root'}"}
	text := func() string {
		if r.IntN(2) == 0 { // what is odd in one field is to be read beside another that is not
			return "mate"
		}
		return texts[r.IntN(len(texts))] + texts[r.IntN(len(texts))]
	}
	parsed := 0
	const tries = 5000
	for range tries {
		w := Wish{Paths: []string{"/srv/a"}, Set: Basics{Owner: text()}, Form: "private",
			Entries: EntryChange{Give: []string{"user:" + text() + ":r"}}}
		written, err := Changes([]Wish{w})
		if err != nil {
			continue
		}
		c, err := baseline.ParseChanges([]byte(written), []string{"/srv"}, nil)
		if err != nil {
			continue
		}
		parsed++
		if len(c.List) != 1 || len(c.List[0].Set.Paths) != 1 || c.List[0].Where != nil ||
			c.List[0].Set.Owner != nil && c.List[0].Set.Owner.Name != w.Set.Owner {
			t.Fatalf("%+v became\n%s", w, written)
		}
	}
	if parsed < tries/8 { // a quarter is plain in both fields
		t.Errorf("only %d of %d could be read: the test proves little", parsed, tries)
	}
}

// A rule declares what the change makes: after the change nothing is found.
func TestRules(t *testing.T) {
	for i, w := range []Wish{
		{Paths: []string{"/srv/a", "/srv/b*"}, Depth: All, Set: Basics{Owner: "mate", Files: "0640", Folders: "0750"}},
		{Paths: []string{"/srv/a"}, Form: "private-key"},
		{Paths: []string{"/srv/a"}, Entries: EntryChange{Give: []string{"user:temp:r"}}},
		{Paths: []string{"/srv/a"}, Only: []string{"file"}, Entries: EntryChange{None: true}},
	} {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			text, err := Rules([]Wish{w, w}, "wished")
			if err != nil {
				t.Fatal(err)
			}
			const head = "idletally: 1\napplication: ticketing\nhosts: {names: [slip-north]}\nroots: [/srv]\nrules:\n"
			doc, err := baseline.Parse([]byte(head + text))
			if err != nil || len(doc.Rules) != 2 || doc.Rules[1].Name != "wished-2" {
				t.Fatalf("%v\n%s", err, text)
			}
			m, _ := baseline.Compile(doc, crew)
			after := made(t, "/srv/a", perm.File, listed(1, 1, 0o644, nil, nil), w)
			found := perm.Found{Kind: perm.File, Set: after}
			want := m.Desired(m.Root("/srv/a"), perm.File, after)
			if d := want.Differences(found, crew); len(d) > 0 {
				t.Errorf("after the change there is %+v\n%s", d, text)
			}
		})
	}

	if _, err := Rules([]Wish{{Paths: []string{"/srv/a"}, Where: Basics{Owner: "mate"}}}, "x"); err == nil {
		t.Error("a rule cannot have a condition")
	}
	share := Wish{Paths: []string{"/charts"}, Inherits: emptied}
	if text, err := Rules([]Wish{share}, "x"); err != nil || !strings.Contains(text, "inherits: 'stopped'\n") {
		t.Errorf("%s, %v", text, err)
	}
}

func TestNothingIsSaid(t *testing.T) {
	for _, w := range []Wish{{}, {Form: ""}, {Later: true, Depth: All, Only: []string{"file"}}} {
		w.Paths = []string{"/srv/a"}
		if text, err := Changes([]Wish{w}); err == nil || !strings.Contains(err.Error(), "become of /srv/a") {
			t.Errorf("%s, %v", text, err)
		}
	}
}

func TestTooMuch(t *testing.T) {
	for _, n := range []int{0, MaxWishes + 1} {
		if _, err := Changes(slices.Repeat([]Wish{{Paths: []string{"/srv/a"}}}, n)); err == nil {
			t.Errorf("%d wishes are taken", n)
		}
	}
}
