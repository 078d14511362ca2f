package baseline

import (
	"strings"
	"unicode"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
)

// This file is what rules say of file shares: entries of their own, and whether entries come from above.

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

// identity finds whom a rule names on a file server: an account, a group, or one of those that are the same everywhere.
func (m *Matcher) identity(name string) (ntsd.SID, bool) {
	name = m.real(name)
	if name == "" {
		return ntsd.SID{}, false
	}
	return m.identityOf(name)
}

// identityOf is identity for what the server itself calls somebody.
func (m *Matcher) identityOf(name string) (ntsd.SID, bool) {
	for _, find := range []func(string) (perm.Principal, bool){m.dir.User, m.dir.Group} {
		if id, ok := find(name); ok {
			if s, ok := id.SID(); ok {
				return s, true
			}
		}
	}
	if s, ok := ntsd.KnownSID(name); ok {
		return s, true
	}
	s, err := ntsd.ParseSID(name)
	return s, err == nil
}

// share adds what a rule says of a share's path.
func (m *Matcher) share(w *perm.Desired, i int, k perm.Kind) {
	r := &m.doc.Rules[i]
	if r.Inherits != nil {
		w.NT.Inherits, w.Rule[perm.AspectInheritance] = r.Inherits, i
	}

	if r.Shares == nil {
		return
	}

	list := []ntsd.Entry{}
	for _, g := range r.Shares.List {
		sid, ok := m.identity(g.Name)
		if !ok {
			return
		}

		e := ntsd.Entry{Mask: g.Mask, SID: sid}
		if g.Deny {
			e.Type = ntsd.Deny
		}

		if k == perm.Folder {
			e.Flags = g.Flags
		} else if g.Flags&ace.InheritOnly != 0 {
			continue // it is for what a folder passes on, and says nothing of a file
		}

		list = append(list, e)
	}

	ntsd.Sort(list)
	var without []ntsd.SID
	for _, x := range r.Shares.Without {
		sid, ok := m.identity(x.Name)
		if !ok {
			return
		}
		without = append(without, sid)
	}

	w.NT.Grants = &list
	w.NT.AtLeast = r.Shares.AtLeast
	w.NT.Without = without
	w.Rule[perm.AspectGrants] = i
}
