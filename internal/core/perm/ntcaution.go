package perm

import (
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
)

// ntCautions is Cautions for a share.
func ntCautions(k Kind, a, b ntsd.Descriptor, d *Directory, matter []Principal) (out []Caution) {
	add := func(kind string, grave bool, who Principal, text, instead string) {
		out = append(out, Caution{kind, grave, who, text, instead})
	}
	was, is := ntRights(k, &a, stranger), ntRights(k, &b, stranger)

	// What somebody has before and after; nobody has anything who is of no file server.
	have := func(id Principal) (before, after Rights) {
		if t, ok := TokenOf(id, d); ok {
			before, after = ntRights(k, &a, t), ntRights(k, &b, t)
		}
		return before, after
	}

	switch gained := is &^ was; {
	case gained&CanChange != 0:
		add(CautionEveryone, true, "", "everybody who signs in may change its permissions",
			"grant what is needed to a group instead of full to everyone")
	case gained&(CanWrite|CanDelete) != 0:
		add(CautionEveryone, true, "", "everybody who signs in may write or delete it", "grant it to a group")
	}

	for _, e := range b.Entries {
		if e.Type != ntsd.Deny || slices.Contains(a.Entries, e) {
			continue
		}
		if met := caught(k, &b, e, d); len(met) > 0 {
			grave := slices.ContainsFunc(met, func(acc Account) bool {
				return ntRights(k, without(&b, e), tokenOf(acc, d))&CanChange != 0
			})
			var names []string
			for _, acc := range met[:min(len(met), 5)] {
				names = append(names, acc.Name)
			}

			more := ""
			if len(met) > 5 {
				more = " and others"
			}

			add(CautionDeny, grave, SIDOf(e.SID),
				"the entry that denies "+d.Name(SIDOf(e.SID))+" also meets "+strings.Join(names, ", ")+more+
					", whom another entry lets in",
				"take out of the group who must not, or leave the deny out and grant less")
		}
	}

	if repairs(&a) && !repairs(&b) {
		add(CautionLocked, true, "",
			"no entry lets anybody change its permissions any more: only its owner can repair it",
			"leave full to administrators, or to the group that keeps the share")
	}

	if b.Control&ntsd.Protected != 0 && a.Control&ntsd.Protected == 0 {
		add(CautionStopped, false, "",
			"it takes no entries from above any more: what is granted or taken away there does not come down to here",
			"stop inheriting once, at the top of the share")
	}

	own := func(d *ntsd.Descriptor) bool {
		return slices.ContainsFunc(d.Entries, func(e ntsd.Entry) bool { return e.Flags&ace.Inherited == 0 })
	}
	if own(&a) && !own(&b) && b.Control&ntsd.Protected == 0 {
		add(CautionWiped, false, "",
			"the entries that were set there by themselves go: what comes from above alone is left",
			"leave out the paths whose own entries were meant, or declare them")
	}

	need := CanRead
	owner := SIDOf(b.Owner)
	if _, after := have(owner); a.Owner != b.Owner && after&need == 0 {
		add(CautionOwning, false, owner,
			"it will belong to "+d.Name(owner)+", who cannot "+strings.Join(need.Words(k), " and ")+
				" there: owning is not access",
			"give the owner an entry, too")
	}

	for _, id := range matter {
		if d.IsGroup(id) {
			continue
		}
		if before, after := have(id); before&^after&CanRead != 0 && was&CanRead == 0 {
			add(CautionReading, false, id, d.Name(id)+" can no longer "+strings.Join(CanRead.Words(k), "")+" it",
				"let it keep an entry, if it needs that")
		}
	}

	for _, e := range b.Entries {
		if e.Type != ntsd.Allow || !d.IsGroup(SIDOf(e.SID)) || stranger.Has(e.SID) {
			continue
		}
		if before, after := have(SIDOf(e.SID)); after&^before != 0 {
			add(CautionJoining, false, SIDOf(e.SID),
				"group "+d.Name(SIDOf(e.SID))+" gains: whoever joins it has that from their next sign-in on",
				"have those who join now sign out and in again")
		}
	}

	return out
}

func tokenOf(a Account, d *Directory) ntsd.Token {
	t, _ := TokenOf(a.ID, d)
	return t
}

func without(d *ntsd.Descriptor, e ntsd.Entry) *ntsd.Descriptor {
	out := *d
	out.Entries = slices.DeleteFunc(slices.Clone(d.Entries), func(x ntsd.Entry) bool { return x == e })
	return &out
}

// caught returns the accounts that a denying entry keeps from what they would have without it. One that is
// named by itself is meant.
func caught(k Kind, d *ntsd.Descriptor, deny ntsd.Entry, dir *Directory) (out []Account) {
	if dir == nil {
		return nil
	}
	open := without(d, deny)
	for _, a := range dir.Accounts {
		if len(out) == maxMembers {
			break
		}
		t := tokenOf(a, dir)
		if t.User != deny.SID && t.Has(deny.SID) && ntRights(k, open, t)&^ntRights(k, d, t) != 0 {
			out = append(out, a)
		}
	}
	return out
}

// repairs reports whether an entry lets somebody change permissions.
func repairs(d *ntsd.Descriptor) bool {
	return d.Open || slices.ContainsFunc(d.Entries, func(e ntsd.Entry) bool {
		return e.Type == ntsd.Allow && e.Flags&ace.InheritOnly == 0 && e.Mask.Map()&ace.WriteDAC != 0 &&
			e.SID != ntsd.CreatorOwner && e.SID != ntsd.CreatorGroup
	})
}
