package nfs4

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
)

func compare(a, b Entry) int {
	return cmp.Or(cmp.Compare(a.Type, b.Type), strings.Compare(a.Who, b.Who), cmp.Compare(a.Flags, b.Flags),
		cmp.Compare(a.Mask, b.Mask))
}

// listText writes entries in one line.
func listText(l List, k perm.Kind, d *perm.Directory) string {
	return perm.GrantsText(State{List: l}.grants(k, d))
}

// text returns what a state has of an aspect, for display.
func (s State) text(a perm.Aspect, k perm.Kind, d *perm.Directory) string {
	switch a {
	case perm.AspectOwner:
		return d.Name(unixid.UID(s.UID))
	case perm.AspectGroup:
		return d.Name(unixid.GID(s.GID))
	case perm.AspectMode:
		return s.Derived().String()
	}
	text := listText(own(s.List), k, d)
	if !canonical(own(s.List)) {
		text += " (not in the usual order)"
	}
	return text
}

// Text returns what is asked of an aspect, for display.
func (w desired) Text(a perm.Aspect, k perm.Kind, s perm.State, d *perm.Directory) string {
	is, _ := s.(State) // of nothing that was found: for nothing
	if a == perm.AspectGrants && w.Grants != nil {
		text := listText(w.entries(is), k, d)
		if !w.Grants.AtLeast {
			return text
		}
		if len(w.Grants.List) == 0 {
			text = ""
		}
		none := make([]string, len(w.Grants.Without))
		for i, p := range w.Grants.Without {
			none[i] = d.Name(p.Who)
		}
		return perm.Declares(text, none)
	}
	return perm.AnyText
}

// value returns what a state has of an aspect, as it is known.
func (s State) value(a perm.Aspect) perm.Value {
	switch a {
	case perm.AspectOwner:
		return perm.Value(unixid.UID(s.UID))
	case perm.AspectGroup:
		return perm.Value(unixid.GID(s.GID))
	case perm.AspectMode:
		return perm.Value(s.Derived().String())
	}
	order := "canonical "
	if !canonical(own(s.List)) {
		order = "unordered "
	}
	return perm.Value(order + listValue(own(s.List)))
}

// listValue writes entries in numbers, with whom they name as the list does.
func listValue(l List) string {
	parts := make([]string, len(l))
	for i, e := range l {
		p := e.plain(perm.Folder)
		parts[i] = fmt.Sprintf("%x:%x:%x:%q", uint32(p.Type), uint32(p.Flags), uint32(p.Mask), p.Who)
	}
	return strings.Join(parts, ",")
}

// value returns what is asked of an aspect, as it is known.
func (w desired) value(a perm.Aspect) perm.Value {
	if a != perm.AspectGrants || w.Grants == nil {
		return w.Value(a)
	}

	parts := make([]string, len(w.Grants.List))
	for i, g := range w.Grants.List {
		rights := uint32(g.Rights.Map() &^ ace.Synchronize)
		parts[i] = fmt.Sprintf("%t:%x:%x:%s", g.Deny, uint32(g.Flags), rights, g.Who)
	}
	slices.Sort(parts)
	text := "entries " + strings.Join(parts, ",")
	if w.Grants.AtLeast {
		text = "at least " + text + " without"
		for _, p := range w.Grants.Without {
			text += " " + string(p.Who)
		}
	}
	return perm.Value(text)
}

// Terms returns what a rule says for a state to be as declared.
func (s State) Terms(f perm.Found, d *perm.Directory, name func(perm.Principal) string) []perm.Term {
	who := func(id perm.Principal) []string {
		if n := name(id); n != "" {
			return []string{n}
		}
		return nil
	}
	out := []perm.Term{
		{Key: "owner", Values: who(unixid.UID(s.UID))},
		{Key: "group", Values: who(unixid.GID(s.GID))},
	}
	if f.Kind == perm.Link {
		return out
	}

	mine := own(s.List)
	if !canonical(mine) {
		return append(out, perm.Term{Key: "grants"})
	}
	var texts []string
	for _, e := range mine {
		g := grantOf(f.Kind, e, nil, true)
		g.Who, g.Unknown = e.Who, false
		if !special[e.Who] {
			id := named(e.Who, e.group(), d)
			n := who(id)
			if n == nil {
				return append(out, perm.Term{Key: "grants"})
			}
			if back, ok := d.FindAny(n[0]); !ok || back != id { // an account is called like the group
				return append(out, perm.Term{Key: "grants"})
			}
			g.Who = n[0]
		}
		texts = append(texts, strconv.Quote(g.String()))
	}
	text := "none"
	if len(texts) > 0 {
		text = "[" + strings.Join(texts, ", ") + "]"
	}
	return append(out, perm.Term{Key: "grants", Values: []string{text}})
}
