package nfs4

import (
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
)

// A change is what is looked at for cautions.
type change struct {
	k    perm.Kind
	a, b State
	d    *perm.Directory
	out  []perm.Caution
}

func (c *change) add(kind string, grave bool, who perm.Principal, text, instead string) {
	c.out = append(c.out, perm.Caution{Kind: kind, Grave: grave, Who: who, Text: text, Instead: instead})
}

func (c *change) have(id perm.Principal) (before, after perm.Rights) {
	return c.a.Rights(c.k, id, c.d), c.b.Rights(c.k, id, c.d)
}

// Cautions returns what to be wary of on the way to another state.
func (s State) Cautions(k perm.Kind, to perm.State, d *perm.Directory, matter []perm.Principal) []perm.Caution {
	c := change{k: k, a: s, b: to.(State), d: d}
	was, is := c.have(perm.Everyone)
	switch gained := is &^ was; {
	case gained&perm.CanChange != 0:
		c.add(perm.CautionEveryone, true, "", "everybody may change its permissions",
			"grant what is needed to a group instead of full to EVERYONE@")
	case gained&(perm.CanWrite|perm.CanDelete|perm.CanRemoveOthers) != 0:
		c.add(perm.CautionEveryone, true, "", "everybody may write or delete it", "grant it to a group")
	}

	c.program()
	c.list()
	c.people(matter, was)
	return c.out
}

// program tells what a program gains.
func (c *change) program() {
	if !c.a.Empowers(c.k, c.b) {
		return
	}
	could := "only root could have written what is in it"
	if who, _ := c.a.Exchangers(c.d); len(who) > 0 {
		could = "what is in it could have been written by " + strings.Join(who, ", ")
	}
	c.add(perm.CautionPower, c.b.Special&(mode.SetUID|mode.SetGID) != 0, "",
		"the program will run with power that it had not; "+could,
		"look at what is in the file first, or put it back from where it came from")
}

// list tells what becomes of the list as a whole.
func (c *change) list() {
	if repairs(c.a) && !repairs(c.b) {
		c.add(perm.CautionLocked, true, "",
			"no entry lets anybody change its permissions any more: only who the server trusts could repair it",
			"leave change-permissions to OWNER@, or to the group that keeps it")
	}
	if !canonical(c.b.List) && canonical(c.a.List) {
		c.add(perm.CautionDeny, false, "",
			"an entry that denies comes to stand behind one that allows, and takes nothing away that was allowed "+
				"before it",
			"put entries that deny first")
	}
}

// repairs reports whether an entry lets somebody change permissions.
func repairs(s State) bool {
	for _, e := range s.List {
		if e.decides() && e.Type == Allow && e.Mask&ace.WriteDAC != 0 {
			return true
		}
	}
	return false
}

// people tells what becomes of the owner, of those that matter, and of groups.
func (c *change) people(matter []perm.Principal, everybody perm.Rights) {
	owner := unixid.UID(c.b.UID)
	if _, after := c.have(owner); c.a.UID != c.b.UID && c.b.UID != 0 && after&perm.CanRead == 0 {
		c.add(perm.CautionOwning, false, owner,
			"it will belong to "+c.d.Name(owner)+", who cannot "+strings.Join(perm.CanRead.Words(c.k), " and ")+
				" there: owning is not access",
			"give OWNER@ an entry, too")
	}

	for _, id := range matter {
		if c.d.IsGroup(id) || c.a.Untold(id) {
			continue
		}
		before, after := c.have(id)
		acc := c.d.Account(id)
		switch lost := before &^ after; {
		case c.k == perm.Folder && lost&perm.CanExecute != 0:
			c.add(perm.CautionWay, acc != nil && acc.Service, id,
				c.d.Name(id)+" can no longer pass through the folder to anything below", "let it keep traverse there")
		case c.k == perm.File && lost&perm.CanRead != 0 && everybody&perm.CanRead == 0 && acc != nil && acc.Service:
			c.add(perm.CautionReading, false, id, "the service account "+c.d.Name(id)+" can no longer read it",
				"let it keep an entry, if it needs that")
		}
	}

	c.joining()
}

// joining tells which groups gain.
func (c *change) joining() {
	for _, m := range c.b.Mentions(c.d) {
		if !c.d.IsGroup(m.ID) || m.As == "owning group" {
			continue
		}
		if before, after := c.have(m.ID); after&^before != 0 {
			c.add(perm.CautionJoining, false, m.ID,
				"group "+c.d.Name(m.ID)+" gains: whoever joins it has that from their next login on",
				"have those who join now log in again, and restart services that run in it")
		}
	}
}
