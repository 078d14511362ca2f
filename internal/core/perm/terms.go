package perm

import (
	"slices"
	"strconv"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/posixacl"
)

// A Term is what a rule has to say of one aspect for a state to be as declared: a key of the
// baseline language, and values of it of which each will do. Loose ones leave something free. Where
// there is none the language has no words for the state.
type Term struct {
	Key    string
	Values []string
	Loose  []string
}

// TermKeys lists the keys in the order in which rules are written.
var TermKeys = []string{
	"owner", "group", "files", "folders", "entries", "defaults", "capability", "immutable", "append-only", "inherits",
	"grants",
}

// Terms returns what a rule has to say for a path of a kind to be as it is. Accounts are called as
// name says; "" is for those that have no name which a rule could use.
func Terms(f Found, name func(Principal) string) []Term {
	return f.Set.state().terms(f, name)
}

func (p POSIX) terms(f Found, name func(Principal) string) []Term {
	k := f.Kind
	who := func(id Principal) []string {
		if n := name(id); n != "" {
			return []string{n}
		}
		return nil
	}

	out := []Term{{Key: "owner", Values: who(UID(p.UID))}, {Key: "group", Values: who(GID(p.GID))}}
	if k == Link {
		return out
	}

	_, _, _, named := p.masked()
	out = append(out, Term{Key: "entries", Values: grantTexts(named, k, name)})
	if k == Folder {
		out = append(out, Term{Key: "folders", Values: []string{p.declaredMode().String()}}, Term{
			Key:    "defaults",
			Values: p.defaultTexts(named, name),
		})
	}

	if k == File {
		caps := CapsText(p.Caps)
		var values []string
		if raw, err := ParseCaps(caps); err == nil && raw == p.Caps {
			values = []string{caps}
		}

		out = append(out, Term{"files", []string{p.declaredMode().String()}, whereItBelongs(p.declaredMode())},
			Term{Key: "capability", Values: values})
	}

	if k == File || k == Folder {
		for _, f := range []Flags{Immutable, AppendOnly} {
			value := "no"
			if p.Flags&f != 0 {
				value = "yes"
			}
			out = append(out, Term{Key: f.Words()[0], Values: []string{value}})
		}
	}

	return out
}

// whereItBelongs returns the symbolic mode that leaves execute to programs, where a file's execute
// bits go with those to read.
func whereItBelongs(m mode.Mode) []string {
	var read, execute mode.Mode
	var clauses []string
	for i, c := range []struct {
		letter string
		perm   mode.Perm
	}{{"u", m.Owner()}, {"g", m.Group()}, {"o", m.Other()}} {
		if c.perm&mode.Read != 0 {
			read |= 1 << i
		}

		if c.perm&mode.Execute != 0 {
			execute |= 1 << i
		}

		letters := strings.NewReplacer("-", "", "x", "").Replace(c.perm.String())
		if c.perm&mode.Read != 0 {
			letters += "X"
		}

		clauses = append(clauses, c.letter+"="+letters)
	}

	if m&^0o777 == 0 && read != 0 && (execute == 0 || execute == read) {
		return []string{strings.Join(clauses, ",")}
	}

	return nil
}

// grantTexts returns the ways to declare named entries: as they are, and with execute for folders only.
func grantTexts(named posixacl.List, k Kind, name func(Principal) string) []string {
	if len(named) == 0 {
		return []string{"none"}
	}

	var exact, conditional []string
	for _, e := range named {
		id, what := UID(e.ID), "user:"
		if e.Tag == posixacl.Group {
			id, what = GID(e.ID), "group:"
		}

		who := name(id)
		if who == "" {
			return nil
		}

		plain := e.Perm.String()
		exact = append(exact, strconv.Quote(what+who+":"+plain))
		if (e.Perm&mode.Execute != 0) == (k == Folder) && e.Perm != 0 {
			plain = plain[:2] + "X"
		}

		conditional = append(conditional, strconv.Quote(what+who+":"+plain))
	}

	out := []string{"[" + strings.Join(exact, ", ") + "]"}
	if !slices.Equal(exact, conditional) {
		out = append(out, "["+strings.Join(conditional, ", ")+"]")
	}

	return out
}

// defaultTexts returns the ways to declare a folder's default entries, whose classes follow from the
// folder's own.
func (p POSIX) defaultTexts(named posixacl.List, name func(Principal) string) []string {
	if p.Default == nil {
		if len(named) == 0 {
			return []string{"none", "derived"}
		}
		return []string{"none"}
	}

	m := p.declaredMode()
	given := p.Default.Named()
	if len(given) == 0 || !slices.Equal(p.Default, posixacl.Build(m.Owner(), m.Group(), m.Other(), given, nil)) {
		return nil
	}

	var out []string
	if texts := grantTexts(given, Folder, name); texts != nil {
		out = texts[:1]
	}

	if slices.Equal(given, named) {
		out = append(out, "derived")
	}

	return out
}

// Common is what the modes of several states have in common.
type Common struct {
	some   bool
	limits mode.Limits
}

// See counts one state in.
func (c *Common) See(s Set) {
	p, err := POSIXOf(s)
	if err != nil {
		return
	}
	m := p.declaredMode()
	if !c.some {
		c.some, c.limits = true, mode.Limits{Must: m, MustNot: mode.All &^ m}
	}
	c.limits.Must &= m
	c.limits.MustNot &^= m
}

// Value returns the limits that all of them keep, as a rule says them; "" where there are none.
func (c *Common) Value() string { return c.limits.String() }
