// Package schemetest holds what is true of every scheme of permissions, whatever it keeps. The package of each scheme
// runs it with random states of its own:
//
//	func TestConformance(t *testing.T) {
//		schemetest.Run(t, Scheme{}, seeded.Rand(t), func(r *rand.Rand, k perm.Kind) perm.Set { … })
//	}
package schemetest

import (
	"math/rand/v2"
	"slices"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
)

// rounds is how many pairs of states are tried.
const rounds = 2000

// Run holds the suite against a scheme. sample returns a random state of a file or folder; among the ones that it
// returns several have to speak of the same accounts.
func Run(t *testing.T, s perm.Scheme, r *rand.Rand, sample func(*rand.Rand, perm.Kind) perm.Set) {
	c := checker{s}
	differed := false
	for range rounds {
		k := []perm.Kind{perm.File, perm.Folder}[r.IntN(2)]
		a, b := sample(r, k), sample(r, k)
		c.canonical(t, k, a)
		c.itself(t, k, a)
		c.change(t, k, a, b)
		c.owner(t, k, a, b)
		differed = c.values(t, k, a, b) || differed
	}
	if !differed {
		t.Error("no two states differed in a name: the samples are too much alike")
	}
}

type checker struct{ perm.Scheme }

// canonical: one state has one encoding, which says what it is.
func (c checker) canonical(t *testing.T, k perm.Kind, s perm.Set) {
	t.Helper()
	if again, err := perm.ParseSet(s.Bytes()); err != nil || again != s {
		t.Fatalf("%x is not canonical: %v", s.Bytes(), err)
	}
	if again, err := s.State().Encode(); err != nil || again != s {
		t.Fatalf("%x is encoded as %x, %v", s.Bytes(), again.Bytes(), err)
	}
	if got := s.Scheme(); got != c.ID() || perm.Describe(k, s, nil).Scheme != c.String() {
		t.Fatalf("%x says it is of scheme %s, and its view of %q", s.Bytes(), got, perm.Describe(k, s, nil).Scheme)
	}
	for cut := range len(s.Bytes()) { // a part of one is refused, or it is another state
		if part, err := perm.ParseSet(s.Bytes()[:cut]); err == nil && part == s {
			t.Fatalf("%d bytes of %x are the same state", cut, s.Bytes())
		}
	}
}

// itself: a state differs in nothing from itself, and speaks of somebody.
func (c checker) itself(t *testing.T, k perm.Kind, s perm.Set) {
	t.Helper()
	if e := perm.Between(k, s, s, nil); len(e.Opens)+len(e.Closes) > 0 {
		t.Fatalf("%x changes itself: %s", s.Bytes(), e)
	}
	if w := perm.Cautions(k, s, s, nil, nil); len(w) > 0 {
		t.Fatalf("%x warns of itself: %+v", s.Bytes(), w)
	}
	if perm.Empowers(k, s, s) || perm.TakesAnew(s, s) {
		t.Fatalf("%x becomes more by staying as it is", s.Bytes())
	}
	terms := perm.Terms(perm.In(perm.Set{}, k, s), nil, func(perm.Principal) string { return "x" })
	if len(perm.Mentioned(s, nil)) == 0 || len(terms) == 0 {
		t.Fatalf("%x speaks of nobody, or no rule could say it", s.Bytes())
	}
	if v := perm.Describe(k, s, nil); v.Owner == "" || v.Group == "" || v.String() == "" {
		t.Fatalf("%x is shown as %+v", s.Bytes(), v)
	}
}

// change: the way there opens what the way back closes, and in between nobody has what neither end gives.
func (c checker) change(t *testing.T, k perm.Kind, from, to perm.Set) {
	t.Helper()
	there, back := perm.Between(k, from, to, nil), perm.Between(k, to, from, nil)
	if !sameGains(there.Opens, back.Closes) || !sameGains(there.Closes, back.Opens) {
		t.Fatalf("%x to %x: %s; and back: %s", from.Bytes(), to.Bytes(), there, back)
	}

	through, err := perm.Narrow(k, from, to)
	if err != nil || through.Scheme() != c.ID() {
		t.Fatalf("%x to %x passes through %x, %v", from.Bytes(), to.Bytes(), through.Bytes(), err)
	}
	c.canonical(t, k, through)
	who := []perm.Principal{perm.Everyone}
	for _, m := range slices.Concat(perm.Mentioned(from, nil), perm.Mentioned(to, nil)) {
		who = append(who, m.ID)
	}
	for _, id := range who {
		most := perm.RightsOf(k, from, id, nil) | perm.RightsOf(k, to, id, nil)
		if more := perm.RightsOf(k, through, id, nil) &^ most; more != 0 {
			t.Fatalf("%x to %x passes through %x, where %s can %v", from.Bytes(), to.Bytes(), through.Bytes(), id,
				more.Words(k))
		}
	}
}

// owner: the owner is an aspect of every scheme. What is mended is as declared, and stays so.
func (c checker) owner(t *testing.T, k perm.Kind, s, other perm.Set) {
	t.Helper()
	want := &perm.Desired{Owner: ownerOf(t, other), Rule: map[perm.Aspect]int{}}
	mended, err := want.Apply(perm.In(perm.Set{}, k, s))
	if err != nil || len(want.Differences(perm.In(perm.Set{}, k, mended), nil)) > 0 {
		t.Fatalf("%x with owner %s is %x, %v", s.Bytes(), *want.Owner, mended.Bytes(), err)
	}
	if twice, err := want.Apply(perm.In(perm.Set{}, k, mended)); err != nil || twice != mended {
		t.Fatalf("mended twice it is %x, and once %x, %v", twice.Bytes(), mended.Bytes(), err)
	}
}

func ownerOf(t *testing.T, s perm.Set) *perm.Principal {
	t.Helper()
	i := slices.IndexFunc(perm.Mentioned(s, nil), func(m perm.Mention) bool { return m.As == "owner" })
	if i < 0 {
		t.Fatalf("%x mentions no owner", s.Bytes())
	}
	return &perm.Mentioned(s, nil)[i].ID
}

// values: what an account is called is no part of what findings are known by. It reports whether a name showed at all.
func (c checker) values(t *testing.T, k perm.Kind, s, other perm.Set) (differed bool) {
	t.Helper()
	m, inherits := mode.Exactly(0o640), true
	want := &perm.Desired{
		Owner: ownerOf(t, other), Mode: &m, Inherits: &inherits,
		Entries: &perm.DesiredEntries{}, Defaults: &perm.DesiredEntries{}, Grants: &perm.DesiredGrants{},
		Rule: map[perm.Aspect]int{},
	}

	before, after := (&perm.Directory{}), (&perm.Directory{})
	for _, x := range slices.Concat(perm.Mentioned(s, nil), perm.Mentioned(other, nil)) {
		before.Accounts = append(before.Accounts, perm.Account{ID: x.ID, Name: "bob"})
		after.Accounts = append(after.Accounts, perm.Account{ID: x.ID, Name: "robert"})
	}
	f := perm.In(perm.Set{}, k, s)
	was, is := want.Differences(f, before.Index()), want.Differences(f, after.Index())
	if len(is) != len(was) {
		t.Fatalf("%d differences by one name, and %d by another", len(was), len(is))
	}

	for i := range was {
		differed = differed || was[i].Found != is[i].Found
		if was[i].Has != is[i].Has || was[i].Wants != is[i].Wants || was[i].Has == "" {
			t.Fatalf("%s of %x is known by %q and %q, and then by %q and %q", was[i].Aspect, s.Bytes(), was[i].Wants,
				was[i].Has, is[i].Wants, is[i].Has)
		}
		if !slices.Contains(c.Aspects(), was[i].Aspect) {
			t.Fatalf("%s is no aspect of the scheme", was[i].Aspect)
		}
	}
	return differed
}

// sameGains compares gains whatever their order.
func sameGains(a, b []perm.Gain) bool {
	key := func(list []perm.Gain) []string {
		out := make([]string, len(list))
		for i, g := range list {
			out[i] = perm.Effect{Opens: []perm.Gain{g}}.Key()
		}
		slices.Sort(out)
		return out
	}
	return slices.Equal(key(a), key(b))
}
