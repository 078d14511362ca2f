package baseline

import (
	"strings"
	"unicode"

	"idletally/internal/core/ace"
	"idletally/internal/core/perm"
)

// This file reads what rules say of file shares: entries of their own, and whether paths inherit.

// shareGrants reads: none; a list of exactly these; or {at-least: [...], without: [...]}.
func (r *reader) shareGrants(n *node) *ShareGrants {
	out := &ShareGrants{List: []ShareGrant{}}
	if n.kind == aValue && n.text == "none" {
		return out
	}

	switch n.kind {
	case aMapping:
		out.AtLeast = true
		r.pairs(n, "grants", []string{"at-least", "without"}, func(key string, v *node) {
			if key == "at-least" {
				out.List = r.shareList(v)
				return
			}

			r.list(v, "without", func(v *node) {
				if s, ok := r.scalar(v, "without"); ok && shareName(s) {
					out.Without = append(out.Without, Who{at(v), s})
				} else if ok {
					r.fail(v, "without %q cannot be an account's name", s)
				}
			})
		})
	default:
		out.List = r.shareList(n)
	}

	return out
}

func shareName(s string) bool {
	return s != "" && len(s) <= 256 && strings.TrimSpace(s) == s &&
		!strings.ContainsFunc(s, func(c rune) bool { return c == ':' || c == ';' || !unicode.IsGraphic(c) })
}

func (r *reader) shareList(n *node) []ShareGrant {
	out := []ShareGrant{}
	r.list(n, "grants", func(v *node) {
		s, ok := r.scalar(v, "grants")
		if !ok {
			return
		}
		g, why := parseShareGrant(s)
		if why != "" {
			r.fail(v, "entry %q: %s", s, why)
			return
		}
		g.Position = at(v)
		out = append(out, g)
	})
	return out
}

// parseShareGrant reads "allow NAME: RIGHTS" or "deny NAME: RIGHTS; reaches WHAT".
func parseShareGrant(s string) (g ShareGrant, why string) {
	head, rest, ok := strings.Cut(s, ":")
	kind, name, named := strings.Cut(head, " ")
	if !ok || !named || kind != "allow" && kind != "deny" {
		return g,
			"want allow NAME: RIGHTS, or deny NAME: RIGHTS, and behind a semicolon what it reaches of a folder and " +
				"what is below"
	}

	name = strings.TrimSpace(name)
	if !shareName(name) {
		return g, "it names nobody"
	}

	rights, reach, limited := strings.Cut(rest, ";")
	mask, err := ace.ParseMask(rights)
	if err != nil {
		return g, err.Error()
	}

	flags := ace.ObjectInherit | ace.ContainerInherit
	if limited {
		list, said := strings.CutPrefix(strings.TrimSpace(reach), "reaches ")
		if !said {
			return g, "behind the semicolon stands reaches, and any of here, folders, files and once"
		}
		if flags, err = ace.ParseReach(list); err != nil {
			return g, err.Error()
		}
	}

	return ShareGrant{Deny: kind == "deny", Name: name, Mask: mask, Flags: flags}, ""
}

// share adds what a rule says of a path's own entries and of inherited ones.
func (m *Matcher) share(w *perm.Desired, i int, k perm.Kind) {
	r := &m.doc.Rules[i]
	if r.Inherits != nil {
		w.Inherits, w.Drops, w.Rule[perm.AspectInheritance] = r.Inherits, r.Drops, i
	}

	if r.Shares == nil {
		return
	}

	out := &perm.DesiredGrants{AtLeast: r.Shares.AtLeast}
	for _, g := range r.Shares.List {
		who, ok := m.identity(g.Name)
		if !ok {
			return
		}

		x := perm.DesiredGrant{Deny: g.Deny, Party: perm.Party{Who: who, Name: m.real(g.Name)}, Rights: g.Mask}
		if k == perm.Folder {
			x.Flags = g.Flags
		} else if g.Flags&ace.InheritOnly != 0 {
			continue // it is for what a folder passes on, and says nothing of a file
		}

		out.List = append(out.List, x)
	}

	for _, x := range r.Shares.Without {
		who, ok := m.identity(x.Name)
		if !ok {
			return
		}
		out.Without = append(out.Without, perm.Party{Who: who, Name: m.real(x.Name)})
	}

	w.Grants, w.Rule[perm.AspectGrants] = out, i
}
