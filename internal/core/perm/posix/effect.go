package posix

import (
	"strconv"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

func (p State) Mentions(*perm.Directory) []perm.Mention {
	out := make([]perm.Mention, 0, 2+len(p.Access))
	out = append(out, perm.Mention{ID: unixid.GID(p.GID), As: "owning group"},
		perm.Mention{ID: unixid.UID(p.UID), As: "owner"})
	for _, e := range p.Access {
		switch e.Tag {
		case posixacl.User:
			out = append(out, perm.Mention{ID: unixid.UID(e.ID), As: "named by an entry"})
		case posixacl.Group:
			out = append(out, perm.Mention{ID: unixid.GID(e.ID), As: "group named by an entry"})
		}
	}
	return out
}

func (p State) Speaks(of []perm.Principal, _ *perm.Directory) []perm.Principal {
	add := func(letter byte, id uint32) {
		var buf [11]byte // a letter and ten digits
		text := strconv.AppendUint(append(buf[:0], letter), uint64(id), 10)
		for _, known := range of {
			if string(known) == string(text) {
				return
			}
		}
		of = append(of, perm.Principal(text))
	}

	add('g', p.GID)
	add('u', p.UID)
	for _, e := range p.Access {
		switch e.Tag {
		case posixacl.User:
			add('u', e.ID)
		case posixacl.Group:
			add('g', e.ID)
		}
	}
	return of
}

func (p State) GroupsFirst() bool { return true }

// Untold reports whether somebody is root, who can do all of it anyway.
func (p State) Untold(who perm.Principal) bool { return who == unixid.UID(0) }

// Rights returns what somebody can do. An id that cannot be an account's stands for nobody in particular.
func (p State) Rights(k perm.Kind, who perm.Principal, d *perm.Directory) perm.Rights {
	if k == perm.Link {
		return 0
	}
	if n, ok := unixid.Number(who); ok {
		var room [16]uint32
		return p.subjectRights(k, subjectOf(who, n, d, room[:0]))
	}
	return p.subjectRights(k, posixacl.Subject{UID: posixacl.NoID})
}

func (p State) subjectRights(k perm.Kind, s posixacl.Subject) perm.Rights {
	may := func(want mode.Perm) bool { return posixacl.Check(p.UID, p.GID, p.Mode, p.Access, s, want).Granted }
	var r perm.Rights
	set := func(right perm.Rights, on bool) {
		if on {
			r |= right
		}
	}
	set(perm.CanRead, may(mode.Read))
	set(perm.CanExecute, may(mode.Execute))
	set(perm.CanChange, s.UID == p.UID)
	if k == perm.Folder { // changing a folder's entries needs both at once
		set(perm.CanWrite, may(mode.Write|mode.Execute))
		set(perm.CanRemoveOthers, r&perm.CanWrite != 0 && (p.Mode&mode.Sticky == 0 || s.UID == p.UID))
		return r
	}

	set(perm.CanWrite, may(mode.Write))

	// Set-user-ID gives an owner nothing; the group's identity, and capabilities, they get as everybody does
	// (execve(2)).
	set(perm.CanRunAs, k == perm.File && r&perm.CanExecute != 0 &&
		(p.Mode&mode.SetUID != 0 && s.UID != p.UID || p.runsAsGroup() || p.Caps != ""))
	return r
}
