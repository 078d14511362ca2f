package baseline

import (
	"encoding/json"
	"path"
	"reflect"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/testkit/seeded"
)

const good = `idletally: 1
application: ticketing
title: Ticket sales
hosts: {names: [slip-north], tags: [sales]}
roots: [/srv/ticketing]
accounts: {web: www-tickets}
leave-alone: /srv/ticketing/spool/**
rules:
  - rule: everything
    paths: /srv/ticketing/**
    why: The crew changes, the web server reads.
    owner: purser
    group: crew
    files: 0640
    folders: 2750
    entries: none
  - rule: site
    paths: [/srv/ticketing/site/**, "/srv/ticketing/*.html"]
    severity: grave
    files: "0644"
    entries: ["user:web:rX"]
    defaults: ["user:web:r-x"]
`

func crew() *perm.Directory {
	return (&perm.Directory{
		Accounts: []perm.Account{{ID: "u0", Name: "root"}, {ID: "u1", Name: "purser"}, {ID: "u2", Name: "www-tickets"}},
		Groups:   []perm.Account{{ID: "g0", Name: "root"}, {ID: "g1", Name: "crew"}},
	}).Index()
}

func TestParseGood(t *testing.T) {
	d, err := Parse([]byte(good))
	if err != nil {
		t.Fatal(err)
	}

	if d.Application != "ticketing" || d.Rules[0].Files.String() != "0640" ||
		d.Rules[0].Folders.String() != "2750" || d.Rules[1].Files.String() != "0644" {
		t.Errorf("parsed %+v", d)
	}

	if r := d.Rules[0]; r.Line != 9 || r.Column != 5 || r.Severity != Serious || len(r.Entries.List) != 0 {
		t.Errorf("rule %+v", r)
	}

	if g := d.Rules[1].Entries.List[0]; g.Name != "web" || g.Perm != mode.Read || !g.Conditionally || g.Line != 21 {
		t.Errorf("grant %+v", g)
	}

	if !d.Applies("slip-north", nil) || !d.Applies("x", []string{"sales"}) || d.Applies("x", []string{"y"}) {
		t.Error("hosts do not apply as declared")
	}
}

// A mode is octal however it is written.
func TestOctalIsOctal(t *testing.T) {
	for _, form := range []string{"0640", "640", `"0640"`, `"640"`, "0o640", "rw-r-----", "'0640'"} {
		t.Run(form, func(t *testing.T) {
			d, err := Parse([]byte(strings.Replace(good, "files: 0640", "files: "+form, 1)))
			if err != nil || d.Rules[0].Files.String() != "0640" {
				t.Errorf("%s: %v", form, err)
			}
		})
	}
}

func TestParseErrors(t *testing.T) {
	for _, c := range []struct{ name, from, to, want string }{
		{"not yaml", "roots: [/srv/ticketing]", "roots: [/srv", "not valid YAML"},
		{"version", "idletally: 1", "idletally: 2", `1:12: language version "2"`},
		{"unknown key", "title:", "titel:", `3:1: a baseline has no key "titel": did you mean "title"?`},
		{"unknown rule key", "folders: 2750", "folder: 2750",
			`15:5: a rule has no key "folder": did you mean "folders"?`},
		{"bad octal", "0640", "0698", `14:12: mode "0698": character 3 is '9', want an octal digit`},
		{"float", "0640", "6.40", "is not octal"},
		{"severity", "grave", "bad", `19:15: severity "bad" is unknown: minor, serious or grave`},
		{"relative root", "[/srv/ticketing]", "[srv]", `5:9: root: path "srv" is not absolute`},
		{"outside the roots", "/srv/ticketing/*.html", "/etc/*", "lies under none of the roots"},
		{"double star in a name", "/srv/ticketing/*.html", "/srv/ticketing/a**b", "must be a part of its own"},
		{"open bracket", "/srv/ticketing/*.html", "/srv/ticketing/[a", "without its ]"},
		{"entry", "user:web:rX", "web:r", `21:15: entry "web:r": want user:NAME:rwx or group:NAME:rwx`},
		{"entry permission", "user:web:rX", "user:web:rq", "want r, w, x or -"},
		{"owner entry", "user:web:rX", "user::r", "are in files and folders"},
		{"second name", "rule: site", "rule: everything", `a second rule is called "everything"`},
		{"no hosts", "hosts: {names: [slip-north], tags: [sales]}\n", "", `has no "hosts"`},
		{"no rules", good[strings.Index(good, "rules:"):], "", `has no "rules"`},
		{"anchor", "owner: purser", "owner: &x purser", "anchor"},
		{"list for a mapping", "hosts: {names: [slip-north], tags: [sales]}", "hosts: [a]", "must be a mapping"},
		{"empty", good, "", "the document is empty"},
		{"two documents", "idletally: 1", "a: 1\n---\nidletally: 1", "second YAML document"},
		{"nothing declared", "    files: \"0644\"\n    entries: [\"user:web:rX\"]\n    defaults: [\"user:web:r-x\"]\n",
			"", "declares nothing"},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := strings.Replace(good, c.from, c.to, 1)
			if text == good {
				t.Fatalf("%s: the text did not change", c.name)
			}

			_, err := Parse([]byte(text))
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s:\n got %v\nwant %s", c.name, err, c.want)
			}
		})
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("a: [\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := Parse(b)
		if err == nil {
			m, _ := Compile(d, crew())
			m.Desired(m.Root("/srv/ticketing/site/a"), perm.File, perm.Set{})
		}
	})
}

func TestSchemaKnowsTheKeys(t *testing.T) {
	var s struct {
		Properties map[string]json.RawMessage
		Defs       map[string]struct {
			Properties map[string]json.RawMessage
		} `json:"$defs"`
	}

	if err := json.Unmarshal(Schema, &s); err != nil {
		t.Fatal(err)
	}

	same := func(what string, have map[string]json.RawMessage, want []string) {
		keys := []string{}
		for k := range have {
			keys = append(keys, k)
		}

		slices.Sort(keys)
		want = slices.Sorted(slices.Values(want))
		if !reflect.DeepEqual(keys, want) {
			t.Errorf("%s: schema has %v, the parser %v", what, keys, want)
		}
	}

	same("document", s.Properties, documentKeys)
	same("rule", s.Defs["rule"].Properties, ruleKeys)
}

func TestWant(t *testing.T) {
	d, err := Parse([]byte(good))
	if err != nil {
		t.Fatal(err)
	}

	m, problems := Compile(d, crew())
	if len(problems) > 0 {
		t.Fatal(problems)
	}

	w := m.Desired(m.Root("/srv/ticketing/site/img"), perm.Folder, perm.Set{})
	if w.Mode.String() != "2750" || *w.Owner != "u1" || len(w.Entries.List) != 1 || w.Entries.List[0].Perm != 5 ||
		w.Rule[perm.AspectEntries] != 1 || w.Rule[perm.AspectMode] != 0 {
		t.Errorf("folder of the site: %+v", w)
	}

	w = m.Desired(m.Root("/srv/ticketing/site/a.html"), perm.File, perm.Set{})
	if w.Mode.String() != "0644" || w.Entries.List[0].Perm != 4 || w.Defaults != nil {
		t.Errorf("file of the site: %+v", w)
	}

	if w := m.Desired(m.Root("/srv/ticketing/spool/x/y"), perm.File, perm.Set{}); !w.LeaveAlone {
		t.Errorf("spool: %+v", w)
	}

	if w := m.Desired(m.Root("/etc/passwd"), perm.File, perm.Set{}); w != nil {
		t.Errorf("outside: %+v", w)
	}

	bare := (&perm.Directory{}).Index()
	_, problems = Compile(d, bare)
	if len(problems) != 4 || !strings.Contains(problems[2].Message, `no account "www-tickets"`) {
		t.Errorf("problems on a bare host: %v", problems)
	}
}

// matches is the slow, obvious reading of a pattern.
func matches(pat, parts []string) bool {
	if len(pat) == 0 {
		return len(parts) == 0
	}

	if pat[0] == "**" {
		for i := range len(parts) + 1 {
			if matches(pat[1:], parts[i:]) {
				return true
			}
		}
		return false
	}

	if len(parts) == 0 {
		return false
	}

	ok, _ := path.Match(pat[0], parts[0])
	return ok && matches(pat[1:], parts[1:])
}

// The automaton agrees with trying every pattern on every path.
func TestMatcherAgainstObvious(t *testing.T) {
	r := seeded.Rand(t)
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	for range 300 {
		d := &Document{Roots: []string{"/"}}
		for range 1 + r.IntN(12) {
			var parts []string
			for range 1 + r.IntN(4) {
				p := pick("a", "b", "ab", "*", "?", "a*", "[ab]", "**")
				if p == "**" && len(parts) > 0 && parts[len(parts)-1] == "**" {
					continue
				}
				parts = append(parts, p)
			}
			d.Rules = append(d.Rules, Rule{Paths: []Pattern{{parts: parts}}, Entries: &Grants{}})
		}

		m, _ := Compile(d, crew())
		for range 100 {
			var parts []string
			for range 1 + r.IntN(5) {
				parts = append(parts, pick("a", "b", "ab", "ba", "c"))
			}

			var want []int
			for i, rule := range d.Rules {
				if matches(rule.Paths[0].parts, parts) {
					want = append(want, i)
				}
			}

			if got := m.Root("/" + strings.Join(parts, "/")).rules; !slices.Equal(got, want) {
				t.Fatalf("path %v: rules %v, want %v of %+v", parts, got, want, d.Rules)
			}
		}
	}
}
