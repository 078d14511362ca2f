package drift

import (
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/baseline"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/tree"
)

// grown puts /srv with some entries into a source.
func grown(src tree.Memory, folder posix.State, entries ...tree.Entry) tree.Hash {
	below := src.Add(tree.Node{Entries: entries})
	return src.Add(tree.Node{
		Forest:  true,
		Entries: []tree.Entry{{Name: "/srv", Kind: perm.Folder, Set: folder.Set(), Child: below}},
	})
}

// What a folder and a process make of a new path, and the cause that is told of it.
func TestNewcomers(t *testing.T) {
	dir := (&perm.Directory{
		Accounts: []perm.Account{
			{ID: "u1", Name: "purser"},
			{ID: "u2", Name: "www-tickets"},
			{ID: "u5", Name: "clerk"},
		},
		Groups: []perm.Account{{ID: "g1", Name: "crew"}, {ID: "g5", Name: "clerks"}},
	}).Index()

	const head = "idletally: 1\napplication: t\nhosts: {tags: [x]}\nroots: [/srv]\nrules:\n  - rule: all\n    " +
		"paths: /srv/**\n"
	acl := posixacl.Build(7, 5, 0, posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 5}}, nil)
	clerk := access.Subject{ID: "u5", Groups: []perm.Principal{"g5"}}
	purser := access.Subject{ID: "u1", Groups: []perm.Principal{"g1"}}

	for _, c := range []struct {
		name   string
		rules  string
		folder posix.State
		kind   perm.Kind
		maker  access.Subject
		asks   mode.Mode
		umask  mode.Mode
		aspect perm.Aspect
		why    string
		then   string
	}{
		{"umask", "    files: 0640\n", posix.State{Mode: 0o755}, perm.File, purser, 0o666, 0o022, perm.AspectMode,
			"umask 022: of 0666 it leaves 0644", "umask 027"},
		{"umask of a folder", "    folders: 0750\n", posix.State{Mode: 0o755}, perm.Folder, purser, 0o777, 0,
			perm.AspectMode, "umask 000: of 0777 it leaves 0777", "UMask=0027"},
		{"a program with execute", "    files: 0600\n", posix.State{Mode: 0o755}, perm.File, purser, 0o777, 0o022,
			perm.AspectMode, "of 0777 it leaves 0755", "umask 177"},
		{"a mode of its own", "    files: 0640\n", posix.State{Mode: 0o755}, perm.File, purser, 0o604, 0o022,
			perm.AspectMode, "the program sets it", "mend the program"},
		{"default entries too wide", "    files: 0640\n    entries: [\"user:www-tickets:rX\"]\n",
			posix.State{
				Mode:    0o755,
				Default: posixacl.Build(7, 7, 5, posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 5}}, nil),
			},
			perm.File, purser, 0o666, 0o022, perm.AspectMode,
			"the umask has no part in it", "default entries that give"},
		{"no set-group-ID", "    group: crew\n", posix.State{GID: 1, Mode: 0o775}, perm.File, clerk, 0o666, 0o022,
			perm.AspectGroup, "no set-group-ID: a new path gets the primary group of who makes it, here clerks",
			"set-group-ID on the folder"},
		{"nor the group", "    group: crew\n", posix.State{Mode: 0o775}, perm.File, clerk, 0o666, 0o022,
			perm.AspectGroup, "neither the group crew nor set-group-ID", "group crew and"},
		{"another group handed on", "    group: crew\n", posix.State{GID: 5, Mode: 0o2775}, perm.File, purser, 0o666,
			0o022, perm.AspectGroup, "hands its own group clerks on", "group crew on the folder"},
		{"set-group-ID not handed on", "    folders: 2755\n", posix.State{GID: 1, Mode: 0o755}, perm.Folder, purser,
			0o777, 0o022, perm.AspectMode, "hands none on", "set-group-ID"},
		{"another maker", "    owner: purser\n", posix.State{Mode: 0o777}, perm.File, clerk, 0o666, 0o022,
			perm.AspectOwner, "clerk makes them", "have purser make them"},
		{"no default entries", "    entries: [\"user:www-tickets:r\"]\n", posix.State{Mode: 0o755}, perm.File, purser,
			0o666, 0o022, perm.AspectEntries, "no default entries", "defaults: derived"},
		{"other default entries", "    entries: [\"user:clerk:r\"]\n", posix.State{Mode: 0o755, Default: acl},
			perm.File,
			purser, 0o666, 0o022, perm.AspectEntries, "do not give what is declared", "defaults: derived"},
		{"masked", "    entries: [\"user:www-tickets:r-x\"]\n", posix.State{Mode: 0o755, Default: acl}, perm.File,
			purser, 0o600, 0o022, perm.AspectEntries, "the mask leaves the rest out", "0660"},
		{"execute on files", "    entries: [\"user:www-tickets:r-x\"]\n", posix.State{Mode: 0o755, Default: acl},
			perm.File, purser, 0o666, 0o022, perm.AspectEntries, "ask for no execute", "X in place of x"},
		{"entries nobody wants", "    entries: none\n", posix.State{Mode: 0o755, Default: acl}, perm.Folder, purser,
			0o777, 0o022, perm.AspectEntries, "none are declared", "defaults: none"},
		{"defaults not handed on", "    defaults: [\"user:www-tickets:r-x\"]\n", posix.State{Mode: 0o755}, perm.Folder,
			purser, 0o777, 0o022, perm.AspectDefaults, "of the folder that it is made in", "defaults: derived"},
	} {
		t.Run(c.name, func(t *testing.T) {
			doc, err := baseline.Parse([]byte(head + c.rules))
			if err != nil {
				t.Fatalf("%s: %v", c.name, err)
			}

			m, _ := baseline.Compile(doc, dir)
			made, err := access.New(c.folder.Set(), c.kind, c.maker, access.Asked{Mode: c.asks, Umask: c.umask}, dir)
			if err != nil {
				t.Fatal(err)
			}

			src := tree.Memory{}
			e := tree.Entry{Name: "new", Kind: c.kind, Set: made.Set}
			if c.kind == perm.Folder {
				e.Child = src.Add(tree.Node{})
			}

			before, now := grown(src, c.folder), grown(src, c.folder, e)
			n, err := FindNewcomers(t.Context(), src, before, now)
			if err != nil {
				t.Fatal(err)
			}

			_, _, err = Compare(t.Context(), src, now, m, dir, nil, nil, Report{
				Finding: func(f Finding) error { n.See(f); return nil },
				Unread:  func(Unread) error { return nil },
			})
			if err != nil {
				t.Fatal(err)
			}

			causes, err := n.Causes(t.Context(), dir)
			if err != nil || len(causes) != 1 {
				t.Errorf("%s: %+v, %v", c.name, causes, err)
				return
			}

			x := causes[0]
			if x.Folder != "/srv" || x.Kind != c.kind || x.Aspect != c.aspect || x.Paths != 1 ||
				x.Example != "/srv/new" || !strings.Contains(x.Why, c.why) || !strings.Contains(x.Instead, c.then) {
				t.Errorf("%s: %+v", c.name, x)
			}

			if n.Mended(x.Spot) || !n.Mended(Spot{"/srv", c.kind, perm.AspectPresence}) ||
				n.Mended(Spot{"/srv/other", c.kind, c.aspect}) {
				t.Errorf("%s: what is mended", c.name)
			}
		})
	}
}

// A whole new tree is told of once, at the folder that it came into, and what was there before is not told of.
func TestNewTree(t *testing.T) {
	src := tree.Memory{}
	wrong := posix.State{Mode: 0o666}.Set()
	folder := posix.State{Mode: 0o755}.Set()
	file := func(name string) tree.Entry { return tree.Entry{Name: name, Kind: perm.File, Set: wrong} }
	deep := tree.Entry{
		Name:  "b",
		Kind:  perm.Folder,
		Set:   folder,
		Child: src.Add(tree.Node{Entries: []tree.Entry{file("1"), file("2")}}),
	}

	come := tree.Entry{
		Name:  "a",
		Kind:  perm.Folder,
		Set:   folder,
		Child: src.Add(tree.Node{Entries: []tree.Entry{file("0"), deep}}),
	}

	grow := func(entries ...tree.Entry) tree.Hash {
		return src.Add(tree.Node{
			Forest: true,
			Entries: []tree.Entry{
				{Name: "/srv", Kind: perm.Folder, Set: folder, Child: src.Add(tree.Node{Entries: entries})},
			},
		})
	}

	now := grow(come, file("old"))
	n, err := FindNewcomers(t.Context(), src, grow(file("old")), now)
	if err != nil {
		t.Fatal(err)
	}

	doc, err := baseline.Parse([]byte(
		"idletally: 1\napplication: t\nhosts: {tags: [x]}\nroots: [/srv]\nrules:\n  - {rule: all, paths: /srv/**, " +
			"files: 0644}\n"))
	if err != nil {
		t.Fatal(err)
	}

	m, _ := baseline.Compile(doc, &perm.Directory{})
	if _, _, err := Compare(t.Context(), src, now, m, nil, nil, nil, Report{
		Finding: func(f Finding) error { n.See(f); return nil },
	}); err != nil {
		t.Fatal(err)
	}

	causes, err := n.Causes(t.Context(), nil)
	if err != nil || len(causes) != 1 || causes[0].Folder != "/srv" || causes[0].Paths != 3 ||
		!strings.Contains(causes[0].Why, "umask 000") {
		t.Errorf("%+v, %v", causes, err)
	}

	// A first snapshot has nothing but newcomers, and the root's own folder is not in it.
	if n, err = FindNewcomers(t.Context(), src, src.Add(tree.Node{Forest: true}), now); err != nil {
		t.Fatal(err)
	}

	n.See(Finding{Path: "/srv/old", Kind: perm.File, Aspect: perm.AspectMode, FoundSet: wrong, Mended: wrong})
	if causes, err := n.Causes(t.Context(), nil); err != nil || len(causes) != 0 {
		t.Errorf("%+v, %v", causes, err)
	}
}
