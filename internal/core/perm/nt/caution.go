package nt

import (
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
)

// A change is what is looked at for cautions.
type change struct {
	k    perm.Kind
	a, b ntsd.Descriptor
	d    *perm.Directory
	out  []perm.Caution
}

func (c *change) add(kind string, grave bool, who perm.Principal, text, instead string) {
	c.out = append(c.out, perm.Caution{Kind: kind, Grave: grave, Who: who, Text: text, Instead: instead})
}

// have returns what somebody has before and after; nobody has anything who is of no file server.
func (c *change) have(id perm.Principal) (before, after perm.Rights) {
	if t, ok := TokenOf(id, c.d); ok {
		before, after = rightsOf(c.k, &c.a, t), rightsOf(c.k, &c.b, t)
	}
	return before, after
}

// Cautions returns what to be wary of on the way to another state.
func (n State) Cautions(k perm.Kind, to perm.State, d *perm.Directory, matter []perm.Principal) []perm.Caution {
	c := change{k: k, a: n.Descriptor, b: to.(State).Descriptor, d: d}
	everybody := rightsOf(k, &c.a, stranger)
	switch gained := rightsOf(k, &c.b, stranger) &^ everybody; {
	case gained&perm.CanChange != 0:
		c.add(perm.CautionEveryone, true, "", "everybody who signs in may change its permissions",
			"grant what is needed to a group instead of full to everyone")
	case gained&(perm.CanWrite|perm.CanDelete) != 0:
		c.add(perm.CautionEveryone, true, "", "everybody who signs in may write or delete it", "grant it to a group")
	}

	c.denied()
	c.listed()
	c.people(matter, everybody)
	return c.out
}

// denied tells of new entries that deny, and whom they meet.
func (c *change) denied() {
	for _, e := range c.b.Entries {
		if e.Type != ntsd.Deny || slices.Contains(c.a.Entries, e) {
			continue
		}
		if met := caught(c.k, &c.b, e, c.d); len(met) > 0 {
			grave := slices.ContainsFunc(met, func(acc perm.Account) bool {
				return rightsOf(c.k, without(&c.b, e), tokenOf(acc, c.d))&perm.CanChange != 0
			})
			var names []string
			for _, acc := range met[:min(len(met), 5)] {
				names = append(names, acc.Name)
			}

			more := ""
			if len(met) > 5 {
				more = " and others"
			}

			c.add(perm.CautionDeny, grave, PrincipalOf(e.SID),
				"the entry that denies "+c.d.Name(PrincipalOf(e.SID))+" also meets "+strings.Join(names, ", ")+more+
					", whom another entry lets in",
				"take out of the group who must not, or leave the deny out and grant less")
		}
	}
}

// listed tells what becomes of the list as a whole.
func (c *change) listed() {
	if repairs(&c.a) && !repairs(&c.b) {
		c.add(perm.CautionLocked, true, "",
			"no entry lets anybody change its permissions any more: only its owner can repair it",
			"leave full to administrators, or to the group that keeps the share")
	}

	if c.b.Control&ntsd.Protected != 0 && c.a.Control&ntsd.Protected == 0 {
		c.add(perm.CautionStopped, false, "",
			"it inherits no entries any more: what is granted or taken away above has no effect here",
			"stop inheriting once, at the top of the share")
	}

	own := func(d *ntsd.Descriptor) bool {
		return slices.ContainsFunc(d.Entries, func(e ntsd.Entry) bool { return e.Flags&ace.Inherited == 0 })
	}
	if own(&c.a) && !own(&c.b) && c.b.Control&ntsd.Protected == 0 {
		c.add(perm.CautionWiped, false, "",
			"the entries that were set there by themselves go: what comes from above alone is left",
			"leave out the paths whose own entries were meant, or declare them")
	}
}

// people tells what becomes of the owner, of those that matter, and of groups.
func (c *change) people(matter []perm.Principal, everybody perm.Rights) {
	need := perm.CanRead
	owner := PrincipalOf(c.b.Owner)
	if _, after := c.have(owner); c.a.Owner != c.b.Owner && after&need == 0 {
		c.add(perm.CautionOwning, false, owner,
			"it will belong to "+c.d.Name(owner)+", who cannot "+strings.Join(need.Words(c.k), " and ")+
				" there: owning is not access",
			"give the owner an entry, too")
	}

	for _, id := range matter {
		if c.d.IsGroup(id) {
			continue
		}
		if before, after := c.have(id); before&^after&perm.CanRead != 0 && everybody&perm.CanRead == 0 {
			c.add(
				perm.CautionReading,
				false,
				id,
				c.d.Name(id)+" can no longer "+strings.Join(perm.CanRead.Words(c.k), "")+" it",
				"let it keep an entry, if it needs that",
			)
		}
	}

	for _, e := range c.b.Entries {
		if e.Type != ntsd.Allow || !c.d.IsGroup(PrincipalOf(e.SID)) || stranger.Has(e.SID) {
			continue
		}
		if before, after := c.have(PrincipalOf(e.SID)); after&^before != 0 {
			c.add(perm.CautionJoining, false, PrincipalOf(e.SID),
				"group "+c.d.Name(PrincipalOf(e.SID))+" gains: whoever joins it has that from their next sign-in on",
				"have those who join now sign out and in again")
		}
	}
}

func tokenOf(a perm.Account, d *perm.Directory) ntsd.Token {
	t, _ := TokenOf(a.ID, d)
	return t
}

func without(d *ntsd.Descriptor, e ntsd.Entry) *ntsd.Descriptor {
	out := *d
	out.Entries = slices.DeleteFunc(slices.Clone(d.Entries), func(x ntsd.Entry) bool { return x == e })
	return &out
}

// caught returns the accounts that a deny entry blocks from what they would have without it. An account that is named
// by itself is meant to be blocked.
func caught(k perm.Kind, d *ntsd.Descriptor, deny ntsd.Entry, dir *perm.Directory) (out []perm.Account) {
	if dir == nil {
		return nil
	}
	open := without(d, deny)
	for _, a := range dir.Accounts {
		if len(out) == perm.MaxMembers {
			break
		}
		t := tokenOf(a, dir)
		if t.User != deny.SID && t.Has(deny.SID) && rightsOf(k, open, t)&^rightsOf(k, d, t) != 0 {
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
