package inquiry

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/subtree"
	"idletally/internal/core/unixid"
	"idletally/internal/wire"
)

// pier is a scene made of places.
type pier struct{ places []access.Seen }

var dir = (&perm.Directory{
	Accounts: []perm.Account{
		{ID: unixid.UID(1), Name: "purser", Groups: []perm.Principal{unixid.GID(10)}},
		{ID: unixid.UID(3), Name: "web", Groups: []perm.Principal{unixid.GID(12)}, Service: true},
	},
	Groups: []perm.Account{{ID: unixid.GID(10), Name: "crew"}, {ID: unixid.GID(12), Name: "www"}},
}).Index()

func (p pier) Origin() wire.Origin { return wire.Origin{Host: "pier"} }

func (p pier) Path(_ context.Context, path string, _ ...string) (access.Found, error) {
	f := access.Found{Directory: dir}
	for _, s := range p.places {
		if pathname.Under(path, string(s.Path)) {
			f.Way, f.Seen = append(f.Way, s.Place), s
		}
	}
	if string(f.Seen.Path) != path {
		return f, errors.New("not there")
	}
	return f, nil
}

func (p pier) Folder(ctx context.Context, path, _ string, _ int, _ ...string) (access.Found, error) {
	f, err := p.Path(ctx, path)
	for _, s := range p.places {
		if string(s.Path) != "/" && pathname.Folder(string(s.Path)) == path {
			f.Entries = append(f.Entries, s)
		}
	}
	return f, err
}

func (p pier) Below(context.Context, BelowAsk) (subtree.Tally, *perm.Directory, error) {
	return subtree.Tally{
		Held: 2,
		Groups: []subtree.Equal{
			{Kind: perm.File, Set: posix.State{}.Set(), Count: 2, Folder: "/srv", Example: "/srv/a\nb"},
		},
	}, dir, nil
}

func at(path string, k perm.Kind, p posix.State) access.Seen {
	return access.Seen{Place: access.Place{Path: pathname.Path(path), Kind: k, Set: p.Set()}}
}

var world = pier{[]access.Seen{
	at("/", perm.Folder, posix.State{Mode: 0o755}),
	at("/srv", perm.Folder, posix.State{UID: 1, GID: 10, Mode: 0o2755}),
	at("/srv/closed", perm.File, posix.State{UID: 1, GID: 10, Mode: 0o640}),
	at("/srv/open", perm.File, posix.State{UID: 4711, GID: 10, Mode: 0o644}),
	at("/srv/web", perm.File, posix.State{
		UID:    1,
		GID:    10,
		Mode:   0o640,
		Access: posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 3, Perm: 6}}, nil),
	}),
}}

// Who looks sees names of what cannot be opened, and that is said.
func TestListFor(t *testing.T) {
	l, err := List(t.Context(), world, "/srv", "web", "", 10)
	if err != nil || l.Stopped != "" {
		t.Fatalf("%+v, %v", l, err)
	}
	for i, want := range []struct {
		may      string
		unopened bool
	}{{"", true}, {"read", false}, {"read write", false}} {
		t.Run(want.may, func(t *testing.T) {
			if got := l.Items[i]; strings.Join(got.May, " ") != want.may || got.Unopened != want.unopened {
				t.Errorf("%s: may %q, unopened %v; want %+v", got.Path, got.May, got.Unopened, want)
			}
		})
	}
}

func TestSight(t *testing.T) {
	s, err := Sight(t.Context(), world, "/srv/open")
	if err != nil || len(s.Way) != 2 || len(s.Entries) != 3 ||
		!strings.Contains(strings.Join(s.Notes, ";"), "owner no longer exists") {
		t.Errorf("%+v, %v", s, err)
	}
}

func TestDecide(t *testing.T) {
	j, err := Decide(t.Context(), world, "web", "/srv/closed", []access.Operation{access.Read}, Suppose{
		Joining: []string{"crew"},
		Words:   "joins",
	})
	if err != nil || j.Answers[0].Allowed || !j.Then[0].Allowed || j.Suppose != "joins" {
		t.Errorf("%+v, %v", j, err)
	}

	open := func(_ string, f perm.Found) perm.Set {
		p, _ := posix.Of(f.Set)
		p.Mode |= 0o004
		return p.Set()
	}
	j, err = Decide(t.Context(), world, "4242", "/srv/closed", nil, Suppose{States: open})
	if err != nil || j.Account.Known || j.Answers[0].Allowed || !j.Then[0].Allowed {
		t.Errorf("%+v, %v", j, err)
	}

	j, err = Decide(t.Context(), world, "web", "/srv/closed", []access.Operation{access.Read, access.Write}, Suppose{
		Privileges: []string{"cap_dac_read_search"},
	})
	if err != nil || !j.Then[0].Allowed || j.Then[1].Allowed || j.Then[0].Cause != access.ByPrivilege {
		t.Errorf("%+v, %v", j, err)
	}

	if _, err := SupposeOf(nil, []string{"CAP_NET_RAW"}); !errors.Is(err, ErrBad) ||
		!strings.Contains(err.Error(), "no bearing on files") {
		t.Errorf("%v", err)
	}

	for _, c := range []struct{ account, group, says string }{
		{"nemo", "", `no account "nemo"`},
		{"web", "nobodies", `no group "nobodies"`},
		{"4294967295", "", "no account"},
	} {
		t.Run(c.account, func(t *testing.T) {
			var joining []string
			if c.group != "" {
				joining = append(joining, c.group)
			}
			if _, err := Decide(t.Context(), world, c.account, "/srv/closed", nil,
				Suppose{Joining: joining}); !errors.Is(
				err, ErrBad) ||
				!strings.Contains(err.Error(), c.says) {
				t.Errorf("%+v: %v", c, err)
			}
		})
	}
}

func TestWhoCan(t *testing.T) {
	h, err := Everybody(t.Context(), world, "/srv/web", access.Write, Suppose{})
	if err != nil || h.Everyone.Allowed || h.Accounts != 2 || len(h.Allowed) != 2 {
		t.Errorf("%+v, %v", h, err)
	}

	if _, err := Everybody(t.Context(), world, "/srv/web", access.Write, Suppose{
		Joining: []string{"crew"},
	}); !errors.Is(err, ErrBad) {
		t.Errorf("joining nobody in particular: %v", err)
	}

	m, err := Matrix(t.Context(), world, "/srv/web", 10, Suppose{})
	if err != nil || len(m.Rows) != 3 || m.Rows[0].Account != "purser" ||
		m.Rows[0].Part != "in group crew, owner" || m.Rows[1].Part != "named by an entry" ||
		len(m.Rows[1].Cells) != len(m.Operations) {
		t.Errorf("%+v, %v", m, err)
	}

	b, err := BelowOf(t.Context(), world, BelowAsk{Path: "/srv", Account: "everyone", Operation: access.Read})
	if err != nil || b.Groups[0].Example != `/srv/a\x0ab` || b.Account.Name != "everyone" {
		t.Errorf("%+v, %v", b, err)
	}
}

// A difference between what was computed and what was tried is ours, and can be repeated.
func TestCompare(t *testing.T) {
	f, err := world.Path(t.Context(), "/srv/web")
	if err != nil {
		t.Fatal(err)
	}

	tries := []access.Try{
		{Operation: access.Read, Allowed: true, Call: "open: done"},
		{Operation: access.Write, Allowed: false, Call: "open: EACCES"},
		{Operation: access.Own, Untried: "cannot"},
	}
	p, err := Compare(wire.Origin{}, f, "web", tries)
	if err != nil || !p.Differ || p.Rows[0].Differ || !p.Rows[1].Differ || p.Rows[2].Differ {
		t.Fatalf("%+v, %v", p, err)
	}

	for _, w := range []string{
		"subject u3", "/srv/web set ", "write: computed true (account entry), tried false (open: EACCES)",
	} {
		t.Run(w, func(t *testing.T) {
			if !strings.Contains(p.Repeat, w) {
				t.Errorf("%q is not in %s", w, p.Repeat)
			}
		})
	}

	if p, err = Compare(wire.Origin{}, f, "web", tries[:1]); err != nil || p.Differ || p.Repeat != "" {
		t.Errorf("%+v, %v", p, err)
	}
}

func TestCalculator(t *testing.T) {
	m, err := Mode(ModeAsk{Mode: "drwxr-s---", Limits: "o+x,g-w"})
	if err != nil || m.Octal != "2750" || m.Symbolic != "u=rwx,g=rxs,o=" || m.Mended != "2751" || len(m.Broken) != 1 {
		t.Errorf("%+v, %v", m, err)
	}

	if m, err = Mode(ModeAsk{Mode: "0644", Change: "+x", Umask: "0077"}); err != nil || m.Octal != "0744" {
		t.Errorf("%+v, %v", m, err)
	}

	made, err := New("2770", "u::rwx,u:web:rx,g::rx,m::rx,o::-", "0077")
	if err != nil || made[0].Mode != "0640" || !slices.Contains(made[0].Entries, "user:web:r-x") ||
		made[1].Mode != "2750" || made[1].Group != "of the folder" {
		t.Errorf("%+v, %v", made, err)
	}

	made, err = New("0755", "", "0027")
	if err != nil || made[0].Mode != "0640" || made[1].Mode != "0750" || made[0].Group != "of the process" {
		t.Errorf("%+v, %v", made, err)
	}

	f, err := NewIn(t.Context(), world, "/srv", "purser", "0027")
	if err != nil || f.Refused != "" || f.Made[0].Mode != "0640" || f.Made[0].Owner != "purser" ||
		f.Made[1].Mode != "2750" || f.Made[1].Group != "crew" {
		t.Errorf("%+v, %v", f, err)
	}

	f, err = NewIn(t.Context(), world, "/srv", "web", "0")
	if err != nil || !strings.Contains(f.Refused, "has r-x, not wx") {
		t.Errorf("%+v, %v", f, err)
	}

	l, err := Entries("u::rw,u:web:rwx,g::r,m::rx,o::-", "0600")
	if err != nil || l.Mode != "0600" || l.Lines[1].Effective != "---" ||
		!strings.Contains(strings.Join(l.Notes, " "), "Linux passes over the whole list") {
		t.Errorf("%+v, %v", l, err)
	}

	for what, f := range map[string]func() error{
		"new paths are made in folders": func() error {
			_, err := NewIn(t.Context(), world, "/srv/open", "purser", "0")
			return err
		},
		"give an account": func() error {
			_, err := NewIn(t.Context(), world, "/srv", "everyone", "0")
			return err
		},
		"umask: mode": func() error {
			_, err := NewIn(t.Context(), world, "/srv", "purser", "8")
			return err
		},
		"character 2 is '8'": func() error { _, err := Mode(ModeAsk{Mode: "0888"}); return err },
		"or nine letters":    func() error { _, err := Mode(ModeAsk{Mode: "z"}); return err },
		"umask: ":            func() error { _, err := New("0755", "", "x"); return err },
		"folder: ":           func() error { _, err := New("9", "", "0"); return err },
		"give default entries": func() error {
			_, err := New("0755", "u::-,g::-,o::-,d:u::-,d:g::-,d:o::-", "0")
			return err
		},
		"access list: character 1 ": func() error { _, err := Entries("x:", ""); return err },
		"exact mode":                func() error { _, err := Mode(ModeAsk{Mode: "0", Limits: "g=r"}); return err },
	} {
		t.Run(what, func(t *testing.T) {
			if err := f(); err == nil || !strings.Contains(err.Error(), what) {
				t.Errorf("%v, want %q in it", err, what)
			}
		})
	}
}

// Names that share a number are accounts of their own, each with its groups; and an account that is called as
// our word for somebody else can be told from that.
func TestTwins(t *testing.T) {
	was := dir
	defer func() { dir = was }()

	dir = (&perm.Directory{
		Accounts: []perm.Account{
			{ID: unixid.UID(5), Name: "left", Groups: []perm.Principal{unixid.GID(10)}},
			{ID: unixid.UID(5), Name: "right", Groups: []perm.Principal{unixid.GID(12)}},
			{ID: unixid.UID(0), Name: "root"},
			{ID: unixid.UID(0), Name: "toor"},
			{ID: unixid.UID(6), Name: Everyone, Groups: []perm.Principal{unixid.GID(12)}},
		},
		Groups: []perm.Account{{ID: unixid.GID(10), Name: "crew"}, {ID: unixid.GID(12), Name: "www"}},
	}).Index()

	quay := pier{
		[]access.Seen{
			at("/", perm.Folder, posix.State{Mode: 0o755}),
			at("/a", perm.File, posix.State{UID: 1, GID: 12, Mode: 0o640}),
		},
	}

	for account, want := range map[string]bool{
		"left":   false,
		"right":  true,
		"5":      false,
		"toor":   true,
		Everyone: false,
		"6":      true,
	} {
		t.Run(account, func(t *testing.T) {
			j, err := Decide(t.Context(), quay, account, "/a", []access.Operation{access.Read}, Suppose{})
			if err != nil || j.Answers[0].Allowed != want {
				t.Errorf("%s: %+v, %v", account, j, err)
			}
		})
	}

	if a, err := AccountOf(dir, "right"); err != nil || a.Name != "right" ||
		!slices.Equal(a.Groups, []string{"www"}) || len(a.Notes) != 1 ||
		!strings.Contains(a.Notes[0], "left has the same number") {
		t.Errorf("%+v, %v", a, err)
	}

	if a, err := AccountOf(dir, Everyone); err != nil || len(a.Notes) != 2 ||
		!strings.Contains(a.Notes[0], "by its number, 6") {
		t.Errorf("%+v, %v", a, err)
	}

	h, err := Everybody(t.Context(), quay, "/a", access.Read, Suppose{})
	var names []string
	for _, x := range h.Allowed {
		names = append(names, x.Account)
	}

	if err != nil || strings.Join(names, ", ") != "right, root, toor, everyone (6), 1" {
		t.Errorf("%v, %v", names, err)
	}

	m, err := Matrix(t.Context(), quay, "/a", 10, Suppose{})
	names = nil
	for _, x := range m.Rows {
		names = append(names, x.Account)
	}

	if err != nil || strings.Join(names, ", ") != "1, right, everyone (6), everyone" {
		t.Errorf("%v, %v", names, err)
	}
}

// Who is no account of the host is not asked about as if they were: a name of another system is a mistake.
func TestNobodyOfTheHost(t *testing.T) {
	d := (&perm.Directory{Accounts: []perm.Account{{ID: "u1", Name: "purser"}}}).Index()
	for name, ok := range map[string]bool{
		"purser": true, "1": true, "4711": true, "everyone": true,
		"purser@saltmarsh.example": false, "OWNER@": false, "S-1-5-18": false, "administrators": false, "": false,
	} {
		t.Run(name, func(t *testing.T) {
			if id, err := Find(d, name); (err == nil) != ok {
				t.Errorf("%q is %q, %v", name, id, err)
			}
		})
	}
}
