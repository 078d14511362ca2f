package nfs4

import (
	"slices"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
)

// Narrow returns the state that a change passes through; see [perm.Narrow]. A list is set all at once, so that nothing
// has to stand between two lists of one owner. Where the owner or the group changes, OWNER@ or GROUP@ means somebody
// else from one call to the next: in between these are allowed nothing, and what is denied to them is denied to the new
// ones already.
func (s State) Narrow(k perm.Kind, to perm.State) (perm.Set, error) {
	t := to.(State)
	if s.UID == t.UID && s.GID == t.GID {
		return t.Encode()
	}

	through := State{UID: s.UID, GID: s.GID, Special: s.Special & t.Special, Flags: s.Flags}
	if k != perm.Folder { // chown(2) takes set-ID bits away
		through.Special &^= mode.SetUID | mode.SetGID
	}
	for _, e := range t.List {
		switch {
		case e.Who != Owner && e.Who != Group || !e.decides():
		case e.Type == Allow:
			continue
		case e.Who == Owner:
			through.List = append(through.List, Entry{Deny, e.Flags &^ IdentifierGroup, e.Mask, numeric(t.UID)})
		default:
			through.List = append(through.List, Entry{Deny, e.Flags | IdentifierGroup, e.Mask, numeric(t.GID)})
		}
		through.List = append(through.List, e)
	}
	if through.List == nil {
		through.List = List{}
	}
	return through.Encode()
}

// Plain is false: a list is never held by the inode.
func (s State) Plain() bool { return false }

// Sequence returns the calls that lead to another state. The owner comes first: what is to have another has been
// narrowed before. Set-ID bits go before the list is another one, and come after it, so that nobody runs with them by a
// list that was not meant for that; the sticky bit, which takes away, does it the other way round. A mode is set with
// the nine bits that follow from the list as it is, which leaves the list alone (RFC 8881 section 6.3.1).
func (s State) Sequence(k perm.Kind, to perm.State) (out []perm.Move) {
	t, at := to.(State), s
	did := func(c perm.Call) { out = append(out, perm.Move{Call: c, State: at.Set()}) }
	special := func(bits mode.Mode) {
		if at.Special == bits {
			return
		}
		at.Special = bits
		m := at.Derived()
		did(perm.Call{What: "change the mode", Mode: &m})
	}

	if at.UID != t.UID || at.GID != t.GID {
		at.UID, at.GID = t.UID, t.GID
		if k != perm.Folder {
			at.Special &^= mode.SetUID | mode.SetGID
		}
		did(perm.Call{What: "change the owner", Owner: &perm.Owner{UID: t.UID, GID: t.GID}})
	}
	special(at.Special&t.Special | (at.Special|t.Special)&mode.Sticky)
	if !slices.Equal(at.List, t.List) {
		at.List = t.List
		value := string(t.List.AppendXattr(nil))
		did(perm.Call{What: "set the NFSv4 list", Set: &perm.Attribute{Name: Attribute, Value: value}})
	}
	special(t.Special)
	return out
}

// Direct returns the calls where one is enough: then nothing stands between.
func (s State) Direct(k perm.Kind, to perm.State) ([]perm.Move, bool) {
	moves := s.Sequence(k, to)
	return moves, len(moves) <= 1
}
