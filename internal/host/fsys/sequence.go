package fsys

import (
	"slices"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
)

// An Op is one system call of a change.
type Op struct {
	what opKind
	to   posix.State
}

type opKind uint8

const (
	setAccess opKind = iota
	dropAccess
	setOwner
	setDefault
	setMode
	setCaps
)

func (o Op) String() string {
	return [...]string{
		"set the access list", "remove the access list", "change the owner", "set the default list", "change the mode",
		"set the capability",
	}[o.what]
}

// Sequence returns the system calls that lead from one state to another. Each call changes one
// thing at once; where a list goes away the mode is narrowed before it, since without a list the
// mode's group digit, until then a mask, becomes the owning group's. A new owner comes first: what is to
// have one has been narrowed before (see perm.Narrow).
func Sequence(k perm.Kind, from, to posix.State) []Op {
	var ops []Op
	at := from
	do := func(w opKind) {
		o := Op{w, to}
		ops = append(ops, o)
		at = o.after(k, at)
	}
	if k == perm.Link {
		if from.UID != to.UID || from.GID != to.GID {
			do(setOwner)
		}
		return ops
	}

	if from.UID != to.UID || from.GID != to.GID {
		do(setOwner)
	}

	switch {
	case slices.Equal(at.Access, to.Access):
	case to.Access != nil:
		do(setAccess)
	default:
		if at.Mode != to.Mode {
			do(setMode)
		}
		do(dropAccess)
	}

	if k == perm.Folder && !slices.Equal(at.Default, to.Default) {
		do(setDefault)
	}

	if at.Mode != to.Mode {
		do(setMode)
	}

	if at.Caps != to.Caps {
		do(setCaps)
	}

	return ops
}

// after is what the kernel makes of a state by one call; a crash can leave any of these.
func (o Op) after(k perm.Kind, p posix.State) posix.State {
	switch o.what {
	case setAccess:
		p.Access = o.to.Access
		p.Mode = p.Access.Mode(p.Mode)
	case dropAccess:
		p.Access = nil
	case setOwner:
		p.UID, p.GID = o.to.UID, o.to.GID
		if k == perm.Folder || k == perm.Link {
			break
		}

		if p.Mode&mode.SetGID != 0 && p.Mode&0o010 != 0 {
			p.Mode &^= mode.SetGID
		}

		p.Mode &^= mode.SetUID
		if k == perm.File {
			p.Caps = ""
		}

	case setDefault:
		p.Default = o.to.Default
	case setMode:
		p.Mode = o.to.Mode
		p.Access = p.Access.Chmod(p.Mode)
	case setCaps:
		p.Caps = o.to.Caps
	}

	return p
}

// Direct returns the calls that lead a path from one state to another without narrowing it first, where nobody
// can do more in between than before or after. What leads there has to be narrow, and what is in there must stay
// as it is.
func Direct(k perm.Kind, from, to posix.State) ([]Op, bool) {
	if k == perm.Link {
		return nil, false
	}
	owner, md := Op{setOwner, to}, Op{setMode, to}
	for _, ops := range [][]Op{{}, {owner}, {md}, {owner, md}, {md, owner}} {
		at, fine := from, true
		for _, o := range ops {
			at = o.after(k, at)
			fine = fine && (len(ops) == 1 || at.Within(from, to))
		}
		if fine && at.Set() == to.Set() {
			return ops, true
		}
	}
	return nil, false
}

// Partials returns every state that calls lead through, both ends included.
func Partials(k perm.Kind, from posix.State, ops []Op) []perm.Set {
	out := []perm.Set{from.Set()}
	for _, o := range ops {
		from = o.after(k, from)
		out = append(out, from.Set())
	}
	return out
}
