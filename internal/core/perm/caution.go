package perm

import (
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/posixacl"
)

// A Caution is something about a change of one path's state that people came to regret.
type Caution struct {
	Kind    string    // one word for what it is about
	Grave   bool      // somebody has to say that it is meant
	Who     Principal // whom it concerns; empty for nobody in particular
	Text    string
	Instead string // what to do instead
}

// The kinds of cautions.
const (
	CautionEveryone = "everyone" // everybody may change it
	CautionSetID    = "set-id"   // it runs with somebody's identity, and others can write it
	// it gets set-ID bits, capabilities or root's name, and somebody could have written it
	CautionPower    = "power"
	CautionExecute  = "execute"   // nobody could execute it, and now somebody can
	CautionPassing  = "passing"   // a folder can be listed and not passed through
	CautionLess     = "owner"     // the owner has less than others
	CautionOwning   = "owning"    // the new owner cannot read it
	CautionDefaults = "defaults"  // what is made later gets no entries any more
	CautionWay      = "way"       // an account that matters loses its way through a folder
	CautionReading  = "reading"   // an account that matters can no longer read
	CautionRoot     = "root"      // it runs as root, and its owner was another
	CautionJoining  = "joining"   // a group gains, and memberships count from the next login on
	CautionOwners   = "owners"    // paths of several owners all get one
	CautionNothing  = "no effect" // what is granted cannot be reached
	CautionFiles    = "files"     // which file is meant is not known
	CautionMore     = "more"      // more than are told one by one

	// On shares:
	CautionDeny    = "deny"    // it meets some whom another entry means to let in
	CautionLocked  = "locked"  // nobody but the owner can repair it
	CautionStopped = "stopped" // what changes above comes down no more
	CautionWiped   = "wiped"   // what was set there by itself goes
)

// Anybody is whoever is nobody in particular.
var Anybody = UID(posixacl.NoID)

// RightsOf returns what an account can do with a path by its own state, whatever leads to it. Whoever the state's
// scheme cannot name is nobody in particular.
func RightsOf(k Kind, s Set, id Principal, d *Directory) Rights { return s.state().rights(k, id, d) }

// subjectOf returns an account of number n, or a member of group n and nothing else; its groups are put into room.
func subjectOf(id Principal, n uint32, d *Directory, room []uint32) posixacl.Subject {
	if id.IsGroup() {
		return posixacl.Subject{UID: posixacl.NoID, Groups: append(room, n)}
	}
	s := posixacl.Subject{UID: n, Groups: room}
	if acc := d.Account(id); acc != nil {
		for _, g := range acc.Groups {
			if gid, ok := g.ID(); ok {
				s.Groups = append(s.Groups, gid)
			}
		}
	}
	return s
}

// Cautions tells what to be wary of where a path goes from one state to another. Accounts that matter are
// those whose losses are told.
func Cautions(k Kind, from, to Set, d *Directory, matter []Principal) []Caution {
	a, b, ok := states(from, to)
	if !ok || k == Link {
		return nil
	}
	return a.cautions(k, b, d, matter)
}

func (a POSIX) cautions(k Kind, to state, d *Directory, matter []Principal) []Caution {
	b := to.(POSIX)
	var out []Caution
	add := func(kind string, grave bool, who Principal, text, instead string) {
		out = append(out, Caution{kind, grave, who, text, instead})
	}
	anybody := posixacl.Subject{UID: posixacl.NoID}
	was, is := a.subjectRights(k, anybody), b.subjectRights(k, anybody)

	switch {
	case k == Folder && is&CanWrite != 0 && is&CanRemoveOthers != 0 &&
		was&(CanWrite|CanRemoveOthers) != CanWrite|CanRemoveOthers:
		add(CautionEveryone, true, "", "everybody on the host may add, remove and rename what is in the folder",
			"grant it to a group, or, where everybody is to add, set the sticky bit (1770 for a group, 1777 for all)")
	case k != Folder && is&CanWrite != 0 && was&CanWrite == 0:
		add(CautionEveryone, true, "", "everybody on the host may write it", "grant writing to an account or group")
	}

	if k == File {
		a.fileCautions(b, d, add)
	} else if k == Folder {
		a.folderCautions(b, add)
	}

	less := func(p POSIX) bool { o, g, x, _ := p.masked(); return (g|x)&^o != 0 }
	if less(b) && !less(a) {
		add(CautionLess, false, "", "others may do what the owner may not: the owner's own digit decides for the owner",
			"give the owner at least what group and others have")
	}

	need := CanRead
	if k == Folder {
		need = CanRead | CanExecute
	}

	owner := UID(b.UID)
	if a.UID != b.UID && b.UID != 0 && b.rights(k, owner, d)&need != need {
		add(CautionOwning, false, owner,
			"it will belong to "+d.Name(owner)+", who cannot "+
				strings.Join((need&^b.rights(k, owner, d)).Words(k), " and ")+" there: owning is not access",
			"give the owner's digit what they need")
	}

	for _, id := range matter {
		if n, ok := id.ID(); !ok || id.IsGroup() || n == 0 {
			continue
		}

		before, after := a.rights(k, id, d), b.rights(k, id, d)
		acc := d.Account(id)
		switch lost := before &^ after; {
		case k == Folder && lost&CanExecute != 0:
			add(CautionWay, acc != nil && acc.Service, id,
				d.Name(id)+" can no longer pass through the folder to anything below",
				"let it keep execute there: an entry user:"+d.Name(id)+":--x is enough")
		case k == File && lost&CanRead != 0 && was&CanRead == 0 && acc != nil && acc.Service: // not as everybody does
			add(CautionReading, false, id, "the service account "+d.Name(id)+" can no longer read it",
				"let it keep an entry user:"+d.Name(id)+":r--, if it needs that")
		}
	}

	for _, e := range b.Access.Named() {
		got := b.Access.Effective(e)
		if had, ok := a.Access.Find(e.Tag, e.ID); e.Tag == posixacl.Group && got&^had != 0 &&
			(!ok || a.Access.Effective(posixacl.Entry{Tag: e.Tag, ID: e.ID, Perm: had}) != got) {
			id := GID(e.ID)
			add(CautionJoining, false, id,
				"group "+d.Name(id)+" gains: whoever joins it has that from their next login on",
				"have those who join now log in again, and restart services that run in it")
		}
	}

	return out
}

func (p POSIX) fileCautions(
	to POSIX, d *Directory, add func(kind string, grave bool, who Principal, text, instead string),
) {
	runsAs := func(p POSIX) bool {
		return p.Mode&mode.SetUID != 0 || p.Mode&mode.SetGID != 0 && p.Mode&0o010 != 0 || p.Caps != ""
	}
	shared := func(p POSIX) bool { // somebody else than the owner can write it
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
		add(CautionSetID, true, "",
			"it runs with another identity, or with capabilities, and others than its owner can write it",
			"take writing away from group and others, or the set-ID bit and capabilities")
	}

	if to.Mode&mode.SetUID != 0 && to.UID == 0 && p.UID != 0 {
		add(CautionRoot, true, "", "a program that ran as "+d.Name(UID(p.UID))+" will run as root",
			"take the set-user-ID bit away, or leave the owner")
	}

	p.powerCaution(to, d, add)
	executable := func(p POSIX) bool { return p.Mode&0o111 != 0 }
	if executable(to) && !executable(p) {
		add(CautionExecute, false, "", "execute is given to a file that nobody could execute: is it a program?",
			"use X in modes and entries, which leaves files alone that are no programs")
	}
}

func (p POSIX) folderCautions(to POSIX, add func(kind string, grave bool, who Principal, text, instead string)) {
	blind := func(m mode.Mode) bool {
		for _, c := range []mode.Perm{m.Owner(), m.Group(), m.Other()} {
			if c&mode.Read != 0 && c&mode.Execute == 0 {
				return true
			}
		}
		return false
	}

	if blind(to.Mode) && !blind(p.Mode) {
		add(CautionPassing, false, "",
			"the folder can be listed and not passed through: what is in it stays out of reach, even for its owner",
			"give execute with read: X in a symbolic mode, or 7 and 5 instead of 6 and 4")
	}

	if len(p.Default.Named()) > 0 && len(to.Default.Named()) == 0 {
		add(CautionDefaults, false, "", "what is made in the folder later gets no entries any more",
			"keep the default entries, if what comes later is to have them")
	}
}
