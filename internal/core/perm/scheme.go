package perm

import (
	"cmp"
	"fmt"
	"slices"

	"idletally/internal/core/mode"
)

// A SchemeID names a scheme: it is the first byte of every encoded [Set]. IDs are kept in the database.
type SchemeID uint8

// A Scheme is a way in which systems keep permissions. Each stands in a package of its own; package schemes has the
// table of them.
type Scheme interface {
	ID() SchemeID
	// String returns the word that views carry.
	String() string
	// Decode reads what follows the scheme's byte in an encoded [Set], checking every bound: it may come from a
	// hostile agent.
	Decode(enc string) (State, error)
	// Desire returns what is asked of a path, in the terms of the scheme.
	Desire(w *Desired) Desire
	// Aspects lists what a rule can declare of a path, each by itself.
	Aspects() []Aspect

	// Identify returns what the text of a principal says by itself, and false for one of another scheme. Several
	// schemes may know the principals of one host.
	Identify(id Principal) (Identity, bool)
	// Parse reads a principal as its Identity writes it, such as a number. What is meant may be a group.
	Parse(text string, group bool) (Principal, bool)
	// Known returns the identity that a name stands for on every host whose principals the scheme knows.
	Known(name string) (Principal, bool)
	// GroupsOwn reports whether groups own paths, so that an owner's name may be a group's.
	GroupsOwn() bool
	// FromAbove reports whether the state of a folder matters in judging a path in it.
	FromAbove() bool
}

// A State is a decoded [Set]. Whatever differs from scheme to scheme is a method of it, so that a scheme that leaves
// something out does not compile.
type State interface {
	Encode() (Set, error)
	Traits() Traits
	// Mentions and Speaks are given the host's accounts, since an entry may name one as another system does. Speaks
	// adds those that the state mentions to others, each once.
	Mentions(d *Directory) []Mention
	Speaks(of []Principal, d *Directory) []Principal
	View(k Kind, d *Directory) View
	Lines(k Kind, above []Above, d *Directory) []EntryLine
	Explain(k Kind) []string
	Terms(f Found, d *Directory, name func(Principal) string) []Term
	// DeclaredMode returns the mode that a rule would declare, and false where the scheme has none.
	DeclaredMode() (mode.Mode, bool)

	// Rights returns what an account or the members of a group can do with a path of kind k. Whoever the scheme
	// cannot name, Everyone included, is nobody in particular.
	Rights(k Kind, who Principal, d *Directory) Rights
	// Untold reports whether an effect leaves somebody out: they may do all of it anyway, or are no account.
	Untold(who Principal) bool
	// GroupsFirst reports whether an effect tells of groups before it tells of accounts.
	GroupsFirst() bool
	// Exchangers names who can replace what lies in a folder of this state; see [Exchangers].
	Exchangers(d *Directory) (who []string, known bool)
	// Cause returns why what was made in a folder of this state came out as it did; see [CauseOf].
	Cause(k Kind, a Aspect, found, mended State, d *Directory) Cause
	// Astray returns how a path differs from what its folder passes on; see [Astray].
	Astray(f Found, d *Directory) string

	// What follows takes another state of the same scheme, which a change leads to.

	// Cautions returns what to be wary of.
	Cautions(k Kind, to State, d *Directory, matter []Principal) []Caution
	// Empowers reports whether a program gets power; see [Empowers].
	Empowers(k Kind, to State) bool
	// TakesAnew reports whether the path gets other inherited entries; see [TakesAnew].
	TakesAnew(to State) bool
	// Narrow returns the state that the change passes through; see [Narrow].
	Narrow(k Kind, to State) (Set, error)
}

// A Desire is a [Desired] in the terms of one scheme. The states that it is given are of that scheme.
type Desire interface {
	Judges(k Kind) bool
	Differences(f Found, s State, d *Directory) []Difference
	Apply(f Found, s State, aspects []Aspect) (Set, error)
	// Text returns the declared value of an aspect for display; "any" if nothing is declared. Owner, group and mode are
	// the same in every scheme, and are not asked for (see [Desired.Text]). The state is nil if nothing was found.
	Text(a Aspect, k Kind, s State, d *Directory) string
	// Fetches reports whether making some aspects as declared means inheriting anew.
	Fetches(s State, aspects []Aspect) bool
}

// An Identity is what the text of a principal says by itself, whatever a host says of it.
type Identity struct {
	Scheme SchemeID
	Text   string // what Parse reads: a number
	Name   string // where the host has none: a well-known name, or else the text
	Group  bool   // and no account
	Known  bool   // the same on every host: it needs no account
	Sure   bool   // Group holds: it does not take the host's own lists to know
	Anyone bool   // whoever signs in
	Maker  bool   // whoever makes what gets an entry of theirs
}

// schemes are those that were registered, in the order of their IDs.
var schemes []Scheme

// Register makes a scheme known. Its package calls it when it is initialized: a program knows the schemes that it
// imports, and package schemes imports them all.
func Register(s Scheme) {
	if schemeOf(s.ID()) != nil {
		panic(fmt.Sprintf("perm: scheme %d was registered twice", s.ID()))
	}
	schemes = append(schemes, s)
	slices.SortFunc(schemes, func(a, b Scheme) int { return cmp.Compare(a.ID(), b.ID()) })
}

// Schemes returns those that are known, in the order of their IDs.
func Schemes() []Scheme { return slices.Clone(schemes) }

func schemeOf(id SchemeID) Scheme {
	for _, s := range schemes {
		if s.ID() == id {
			return s
		}
	}
	return nil
}

// String returns the word for a scheme that views carry.
func (id SchemeID) String() string {
	if s := schemeOf(id); s != nil {
		return s.String()
	}
	return fmt.Sprintf("unknown scheme %d", uint8(id))
}

// identify returns what the text of a principal says; its scheme is 0 if none knows it.
func identify(id Principal) Identity {
	if len(schemes) == 0 {
		panic("perm: no scheme is known: this program has to import package schemes")
	}
	for _, s := range schemes {
		if who, ok := s.Identify(id); ok {
			return who
		}
	}
	return Identity{Text: string(id), Name: string(id)}
}

// State decodes a set. Sets are made by a scheme's own constructor or by [ParseSet], both of which keep out what a
// scheme cannot read: anything else is a mistake in this program, and must not be taken for "as declared".
func (s Set) State() State {
	if s.IsZero() {
		return nothing{}
	}
	scheme := schemeOf(s.Scheme())
	if scheme == nil {
		panic(fmt.Sprintf("perm: a set has the unknown scheme %d", s.Scheme()))
	}
	st, err := scheme.Decode(s.enc[1:])
	if err != nil {
		panic(fmt.Sprintf("perm: a set of scheme %s cannot be read: %v", scheme, err))
	}
	return st
}

// Encoded returns the set that a scheme has encoded, its byte first. It is not checked.
func Encoded(b []byte) Set { return Set{string(b)} }

// states decodes two sets to be compared: it reports false if one of them is no state at all, or if they are of
// different schemes.
func states(from, to Set) (a, b State, ok bool) {
	a, b = from.State(), to.State()
	return a, b, !from.IsZero() && from.Scheme() == to.Scheme()
}

// nothing is the state of a path that could not be read: nothing is known of it, and nothing can be made of it.
type nothing struct{}

func (nothing) Encode() (Set, error)                                    { return Set{}, nil }
func (nothing) Traits() Traits                                          { return 0 }
func (nothing) Mentions(*Directory) []Mention                           { return nil }
func (nothing) Speaks(of []Principal, _ *Directory) []Principal         { return of }
func (nothing) View(Kind, *Directory) View                              { return View{Owner: "?", Group: "?"} }
func (nothing) Lines(Kind, []Above, *Directory) []EntryLine             { return nil }
func (nothing) Explain(Kind) []string                                   { return nil }
func (nothing) Terms(Found, *Directory, func(Principal) string) []Term  { return nil }
func (nothing) DeclaredMode() (mode.Mode, bool)                         { return 0, false }
func (nothing) Rights(Kind, Principal, *Directory) Rights               { return 0 }
func (nothing) Untold(Principal) bool                                   { return true }
func (nothing) GroupsFirst() bool                                       { return false }
func (nothing) Exchangers(*Directory) ([]string, bool)                  { return nil, false }
func (nothing) Cause(Kind, Aspect, State, State, *Directory) Cause      { return Cause{} }
func (nothing) Astray(Found, *Directory) string                         { return "" }
func (nothing) Cautions(Kind, State, *Directory, []Principal) []Caution { return nil }
func (nothing) Empowers(Kind, State) bool                               { return false }
func (nothing) TakesAnew(State) bool                                    { return false }
func (nothing) Narrow(Kind, State) (Set, error)                         { return Set{}, errNoState }
