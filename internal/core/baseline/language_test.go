package baseline

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
	"idletally/internal/testkit/seeded"
)

// with makes a document of rules, and of what stands before them.
func with(head, rules string) string {
	return "idletally: 1\napplication: ticketing\nhosts: {tags: [sales]}\n" + head +
		"roots: [/srv/ticketing]\nrules:\n" + rules
}

const all = "  - rule: all\n    paths: /srv/ticketing/**\n"

// want parses, and gives what is declared for a path.
func want(t *testing.T, text string, env Env, path string, k perm.Kind, found posix.State) *perm.Desired {
	t.Helper()
	d, err := ParseFor([]byte(text), env)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	m, problems := Compile(d, crew())
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	return m.Desired(m.Root(path), k, found.Set())
}

// differs returns the differences of a found state, as aspect declared/found.
func differs(w *perm.Desired, k perm.Kind, found posix.State) string {
	var out []string
	for _, d := range w.Differences(perm.Found{Kind: k, Set: found.Set()}, crew()) {
		out = append(out, fmt.Sprintf("%s %s/%s", d.Aspect, d.Declared, d.Found))
	}
	return strings.Join(out, "; ")
}

func list(named ...posixacl.Entry) posixacl.List { return posixacl.Build(6, 4, 0, named, nil) }

// wwwReads lets www-tickets read.
var wwwReads = posixacl.Entry{Tag: posixacl.User, ID: 2, Perm: 4}

// languageRows are what TestLanguage tries.
var languageRows = []struct {
	name  string
	rules string
	kind  perm.Kind
	found posix.State
	want  string
}{
	{"a limit kept", all + "    files: g+r,o-w\n", perm.File, posix.State{Mode: 0o645}, ""},
	{"a limit broken", all + "    files: g+r,o-w\n", perm.File, posix.State{Mode: 0o602}, "mode g+r,o-w/0602"},
	{"execute where it belongs", all + "    files: u=rwX,g=rX,o=\n", perm.File, posix.State{Mode: 0o740},
		"mode u=rwX,g=rX,o=/0740"},
	{"execute where it does not belong", all + "    files: u=rwX,g=rX,o=\n", perm.File, posix.State{Mode: 0o640},
		""},
	{"at least", all + "    entries: {at-least: [\"user:www-tickets:r\"]}\n", perm.File,
		posix.State{Mode: 0o640, Access: list(posixacl.Entry{Tag: posixacl.User, ID: 2, Perm: 6})}, ""},
	{"at least, missing", all + "    entries: {at-least: [\"user:www-tickets:r\"]}\n", perm.File,
		posix.State{Mode: 0o640}, "entries at least user:www-tickets:r--/none"},
	{"derived defaults", all + "    folders: 0750\n    entries: [\"user:www-tickets:rX\"]\n    defaults: derived\n",
		perm.Folder,
		posix.State{
			Mode:   0o750,
			Access: posixacl.Build(7, 5, 0, posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 5}}, nil),
		},
		"defaults user::rwx, user:www-tickets:r-x, group::r-x, mask::r-x, other::---/none"},
	{"derived from a later rule's entries",
		all +
			"    folders: 0750\n    defaults: derived\n  - rule: e\n    paths: /srv/ticketing/**\n    entries: " +
			"[\"user:www-tickets:rX\"]\n",
		perm.Folder,
		posix.State{
			Mode:   0o750,
			Access: posixacl.Build(7, 5, 0, posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 5}}, nil),
		},
		"defaults user::rwx, user:www-tickets:r-x, group::r-x, mask::r-x, other::---/none"},
	{"programs only",
		all +
			"    files: 0640\n  - rule: p\n    paths: /srv/ticketing/**\n    only: [file, executable]\n    " +
			"files: 0750\n",
		perm.File, posix.State{Mode: 0o755}, "mode 0750/0755"},
	{"no links to programs",
		all +
			"    owner: root\n  - rule: p\n    paths: /srv/ticketing/**\n    only: executable\n    owner: purser\n",
		perm.Link, posix.State{Mode: 0o777}, ""},
	{"nor to data",
		all +
			"    owner: root\n  - rule: p\n    paths: /srv/ticketing/**\n    only: not-executable\n    " +
			"owner: purser\n",
		perm.Link, posix.State{Mode: 0o777}, ""},
	{"and no data",
		all +
			"    files: 0640\n  - rule: p\n    paths: /srv/ticketing/**\n    only: [file, executable]\n    " +
			"files: 0750\n",
		perm.File, posix.State{Mode: 0o644}, "mode 0640/0644"},
	{"with entries only", all + "    only: with-entries\n    owner: root\n", perm.File,
		posix.State{UID: 1, Mode: 0o640, Access: list(wwwReads)}, "owner root/purser"},
	{"without entries", all + "    only: with-entries\n    owner: root\n", perm.File,
		posix.State{UID: 1, Mode: 0o640}, ""},
	{"links only", all + "    only: link\n    owner: root\n", perm.File, posix.State{UID: 1}, ""},
	{"other kinds", all + "    only: other\n    owner: root\n", perm.Pipe, posix.State{UID: 1},
		"owner root/purser"},
	{"must not exist", all + "    exists: no\n", perm.File, posix.State{UID: 1}, "presence absent/there"},
	{"capability", all + "    capability: cap_net_bind_service=ep\n", perm.File, posix.State{Mode: 0o755},
		"capability cap_net_bind_service=ep/none"},
	{"immutable", all + "    immutable: yes\n    append-only: no\n", perm.File, posix.State{Flags: perm.AppendOnly},
		"flags immutable/append-only"},
	{"a form", all + "    form: private-key\n", perm.File, posix.State{Mode: 0o400}, ""},
	{"a form broken", all + "    form: private-key\n", perm.File, posix.State{Mode: 0o640, Access: list(wwwReads)},
		"mode u+r,u-x,go-rwx/0640; entries none/user:www-tickets:r--"},
	{"a form adjusted", all + "    form: private-key\n    files: 0440\n", perm.File, posix.State{Mode: 0o400},
		"mode 0440/0400"},
	{"any takes back",
		all + "    owner: root\n    files: 0640\n  - rule: any\n    paths: /srv/ticketing/**\n    owner: any\n",
		perm.File, posix.State{UID: 1, Mode: 0o600}, "mode 0640/0600"},
	{"any mode of files",
		all + "    files: 0640\n    folders: 0750\n  - rule: any\n    paths: /srv/ticketing/**\n    files: any\n",
		perm.File, posix.State{Mode: 0o600}, ""},
	{"and still of folders",
		all + "    files: 0640\n    folders: 0750\n  - rule: any\n    paths: /srv/ticketing/**\n    files: any\n",
		perm.Folder, posix.State{Mode: 0o700}, "mode 0750/0700"},
	{"any entries",
		all +
			"    entries: none\n    defaults: derived\n  - rule: any\n    paths: /srv/ticketing/**\n    " +
			"entries: any\n    defaults: any\n",
		perm.Folder, posix.State{Mode: 0o640, Access: list(wwwReads), Default: list(wwwReads)}, ""},
	{"any over a form", all + "    form: private-key\n    files: any\n", perm.File, posix.State{Mode: 0o644}, ""},
	{"any flag",
		all +
			"    immutable: yes\n    append-only: yes\n  - rule: any\n    paths: /srv/ticketing/**\n    " +
			"immutable: any\n",
		perm.File, posix.State{}, "flags append-only/none"},
	{"a later rule over any",
		all + "    files: any\n  - rule: last\n    paths: /srv/ticketing/x\n    files: 0600\n", perm.File,
		posix.State{Mode: 0o644}, "mode 0600/0644"},
	{"a number", all + "    owner: 4711\n    group: 4712\n    entries: [\"user:4713:r\"]\n", perm.File,
		posix.State{UID: 4711, GID: 4, Mode: 0o640}, "group 4712/4; entries user:4713:r--/none"},
	{"a form for somebody", all + "    form: web-content\n    for: www-tickets\n", perm.File,
		posix.State{Mode: 0o640}, "entries user:www-tickets:r--/none"},
}

func TestLanguage(t *testing.T) {
	for _, c := range languageRows {
		t.Run(c.name, func(t *testing.T) {
			desired := want(t, with("", c.rules), Env{}, "/srv/ticketing/x", c.kind, c.found)
			if got := differs(desired, c.kind, c.found); got != c.want {
				t.Errorf("%s: %q, want %q", c.name, got, c.want)
			}
		})
	}
}

// Every form of the language is sound, and the list of them is whole.
func TestForms(t *testing.T) {
	r := newReader(Env{})
	r.builtin()
	if len(r.forms) != len(Forms) || len(r.errs) > 0 {
		t.Errorf("forms %v, errors %v", r.forms, r.errs)
	}

	for _, f := range Forms {
		text := with("", all+"    form: "+f+"\n")
		if usesFor(r.forms[f]) {
			text += "    for: www-tickets\n"
			if f == "group-work" {
				text = strings.Replace(text, "www-tickets", "crew", 1)
			}
		}

		if w := want(t, text, Env{}, "/srv/ticketing/x", perm.Folder, posix.State{}); w == nil && f != "programs" &&
			f != "withheld" && f != "private-key" {
			t.Errorf("form %s says nothing of folders", f)
		}

		want(t, text, Env{}, "/srv/ticketing/x", perm.File, posix.State{})
	}

	own := with("forms:\n  pages: {files: 0644, entries: [\"user:${for}:r\"]}\n",
		all+"    form: pages\n    for: [www-tickets, root]\n")
	if w := want(t, own, Env{}, "/srv/ticketing/x", perm.File, posix.State{}); w.Mode.String() != "0644" ||
		len(w.Entries.List) != 2 {
		t.Errorf("%+v", w)
	}
}

// Accounts and paths differ from host to host: by its name, by a tag, or by default.
func TestPerHost(t *testing.T) {
	text := `idletally: 1
application: ticketing
hosts: {tags: [sales]}
variables:
  top: {default: /srv/ticketing, slip-south: /opt/ticketing, "tag:old": /home/ticketing}
  who: purser
accounts: {web: {slip-south: root, default: www-tickets}}
roots: ["${top}"]
rules:
  - rule: all
    paths: ${top}/**
    owner: ${who}
    entries: ["user:web:r"]
`

	for _, c := range []struct {
		env       Env
		root, web string
	}{
		{Env{}, "/srv/ticketing", "www-tickets"},
		{Env{Host: "slip-north", Tags: []string{"sales"}}, "/srv/ticketing", "www-tickets"},
		{Env{Host: "slip-south", Tags: []string{"old"}}, "/opt/ticketing", "root"},
		{Env{Host: "skiff", Tags: []string{"old"}}, "/home/ticketing", "www-tickets"},
	} {
		t.Run(c.root, func(t *testing.T) {
			d, err := ParseFor([]byte(text), c.env)
			if err != nil || !d.Varies || d.Roots[0] != c.root || d.Accounts["web"] != c.web ||
				d.Rules[0].Paths[0].Text != c.root+"/**" || d.Rules[0].Owner.Name != "purser" {
				t.Errorf("%+v: %+v, %v", c.env, d, err)
			}
		})
	}

	bare := strings.Replace(text, "default: /srv/ticketing, ", "", 1)
	if _, err := ParseFor([]byte(bare), Env{Host: "skiff"}); err == nil ||
		!strings.Contains(err.Error(), `variable "top" has no value on host skiff`) {
		t.Errorf("no value: %v", err)
	}

	if _, err := Parse([]byte(bare)); err != nil {
		t.Errorf("for no host in particular: %v", err)
	}

	two := strings.Replace(text, `"tag:old": /home/ticketing`, `"tag:old": /home/ticketing, "tag:sales": /x`, 1)
	if _, err := ParseFor([]byte(two), Env{Host: "skiff", Tags: []string{"old", "sales"}}); err == nil ||
		!strings.Contains(err.Error(), "has the tags old and sales, which give it different values") {
		t.Errorf("two tags: %v", err)
	}

	none := strings.Replace(text, "default: www-tickets", "slip-north: www-tickets", 1)
	d, err := ParseFor([]byte(none), Env{Host: "skiff"})
	if err != nil {
		t.Fatal(err)
	}

	_, problems := Compile(d, crew())
	if len(problems) != 1 ||
		!strings.Contains(problems[0].Message, `the word "web" stands for no account on this host`) {
		t.Errorf("a word for nobody: %v", problems)
	}
}

// Baselines take over forms, accounts and variables from each other; a circle is told, and what is missing.
func TestIncludes(t *testing.T) {
	shelf := map[string]string{
		"standards": "idletally: 1\napplication: standards\ninclude: names\nforms:\n  tight: {files: " +
			"\"0${digit}00\", entries: [\"user:web:r\"]}\nvariables: {digit: 6}\n",
		"names": "accounts: {web: www-tickets, crew-owner: purser}\n",
		"round": "include: about\n", "about": "include: round\n",
		"broken": "forms: {f: {files: 0999}}\n",
	}

	env := Env{Fetch: func(name string) ([]byte, error) {
		if s, ok := shelf[name]; ok {
			return []byte(s), nil
		}
		return nil, errors.New("no baseline of " + name + " is published")
	}}

	text := with("include: standards\n", all+"    form: tight\n    owner: crew-owner\n")
	w := want(t, text, env, "/srv/ticketing/x", perm.File, posix.State{})
	if w.Mode.String() != "0600" || *w.Owner != "u1" || len(w.Entries.List) != 1 {
		t.Errorf("%+v", w)
	}

	if d, err := ParseFor([]byte(text), env); err != nil || !slices.Equal(d.Includes, []string{"names", "standards"}) {
		t.Errorf("includes %v, %v", d.Includes, err)
	}

	// A baseline's own word counts before an included one.
	own := with("include: standards\naccounts: {web: root}\nvariables: {digit: 4}\n", all+"    form: tight\n")
	if w := want(t, own, env, "/srv/ticketing/x", perm.File, posix.State{}); w.Mode.String() != "0400" ||
		w.Entries.List[0].Who != unixid.UID(0) {
		t.Errorf("%+v", w)
	}

	for name, says := range map[string]string{
		"nowhere":   `include "nowhere": no baseline of nowhere is published`,
		"round":     `leads in a circle: [ticketing round about round]`,
		"ticketing": "leads in a circle", "broken": `included baseline broken, line 1: mode "0999"`,
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := ParseFor([]byte(with("include: "+name+"\n", all+"    owner: root\n")), env); err == nil ||
				!strings.Contains(err.Error(), says) {
				t.Errorf("%s: %v, want %q in it", name, err, says)
			}
		})
	}

	// Two ways to one baseline are one include, and a web of them is not walked again and again.
	fetched := 0
	web := Env{Fetch: func(name string) ([]byte, error) {
		fetched++
		level := int(name[0] - 'a')
		if level == 9 {
			return []byte("accounts: {web: www-tickets}\n"), nil
		}

		next := string(rune('b' + level))
		return []byte("include: [" + next + "0, " + next + "1, " + next + "2]\n"), nil
	}}

	if _, err := ParseFor([]byte(with("include: [a0, a1, a2]\n", all+"    owner: web\n")), web); err != nil ||
		fetched != 30 {
		t.Errorf("%d fetched, %v", fetched, err)
	}

	if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), "is with the service") {
		t.Errorf("without a service: %v", err)
	}
}

func TestLanguageErrors(t *testing.T) {
	for name, c := range map[string][3]string{
		"unknown form": {"", all + "    form: privat\n",
			`8:11: there is no form "privat": did you mean "private"?`},
		"form for nobody":    {"", all + "    form: web-content\n", `form "web-content" needs to know for whom`},
		"for without a form": {"", all + "    owner: root\n    for: purser\n", "for is of use only with a form"},
		"needless for":       {"", all + "    form: private\n    for: purser\n", "is for nobody in particular"},
		"unknown condition": {"", all + "    only: exectable\n    owner: root\n",
			`only "exectable" is unknown: did you mean "executable"?`},
		"opposites": {"", all + "    only: [executable, not-executable]\n    owner: root\n",
			"it would never match"},
		"exists with a star": {"", all + "    exists: yes\n", "exists: yes needs paths without wildcards"},
		"exists maybe":       {"", all + "    exists: maybe\n", `exists "maybe": want yes or no`},
		"exists executable": {"", "  - rule: a\n    paths: /srv/ticketing/x\n    exists: yes\n    only: executable\n",
			"goes with kinds only"},
		"unknown variable": {"", all + "    owner: ${nobody}\n", `there is no variable "nobody"`},
		"open variable":    {"", all + "    owner: ${nobody\n", "${ without its }"},
		"variable for":     {"variables: {for: x}\n", all + "    owner: root\n", `variable "for"`},
		"bad host in a value": {"variables: {a: {\"Slip North\": x}}\n", all + "    owner: root\n",
			"is no host, no tag:NAME and not default"},
		"bad form": {"forms: {f: {filez: 0640}}\n", all + "    owner: root\n",
			`a form has no key "filez": did you mean "files"?`},
		"capability":     {"", all + "    capability: cap_fly=ep\n", `capability "cap_fly" is unknown`},
		"contradiction":  {"", all + "    files: u=g,g=o,o=u\n", "contradicts itself"},
		"umask":          {"", all + "    files: +x\n", "a declaration has no umask"},
		"without rights": {"", all + "    entries: {without: [\"user:root:r\"]}\n", "want user:NAME or group:NAME"},
		"for whom":       {"", all + "    entries: [\"user:${for}:r\"]\n", "the rule does not say for whom"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := Parse([]byte(with(c[0], c[1])))
			if err == nil || !strings.Contains(err.Error(), c[2]) {
				t.Errorf("%s: %v, want %q in it", name, err, c[2])
			}
		})
	}
}

func TestRequired(t *testing.T) {
	text := with("",
		"  - rule: a\n    paths: [/srv/ticketing/conf, '/srv/ticketing/a\\\\*b']\n    only: folder\n    exists: "+
			"yes\n  - rule: b\n    paths: /srv/ticketing/conf\n    exists: no\n")
	d, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}

	m, _ := Compile(d, crew())
	r := m.Required()
	if len(r) != 1 {
		t.Fatalf("%+v", r)
	}

	for _, x := range r {
		if x.Rule != 0 || x.Kind != perm.Folder || x.Declared != "a folder" || x.Admits(perm.File) ||
			!x.Admits(perm.Folder) {
			t.Errorf("%+v", x)
		}
	}
}

// ready makes two declarations comparable: a matcher prepares its own.
func ready(w *perm.Desired) *perm.Desired {
	if w == nil {
		return nil
	}
	return w.Ready()
}

// obvious reads a document rule by rule and path by path, the slow way.
func obvious(d *Document, m *Matcher, parts []string, k perm.Kind, found perm.Set) *perm.Desired {
	for _, p := range d.LeaveAlone {
		if matches(p.parts, parts) {
			return &perm.Desired{LeaveAlone: true}
		}
	}

	w := &perm.Desired{Rule: map[perm.Aspect]int{}}
	for i, r := range d.Rules {
		if slices.ContainsFunc(r.Paths, func(p Pattern) bool { return matches(p.parts, parts) }) &&
			r.Only.admits(k, perm.TraitsOf(found)) {
			m.add(w, i, k)
		}
	}

	if len(w.Rule) == 0 {
		return nil
	}

	return w
}

// On random baselines and paths the automaton says what the obvious reading says.
func TestWantAgainstObvious(t *testing.T) {
	r := seeded.Rand(t)
	pick := func(from ...string) string { return from[r.IntN(len(from))] }
	said := 0

	for range 300 {
		var b strings.Builder
		for i := range 1 + r.IntN(10) {
			path := "/srv/ticketing"
			for range r.IntN(3) {
				path += "/" + pick("a", "b", "ab", "*", "a*", "[ab]", "?")
			}

			if r.IntN(2) == 0 {
				path += "/**"
			}

			fmt.Fprintf(&b, "  - rule: r%d\n    paths: %q\n    %s\n", i, path,
				pick("owner: root", "owner: purser", "group: crew", "files: 0640", "folders: u=rwX,g=rX,o=",
					"files: g+r,o-w", "owner: any", "immutable: any", "files: any", "entries: any", "defaults: any",
					"entries: none", "entries: [\"user:www-tickets:rX\"]", "entries: {at-least: [\"group:crew:r\"]}",
					"defaults: derived", "defaults: none",
					"form: private-key", "form: secret", "form: group-work\n    for: crew", "immutable: yes",
					"capability: none", "exists: no"))

			if r.IntN(3) == 0 {
				fmt.Fprintf(&b, "    only: %s\n",
					pick("file", "folder", "[file, executable]", "not-executable", "with-entries", "[link, other]"))
			}
		}

		head := ""
		if r.IntN(3) == 0 {
			head = "leave-alone: /srv/ticketing/" + pick("a", "*/b", "ab/**") + "\n"
		}

		d, err := Parse([]byte(with(head, b.String())))
		if err != nil {
			t.Fatalf("%v\n%s", err, b.String())
		}

		m, _ := Compile(d, crew())
		for range 60 {
			parts := []string{"srv", "ticketing"}
			for range r.IntN(4) {
				parts = append(parts, pick("a", "b", "ab", "ba", "c"))
			}

			k := perm.Kind(1 + r.IntN(5))
			p := posix.State{UID: r.Uint32N(3), GID: r.Uint32N(2), Mode: mode.Mode(r.IntN(0o1000))}
			if r.IntN(2) == 0 && k != perm.Link {
				p.Access = posixacl.Build(p.Mode.Owner(), p.Mode.Group(), p.Mode.Other(),
					posixacl.List{{Tag: posixacl.User, ID: 2, Perm: mode.Perm(r.IntN(8))}}, nil)
				p.Mode = p.Access.Mode(p.Mode)
			}

			got := m.Desired(m.Root("/"+strings.Join(parts, "/")), k, p.Set())
			want := obvious(d, m, parts, k, p.Set())
			if !reflect.DeepEqual(ready(got), ready(want)) || differs(got, k, p) != differs(want, k, p) {
				t.Fatalf("%v %s: %+v, want %+v\n%s", parts, k, got, want, b.String())
			}

			if got != nil {
				said++
			}
		}
	}

	if said < 2000 {
		t.Errorf("only %d paths were spoken of", said)
	}
}

// Whatever changes what is wanted changes the fingerprint; names, reasons and other hosts' numbers
// for nobody who is declared do not.
func TestFingerprint(t *testing.T) {
	print := func(text string, d *perm.Directory) [32]byte {
		doc, err := Parse([]byte(text))
		if err != nil {
			t.Fatalf("%v\n%s", err, text)
		}

		m, _ := Compile(doc, d)
		return m.Fingerprint()
	}

	base := with("", all+"    owner: purser\n    files: 0640\n    entries: [\"user:www-tickets:r\"]\n")
	same := map[string]string{
		"name and reason": strings.Replace(base, "rule: all\n", "rule: other\n    why: because\n    severity: grave\n",
			1),
		"title": "title: x\n" + base,
	}
	for what, text := range same {
		t.Run(what, func(t *testing.T) {
			if print(text, crew()) != print(base, crew()) {
				t.Errorf("%s changes the fingerprint", what)
			}
		})
	}

	seen := map[[32]byte]string{print(base, crew()): "the baseline"}
	for _, x := range [][2]string{
		{"ticketing/**", "ticketing/*"},
		{"owner: purser", "owner: root"},
		{"owner: purser", "group: crew"},
		{"files: 0640", "files: 0600"},
		{"files: 0640", "folders: 0640"},
		{"files: 0640", "files: g+r"},
		{":r\"", ":rX\""},
		{":r\"", ":rw\""},
		{"[\"user:www-tickets:r\"]", "none"},
		{"[\"user:www-tickets:r\"]", "{at-least: [\"user:www-tickets:r\"]}"},
		{"entries: ", "defaults: "},
		{"entries: [\"user:www-tickets:r\"]", "defaults: derived"},
		{"files: 0640", "only: file\n    files: 0640"},
		{"files: 0640", "only: not-executable\n    files: 0640"},
		{"files: 0640", "immutable: yes"},
		{"files: 0640", "immutable: no"},
		{"files: 0640", "capability: none"},
		{"files: 0640", "exists: no"},
	} {
		text := strings.Replace(base, x[0], x[1], 1)
		if other, ok := seen[print(text, crew())]; ok || text == base {
			t.Errorf("%s for %s has the fingerprint of %s", x[1], x[0], other)
		}
		seen[print(text, crew())] = x[1]
	}

	moved := (&perm.Directory{
		Accounts: []perm.Account{{ID: "u9", Name: "purser"}, {ID: "u2", Name: "www-tickets"}},
	}).Index()
	if _, ok := seen[print(base, moved)]; ok {
		t.Error("another number for an account has the same fingerprint")
	}
}
