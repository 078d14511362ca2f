package nt

import (
	"strconv"
	"strings"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
)

// terms returns what a rule has to say of a share's path; see [perm.Terms].
func terms(f perm.Found, d *ntsd.Descriptor, name func(perm.Principal) string) []perm.Term {
	k := f.Kind
	who := func(s ntsd.SID) []string {
		if n := name(PrincipalOf(s)); n != "" {
			return []string{n}
		}
		return nil
	}

	out := []perm.Term{{Key: "owner", Values: who(d.Owner)}}
	if k == perm.Link || d.Open { // no rule asks for there being no list
		return out
	}

	inherits := perm.Term{Key: "inherits", Values: []string{inheritanceOf(d)}}
	if _, missing, left := astray(f, d); len(missing)+len(left) > 0 {
		inherits.Values = nil
	}

	out = append(out, inherits)
	mine := own(d.Entries)
	var texts []string

	for _, e := range mine {
		n := who(e.SID)
		if e.Foreign() || n == nil || !ntsd.Canonical(d.Entries) {
			return append(out, perm.Term{Key: "grants"})
		}

		g := perm.Grant{Who: n[0], Type: "allow", Rights: e.Mask.Map().Words(k == perm.Folder)}
		if e.Type == ntsd.Deny {
			g.Type = "deny"
		}

		if k == perm.Folder {
			g.Reaches = e.Flags.Reaches()
		}

		texts = append(texts, strconv.Quote(g.String()))
	}

	text := "none"
	if len(texts) > 0 {
		text = "[" + strings.Join(texts, ", ") + "]"
	}

	return append(out, perm.Term{Key: "grants", Values: []string{text}})
}
