package perm

import "fmt"

// A Scheme is a way in which systems keep permissions.
type Scheme uint8

// The schemes.
const (
	SchemePOSIX Scheme = 1
	SchemeNT    Scheme = 2 // security descriptors of file shares
)

// schemes decode the sets of each scheme. It is the only list of them in this package.
var schemes = map[Scheme]struct {
	name   string
	decode func(Set) (state, error)
}{
	SchemePOSIX: {"posix", decodePOSIX},
	SchemeNT:    {"nt", decodeNT},
}

// String returns the word for a scheme that views carry.
func (s Scheme) String() string {
	if known, ok := schemes[s]; ok {
		return known.name
	}
	return fmt.Sprintf("unknown scheme %d", uint8(s))
}

// A state is a decoded [Set]. Whatever differs from scheme to scheme is a method of it, so that a scheme that leaves
// something out does not compile.
type state interface {
	encode() (Set, error)
	traits() Traits
	mentions() []Mention
	// speaks adds those that the state mentions to others, each once.
	speaks(of []Principal) []Principal
	view(k Kind, d *Directory) View
	entries(k Kind, above []Above, d *Directory) []EntryLine
	explain(k Kind) []string
	terms(f Found, name func(Principal) string) []Term

	// rights returns what an account or the members of a group can do with a path of kind k. Whoever the scheme
	// cannot name, Everyone included, is nobody in particular.
	rights(k Kind, who Principal, d *Directory) Rights
	// untold reports whether an effect says nothing of somebody: they may do all of it anyway, or are no account.
	untold(who Principal) bool
	// groupsFirst reports whether an effect tells of groups before it tells of accounts.
	groupsFirst() bool
	// cautions returns what to be wary of on the way to another state of the same scheme.
	cautions(k Kind, to state, d *Directory, matter []Principal) []Caution
	// narrow returns the state that a change to another one of the same scheme passes through; see [Narrow].
	narrow(k Kind, to state) (Set, error)

	judged(w *Desired, k Kind) bool
	differences(w *Desired, f Found, d *Directory) []Difference
	apply(w *Desired, f Found, aspects []Aspect) (Set, error)
}

// state decodes a set. Sets are made by a scheme's own constructor or by [ParseSet], both of which keep out what a
// scheme cannot read: anything else is a mistake in this program, and must not be taken for "as declared".
func (s Set) state() state {
	if s.IsZero() {
		return nothing{}
	}
	scheme, ok := schemes[s.Scheme()]
	if !ok {
		panic(fmt.Sprintf("perm: a set has the unknown scheme %d", s.Scheme()))
	}
	st, err := scheme.decode(s)
	if err != nil {
		panic(fmt.Sprintf("perm: a set of scheme %s cannot be read: %v", scheme.name, err))
	}
	return st
}

// states decodes two sets that something is to be said of together: it reports false where one of them is no state
// at all, or where they are of different schemes.
func states(from, to Set) (a, b state, ok bool) {
	a, b = from.state(), to.state()
	return a, b, !from.IsZero() && from.Scheme() == to.Scheme()
}

// nothing is the state of a path that could not be read: nothing is known of it, and nothing can be made of it.
type nothing struct{}

func (nothing) encode() (Set, error)                                     { return Set{}, nil }
func (nothing) traits() Traits                                           { return 0 }
func (nothing) mentions() []Mention                                      { return nil }
func (nothing) speaks(of []Principal) []Principal                        { return of }
func (nothing) view(Kind, *Directory) View                               { return View{Owner: "?", Group: "?"} }
func (nothing) entries(Kind, []Above, *Directory) []EntryLine            { return nil }
func (nothing) explain(Kind) []string                                    { return nil }
func (nothing) terms(Found, func(Principal) string) []Term               { return nil }
func (nothing) rights(Kind, Principal, *Directory) Rights                { return 0 }
func (nothing) untold(Principal) bool                                    { return true }
func (nothing) groupsFirst() bool                                        { return false }
func (nothing) cautions(Kind, state, *Directory, []Principal) []Caution  { return nil }
func (nothing) narrow(Kind, state) (Set, error)                          { return Set{}, errNoState }
func (nothing) judged(w *Desired, k Kind) bool                           { return POSIX{}.judged(w, k) }
func (nothing) differences(*Desired, Found, *Directory) []Difference     { return nil }
func (nothing) apply(w *Desired, f Found, aspects []Aspect) (Set, error) { return Set{}, errNoState }
