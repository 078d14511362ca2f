package baseline

import (
	"strings"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
)

var crewList = &perm.Directory{
	Accounts: []perm.Account{{ID: "u1", Name: "purser"}, {ID: "u2", Name: "mate"}, {ID: "u3", Name: "temp"}},
	Groups:   []perm.Account{{ID: "g1", Name: "crew"}, {ID: "g2", Name: "auditors"}},
}

// listed is a state with entries.
func listed(uid, gid uint32, m mode.Mode, named posixacl.List, defaults posixacl.List) perm.Set {
	p := posix.State{UID: uid, GID: gid, Mode: m}
	p.Access = posixacl.Build(m.Owner(), m.Group(), m.Other(), named, nil)
	if p.Access != nil {
		p.Mode = p.Access.Mode(p.Mode)
	}
	p.Default = posixacl.Build(m.Owner(), m.Group(), m.Other(), defaults, nil)
	return p.Set()
}

func TestChanges(t *testing.T) {
	crewList.Index()
	temp, auditors := posixacl.Entry{Tag: posixacl.User, ID: 3, Perm: 6},
		posixacl.Entry{Tag: posixacl.Group, ID: 2, Perm: 4}
	plain := func(m mode.Mode) perm.Set { return listed(1, 1, m, nil, nil) }

	for _, c := range []struct {
		name, text  string
		path        string
		kind        perm.Kind
		found, want perm.Set
	}{
		{"to that account with all in it", "{paths: /srv/a/**, set: {owner: mate}}", "/srv/a/b/c", perm.File,
			plain(0o640), listed(2, 1, 0o640, nil, nil)},
		{"links too", "{paths: /srv/a/**, set: {owner: mate}}", "/srv/a/l", perm.Link, plain(0o777),
			listed(2, 1, 0o777, nil, nil)},
		{"elsewhere", "{paths: /srv/a/**, set: {owner: mate}}", "/srv/b", perm.File, plain(0o640), plain(0o640)},
		{"grant this group read", "{paths: /srv/**, set: {entries: {at-least: ['group:auditors:rX']}}}", "/srv/f",
			perm.File, listed(1, 1, 0o640, posixacl.List{temp}, nil),
			listed(1, 1, 0o640, posixacl.List{temp, auditors}, nil)},
		{"take this entry away", "{paths: /srv/**, set: {entries: {without: ['user:temp']}}}", "/srv/f", perm.File,
			listed(1, 1, 0o640, posixacl.List{temp, auditors}, nil), listed(1, 1, 0o640, posixacl.List{auditors}, nil)},
		{"the last one", "{paths: /srv/**, set: {entries: {without: ['user:temp']}}}", "/srv/f", perm.File,
			listed(1, 1, 0o640, posixacl.List{temp}, nil), plain(0o640)},
		{"and of what comes later",
			"{paths: /srv/**, only: folder, set: {defaults: {without: ['user:temp'], at-least: ['group:auditors:r']}}}",
			"/srv/d", perm.Folder, listed(1, 1, 0o750, nil, posixacl.List{temp}),
			listed(1, 1, 0o750, nil, posixacl.List{auditors})},
		{"of what comes later, first", "{paths: /srv/**, set: {defaults: {at-least: ['group:auditors:r']}}}", "/srv/d",
			perm.Folder, plain(0o750), listed(1, 1, 0o750, nil, posixacl.List{auditors})},
		{"only where it is like this", "{paths: /srv/**, where: {files: 0666, owner: purser}, set: {files: 0640}}",
			"/srv/f", perm.File, plain(0o666), plain(0o640)},
		{"and not where it is not", "{paths: /srv/**, where: {files: 0666, owner: mate}, set: {files: 0640}}", "/srv/f",
			perm.File, plain(0o666), plain(0o666)},
		{"a condition on folders is none on files", "{paths: /srv/**, where: {folders: 0777}, set: {group: auditors}}",
			"/srv/f", perm.File, plain(0o777), plain(0o777)},
		{"a limit as a condition", "{paths: /srv/**, where: {files: o+w}, set: {files: o-w}}", "/srv/f", perm.File,
			plain(0o646), plain(0o644)},
		{"execute only where it belongs", "{paths: /srv/**, set: {files: g=rX, folders: g=rX}}", "/srv/f", perm.File,
			plain(0o600), plain(0o640)},
		{"by a form", "{paths: /srv/**, set: {form: private-key}}", "/srv/f", perm.File,
			listed(1, 1, 0o644, posixacl.List{temp}, nil), plain(0o600)},
		{"by a form and what is said besides", "{paths: /srv/**, set: {form: secret, files: 0600}}", "/srv/f",
			perm.File, plain(0o644), plain(0o600)},
		{"by a form for somebody", "{paths: /srv/**, set: {form: withheld, for: temp}}", "/srv/f", perm.File,
			plain(0o700), listed(1, 1, 0o755, posixacl.List{{Tag: posixacl.User, ID: 3}}, nil)},
		{"one after the other",
			"{paths: /srv/**, set: {owner: mate}}, {paths: /srv/**, where: {owner: mate}, set: {group: auditors}}",
			"/srv/f", perm.File, plain(0o640), listed(2, 2, 0o640, nil, nil)},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := "changes: [" + c.text + "]"
			changes, err := ParseChanges([]byte(text), []string{"/srv"}, nil)
			if err != nil {
				t.Errorf("%s: %v", c.name, err)
				return
			}

			maker, problems := changes.For(crewList)
			got, err := maker.Change(c.path, perm.Found{Kind: c.kind, Set: c.found})
			if err != nil || len(problems) > 0 || got != c.want {
				t.Errorf("%s: %+v, want %+v; %v %v", c.name, perm.Describe(c.kind, got, crewList),
					perm.Describe(c.kind, c.want, crewList), err, problems)
			}
		})
	}
}

func TestChangesRefused(t *testing.T) {
	if _, err := ParseChanges([]byte("other: 1"), []string{"/srv"}, nil); err == nil {
		t.Error("another text is none of changes")
	}
	for _, c := range []struct{ change, want string }{
		{"", "nothing is to be changed"},
		{"{set: {owner: mate}}", "has no paths"},
		{"{paths: /srv/**}", "sets nothing"},
		{"{paths: /srv/**, set: {}}", "sets nothing"},
		{"{paths: /etc/**, set: {owner: mate}}", "root"},
		{"{paths: /srv/**, where: {}, set: {owner: mate}}", "names no condition"},
		{"{paths: /srv/**, set: {owner: mate, colour: red}}", "colour"},
		{"{paths: /srv/**, set: {files: 0999}}", "octal"},
		{"{paths: /srv/**, set: {form: dropp}}", "no form"},
		{"{paths: /srv/**, set: {form: withheld}}", "for whom"},
		{"{paths: /srv/**, set: {form: drop, for: mate}}", "nobody in particular"},
		{"{paths: /srv/**, set: {owner: mate, for: temp}}", "only with a form"},
		{"{paths: /srv/**, where: {form: drop}, set: {owner: mate}}", "form"},
		{"{paths: /srv/**, set: {inherits: sometimes}}", "from above"},
		{"{paths: /srv/**, where: {inherits: 'stopped and emptied'}, set: {owner: mate}}", "from above"},
		{"{paths: /srv/**, set: {entries: ['user:mate:q']}}", "entry"},
		{"{paths: /srv/**, set: {entries: {without: ['user:mate:r--']}}}", "want user:NAME"},
	} {
		t.Run(c.change, func(t *testing.T) {
			_, err := ParseChanges([]byte("changes: ["+c.change+"]"), []string{"/srv"}, nil)
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v, want %q", err, c.want)
			}
		})
	}

	changes, err := ParseChanges([]byte("changes: [{paths: /srv/**, set: {owner: nobody-there}}]"), []string{"/srv"},
		nil)
	if err != nil {
		t.Fatal(err)
	}

	if _, problems := changes.For(crewList.Index()); len(problems) != 1 {
		t.Errorf("%v", problems)
	}
}

func FuzzParseChanges(f *testing.F) {
	f.Add(
		"changes:\n  - paths: /srv/**\n    where: {files: 0666}\n    set: {owner: mate, entries: {at-least: " +
			"['group:crew:r']}}\n")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := ParseChanges([]byte(text), []string{"/srv"}, nil)
		if err != nil {
			return
		}
		m, _ := c.For(crewList.Index())
		if _, err := m.Change("/srv/a", perm.Found{Kind: perm.File, Set: posix.State{Mode: 0o644}.Set()}); err != nil {
			t.Fatal(err)
		}
	})
}

// What cannot match below a folder need not be walked there; what can is.
func TestChangesReach(t *testing.T) {
	changes, err := ParseChanges([]byte("changes: [{paths: /srv/a/*/c, set: {owner: mate}}, "+
		"{paths: /srv/b/**, set: {owner: mate}}]"), []string{"/srv"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	m, _ := changes.For(crewList.Index())
	for path, want := range map[string]bool{
		"/srv": true, "/srv/a": true, "/srv/a/x": true, "/srv/a/x/c": true, "/srv/a/x/d": false, "/srv/a/x/c/d": false,
		"/srv/b": true, "/srv/b/x/y": true, "/srv/c": false,
	} {
		t.Run(path, func(t *testing.T) {
			if got := m.Reaches(path); got != want {
				t.Errorf("reaches %s: %t", path, got)
			}
		})
	}
}
