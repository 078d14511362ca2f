package posix

import (
	"math/rand/v2"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// randomWant declares some aspects of a path: mode as numbers, entries exactly or at the least, defaults in each form.
func randomWant(r *rand.Rand) *perm.Desired {
	w := &perm.Desired{Rule: map[perm.Aspect]int{}}
	if r.IntN(3) > 0 {
		w.Mode = exactly(mode.Mode(r.Uint32N(0o1000)))
	}
	if r.IntN(3) > 0 {
		l := randomNamed(r)
		w.Entries = &perm.DesiredEntries{List: asked(l), AtLeast: r.IntN(3) == 0}
	}
	if r.IntN(3) == 0 {
		l := randomNamed(r)
		w.Defaults = &perm.DesiredEntries{List: asked(l), Derived: r.IntN(3) == 0, AtLeast: r.IntN(3) == 0}
	}
	return w
}

// asked returns named entries as a rule asks for them.
func asked(l posixacl.List) (out []perm.DesiredEntry) {
	for _, e := range l {
		who := unixid.UID(e.ID)
		if e.Tag == posixacl.Group {
			who = unixid.GID(e.ID)
		}
		out = append(out, perm.DesiredEntry{Who: who, Perm: e.Perm})
	}
	return out
}

// most is what somebody may have after some aspects were mended: what they had, and what the mended aspects
// declare for them. A named entry that goes lets them have what the classes have.
func most(w *perm.Desired, mended []perm.Aspect, p State, s posixacl.Subject) mode.Perm {
	allowed := p.subjectMay(s)
	_, group, other, _ := p.masked()
	for _, a := range mended {
		switch {
		case a == perm.AspectMode && w.Mode != nil:
			m := w.Mode.Apply(p.declaredMode(), false)
			mask, masked := p.Access.Find(posixacl.Mask, posixacl.NoID)
			switch {
			case s.UID == p.UID:
				allowed |= m.Owner()
			case s.In(p.GID):
				allowed |= m.Group()
			default:
				plain := p.subjectMay(posixacl.Subject{UID: s.UID}) == other && p.subjectMay(s) == other
				if plain || masked && mask == 0 {
					allowed |= m.Other()
				}
			}

			group, other = group|m.Group(), other|m.Other()
		case a == perm.AspectEntries && w.Entries != nil:
			for _, e := range w.Entries.List {
				if n, _ := unixid.Number(e.Who); !unixid.IsGroup(e.Who) && n == s.UID || unixid.IsGroup(e.Who) &&
					s.In(n) {
					allowed |= e.Perm
				}
			}
			if s.In(p.GID) {
				allowed |= group
			}
			allowed |= other
		}
	}

	return allowed
}

// Whatever is found, whatever is declared and whichever of it is mended: nobody has more afterwards than they
// had and than what was mended declares for them.
func TestMendingWidensNothing(t *testing.T) {
	r := random(t)
	for range 60_000 {
		p, w := randomState(r, perm.Folder), randomWant(r)
		var mended []perm.Aspect
		for _, a := range []perm.Aspect{perm.AspectMode, perm.AspectEntries, perm.AspectDefaults} {
			if r.IntN(2) == 0 {
				mended = append(mended, a)
			}
		}

		set, err := w.ApplyOnly(perm.Found{Kind: perm.Folder, Set: p.Set()}, mended)
		if err != nil {
			t.Fatal(err)
		}

		after, err := Of(set)
		if err != nil {
			t.Fatal(err)
		}

		for _, s := range everybody {
			if s.UID == 0 {
				continue
			}
			if more := after.subjectMay(s) &^ most(w, mended, p, s); more != 0 {
				t.Fatalf("mending %v of %+v\nas %+v, entries %v\nmakes %+v\nwhich gives %+v %v more", mended, p, w,
					w.Entries, after, s, more)
			}
		}
	}
}

// The states that a review found, by hand: what the mask kept from the owning group, and from others, it keeps.
func TestMaskKeeps(t *testing.T) {
	user := func(id uint32, perm mode.Perm) posixacl.Entry {
		return posixacl.Entry{Tag: posixacl.User, ID: id, Perm: perm}
	}
	read := mode.Perm(4)
	found := State{}.rebuild(0o660, posixacl.List{user(5, 6)}, &read) // setfacl, then chmod 0640
	none, games := perm.DesiredEntries{}, perm.DesiredEntries{List: []perm.DesiredEntry{{Who: unixid.UID(5), Perm: 7}}}

	for what, x := range map[string]struct {
		w     perm.Desired
		a     perm.Aspect
		group mode.Perm
		five  mode.Perm
	}{
		"no entries":                  {perm.Desired{Entries: &none}, perm.AspectEntries, 4, 0},
		"another entry":               {perm.Desired{Entries: &games}, perm.AspectEntries, 4, 7},
		"a mode that raises the mask": {perm.Desired{Mode: exactly(0o660)}, perm.AspectMode, 6, 4},
		"a mode that does not":        {perm.Desired{Mode: exactly(0o600)}, perm.AspectMode, 0, 4},
		"defaults that are derived": {perm.Desired{Defaults: &perm.DesiredEntries{Derived: true}},
			perm.AspectDefaults, 4, 4},
	} {
		t.Run(what, func(t *testing.T) {
			set, err := x.w.ApplyOnly(perm.Found{Kind: perm.Folder, Set: found.Set()}, []perm.Aspect{x.a})
			if err != nil {
				t.Fatal(err)
			}

			got, err := Of(set)
			if err != nil {
				t.Fatal(err)
			}

			if x.a == perm.AspectDefaults {
				got = State{Mode: got.Default.Mode(0), Access: got.Default}
			}

			_, group, _, named := got.masked()
			five, _ := named.Find(posixacl.User, 5)
			if group != x.group || five != x.five {
				t.Errorf("%s: the group has %s, user 5 %s; want %s and %s", what, group, five, x.group, x.five)
			}
		})
	}

	// At the least: what the mask kept from default entries is not there.
	folder := State{Mode: 0o750, Default: posixacl.Build(7, 7, 0, posixacl.List{user(5, 7)}, &read)}
	w := perm.Desired{Defaults: &perm.DesiredEntries{List: []perm.DesiredEntry{{Who: unixid.UID(6), Perm: 4}},
		AtLeast: true}}
	set, err := w.ApplyOnly(perm.Found{Kind: perm.Folder, Set: folder.Set()}, []perm.Aspect{perm.AspectDefaults})
	if err != nil {
		t.Fatal(err)
	}

	got, err := Of(set)
	if err != nil {
		t.Fatal(err)
	}

	for _, e := range got.Default {
		if (e.Tag == posixacl.GroupObj || e.Tag == posixacl.User) && got.Default.Effective(e) != 4 {
			t.Errorf("new files give %v %s", e, got.Default.Effective(e))
		}
	}
}
