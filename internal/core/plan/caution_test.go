package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
)

var harbour = (&perm.Directory{
	Accounts: []perm.Account{
		{ID: "u0", Name: "root"},
		{ID: "u1", Name: "purser"},
		{ID: "u2", Name: "mate"},
		{ID: "u33", Name: "web", Service: true, Groups: []perm.Principal{"g33"}},
	},
	Groups: []perm.Account{{ID: "g1", Name: "crew"}, {ID: "g2", Name: "auditors"}, {ID: "g33", Name: "web"}},
}).Index()

func owned(uid uint32, m mode.Mode, named ...posixacl.Entry) perm.Set {
	p := posix.State{UID: uid, GID: 1, Mode: m}
	p.Access = posixacl.Build(m.Owner(), m.Group(), m.Other(), named, nil)
	if p.Access != nil {
		p.Mode = p.Access.Mode(p.Mode)
	}
	return p.Set()
}

func check(t *testing.T, way func(string) (access.Way, error), steps ...Step) []Caution {
	t.Helper()
	c := Checker{Host: "slip", Names: harbour, Matter: []perm.Principal{"u1", "u2", "u33"}, Way: way}
	out, err := c.Check(func(visit func(Step) error) error {
		for _, s := range steps {
			if err := visit(s); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestCautions(t *testing.T) {
	web := posixacl.Entry{Tag: posixacl.User, ID: 33, Perm: 5}
	auditors := posixacl.Entry{Tag: posixacl.Group, ID: 2, Perm: 4}
	for _, c := range []struct {
		name  string
		kind  perm.Kind
		a, b  perm.Set
		kinds string // in order, the grave ones in capitals
	}{
		{"nothing to warn of", perm.File, owned(1, 0o660), owned(1, 0o640), ""},
		{"everybody writes", perm.File, owned(1, 0o644), owned(1, 0o666), "EVERYONE"},
		{"they did before", perm.File, owned(1, 0o666), owned(1, 0o646), ""},
		{"everybody adds", perm.Folder, owned(1, 0o755), owned(1, 0o777), "EVERYONE"},
		{"with a sticky bit", perm.Folder, owned(1, 0o755), owned(1, 0o1777), ""},
		{"which goes away", perm.Folder, owned(1, 0o1777), owned(1, 0o777), "EVERYONE"},
		{"set-ID and writable", perm.File, owned(1, 0o4755), owned(1, 0o4775), "SET-ID"},
		{"writable and set-ID", perm.File, owned(1, 0o775), owned(1, 0o4775), "POWER SET-ID"},
		{"runs as root then", perm.File, owned(1, 0o4755), owned(0, 0o4755), "POWER ROOT"},
		{"execute on data", perm.File, owned(1, 0o640), owned(1, 0o750), "execute"},
		{"a program already", perm.File, owned(1, 0o700), owned(1, 0o750), ""},
		{"listed, not passed", perm.Folder, owned(1, 0o755), owned(1, 0o754), "WAY passing way"}, // web, passing, mate
		{"the owner has less", perm.File, owned(1, 0o640), owned(1, 0o060), "owner"},
		{"owning is not access", perm.File, owned(1, 0o640), owned(2, 0o060), "owner owning"},
		{"a service loses its way", perm.Folder, owned(1, 0o750, web), owned(1, 0o750), "WAY"},
		{"and cannot read", perm.File, owned(1, 0o640, web), owned(1, 0o640), "reading"},
		{"a group gains", perm.File, owned(1, 0o640), owned(1, 0o640, auditors), "joining"},
		{"a link", perm.Link, owned(1, 0o777), owned(2, 0o777), ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, x := range check(t, nil, Step{Path: "/srv/x", Kind: c.kind, Before: c.a, After: c.b}) {
				k := x.Kind
				if x.Grave {
					k = strings.ToUpper(k)
				}

				got = append(got, k)
				if x.Instead == "" || x.Text == "" || x.ID == "" || x.Count != 1 || x.Example != "/srv/x" {
					t.Errorf("%s: %+v", c.name, x)
				}
			}
			if s := strings.Join(got, " "); s != c.kinds {
				t.Errorf("%s: %q, want %q", c.name, s, c.kinds)
			}
		})
	}
}

// Equal cautions are one, wherever they are; owners that one account takes over are counted.
func TestCautionsTogether(t *testing.T) {
	got := check(t, nil,
		Step{Path: "/srv/a/1", Kind: perm.File, Before: owned(1, 0o644), After: owned(2, 0o666)},
		Step{Path: "/srv/a/2", Kind: perm.File, Before: owned(0, 0o644), After: owned(2, 0o666)},
		Step{Path: "/srv/b/3", Kind: perm.File, Before: owned(0, 0o644), After: owned(2, 0o666)})
	if len(got) != 2 || got[0].Kind != perm.CautionEveryone || !got[0].Grave || got[0].Count != 3 ||
		got[0].Folder != "/srv" {
		t.Fatalf("%+v", got)
	}

	o := got[1]
	if o.Kind != perm.CautionOwners || o.Grave || o.Count != 3 ||
		o.Text != "paths of root (2), purser (1) will all belong to mate" {
		t.Errorf("%+v", o)
	}

	again := check(t, nil, Step{Path: "/srv/a/1", Kind: perm.File, Before: owned(1, 0o644), After: owned(2, 0o666)})
	if again[0].ID == got[0].ID {
		t.Error("what is about other paths has the same name")
	}
}

// A way that ends matters where something below would still be for whoever came by it.
func TestWayToNothing(t *testing.T) {
	web := posixacl.Entry{Tag: posixacl.User, ID: 33, Perm: 4}
	inside := map[string]perm.Set{"/srv/a": owned(1, 0o640), "/srv/b": owned(1, 0o640, web)}
	c := Checker{
		Host:   "slip",
		Names:  harbour,
		Matter: []perm.Principal{"u33"},
		Below: func(_ string, visit func(string, perm.Kind, perm.Set) bool) error {
			for _, p := range []string{"/srv/a", "/srv/b"} {
				if !visit(p, perm.File, inside[p]) {
					break
				}
			}
			return nil
		},
	}

	closing := Step{Path: "/srv", Kind: perm.Folder, Before: owned(1, 0o755), After: owned(1, 0o750)}
	for _, x := range []struct {
		steps []Step
		want  int
	}{
		{[]Step{closing}, 1},
		// nothing is left for it there
		{[]Step{closing, {Path: "/srv/b", Kind: perm.File, Before: inside["/srv/b"], After: owned(1, 0o640)}}, 0},
	} {
		t.Run(fmt.Sprint(x.steps), func(t *testing.T) {
			got, err := c.Check(func(visit func(Step) error) error {
				for _, s := range x.steps {
					if err := visit(s); err != nil {
						return err
					}
				}
				return nil
			})
			if err != nil ||
				len(slices.DeleteFunc(got, func(c Caution) bool { return c.Kind != perm.CautionWay })) != x.want {
				t.Errorf("%d steps: %+v, %v", len(x.steps), got, err)
			}
		})
	}
}

// Who could have put a program where it lies is named besides who could have written it, whichever folder on
// the way it is by.
func TestExchangersAreNamed(t *testing.T) {
	const mine, above, top = "/srv/crew/bin/tool", "/srv/crew/bin", "/srv"
	mate := posixacl.Entry{Tag: posixacl.User, ID: 2, Perm: 7}
	for _, c := range []struct {
		name           string
		srv, crew, bin perm.Set
		want           string // behind who could have written it; "" for nothing
	}{
		{"root's folders", owned(0, 0o755), owned(0, 0o755), owned(0, 0o755), ""},
		{"a folder of somebody's", owned(0, 0o755), owned(0, 0o755), owned(1, 0o755),
			"; it could have been put there by purser"},
		{"one further up", owned(0, 0o755), owned(1, 0o755), owned(0, 0o755),
			"; it could have been put there by purser"},
		{"a group", owned(0, 0o755), owned(0, 0o775), owned(0, 0o755), "; it could have been put there by group crew"},
		{"everyone, and a sticky bit", owned(0, 0o755), owned(0, 0o1777), owned(0, 0o755), ""},
		{"whose sticky folder it is", owned(0, 0o755), owned(2, 0o1777), owned(0, 0o755),
			"; it could have been put there by mate"},
		{"an entry", owned(0, 0o755), owned(0, 0o755), owned(0, 0o755, mate), "; it could have been put there by mate"},
		{"several", owned(0, 0o757), owned(1, 0o755), owned(1, 0o755),
			"; it could have been put there by everyone, purser"},
	} {
		t.Run(c.name, func(t *testing.T) {
			way := func(path string) (access.Way, error) {
				folder := func(path string, s perm.Set) access.Place {
					return access.Place{Path: pathname.Path(path), Kind: perm.Folder, Set: s}
				}
				return access.Way{
					folder("/", owned(0, 0o755)),
					folder(top, c.srv),
					folder("/srv/crew", c.crew),
					folder(above, c.bin),
					{Path: pathname.Path(path), Kind: perm.File, Set: owned(0, 0o755)},
				}, nil
			}

			got := check(t, way, Step{Path: mine, Kind: perm.File, Before: owned(0, 0o755), After: owned(0, 0o4755)})
			at := slices.IndexFunc(got, func(c Caution) bool { return c.Kind == perm.CautionPower })
			if at < 0 || !got[at].Grave {
				t.Errorf("%s: %+v", c.name, got)
				return
			}

			if _, others, _ := strings.Cut(got[at].Text, "what is in it"); others != c.want {
				t.Errorf("%s: %q, want %q", c.name, got[at].Text, c.want)
			}
		})
	}

	nobody := func(string) (access.Way, error) { return nil, nil }
	got := check(t, nobody, Step{Path: mine, Kind: perm.File, Before: owned(0, 0o755), After: owned(0, 0o4755)})
	if len(got) == 0 || !strings.HasSuffix(got[0].Text, "is not known") {
		t.Errorf("nobody looked: %+v", got)
	}
}

// A step that does not say which file it means is told, and is grave where somebody can have it open another one.
func TestUnidentifiedSteps(t *testing.T) {
	for _, c := range []struct {
		name   string
		folder perm.Set
		step   Step
		grave  bool
		none   bool
	}{
		{"root's folder", owned(0, 0o755), Step{Before: owned(0, 0o600), After: owned(0, 0o640)}, false, false},
		{"somebody's", owned(1, 0o755), Step{Before: owned(0, 0o600), After: owned(0, 0o640)}, true, false},
		{"somebody's, and it closes", owned(1, 0o755), Step{Before: owned(0, 0o640), After: owned(0, 0o600)}, false,
			false},
		{"it says which", owned(1, 0o755),
			Step{Before: owned(0, 0o600), After: owned(0, 0o640), File: Identity{Inode: 7}}, false, true},
		{"a folder that nobody read", perm.Set{}, Step{Before: owned(0, 0o600), After: owned(0, 0o640)}, true, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.step.Path, c.step.Kind = "/srv/keys/a", perm.File
			k := Checker{Host: "slip", Names: harbour, Identified: true, Way: func(path string) (access.Way, error) {
				return access.Way{
					{Path: "/", Kind: perm.Folder, Set: owned(0, 0o755)},
					{Path: "/srv/keys", Kind: perm.Folder, Set: c.folder},
					{Path: pathname.Path(path), Kind: perm.File, Set: c.step.Before},
				}, nil
			}}

			got, err := k.Check(func(visit func(Step) error) error { return visit(c.step) })
			if err != nil {
				t.Fatal(err)
			}

			got = slices.DeleteFunc(got, func(c Caution) bool { return c.Kind != perm.CautionFiles })
			if len(got) == 0 != c.none ||
				!c.none &&
					(got[0].Grave != c.grave ||
						strings.Contains(got[0].Text, "put there by purser") != (c.grave && !c.folder.IsZero()) ||
						strings.Contains(got[0].Text, "put it there is not known") != c.folder.IsZero()) {
				t.Errorf("%s: %+v", c.name, got)
			}
		})
	}
}

// However many folders of however many people hold what a plan is about, what is grave is told: one caution
// for all steps that do not say which file they mean, and one for what is more than is told one by one.
func TestManyMakersHideNothing(t *testing.T) {
	const people = 3 * maxCautions
	c := Checker{
		Host:       "slip",
		Names:      harbour,
		Matter:     []perm.Principal{"u1"},
		Identified: true,
		Way: func(path string) (access.Way, error) {
			owner := uint32(1000 + len(path)) // another one for each folder
			return access.Way{
				{Path: "/", Kind: perm.Folder, Set: owned(0, 0o755)},
				{Path: pathname.Path(pathname.Folder(path)), Kind: perm.Folder, Set: owned(owner, 0o755)},
				{Path: pathname.Path(path), Kind: perm.File, Set: owned(0, 0o600)},
			}, nil
		},
	}

	got, err := c.Check(func(visit func(Step) error) error {
		for i := range people {
			folder := "/" + strings.Repeat("x", i+1)
			for _, s := range []Step{
				// without a file
				{Path: folder + "/key", Before: owned(0, 0o600), After: owned(0, 0o640)},
				// names its folder's owner
				{Path: folder + "/tool", Before: owned(0, 0o755), After: owned(0, 0o4755), File: Identity{Inode: 7}},
				// everybody writes, and owners change
				{
					Path: folder + "/zed", Before: owned(uint32(i), 0o644), After: owned(7, 0o666),
					File: Identity{Inode: 7},
				},
			} {
				s.Kind = perm.File
				if err := visit(s); err != nil {
					return err
				}
			}
		}

		return nil
	})

	if err != nil {
		t.Fatal(err)
	}

	of := map[string]int{}
	for _, x := range got {
		of[x.Kind] += x.Count
		if x.Kind == perm.CautionFiles &&
			(!x.Grave || x.Count != people ||
				!strings.Contains(x.Text,
					fmt.Sprintf("and %d more, and by others who are not known", maxWays-maxOwners))) {
			t.Errorf("%+v", x)
		}
	}

	if len(got) > maxCautions+2 || of[perm.CautionFiles] != people || of[perm.CautionMore] == 0 ||
		of[perm.CautionPower]+of[perm.CautionMore] < people {
		t.Errorf("%d cautions: %v", len(got), of)
	}

	if i := slices.IndexFunc(got, func(c Caution) bool { return c.Kind == perm.CautionMore && c.Grave }); i < 0 {
		t.Error("nobody has to say that what is not told is meant")
	}
}

// What is granted where no way leads is told, the plan's own changes of the way counted.
func TestGrantedInVain(t *testing.T) {
	closed, opened := owned(1, 0o700), owned(1, 0o711)
	way := func(path string) (access.Way, error) {
		return access.Way{
			{Path: "/", Kind: perm.Folder, Set: owned(0, 0o755)},
			{Path: "/srv", Kind: perm.Folder, Set: closed},
			{Path: pathname.Path(path), Kind: perm.File, Set: owned(1, 0o640)},
		}, nil
	}

	grant := Step{
		Path:   "/srv/x",
		Kind:   perm.File,
		Before: owned(1, 0o640),
		After:  owned(1, 0o640, posixacl.Entry{Tag: posixacl.User, ID: 33, Perm: 4}),
	}

	got := check(t, way, grant)
	if len(got) != 1 || got[0].Kind != perm.CautionNothing || got[0].Account != "web" ||
		!strings.Contains(got[0].Text, "/srv does not let them pass") {
		t.Errorf("%+v", got)
	}

	if got := check(t, way, Step{
		Path:   "/srv",
		Kind:   perm.Folder,
		Before: closed,
		After:  opened,
	}, grant); slices.ContainsFunc(got, func(c Caution) bool {
		return c.Kind == perm.CautionNothing
	}) {
		t.Errorf("with the way opened: %+v", got)
	}
}
