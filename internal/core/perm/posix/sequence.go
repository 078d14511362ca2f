package posix

import (
	"fmt"
	"slices"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
)

// The extended attributes that hold permissions.
const (
	AttrAccess  = "system.posix_acl_access"
	AttrDefault = "system.posix_acl_default"
	AttrCaps    = "security.capability"
)

// Attributes lists the attributes that hold permissions.
func (Scheme) Attributes() []string { return []string{AttrAccess, AttrDefault, AttrCaps} }

// Claims is true of every path: whatever has no attributes of another scheme has a mode.
func (Scheme) Claims(func(string) bool) bool { return true }

// Read returns the state of an inode with its attributes.
func (Scheme) Read(i perm.Inode, get func(string) string) (perm.State, error) {
	p := State{UID: i.UID, GID: i.GID, Mode: i.Mode, Flags: i.Flags}
	for _, l := range []struct {
		attribute string
		to        *posixacl.List
	}{{AttrAccess, &p.Access}, {AttrDefault, &p.Default}} {
		if b := get(l.attribute); b != "" {
			var err error
			if *l.to, err = posixacl.DecodeXattr([]byte(b)); err != nil {
				return nil, err
			}
		}
	}

	p.Caps = get(AttrCaps)
	if len(p.Caps) > MaxCaps { // a file system of somebody's own may tell anything
		return nil, fmt.Errorf("the attribute %s has %d bytes, at most %d are understood", AttrCaps, len(p.Caps),
			MaxCaps)
	}
	return p, nil
}

// An op is one system call of a change.
type op struct {
	what opKind
	to   State
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

// call returns the call that does it.
func (o op) call() perm.Call {
	set := func(what, name, value string) perm.Call {
		return perm.Call{What: what, Set: &perm.Attribute{Name: name, Value: value}}
	}
	const changeDefault, changeCaps = "set the default list", "set the capability"
	switch o.what {
	case setAccess:
		return set("set the access list", AttrAccess, string(o.to.Access.AppendXattr(nil)))
	case dropAccess:
		return perm.Call{What: "remove the access list", Drop: AttrAccess}
	case setOwner:
		return perm.Call{What: "change the owner", Owner: &perm.Owner{UID: o.to.UID, GID: o.to.GID}}
	case setDefault:
		if o.to.Default == nil {
			return perm.Call{What: changeDefault, Drop: AttrDefault}
		}
		return set(changeDefault, AttrDefault, string(o.to.Default.AppendXattr(nil)))
	case setMode:
		return perm.Call{What: "change the mode", Mode: &o.to.Mode}
	}
	if o.to.Caps == "" {
		return perm.Call{What: changeCaps, Drop: AttrCaps}
	}
	return set(changeCaps, AttrCaps, o.to.Caps)
}

// moves returns ops as moves from a state.
func moves(k perm.Kind, at State, ops []op) []perm.Move {
	var out []perm.Move
	for _, o := range ops {
		at = o.after(k, at)
		out = append(out, perm.Move{Call: o.call(), State: at.Set()})
	}
	return out
}

// Plain reports whether the inode holds all of the state.
func (p State) Plain() bool { return p.Access == nil && p.Default == nil && p.Caps == "" }

// Sequence returns the moves that lead from one state to another. Each changes one thing at once; where a list goes
// away the mode is narrowed before it, since without a list the mode's group digit, until then a mask, becomes the
// owning group's. A new owner comes first: what is to have one has been narrowed before (see [perm.Narrow]).
func (p State) Sequence(k perm.Kind, to perm.State) []perm.Move {
	return moves(k, p, sequence(k, p, to.(State)))
}

func sequence(k perm.Kind, from, to State) []op {
	var ops []op
	at := from
	do := func(w opKind) {
		o := op{w, to}
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
		if off := at.withoutIdle(k, to); off.Mode != at.Mode {
			ops, at = append(ops, op{setMode, off}), off
		}
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

// withoutIdle returns the state without a set-group-ID bit that is to go and has no effect: the next list's mask could
// give it one, until it is gone.
func (p State) withoutIdle(k perm.Kind, to State) State {
	if k != perm.Folder && to.Mode&mode.SetGID == 0 && !p.runsAsGroup() {
		p.Mode &^= mode.SetGID
	}
	return p
}

// after is what the kernel makes of a state by one call; a crash can leave any of these.
func (o op) after(k perm.Kind, p State) State {
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

		if p.runsAsGroup() {
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

// Direct returns moves that need no narrowing.
func (p State) Direct(k perm.Kind, to perm.State) ([]perm.Move, bool) {
	ops, ok := direct(k, p, to.(State))
	return moves(k, p, ops), ok
}

func direct(k perm.Kind, from, to State) ([]op, bool) {
	if k == perm.Link {
		return nil, false
	}
	owner, md := op{setOwner, to}, op{setMode, to}
	for _, ops := range [][]op{{}, {owner}, {md}, {owner, md}, {md, owner}} {
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
