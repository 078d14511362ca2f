package posix

import (
	"flag"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/schemetest"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

var seedFlag = flag.Uint64("seed", 0, "seed of the random cases; 0 takes the clock's")

func random(t *testing.T) *rand.Rand {
	seed := *seedFlag
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	t.Logf("seed %d (repeat with -seed %d)", seed, seed)
	return rand.New(rand.NewPCG(seed, 1))
}

func crew() *perm.Directory {
	return (&perm.Directory{
		Accounts: []perm.Account{
			{ID: unixid.UID(0), Name: "root"},
			{ID: unixid.UID(1), Name: "purser", Groups: []perm.Principal{unixid.GID(1)}},
			{ID: unixid.UID(2), Name: "www-tickets", Groups: []perm.Principal{unixid.GID(2), unixid.GID(1)},
				Service: true},
		},
		Groups: []perm.Account{{ID: unixid.GID(0), Name: "root"}, {ID: unixid.GID(1), Name: "crew"},
			{ID: unixid.GID(2), Name: "www"}},
	}).Index()
}

func randomNamed(r *rand.Rand) (named posixacl.List) {
	for id := range uint32(4) {
		if r.IntN(3) == 0 {
			named = append(named, posixacl.Entry{Tag: posixacl.User, ID: id, Perm: mode.Perm(r.UintN(8))})
		}
		if r.IntN(3) == 0 {
			named = append(named, posixacl.Entry{Tag: posixacl.Group, ID: id, Perm: mode.Perm(r.UintN(8))})
		}
	}
	named.Sort()
	return named
}

// randomState draws from a small world so that the interesting meetings happen often.
func randomState(r *rand.Rand, k perm.Kind) State {
	p := State{UID: r.Uint32N(4), GID: r.Uint32N(3)}
	m := mode.Mode(r.Uint32N(0o10000))
	list := func() posixacl.List { return randomNamed(r) }
	var mask *mode.Perm
	if r.IntN(3) == 0 {
		v := mode.Perm(r.UintN(8))
		mask = &v
	}

	if r.IntN(2) == 0 {
		p = p.rebuild(m, list(), mask)
	} else {
		p.Mode = m
	}

	if k == perm.Folder && r.IntN(2) == 0 {
		p.Default = posixacl.Build(7, 5, 0, list(), nil)
	}

	p.Flags = perm.Flags(r.IntN(4))
	if k == perm.File && r.IntN(5) == 0 {
		p.Caps = "\x01\x00\x00\x02caps"
	}

	return p
}

func TestSetRoundTrip(t *testing.T) {
	r := random(t)
	for range 5000 {
		p := randomState(r, perm.Kind(1+r.IntN(2)))
		s, err := perm.ParseSet(p.Set().Bytes())
		if err != nil {
			t.Fatalf("%+v: %v", p, err)
		}
		back, err := Of(s)
		if err != nil || !reflect.DeepEqual(back, p) {
			t.Fatalf("%+v came back as %+v, %v", p, back, err)
		}
	}
}

func wanted(s string) *mode.Declared {
	w, err := mode.ParseWanted(s)
	if err != nil {
		panic(err) // the texts are ours
	}
	return &w
}

func exactly(m mode.Mode) *mode.Declared { w := mode.Exactly(m); return &w }

func FuzzParseSet(f *testing.F) {
	f.Add(State{UID: 1, GID: 2, Mode: 0o640}.Set().Bytes())
	f.Add(State{
		Mode:   0o2770,
		Access: posixacl.Build(7, 7, 0, posixacl.List{{Tag: posixacl.User, ID: 5, Perm: 6}}, nil),
	}.Set().Bytes())
	f.Fuzz(func(t *testing.T, b string) {
		if s, err := perm.ParseSet(b); err == nil && s.Bytes() != b {
			t.Fatalf("%x parsed to %x", b, s.Bytes())
		}
	})
}

// everybody is each account of a small world in each choice of its groups.
var everybody = func() (out []posixacl.Subject) {
	for uid := range uint32(5) {
		for groups := range 16 {
			s := posixacl.Subject{UID: uid}
			for g := range uint32(4) {
				if groups&(1<<g) != 0 {
					s.Groups = append(s.Groups, g)
				}
			}
			out = append(out, s)
		}
	}
	return out
}()

// Narrowed, a path gives nobody more than both sides do; and with its new owner, not yet widened, nobody more
// than the other side does.
func TestNarrowOpensNothing(t *testing.T) {
	r := random(t)
	kept := 0
	for i := range 30000 {
		k := []perm.Kind{perm.File, perm.Folder}[i%2]
		b, a := randomState(r, k), randomState(r, k)
		set, err := perm.Narrow(k, b.Set(), a.Set())
		if err != nil {
			t.Fatal(err)
		}

		n, err := Of(set)
		if err != nil {
			t.Fatal(err)
		}

		then := n
		then.UID, then.GID = a.UID, a.GID
		for _, s := range everybody {
			was, is := b.subjectMay(s), a.subjectMay(s)
			got := n.subjectMay(s)
			if got&^(was&is) != 0 {
				t.Fatalf("narrowed it opens %v to %+v:\nbefore %+v\nbetween %+v\nafter %+v", got&^(was&is), s, b, n, a)
			}

			if got := then.subjectMay(s); got&^is != 0 {
				t.Fatalf("with its new owner it opens %v to %+v:\nbefore %+v\nbetween %+v\nafter %+v", got&^is, s, b,
					then, a)
			}

			if got != 0 {
				kept++
			}
		}

		if n.Mode&(mode.SetUID|mode.SetGID)&^(b.Mode&a.Mode) != 0 {
			t.Fatalf("set-ID bits between: %v of %v and %v", n.Mode, b.Mode, a.Mode)
		}

		if same, err := perm.Narrow(k, b.Set(), b.Set()); err != nil || b.Access == nil && same != b.Set() {
			t.Fatalf("from %+v to itself by %x, %v", b, same.Bytes(), err)
		}
	}

	if kept < 100_000 {
		t.Errorf("nobody is left anything: %d", kept)
	}
}

// Within is right about every account and every choice of groups.
func TestWithin(t *testing.T) {
	r := random(t)
	said := map[bool]int{}
	for range 100_000 {
		plain := func() State {
			return State{
				UID:  r.Uint32N(3),
				GID:  r.Uint32N(3),
				Mode: mode.Mode(r.Uint32N(0o10000)) &^ (mode.SetUID | mode.SetGID),
			}
		}

		b, a := plain(), plain()
		x := State{b.UID, b.GID, a.Mode, nil, nil, "", 0}
		if r.IntN(2) == 0 {
			x = State{a.UID, a.GID, b.Mode, nil, nil, "", 0}
		}

		want := true
		for _, s := range everybody {
			want = want && x.subjectMay(s)&^(b.subjectMay(s)|a.subjectMay(s)) == 0
		}

		if got := x.Within(b, a); got != want {
			t.Fatalf("%+v within %+v and %+v: %v, want %v", x, b, a, got, want)
		}

		said[want]++
	}

	if said[true] < 1000 || said[false] < 1000 {
		t.Errorf("one-sided: %v", said)
	}

	for _, x := range []State{
		{Mode: 0o4755},
		{Mode: 0o755, Caps: "x"},
		{Mode: 0o755, Access: posixacl.Build(7, 5, 5, posixacl.List{{Tag: posixacl.User, ID: 1, Perm: 5}}, nil)},
	} {
		if x.Within(x, x) {
			t.Errorf("%+v: more than a mode is not spoken of", x)
		}
	}

	if (State{UID: 7, Mode: 0o700}).Within(State{UID: 1, Mode: 0o777}, State{UID: 2, Mode: 0o777}) {
		t.Error("an owner of neither side can change permissions")
	}
}

func ptr[T any](v T) *T { return &v }

func TestDifferences(t *testing.T) {
	d := crew()
	list := func(perm mode.Perm, mask *mode.Perm) posixacl.List {
		return posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 1, Perm: perm}}, mask)
	}
	entries := perm.DesiredEntries{List: []perm.DesiredEntry{{Who: unixid.UID(1), Perm: 4}}}

	for _, c := range []struct {
		name  string
		kind  perm.Kind
		found State
		want  perm.Desired
		diffs string
	}{
		{"as declared", perm.File, State{UID: 1, GID: 1, Mode: 0o640},
			perm.Desired{Owner: ptr(unixid.UID(1)), Group: ptr(unixid.GID(1)), Mode: exactly(0o640),
				Entries: &perm.DesiredEntries{}}, ""},
		{"owner and group", perm.File, State{UID: 2, GID: 9, Mode: 0o640},
			perm.Desired{Owner: ptr(unixid.UID(1)), Group: ptr(unixid.GID(1))},
			"owner purser/www-tickets; group crew/9"},
		{"mode", perm.File, State{Mode: 0o666}, perm.Desired{Mode: exactly(0o640)}, "mode 0640/0666"},
		{"a link has no mode", perm.Link, State{Mode: 0o777}, perm.Desired{Mode: exactly(0o640)}, ""},
		{"the mask a listing shows is not the group's", perm.File, State{Mode: 0o660, Access: list(6, nil)},
			perm.Desired{Mode: exactly(0o640)}, ""},
		{"extra entry", perm.File, State{Mode: 0o660, Access: list(6, nil)},
			perm.Desired{Mode: exactly(0o640), Entries: &perm.DesiredEntries{}}, "entries none/user:purser:rw-"},
		{"missing entry", perm.File, State{Mode: 0o640}, perm.Desired{Entries: &entries},
			"entries user:purser:r--/none"},
		{"entries as declared", perm.File, State{Mode: 0o640, Access: list(4, nil)},
			perm.Desired{Mode: exactly(0o640), Entries: &entries}, ""},
		{"mask takes away", perm.File, State{Mode: 0o600, Access: list(4, ptr(mode.Perm(0)))},
			perm.Desired{Mode: exactly(0o640), Entries: &entries},
			"mode 0640/0600; entries user:purser:r--/user:purser:r--, mask::---"},
		{"defaults", perm.Folder, State{Mode: 0o750}, perm.Desired{Mode: exactly(0o750), Defaults: &entries},
			"defaults user::rwx, user:purser:r--, group::r-x, mask::r-x, other::---/none"},
		{"defaults on a file", perm.File, State{Mode: 0o750}, perm.Desired{Defaults: &entries}, ""},
		{"a limit kept", perm.File, State{Mode: 0o640}, perm.Desired{Mode: wanted("g+r,o-rwx")}, ""},
		{"a limit broken", perm.File, State{Mode: 0o602}, perm.Desired{Mode: wanted("g+r,o-rwx")},
			"mode g+r,o-rwx/0602"},
		{"execute where it belongs", perm.Folder, State{Mode: 0o640}, perm.Desired{Mode: wanted("u=rwX,g=rX,o=")},
			"mode u=rwX,g=rX,o=/0640"},
		{"at least, kept", perm.File, State{Mode: 0o660, Access: list(6, nil)},
			perm.Desired{Entries: &perm.DesiredEntries{List: entries.List, AtLeast: true}},
			""},
		{"at least, broken", perm.File, State{Mode: 0o640},
			perm.Desired{Entries: &perm.DesiredEntries{List: entries.List, AtLeast: true}},
			"entries at least user:purser:r--/none"},
		{"capability", perm.File, State{Mode: 0o750, Caps: "\x01\x02"}, perm.Desired{Caps: ptr("")},
			"capability none/0102"},
		{"immutable", perm.File, State{}, perm.Desired{On: perm.Immutable}, "flags immutable/none"},
		{"not immutable", perm.File, State{Flags: perm.Immutable | perm.AppendOnly}, perm.Desired{Off: perm.Immutable},
			"flags append-only/immutable, append-only"},
		{"absent", perm.File, State{}, perm.Desired{Absent: true, Owner: ptr(unixid.UID(9))}, "presence absent/there"},
		{"left alone", perm.File, State{Mode: 0o777}, perm.Desired{Mode: exactly(0), LeaveAlone: true}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, x := range c.want.Differences(perm.Found{Kind: c.kind, Set: c.found.Set()}, d) {
				got = append(got, string(x.Aspect)+" "+x.Declared+"/"+x.Found)
			}
			if s := strings.Join(got, "; "); s != c.diffs {
				t.Errorf("%s: %q, want %q", c.name, s, c.diffs)
			}
		})
	}
}

// Whatever groups somebody is in, what they gain and lose is told: of everyone, of their groups, or of themselves.
func TestEffectsTellEverybody(t *testing.T) {
	r := random(t)
	for range 20000 {
		k := perm.Kind(1 + r.IntN(2))
		a, b := randomState(r, k), randomState(r, k)
		who := posixacl.Subject{UID: r.Uint32N(6) + 1}
		acc := perm.Account{ID: unixid.UID(who.UID), Name: "who"}

		for gid := range uint32(5) {
			if r.IntN(2) == 0 {
				who.Groups = append(who.Groups, gid)
				acc.Groups = append(acc.Groups, unixid.GID(gid))
			}
		}

		d := (&perm.Directory{Accounts: []perm.Account{acc}}).Index()
		e := perm.Between(k, a.Set(), b.Set(), d)
		told := func(gains []perm.Gain) (words []string) {
			for _, g := range gains {
				mine := !g.Group && (g.Who == acc.Name || g.Who == string(perm.Everyone))
				for _, gid := range acc.Groups {
					mine = mine || g.Group && g.Who == d.Name(gid)
				}
				if mine {
					words = append(words, g.Rights...)
				}
			}

			return words
		}

		was, is := a.subjectRights(k, who), b.subjectRights(k, who)
		for _, x := range []struct {
			what  string
			is    perm.Rights
			gains []perm.Gain
		}{{"gains", is &^ was, e.Opens}, {"loses", was &^ is, e.Closes}} {
			t.Run(x.what, func(t *testing.T) {
				words := told(x.gains)
				for _, w := range x.is.Words(k) {
					if !slices.Contains(words, w) {
						t.Fatalf("%+v %s %s, which is not told: %s\nfrom %+v\nto   %+v", who, x.what, w, e, a, b)
					}
				}
			})
		}
	}
}

// Whatever is found and declared: applied, nothing differs any more, and applying again changes nothing.
func TestApplySettles(t *testing.T) {
	r, d := random(t), crew()
	for range 20000 {
		k := perm.Kind(1 + r.IntN(3))
		found, like := randomState(r, k), randomState(r, k)
		w := perm.Desired{Rule: map[perm.Aspect]int{}}
		if r.IntN(2) == 0 {
			w.Owner = ptr(unixid.UID(like.UID))
		}

		if r.IntN(2) == 0 {
			w.Group = ptr(unixid.GID(like.GID))
		}

		if r.IntN(2) == 0 {
			w.Mode = exactly(like.Mode)
			if r.IntN(2) == 0 {
				w.Mode = wanted([]string{"g+r,o-w", "u=rwX,g=rX,o=", "go-rwx,u-x", "g=u,o-w", "a-s,u+rw"}[r.IntN(5)])
			}
		}

		if r.IntN(2) == 0 {
			w.Entries = &perm.DesiredEntries{List: asked(like.Access.Named()), AtLeast: r.IntN(2) == 0}
		}

		switch r.IntN(4) {
		case 0:
			w.Caps = &like.Caps
		case 1:
			w.On = perm.Flags(r.IntN(4))
			w.Off = perm.Flags(r.IntN(4)) &^ w.On
		}

		if r.IntN(2) == 0 {
			w.Defaults = &perm.DesiredEntries{List: asked(like.Access.Named())}
		}

		after, err := w.Apply(perm.Found{Kind: k, Set: found.Set()})
		if err != nil {
			t.Fatal(err)
		}

		if left := w.Differences(perm.Found{Kind: k, Set: after}, d); len(left) > 0 {
			t.Fatalf("after applying %+v to %+v there is still %+v", w, found, left)
		}

		if again, _ := w.Apply(perm.Found{Kind: k, Set: after}); again != after {
			t.Fatalf("applying twice differs: %x, %x", after.Bytes(), again.Bytes())
		}

		if _, err := perm.ParseSet(after.Bytes()); err != nil {
			t.Fatalf("applied state is not valid: %v", err)
		}
	}
}

func TestBetween(t *testing.T) {
	d := crew()
	acl := posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 6}}, nil)
	for _, c := range []struct {
		name     string
		kind     perm.Kind
		from, to State
		want     string
	}{
		{"everyone reads", perm.File, State{UID: 1, GID: 1, Mode: 0o640}, State{UID: 1, GID: 1, Mode: 0o644},
			"opens for everyone: read"},
		{"folder words", perm.Folder, State{UID: 1, GID: 1, Mode: 0o750}, State{UID: 1, GID: 1, Mode: 0o757},
			"opens for everyone: list, add and remove entries, pass through, remove others' entries"},
		{"group loses", perm.File, State{UID: 1, GID: 1, Mode: 0o660}, State{UID: 1, GID: 1, Mode: 0o640},
			"closes for group crew: write"},
		{"owner changes", perm.File, State{UID: 1, GID: 1, Mode: 0o600}, State{UID: 2, GID: 1, Mode: 0o600},
			"opens for www-tickets: read, write, change permissions · closes for purser: read, write, " +
				"change permissions"},
		{"root is nobody to worry about", perm.File, State{UID: 0, GID: 1, Mode: 0o600},
			State{UID: 1, GID: 1, Mode: 0o600},
			"opens for purser: read, write, change permissions"},
		{"entry", perm.File, State{UID: 1, GID: 0, Mode: 0o640}, State{UID: 1, GID: 0, Mode: 0o660, Access: acl},
			"opens for www-tickets: read, write"},
		{"set-user-ID", perm.File, State{UID: 1, GID: 1, Mode: 0o755}, State{UID: 1, GID: 1, Mode: 0o4755},
			"opens for everyone: run with its identity"},
		{"its owner's own identity", perm.File, State{UID: 1, GID: 1, Mode: 0o4755},
			State{UID: 1, GID: 1, Mode: 0o4750},
			"closes for everyone: read, execute, run with its identity"},
		{"the group's identity, for the owner, too", perm.File, State{UID: 1, GID: 1, Mode: 0o2710},
			State{UID: 1, GID: 1, Mode: 0o710},
			"closes for group crew: run with its identity; purser: run with its identity"},
		{"capabilities, for the owner, too", perm.File, State{UID: 1, GID: 1, Mode: 0o700},
			State{UID: 1, GID: 1, Mode: 0o700, Caps: "x"}, "opens for purser: run with its identity"},
		{"who becomes the owner loses no capability", perm.File, State{UID: 2, GID: 1, Mode: 0o755, Caps: "x"},
			State{UID: 1, GID: 1, Mode: 0o755, Caps: "x"},
			"opens for purser: write, change permissions · closes for www-tickets: write, change permissions"},
		{"sticky", perm.Folder, State{UID: 1, GID: 1, Mode: 0o1777}, State{UID: 1, GID: 1, Mode: 0o777},
			"opens for everyone: remove others' entries"},
		{"set-group-ID on a folder", perm.Folder, State{UID: 1, GID: 1, Mode: 0o2770},
			State{UID: 1, GID: 1, Mode: 0o770},
			"changes nobody's access"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := perm.Between(c.kind, c.from.Set(), c.to.Set(), d).String(); got != c.want {
				t.Errorf("%s:\n got %q\nwant %q", c.name, got, c.want)
			}
		})
	}
}

func TestDescribe(t *testing.T) {
	d := crew()
	v := perm.Describe(perm.File,
		State{
			UID:    77,
			GID:    1,
			Mode:   0o2660,
			Access: posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 6}}, nil),
		}.Set(),
		d)
	want := perm.View{Scheme: "posix", Owner: "77", Group: "crew", Mode: "2660", Letters: "rw-rwS---",
		Entries: []string{"user:www-tickets:rw-", "group::r--", "mask::rw-"}, Unknown: []string{"owner"}}
	if !reflect.DeepEqual(v, want) {
		t.Errorf("got %+v, want %+v", v, want)
	}
}

// A program that gets set-ID bits, capabilities or root's name gains something, and nothing else does.
func TestEmpowers(t *testing.T) {
	own := func(uid uint32, m mode.Mode, caps string) perm.Set {
		return State{UID: uid, GID: 5, Mode: m, Caps: caps}.Set()
	}
	for _, c := range []struct {
		what     string
		kind     perm.Kind
		from, to perm.Set
		want     bool
	}{
		{"set-user-ID", perm.File, own(7, 0o755, ""), own(7, 0o4755, ""), true},
		{"set-user-ID of another", perm.File, own(7, 0o4755, ""), own(8, 0o4755, ""), true},
		{"set-user-ID that nobody executes", perm.File, own(7, 0o644, ""), own(7, 0o4644, ""), false},
		{"set-group-ID", perm.File, own(7, 0o755, ""), own(7, 0o2755, ""), true},
		{"mandatory locking, once", perm.File, own(7, 0o644, ""), own(7, 0o2644, ""), false},
		{"capabilities", perm.File, own(7, 0o755, ""), own(7, 0o755, "caps"), true},
		{"other capabilities", perm.File, own(7, 0o755, "caps"), own(7, 0o755, "more"), true},
		{"fewer", perm.File, own(7, 0o755, "caps"), own(7, 0o755, ""), false},
		{"root's name", perm.File, own(7, 0o755, ""), own(0, 0o755, ""), true},
		{"root's name on a document", perm.File, own(7, 0o644, ""), own(0, 0o644, ""), false},
		{"execute, of root's", perm.File, own(0, 0o644, ""), own(0, 0o744, ""), true},
		{"set-user-ID taken", perm.File, own(0, 0o4755, ""), own(0, 0o755, ""), false},
		{"a folder", perm.Folder, own(7, 0o755, ""), own(0, 0o6755, ""), false},
		{"a link", perm.Link, own(7, 0o777, ""), own(0, 0o777, ""), false},
	} {
		t.Run(c.what, func(t *testing.T) {
			if got := perm.Empowers(c.kind, c.from, c.to); got != c.want {
				t.Errorf("%s: %t, want %t", c.what, got, c.want)
			}
		})
	}

	var worry perm.Caution
	for _, w := range perm.Cautions(perm.File, own(7, 0o664, ""), own(0, 0o4755, ""), &perm.Directory{}, nil) {
		if w.Kind == perm.CautionPower {
			worry = w
		}
	}

	if !worry.Grave || !strings.Contains(worry.Text, "could have been written by 7, group 5") ||
		!strings.Contains(worry.Text, "run as its owner") {
		t.Errorf("%+v", worry)
	}
}

// What holds for every scheme.
func TestConformance(t *testing.T) {
	schemetest.Run(t, Scheme{}, random(t), func(r *rand.Rand, k perm.Kind) perm.Set { return randomState(r, k).Set() })
}

// An effect costs little: a comparison works out many.
func TestBetweenAllocates(t *testing.T) {
	named := posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 6}, {Tag: posixacl.Group, ID: 3, Perm: 4}}
	from := State{UID: 1, GID: 1, Mode: 0o640, Access: posixacl.Build(6, 4, 0, named, nil)}.Set()
	to := State{UID: 1, GID: 1, Mode: 0o640, Access: posixacl.Build(6, 4, 0, named[:1], nil)}.Set()
	d := crew()
	if n := testing.AllocsPerRun(100, func() { perm.Between(perm.File, from, to, d) }); n > 15 {
		t.Errorf("%.0f allocations, 15 are allowed", n)
	}
	if e := perm.Between(perm.File, from, to, d); !reflect.DeepEqual(e.Closes[0].Rights, []string{"read"}) {
		t.Errorf("%s", e)
	}
}

// No value is empty, which is what waivers take for one that nobody knows.
func TestValuesOfNothing(t *testing.T) {
	for _, a := range (Scheme{}).Aspects() {
		if (State{}).value(a) == "" {
			t.Errorf("a state without any %s has no value of it", a)
		}
	}
}

// On the way from one list to another a mask may give execute that neither mode has in its group digit, and the
// set-group-ID bit with it an effect that it has on neither side.
func TestNarrowRunsAsNobodyElse(t *testing.T) {
	state := func(m mode.Mode, text string) State {
		access, _, err := posixacl.ParseText(text, nil)
		if err != nil {
			t.Fatal(err)
		}
		return State{UID: 2, GID: 2, Mode: access.Mode(m), Access: access}
	}
	from := state(0o6143, "u::--x,u:3:r--,g::rwx,g:0:--x,m::r--,o::-wx")
	to := state(0o3561, "u::r-x,u:1:-wx,g::---,g:2:-w-,m::rw-,o::--x")
	through, err := perm.Narrow(perm.File, from.Set(), to.Set())
	if err != nil || through.State().(State).Mode&0o2010 == 0o2010 {
		t.Errorf("%+v passes through %+v, %v", from, through.State(), err)
	}
}

// Each call of a change of a file, not only the state that it passes through, gives nobody what neither end gives them.
func TestMovesOpenNothing(t *testing.T) {
	r := random(t)
	for range 20_000 {
		from, to := randomState(r, perm.File), randomState(r, perm.File)
		through, err := perm.Narrow(perm.File, from.Set(), to.Set())
		if err != nil {
			t.Fatal(err)
		}
		narrow := through.State().(State)
		moves := append(from.Sequence(perm.File, narrow), narrow.Sequence(perm.File, to)...)
		for _, who := range append(perm.Mentioned(from.Set(), nil), perm.Mentioned(to.Set(), nil)...) {
			most := perm.RightsOf(perm.File, from.Set(), who.ID, nil) | perm.RightsOf(perm.File, to.Set(), who.ID, nil)
			for _, m := range moves {
				if perm.RightsOf(perm.File, m.State, who.ID, nil)&^most != 0 {
					t.Fatalf("%s: %+v to %+v: %s makes %+v", who.ID, from, to, m.Call.What, m.State.State())
				}
			}
		}
	}
}
