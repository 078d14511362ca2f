package baseline

import (
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// changing is the rights by which somebody can harm what others keep in a folder.
const changing = ace.WriteData | ace.AppendData | ace.Delete | ace.DeleteChild | ace.WriteDAC | ace.WriteOwner

// warnShare warns of what a file server's accounts make of the rules for its shares.
func (m *Matcher) warnShare(i int, add adder) {
	r := &m.doc.Rules[i]
	if r.Shares == nil {
		return
	}

	repaired := r.Shares.AtLeast
	for _, g := range r.Shares.List {
		id, ok := m.identity(g.Name)
		if !ok {
			continue
		}

		gets, who := g.Mask.Map(), m.dir.Identify(id)
		if !g.Deny {
			repaired = repaired || gets&ace.WriteDAC != 0 && !who.Maker
			switch {
			case !who.Anyone:
			case gets&(ace.WriteDAC|ace.WriteOwner) != 0:
				add("grants", EveryoneWrite, "", "read, write, execute, delete for a group that needs it",
					"whoever signs in to the file server may change permissions there (allow %s: %s)", g.Name,
					gets.Words(true))
			case gets&changing != 0:
				add("grants", EveryoneWrite, "", "the same for a group that needs it, and read, execute for the others",
					"whoever signs in to the file server may write or delete there (allow %s: %s)", g.Name,
					gets.Words(true))
			}

			if m.nobody(id) {
				add("grants", NobodysNumber, "", "the name of an account or group that the server has",
					"nobody on the file server has the identity %s: whoever is given it next gets what goes with it",
					g.Name)
			}

			continue
		}

		if met := m.metByDeny(r, id, gets); len(met) > 0 {
			add("grants", DenyMeets, "",
				"take those who must not out of the group that may, or grant less, without a deny",
				"a deny counts before what other entries allow: it also meets %s, whom this rule lets in by "+
					"another group",
				strings.Join(met, ", "))
		}
	}

	if r.Inherits != nil && !*r.Inherits && !repaired {
		add("grants", NobodyRepairs, "", "full for administrators, or for the group that keeps the share",
			"no entry lets anybody change permissions there, and none comes from above: only the owner could repair it")
	}
}

// nobody reports whether an identity is unknown to its server.
func (m *Matcher) nobody(id perm.Principal) bool {
	return len(m.dir.Accounts) > 0 && m.dir.Unknown(id) && !m.dir.IsGroup(id)
}

// metByDeny returns the accounts that a deny entry blocks although another entry of the same rule allows them, directly
// or through a group.
func (m *Matcher) metByDeny(r *Rule, denied perm.Principal, gets ace.Mask) (out []string) {
	for _, a := range m.dir.Accounts {
		in := func(id perm.Principal) bool {
			return a.ID == id || slices.Contains(a.Groups, id) || m.dir.Identify(id).Anyone
		}
		if a.ID == denied || !in(denied) {
			continue
		}
		if slices.ContainsFunc(r.Shares.List, func(g ShareGrant) bool {
			id, ok := m.identity(g.Name)
			return ok && !g.Deny && id != denied && g.Mask.Map()&gets != 0 && in(id) && !m.dir.Identify(id).Anyone
		}) {
			if len(out) == 5 {
				return append(out, "others")
			}
			out = append(out, a.Name)
		}
	}

	return out
}

// warnStopped warns of a rule that protects a folder deep in a share from inheriting.
func (m *Matcher) warnStopped(i int, t tally, add adder) {
	if t.closed != "" {
		add("inherits", InheritStops, t.closed,
			"inherits: stopped at the top of the share alone, and entries of its own for each folder below",
			"this folder lies deep in the share, and is to inherit no entries: what is granted or taken away above it "+
				"later has no effect there")
	}
}

// deep reports whether a path of a share is more than the share's own folder.
func deep(path string) bool { return pathname.Folder(path) != "/" }
