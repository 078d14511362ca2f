package derive

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/baseline"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/tree"
	"idletally/internal/testkit/seeded"
)

// A world is paths with their states.
type world map[string]tree.Entry

func (w world) file(path string, p posix.State) { w[path] = tree.Entry{Kind: perm.File, Set: p.Set()} }
func (w world) folder(path string, p posix.State) {
	w[path] = tree.Entry{Kind: perm.Folder, Set: p.Set()}
}

// seen makes a snapshot with one root.
func (w world) seen(host, root string, d *perm.Directory) Seen {
	m := tree.Memory{}
	var grow func(path string) tree.Hash
	grow = func(path string) tree.Hash {
		var n tree.Node
		for _, p := range slices.Sorted(maps.Keys(w)) {
			name, ok := strings.CutPrefix(p, path+"/")
			if !ok || strings.Contains(name, "/") {
				continue
			}

			e := w[p]
			e.Name = name
			if e.HasChild() || e.Kind == perm.Folder && e.Gap == tree.NoGap {
				e.Child = grow(p)
			}

			n.Entries = append(n.Entries, e)
		}

		return m.Add(n)
	}

	e := w[root]
	e.Name, e.Child = root, grow(root)
	return Seen{Host: host, Source: m, Forest: m.Add(tree.Node{Forest: true, Entries: []tree.Entry{e}}), Directory: d}
}

func crew() *perm.Directory {
	return (&perm.Directory{
		Accounts: []perm.Account{
			{ID: "u0", Name: "root"},
			{ID: "u1", Name: "purser"},
			{ID: "u2", Name: "www-tickets"},
			{ID: "u3", Name: "any"},
			{ID: "u4", Name: "Deck Hand"},
			{ID: "u5", Name: "7"},
		},
		Groups: []perm.Account{{ID: "g0", Name: "root"}, {ID: "g1", Name: "crew"}},
	}).Index()
}

// derived derives a draft, and compares it with what it was derived from.
func derived(t *testing.T, hosts ...Seen) Draft {
	t.Helper()
	d, err := Baseline(context.Background(), "ticketing", hosts)
	if err != nil {
		t.Fatal(err)
	}
	faults, err := hold(context.Background(), d.Text, hosts)
	if err != nil || len(faults) > 0 {
		t.Fatalf("%v, wrong: %+v\n%s", err, faults, d.Text)
	}
	return d
}

// body is the rules of a draft without remarks.
func body(text string) string {
	_, rules, _ := strings.Cut(text, "rules:\n")
	var out []string
	for line := range strings.Lines(rules) {
		if !strings.HasPrefix(line, "  #") {
			out = append(out, strings.TrimPrefix(strings.TrimRight(line, "\n"), "  "))
		}
	}
	return strings.Join(out, "\n")
}

var (
	data    = posix.State{UID: 1, GID: 1, Mode: 0o640}
	folder  = posix.State{UID: 1, GID: 1, Mode: 0o750}
	program = posix.State{UID: 1, GID: 1, Mode: 0o750}
)

func with(p posix.State, change func(*posix.State)) posix.State {
	change(&p)
	return p
}

func site(p posix.State) posix.State {
	m := p.Mode
	x := m.Owner() & mode.Execute
	p.Access = posixacl.Build(m.Owner(), m.Group(), m.Other(),
		posixacl.List{{Tag: posixacl.User, ID: 2, Perm: mode.Read | x}}, nil)
	p.Mode = p.Access.Mode(m)
	if x != 0 {
		p.Default = p.Access
	}
	return p
}

func usual() world {
	w := world{}
	w.folder("/srv/t", folder)
	for i := range 20 {
		w.file(fmt.Sprintf("/srv/t/data%d", i), data)
	}
	return w
}

const everything = `- rule: everything
  paths: /srv/t/**
  owner: purser
  group: crew
  files: 0640
  folders: 0750
  entries: none
  defaults: none
  capability: none`

func TestDraft(t *testing.T) {
	for _, c := range []struct {
		name string
		add  func(world)
		want string
	}{
		{"all alike", func(world) {}, everything},
		{"one exception", func(w world) { w.file("/srv/t/${x}y", with(data, func(p *posix.State) { p.Mode = 0o600 })) },
			everything + "\n- rule: x-y\n  paths: \"/srv/t/\\\\x24{x}y\"\n  files: 0600"},
		{"one ending", func(w world) {
			for i := range 5 {
				w.file(fmt.Sprintf("/srv/t/%d.key", i), with(data, func(p *posix.State) { p.Mode = 0o600; p.UID = 0 }))
			}
		}, everything + "\n- rule: key\n  paths: /srv/t/*.key\n  only: file\n  owner: root\n  files: 0600"},
		{"a folder of its own", func(w world) {
			w.folder("/srv/t/bin", folder)
			for i := range 5 {
				w.file(fmt.Sprintf("/srv/t/bin/%d", i), program)
			}
		}, everything + "\n- rule: bin\n  paths: /srv/t/bin/**\n  files: 0750"},
		{"programs among data", func(w world) {
			for i := range 8 {
				w.file(fmt.Sprintf("/srv/t/run%d", i), program)
			}
		}, strings.Replace(everything, "files: 0640", `files: "u=rwX,g=rX,o="`, 1)},
		{"entries with execute for folders", func(w world) {
			w.folder("/srv/t/site", site(folder))
			w.folder("/srv/t/site/img", site(folder))
			w.file("/srv/t/site/index.html", site(data))
		}, strings.Replace(everything, "defaults: none", "defaults: derived", 1) +
			"\n- rule: site\n  paths: /srv/t/site/**\n  entries: [\"user:www-tickets:r-X\"]"},
		{"siblings", func(w world) {
			w.folder("/srv/t/piers", folder)
			for _, pier := range []string{"north", "south", "west"} {
				for _, box := range []string{"in", "out", "done"} {
					at := "/srv/t/piers/" + pier
					w.folder(at, folder)
					w.folder(at+"/"+box, with(folder, func(p *posix.State) {
						if box == "in" {
							p.Mode = 0o2770
						}
					}))
					w.file(at+"/"+box+"/x", data)
				}
			}
		}, everything + "\n- rule: piers-in\n  paths: /srv/t/piers/*/in/**\n  folders: 2770"},
		{"anywhere", func(w world) {
			for _, at := range []string{"a", "b/c", "d/e/f"} {
				path := "/srv/t"
				for part := range strings.SplitSeq(at, "/") {
					path += "/" + part
					w.folder(path, folder)
				}

				w.file(path+"/data", data)
				w.file(path+"/tls.key", with(data, func(p *posix.State) { p.Mode = 0o400 }))
				w.file(path+"/more", data)
			}
		}, everything + "\n- rule: tls-key\n  paths: /srv/t/**/tls.key\n  files: 0400"},
		{"everybody's own", func(w world) {
			w.folder("/srv/t/drop", with(folder, func(p *posix.State) { p.Mode = 0o1777 }))
			for i := range 40 {
				w.file(fmt.Sprintf("/srv/t/drop/%d", i), with(data, func(p *posix.State) { p.UID = uint32(100 + i) }))
			}
		}, everything + "\n- rule: drop\n  paths: /srv/t/drop/**\n  owner: any\n  folders: 1777"},
		{"modes with something in common", func(w world) {
			w.folder("/srv/t/feeds", folder)
			for i := range 120 {
				w.file(fmt.Sprintf("/srv/t/feeds/%d", i),
					with(data, func(p *posix.State) { p.Mode = 0o600 | mode.Mode(i%8)<<3 }))
			}
		}, everything + "\n- rule: feeds\n  paths: /srv/t/feeds/**\n  files: \"u+rw,u-xs,g-s,o-rwxt\""},
		{"names that need care", func(w world) {
			w.file("/srv/t/a[1]*\\ \"x\"\n\xff", with(data, func(p *posix.State) { p.UID = 3 }))
			w.file("/srv/t/b", with(data, func(p *posix.State) { p.GID = 4711 }))
			w.file("/srv/t/c", with(data, func(p *posix.State) { p.UID = 4 }))
			w.file("/srv/t/d", with(data, func(p *posix.State) { p.UID = 7 })) // another account is called 7
		}, everything +
			"\n- rule: a-1-x\n  paths: \"/srv/t/a\\\\\\\\[1]\\\\\\\\*\\\\\\\\\\\\\\\\ \\\"x\\\"\\\\x0a\\\\xff\"\n  " +
			"owner: \"3\"\n- rule: b\n  paths: /srv/t/b\n  group: \"4711\"\n- rule: c\n  paths: /srv/t/c\n  owner: " +
			"\"4\"\n- rule: d\n  paths: /srv/t/d\n  owner: any"},
		{"what could not be read", func(w world) {
			w["/srv/t/shut"] = tree.Entry{
				Kind: perm.Folder,
				Gap:  tree.Refused,
				Set:  with(folder, func(p *posix.State) { p.Mode = 0o700 }).Set(),
			}
			w["/srv/t/gone"] = tree.Entry{Kind: perm.File, Gap: tree.Vanished}
		}, everything + "\n- rule: shut\n  paths: /srv/t/shut\n  folders: 0700"},
		{"flags", func(w world) {
			w.file("/srv/t/log", with(data, func(p *posix.State) { p.Flags = perm.AppendOnly }))
		}, everything + "\n  append-only: no\n- rule: log\n  paths: /srv/t/log\n  append-only: yes"},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := usual()
			c.add(w)
			if got := body(derived(t, w.seen("slip-north", "/srv/t", crew())).Text); got != c.want {
				t.Errorf("%s:\n%s\nwant:\n%s", c.name, got, c.want)
			}
		})
	}
}

// Two hosts give one draft: what they have in common is said once, where they differ it is said for each.
func TestHostsThatDiffer(t *testing.T) {
	north, south := usual(), usual()
	north.file("/srv/t/only-north", with(data, func(p *posix.State) { p.Mode = 0o600 }))
	south.file("/srv/t/pass", with(data, func(p *posix.State) { p.UID = 0 }))
	north.file("/srv/t/pass", data)
	other := (&perm.Directory{
		Accounts: []perm.Account{{ID: "u0", Name: "root"}, {ID: "u1", Name: "purser"}},
		Groups:   []perm.Account{{ID: "g1", Name: "crew"}},
	}).Index()
	d := derived(t, north.seen("slip-north", "/srv/t", crew()), south.seen("slip-south", "/srv/t", other))
	want := everything +
		"\n- rule: only-north\n  paths: /srv/t/only-north\n  files: 0600\n- rule: pass\n  paths: /srv/t/pass\n  " +
		"owner: \"${owner-1}\""
	if body(d.Text) != want || !strings.Contains(d.Text, "hosts: {names: [slip-north, slip-south]}") ||
		!strings.Contains(d.Text, `owner-1: {slip-north: "purser", slip-south: "root"}`) {
		t.Error(d.Text)
	}

	if d.Places != len(north)+len(south) || d.Free != 0 || d.Rules[0].Places != d.Places || d.Rules[2].Places != 2 {
		t.Errorf("%+v", d)
	}
}

func TestNothingToDerive(t *testing.T) {
	w := world{"/srv/t": tree.Entry{Kind: perm.Folder, Gap: tree.Refused}}
	for _, hosts := range [][]Seen{nil, {w.seen("slip-north", "/srv/t", crew())}} {
		d, err := Baseline(context.Background(), "ticketing", hosts)
		if err == nil || len(hosts) > 0 && !errors.Is(err, ErrVaried) {
			t.Errorf("%v %q", err, d.Text)
		}
	}
}

// Whatever hosts look like, their draft holds for them.
func TestDraftHolds(t *testing.T) {
	r := seeded.Rand(t)
	for range 150 {
		var hosts []Seen
		messy := r.IntN(2) == 0
		for i := range 1 + r.IntN(2) {
			hosts = append(hosts, wild(r, messy).seen([]string{"slip-north", "slip-south"}[i], "/srv/t", crew()))
		}
		d := derived(t, hosts...)
		if _, err := baseline.Parse([]byte(d.Text)); err != nil {
			t.Fatal(err)
		}
	}
}

// wild grows a tree at random: orderly with a few exceptions, or any which way.
func wild(r *rand.Rand, messy bool) world {
	w := world{}
	state := func(k perm.Kind) posix.State {
		p := posix.State{UID: 1, GID: 1, Mode: 0o640}
		if k == perm.Folder {
			p.Mode = 0o750
		}

		if messy || r.IntN(10) == 0 {
			p = posix.State{
				UID:   r.Uint32N(9),
				GID:   r.Uint32N(3),
				Mode:  mode.Mode(r.IntN(0o10000)),
				Flags: perm.Flags(r.IntN(20) / 17),
			}
		}

		if r.IntN(5) == 0 {
			p = site(p)
		}

		if k == perm.Folder && r.IntN(8) == 0 { // default entries that follow from nothing
			p.Default = posixacl.Build(7, mode.Perm(r.IntN(8)), 0, nil, nil)
		}

		if k == perm.File && r.IntN(20) == 0 {
			p.Caps = "\x01\x00\x00\x02\x00\x04\x00\x00" + strings.Repeat("\x00", 12)
		}

		return p
	}

	var grow func(path string, depth int)
	grow = func(path string, depth int) {
		w.folder(path, state(perm.Folder))
		for i := range r.IntN(12) {
			name := fmt.Sprintf("%s/%s%d%s", path, []string{"a", "[", "*", "b.c"}[r.IntN(4)], i%3,
				[]string{"", ".key", ".sh", ".x y"}[r.IntN(4)])
			switch n := r.IntN(12); {
			case n < 3 && depth > 0:
				grow(name, depth-1)
			case n == 3:
				w[name] = tree.Entry{Kind: perm.Link, Set: posix.State{UID: r.Uint32N(2), Mode: 0o777}.Set()}
			case n == 4:
				w[name] = tree.Entry{Kind: perm.Folder, Gap: tree.Gap(1 + r.IntN(4)), Set: state(perm.Folder).Set()}
			case n == 5:
				w[name] = tree.Entry{Kind: perm.Socket, Set: state(perm.Socket).Set()}
			default:
				w.file(name, state(perm.File))
			}
		}
	}

	grow("/srv/t", 3)
	return w
}
