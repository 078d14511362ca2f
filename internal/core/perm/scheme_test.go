package perm

import (
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/posixacl"
)

// randomNT returns a descriptor of the server's accounts.
func randomNT(r *rand.Rand) Set {
	who := []ntsd.SID{
		ntsd.Everyone,
		ntsd.Administrators,
		ntsd.NewSID(5, 21, 1, 2, 3, 1001),
		ntsd.NewSID(5, 21, 1, 2, 3, 1100),
	}
	d := ntsd.Descriptor{Owner: who[1+r.IntN(3)], Group: who[r.IntN(4)]}
	for range r.IntN(4) {
		masks := []ace.Mask{ace.ReadSet, ace.ReadSet | ace.WriteSet, ace.Full, ace.Execute}
		d.Entries = append(d.Entries, ntsd.Entry{
			Type: ntsd.Type(r.IntN(2)),
			Mask: masks[r.IntN(len(masks))],
			SID:  who[r.IntN(len(who))],
		})
	}
	ntsd.Sort(d.Entries)
	s, err := NTSet(d)
	if err != nil {
		panic(err) // made of what it accepts
	}
	return s
}

// samples makes random states of each scheme. A scheme that is not in it fails TestConformance.
var samples = map[Scheme]func(*rand.Rand, Kind) Set{
	SchemePOSIX: func(r *rand.Rand, k Kind) Set { return randomState(r, k).Set() },
	SchemeNT:    func(r *rand.Rand, _ Kind) Set { return randomNT(r) },
}

// What holds for every scheme, whatever it keeps.
func TestConformance(t *testing.T) {
	for scheme, known := range schemes {
		t.Run(known.name, func(t *testing.T) {
			sample := samples[scheme]
			if sample == nil {
				t.Fatalf("there are no samples of scheme %s", known.name)
			}
			r := random(t)
			for range 2000 {
				k := []Kind{File, Folder}[r.IntN(2)]
				conforms(t, scheme, k, sample(r, k), sample(r, k))
			}
		})
	}
}

func conforms(t *testing.T, scheme Scheme, k Kind, s, other Set) {
	t.Helper()
	if again, err := ParseSet(s.Bytes()); err != nil || again != s {
		t.Fatalf("%x is not canonical: %v", s.Bytes(), err)
	}
	if got := s.Scheme(); got != scheme || Describe(k, s, nil).Scheme != scheme.String() {
		t.Fatalf("%x says it is of scheme %s, and its view of %q", s.Bytes(), got, Describe(k, s, nil).Scheme)
	}
	if e := Between(k, s, s, nil); len(e.Opens)+len(e.Closes) > 0 {
		t.Fatalf("%x changes itself: %s", s.Bytes(), e)
	}
	if w := Cautions(k, s, s, nil, nil); len(w) > 0 {
		t.Fatalf("%x worries about itself: %+v", s.Bytes(), w)
	}

	there, back := Between(k, s, other, nil), Between(k, other, s, nil)
	if !sameGains(there.Opens, back.Closes) || !sameGains(there.Closes, back.Opens) {
		t.Fatalf("%x to %x: %s; and back: %s", s.Bytes(), other.Bytes(), there, back)
	}
	through, err := Narrow(k, s, other)
	if err != nil || through.Scheme() != scheme {
		t.Fatalf("%x to %x passes through %x, %v", s.Bytes(), other.Bytes(), through.Bytes(), err)
	}
	if len(Mentioned(s)) == 0 || len(Terms(In(Set{}, k, s), func(Principal) string { return "x" })) == 0 {
		t.Fatalf("%x speaks of nobody, or says nothing", s.Bytes())
	}

	// The owner is an aspect of every scheme: what is mended is as declared, and stays so.
	owner := Mentioned(other)[slices.IndexFunc(Mentioned(other), func(m Mention) bool { return m.As == "owner" })].ID
	want := &Desired{Owner: &owner, Rule: map[Aspect]int{}}
	mended, err := want.Apply(In(Set{}, k, s))
	if err != nil || len(want.Differences(In(Set{}, k, mended), nil)) > 0 {
		t.Fatalf("%x with owner %s is %x, %v", s.Bytes(), owner, mended.Bytes(), err)
	}
	if twice, err := want.Apply(In(Set{}, k, mended)); err != nil || twice != mended {
		t.Fatalf("mended twice it is %x, and once %x, %v", twice.Bytes(), mended.Bytes(), err)
	}
}

// sameGains compares gains whatever their order.
func sameGains(a, b []Gain) bool {
	key := func(list []Gain) []string {
		out := make([]string, len(list))
		for i, g := range list {
			out[i] = Effect{Opens: []Gain{g}}.Key()
		}
		slices.Sort(out)
		return out
	}
	return slices.Equal(key(a), key(b))
}

// A set of a scheme that this package does not know cannot be made, and if one is made by mistake it is a loud one:
// none of these may take it for as declared, for harmless, or for nobody's.
func TestUnknownSchemeIsNoAnswer(t *testing.T) {
	strange := Set{"\x09whatever"}
	plain := POSIX{Mode: 0o640}.Set()
	if s, err := ParseSet(strange.Bytes()); err == nil {
		t.Errorf("it is read: %v", s)
	}

	owner := UID(1)
	want := &Desired{Owner: &owner, Rule: map[Aspect]int{}}
	for name, f := range map[string]func(){
		"Between":     func() { Between(File, strange, plain, nil) },
		"Between, to": func() { Between(File, plain, strange, nil) },
		"Worries":     func() { Cautions(File, strange, plain, nil, nil) },
		"Mentioned":   func() { Mentioned(strange) },
		"TraitsOf":    func() { TraitsOf(strange) },
		"RightsOf":    func() { RightsOf(File, strange, owner, nil) },
		"Describe":    func() { Describe(File, strange, nil) },
		"Entries":     func() { Entries(File, strange, nil, nil) },
		"Explain":     func() { Explain(File, strange) },
		"Sayings":     func() { Terms(In(Set{}, File, strange), func(Principal) string { return "" }) },
		"Judges":      func() { want.Judges(File, strange) },
		"Differences": func() { want.Differences(In(Set{}, File, strange), nil) },
		"Apply":       func() { _, _ = want.Apply(In(Set{}, File, strange)) },
		"Narrow":      func() { _, _ = Narrow(File, strange, strange) },
	} {
		t.Run(name, func(t *testing.T) {
			defer func() {
				if recover() == nil {
					t.Error("it has an answer for a scheme that nobody knows")
				}
			}()
			f()
		})
	}
}

// Between schemes an effect is told all the same: whoever one of them does not know is nobody in particular there.
func TestBetweenSchemes(t *testing.T) {
	open, shut := POSIX{UID: 1, Mode: 0o666}.Set(), nt(t, "O:BAD:P(A;;FA;;;BA)")
	if e := Between(File, open, shut, server()); e.Word() == "neither" || len(e.Closes) == 0 {
		t.Errorf("from everybody's to administrators' alone: %s", e)
	}
	if _, err := Narrow(File, open, shut); err == nil {
		t.Error("something stands between states of two schemes")
	}
}

// What an account is called is no part of what findings are known by.
func TestValuesHoldNoNames(t *testing.T) {
	named := posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 6}}
	posix := POSIX{
		UID:     1,
		GID:     1,
		Mode:    0o640,
		Access:  posixacl.Build(6, 4, 0, named, nil),
		Default: posixacl.FromMode(0o750),
	}
	share := nt(t, "O:BAD:P(A;;FA;;;S-1-5-21-1-2-3-1001)(D;;FR;;;WD)")
	none, inherits, nobody := posixacl.List{}, true, UID(77)
	grants := []ntsd.Entry{{Mask: ace.ReadSet, SID: ntsd.Administrators}}
	want := &Desired{
		Owner: &nobody, Group: &nobody, Entries: &none, Defaults: &none,
		NT: NTDesired{Grants: &grants, Inherits: &inherits}, Rule: map[Aspect]int{},
	}
	other := *want
	sid := SIDOf(ntsd.Administrators)
	other.Owner = &sid

	for _, c := range []struct {
		w *Desired
		f Found
	}{{want, In(Set{}, Folder, posix.Set())}, {&other, In(Set{}, Folder, share)}} {
		before, after := (&Directory{}), (&Directory{})
		for _, m := range Mentioned(c.f.Set) {
			before.Accounts = append(before.Accounts, Account{ID: m.ID, Name: "bob"})
			after.Accounts = append(after.Accounts, Account{ID: m.ID, Name: "robert"})
		}
		is, was := c.w.Differences(c.f, after.Index()), c.w.Differences(c.f, before.Index())
		if len(was) < 2 || len(is) != len(was) {
			t.Fatalf("%d differences, and %d", len(was), len(is))
		}
		texts := false
		for i := range was {
			texts = texts || was[i].Found != is[i].Found
			if was[i].Has != is[i].Has || was[i].Wants != is[i].Wants || was[i].Has == "" {
				t.Errorf("%s is known by %q and %q, and then by %q and %q", was[i].Aspect, was[i].Wants, was[i].Has,
					is[i].Wants, is[i].Has)
			}
		}
		if !texts {
			t.Error("no text changes with the name: this test sees nothing")
		}
	}
}

// An effect costs little: a comparison works out many.
func TestBetweenAllocates(t *testing.T) {
	named := posixacl.List{{Tag: posixacl.User, ID: 2, Perm: 6}, {Tag: posixacl.Group, ID: 3, Perm: 4}}
	from := POSIX{UID: 1, GID: 1, Mode: 0o640, Access: posixacl.Build(6, 4, 0, named, nil)}.Set()
	to := POSIX{UID: 1, GID: 1, Mode: 0o640, Access: posixacl.Build(6, 4, 0, named[:1], nil)}.Set()
	d := crew()
	if n := testing.AllocsPerRun(100, func() { Between(File, from, to, d) }); n > 15 {
		t.Errorf("%.0f allocations, 15 are allowed", n)
	}
	if e := Between(File, from, to, d); !reflect.DeepEqual(e.Closes[0].Rights, []string{"read"}) {
		t.Errorf("%s", e)
	}
}

// No value is empty, which is what waivers take for one that nobody knows; and entries that are said in the same words
// are one value.
func TestValuesOfNothing(t *testing.T) {
	for _, a := range Aspects {
		if v := (POSIX{}).value(a); v == "" && a != AspectInheritance && a != AspectGrants {
			t.Errorf("a state without any %s has no value of it", a)
		}
	}
	empty := ntState{ntsd.Descriptor{Owner: ntsd.Administrators}}
	for _, a := range []Aspect{AspectOwner, AspectInheritance, AspectGrants} {
		if empty.value(a, Found{}) == "" {
			t.Errorf("a descriptor without any entry has no value of its %s", a)
		}
	}

	list := func(m ace.Mask) []ntsd.Entry { return []ntsd.Entry{{Mask: m, SID: ntsd.Administrators}} }
	for _, m := range []ace.Mask{ace.ReadSet, ace.ReadSet | ace.WriteSet, ace.Full, ace.Execute} {
		with, without := list(m|ace.Synchronize), list(m&^ace.Synchronize)
		said := ntList(File, with, nil) == ntList(File, without, nil)
		if known := ntEntryList(with) == ntEntryList(without); !known {
			t.Errorf("%s is known by %s, and %s by %s, said alike: %t", ntList(File, with, nil), ntEntryList(with),
				ntList(File, without, nil), ntEntryList(without), said)
		}
	}
	generic, mapped := list(ace.GenericRead), list(ace.GenericRead.Map())
	if ntList(File, generic, nil) != ntList(File, mapped, nil) && ntEntryList(generic) == ntEntryList(mapped) {
		t.Errorf("%s and %s are one value", ntList(File, generic, nil), ntList(File, mapped, nil))
	}
}
