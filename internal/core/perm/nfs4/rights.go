package nfs4

import (
	"slices"
	"strings"

	"idletally/internal/core/ace"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
)

// A requester is who asks, by the names that entries may use.
type requester struct {
	uid    string // a number; "" for nobody in particular
	gids   []string
	name   string   // what the host calls the account, without a domain
	groups []string // what it calls the groups
	as     perm.Principal
}

// requesterOf returns an account, or a member of one group and of nothing else.
func requesterOf(id perm.Principal, d *perm.Directory) requester {
	q := requester{as: id}
	n, numbered := unixid.Number(id)
	switch {
	case numbered && unixid.IsGroup(id):
		q.join(id, d)
		return q
	case !numbered:
		return q
	}

	q.uid = numeric(n)
	if a := d.Account(id); a != nil {
		q.name = a.Name
		for _, g := range a.Groups {
			q.join(g, d)
		}
	}
	return q
}

func (q *requester) join(g perm.Principal, d *perm.Directory) {
	if n, ok := unixid.Number(g); ok {
		q.gids = append(q.gids, numeric(n))
	}
	if a := d.Account(g); a != nil {
		q.groups = append(q.groups, a.Name)
	}
}

// matches reports whether an entry is for the requester (RFC 8881 section 6.2.1.5).
func (s *State) matches(e Entry, q *requester) bool {
	switch e.Who {
	case Owner:
		return q.uid != "" && q.uid == numeric(s.UID)
	case Group:
		return slices.Contains(q.gids, numeric(s.GID))
	case Everyone, Authenticated:
		return true
	}

	local, _, named := strings.Cut(e.Who, "@")
	switch {
	case special[e.Who]:
		return false // how somebody has signed in only the server knows
	case e.group():
		return slices.Contains(q.gids, e.Who) || named && slices.Contains(q.groups, local) ||
			q.as == perm.Principal(groupPrefix+e.Who)
	}
	return q.uid != "" && q.uid == e.Who || named && q.name != "" && q.name == local ||
		q.as == perm.Principal(userPrefix+e.Who)
}

// A ruling is what a list says of one right: the entry that decides it, or none.
type ruling struct {
	granted bool
	entry   int // -1: no entry speaks of it
}

// check decides one right (RFC 8881 section 6.2.1): the first entry that speaks of it.
func (s *State) check(q *requester, right ace.Mask) ruling {
	for i, e := range s.List {
		if e.decides() && e.Mask&right != 0 && s.matches(e, q) {
			return ruling{e.Type == Allow, i}
		}
	}
	return ruling{entry: -1}
}

// maximum returns all rights that the list grants.
func (s *State) maximum(q *requester) ace.Mask {
	var allowed, denied ace.Mask
	for _, e := range s.List {
		switch {
		case !e.decides() || !s.matches(e, q):
		case e.Type == Allow:
			allowed |= e.Mask &^ denied
		default:
			denied |= e.Mask &^ allowed
		}
	}
	return allowed
}

// Rights returns what somebody can do with a path by its list.
func (s State) Rights(k perm.Kind, who perm.Principal, d *perm.Directory) perm.Rights {
	if k == perm.Link {
		return 0
	}
	q := requesterOf(who, d)
	m := s.maximum(&q)

	var r perm.Rights
	for _, x := range []struct {
		right perm.Rights
		takes ace.Mask // any of these
	}{
		{perm.CanRead, ace.ReadData},
		{perm.CanWrite, ace.WriteData | ace.AppendData},
		{perm.CanExecute, ace.Execute},
		{perm.CanChange, ace.WriteDAC | ace.WriteOwner},
		{perm.CanDelete, ace.Delete},
	} {
		if m&x.takes != 0 {
			r |= x.right
		}
	}
	if k == perm.Folder && m&ace.DeleteChild != 0 {
		r |= perm.CanRemoveOthers
	}
	setID := s.Special&mode.SetUID != 0 && q.uid != numeric(s.UID) || s.Special&mode.SetGID != 0
	if k == perm.File && r&perm.CanExecute != 0 && setID {
		r |= perm.CanRunAs
	}
	return r
}

// Empowers reports whether a program gets set-ID bits, or root's name on what can be executed.
func (s State) Empowers(k perm.Kind, to perm.State) bool {
	t := to.(State)
	if k != perm.File || t.Traits()&perm.Executable == 0 {
		return false
	}
	const setID = mode.SetUID | mode.SetGID
	gains := t.Special & setID &^ s.Special
	owners := s.UID != t.UID && t.Special&mode.SetUID != 0 || s.GID != t.GID && t.Special&mode.SetGID != 0
	runs := s.Traits()&perm.Executable == 0 && t.Special&setID != 0
	return gains != 0 || owners || runs || t.UID == 0 && (s.UID != 0 || s.Traits()&perm.Executable == 0)
}

// Exchangers names who can add to a folder, take out of it, or let themselves.
func (s State) Exchangers(d *perm.Directory) (who []string, known bool) {
	const takes = ace.WriteData | ace.AppendData | ace.DeleteChild | ace.WriteDAC | ace.WriteOwner
	for _, m := range append(s.Mentions(d), perm.Mention{ID: perm.Everyone}) {
		if m.ID == unixid.UID(0) {
			continue
		}
		q := requesterOf(m.ID, d)
		if s.maximum(&q)&takes == 0 {
			continue
		}
		name := d.Name(m.ID)
		if d.IsGroup(m.ID) {
			name = "group " + name
		}
		if !slices.Contains(who, name) {
			who = append(who, name)
		}
	}
	return who, true
}
