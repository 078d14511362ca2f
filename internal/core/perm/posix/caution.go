package posix

import (
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// An adder adds a caution.
type adder func(kind string, grave bool, who perm.Principal, text, instead string)

// Cautions returns what to be wary of on the way to another state.
func (a State) Cautions(k perm.Kind, to perm.State, d *perm.Directory, matter []perm.Principal) []perm.Caution {
	b := to.(State)
	var out []perm.Caution
	add := func(kind string, grave bool, who perm.Principal, text, instead string) {
		out = append(out, perm.Caution{Kind: kind, Grave: grave, Who: who, Text: text, Instead: instead})
	}
	anybody := posixacl.Subject{UID: posixacl.NoID}
	was, is := a.subjectRights(k, anybody), b.subjectRights(k, anybody)

	switch {
	case k == perm.Folder && is&perm.CanWrite != 0 && is&perm.CanRemoveOthers != 0 &&
		was&(perm.CanWrite|perm.CanRemoveOthers) != perm.CanWrite|perm.CanRemoveOthers:
		add(perm.CautionEveryone, true, "", "everybody on the host may add, remove and rename what is in the folder",
			"grant it to a group, or, where everybody is to add, set the sticky bit (1770 for a group, 1777 for all)")
	case k != perm.Folder && is&perm.CanWrite != 0 && was&perm.CanWrite == 0:
		add(
			perm.CautionEveryone,
			true,
			"",
			"everybody on the host may write it",
			"grant writing to an account or group",
		)
	}

	if k == perm.File {
		a.fileCautions(b, d, add)
	} else if k == perm.Folder {
		a.folderCautions(b, add)
	}

	less := func(p State) bool { o, g, x, _ := p.masked(); return (g|x)&^o != 0 }
	if less(b) && !less(a) {
		add(
			perm.CautionLess,
			false,
			"",
			"others may do what the owner may not: the owner's own digit decides for the owner",
			"give the owner at least what group and others have",
		)
	}

	need := perm.CanRead
	if k == perm.Folder {
		need = perm.CanRead | perm.CanExecute
	}

	owner := unixid.UID(b.UID)
	if a.UID != b.UID && b.UID != 0 && b.Rights(k, owner, d)&need != need {
		add(perm.CautionOwning, false, owner,
			"it will belong to "+d.Name(owner)+", who cannot "+
				strings.Join((need&^b.Rights(k, owner, d)).Words(k), " and ")+" there: owning is not access",
			"give the owner's digit what they need")
	}

	a.matterCautions(k, b, d, matter, add)
	a.joiningCautions(b, d, add)
	return out
}

// matterCautions tells which of those that matter lose their way, or what they read.
func (a State) matterCautions(k perm.Kind, b State, d *perm.Directory, matter []perm.Principal, add adder) {
	everybody := a.subjectRights(k, posixacl.Subject{UID: posixacl.NoID})
	for _, id := range matter {
		if n, ok := unixid.Number(id); !ok || unixid.IsGroup(id) || n == 0 {
			continue
		}

		before, after := a.Rights(k, id, d), b.Rights(k, id, d)
		acc := d.Account(id)
		switch lost := before &^ after; {
		case k == perm.Folder && lost&perm.CanExecute != 0:
			add(perm.CautionWay, acc != nil && acc.Service, id,
				d.Name(id)+" can no longer pass through the folder to anything below",
				"let it keep execute there: an entry user:"+d.Name(id)+":--x is enough")
		case k == perm.File && lost&perm.CanRead != 0 && everybody&perm.CanRead == 0 && acc != nil &&
			acc.Service: // not as everybody does
			add(perm.CautionReading, false, id, "the service account "+d.Name(id)+" can no longer read it",
				"let it keep an entry user:"+d.Name(id)+":r--, if it needs that")
		}
	}
}

// joiningCautions tells which groups gain.
func (a State) joiningCautions(b State, d *perm.Directory, add adder) {
	for _, e := range b.Access.Named() {
		got := b.Access.Effective(e)
		if had, ok := a.Access.Find(e.Tag, e.ID); e.Tag == posixacl.Group && got&^had != 0 &&
			(!ok || a.Access.Effective(posixacl.Entry{Tag: e.Tag, ID: e.ID, Perm: had}) != got) {
			id := unixid.GID(e.ID)
			add(perm.CautionJoining, false, id,
				"group "+d.Name(id)+" gains: whoever joins it has that from their next login on",
				"have those who join now log in again, and restart services that run in it")
		}
	}
}

func (p State) fileCautions(
	to State, d *perm.Directory, add adder,
) {
	runsAs := func(p State) bool {
		return p.Mode&mode.SetUID != 0 || p.runsAsGroup() || p.Caps != ""
	}
	shared := func(p State) bool { // somebody else than the owner can write it
		if p.Mode&0o002 != 0 || p.Access == nil && p.Mode&0o020 != 0 {
			return true
		}

		for _, e := range p.Access {
			if e.Tag != posixacl.UserObj && e.Tag != posixacl.Mask && e.Tag != posixacl.Other &&
				p.Access.Effective(e)&mode.Write != 0 {
				return true
			}
		}

		return false
	}

	if runsAs(to) && shared(to) && !(runsAs(p) && shared(p)) {
		add(perm.CautionSetID, true, "",
			"it runs with another identity, or with capabilities, and others than its owner can write it",
			"take writing away from group and others, or the set-ID bit and capabilities")
	}

	if to.Mode&mode.SetUID != 0 && to.UID == 0 && p.UID != 0 {
		add(perm.CautionRoot, true, "", "a program that ran as "+d.Name(unixid.UID(p.UID))+" will run as root",
			"take the set-user-ID bit away, or leave the owner")
	}

	p.powerCaution(to, d, add)
	executable := func(p State) bool { return p.Mode&0o111 != 0 }
	if executable(to) && !executable(p) {
		add(perm.CautionExecute, false, "", "execute is given to a file that nobody could execute: is it a program?",
			"use X in modes and entries, which leaves files alone that are no programs")
	}
}

func (p State) folderCautions(to State, add adder) {
	blind := func(m mode.Mode) bool {
		for _, c := range []mode.Perm{m.Owner(), m.Group(), m.Other()} {
			if c&mode.Read != 0 && c&mode.Execute == 0 {
				return true
			}
		}
		return false
	}

	if blind(to.Mode) && !blind(p.Mode) {
		add(perm.CautionPassing, false, "",
			"the folder can be listed and not passed through: what is in it stays out of reach, even for its owner",
			"give execute with read: X in a symbolic mode, or 7 and 5 instead of 6 and 4")
	}

	if len(p.Default.Named()) > 0 && len(to.Default.Named()) == 0 {
		add(perm.CautionDefaults, false, "", "what is made in the folder later gets no entries any more",
			"keep the default entries, if what comes later is to have them")
	}
}

// subjectOf returns an account of number n, or a member of group n and nothing else; its groups are put into room.
func subjectOf(id perm.Principal, n uint32, d *perm.Directory, room []uint32) posixacl.Subject {
	if unixid.IsGroup(id) {
		return posixacl.Subject{UID: posixacl.NoID, Groups: append(room, n)}
	}
	s := posixacl.Subject{UID: n, Groups: room}
	if acc := d.Account(id); acc != nil {
		for _, g := range acc.Groups {
			if gid, ok := unixid.Number(g); ok {
				s.Groups = append(s.Groups, gid)
			}
		}
	}
	return s
}
