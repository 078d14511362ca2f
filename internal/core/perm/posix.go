package perm

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"idletally/internal/core/mode"
	"idletally/internal/core/posixacl"
)

// POSIX is the state of a path on a POSIX host. Mode and lists are as the kernel gives them:
// on a path with an access list the mode's group digit is the list's mask.
type POSIX struct {
	UID, GID uint32
	Mode     mode.Mode
	Access   posixacl.List // nil where the mode says it all
	Default  posixacl.List // folders only
	Caps     string        // the raw security.capability attribute of a program
	Flags    Flags
}

// Flags are inode attributes that withhold what the permissions grant, even from root.
type Flags uint8

// The flags, as statx(2) tells them.
const (
	Immutable  Flags = 1 << iota // nothing about it changes, and it is not removed
	AppendOnly                   // a file only grows; of a folder nothing is removed
)

var flagWords = [...]string{"immutable", "append-only"}

// Words names the flags.
func (f Flags) Words() []string {
	var out []string
	for i, w := range flagWords {
		if f&(1<<i) != 0 {
			out = append(out, w)
		}
	}
	return out
}

// In the encoding the flags stand above the mode's twelve bits, so that states without any are
// written as they were before there were flags.
const flagShift = 12

const maxCaps = 64 // struct vfs_ns_cap_data has 24 bytes

// Set gives the canonical value.
func (p POSIX) Set() Set {
	b := make([]byte, 0, 32)
	b = append(b, byte(SchemePOSIX))
	b = binary.AppendUvarint(b, uint64(p.UID))
	b = binary.AppendUvarint(b, uint64(p.GID))
	b = binary.LittleEndian.AppendUint16(b, uint16(p.Mode)|uint16(p.Flags)<<flagShift)
	for _, l := range []posixacl.List{p.Access, p.Default} {
		b = binary.AppendUvarint(b, uint64(len(l)))
		for _, e := range l {
			b = append(b, byte(e.Tag), byte(e.Perm))
			if e.Tag == posixacl.User || e.Tag == posixacl.Group {
				b = binary.AppendUvarint(b, uint64(e.ID))
			}
		}
	}
	b = binary.AppendUvarint(b, uint64(len(p.Caps)))
	return Set{string(append(b, p.Caps...))}
}

var errShort = errors.New("permission set ends too early")

// POSIXOf reads a set of the POSIX scheme, checking every bound: it may come from a hostile agent.
func POSIXOf(s Set) (POSIX, error) {
	if s.Scheme() != SchemePOSIX {
		return POSIX{}, fmt.Errorf("permission set has scheme %d, want %d (POSIX)", s.Scheme(), SchemePOSIX)
	}
	b := []byte(s.enc[1:])
	var err error
	number := func(limit uint64) uint64 {
		v, n := binary.Uvarint(b)
		if err == nil && (n <= 0 || v > limit) {
			err = errShort
		}
		b = b[max(n, 0):]
		return v
	}
	var p POSIX
	p.UID, p.GID = uint32(number(1<<32-1)), uint32(number(1<<32-1))
	if err != nil || len(b) < 2 {
		return POSIX{}, errShort
	}
	bits := binary.LittleEndian.Uint16(b)
	p.Mode, p.Flags = mode.Mode(bits)&mode.All, Flags(bits>>flagShift)
	if p.Flags > Immutable|AppendOnly {
		return POSIX{}, fmt.Errorf("permission set has the unknown flags %#x", uint8(p.Flags))
	}
	b = b[2:]
	for _, to := range []*posixacl.List{&p.Access, &p.Default} {
		n := number(posixacl.MaxEntries)
		for range n {
			if err != nil || len(b) < 2 {
				return POSIX{}, errShort
			}
			e := posixacl.Entry{Tag: posixacl.Tag(b[0]), ID: posixacl.NoID, Perm: mode.Perm(b[1])}
			b = b[2:]
			if e.Tag == posixacl.User || e.Tag == posixacl.Group {
				e.ID = uint32(number(1<<32 - 2))
			}
			*to = append(*to, e)
		}
		if err == nil && *to != nil {
			err = to.Validate()
		}
	}
	n := number(maxCaps)
	if err == nil && uint64(len(b)) != n {
		err = errShort
	}
	if err != nil {
		return POSIX{}, err
	}
	p.Caps = string(b)
	return p, nil
}

// classes gives what the three classes get on their own, the mask apart: owner, owning group
// and others.
func (p POSIX) classes() (owner, group, other mode.Perm, mask *mode.Perm) {
	group = p.Mode.Group()
	if p.Access != nil {
		group, _ = p.Access.Find(posixacl.GroupObj, posixacl.NoID)
		if m, ok := p.Access.Find(posixacl.Mask, posixacl.NoID); ok {
			mask = &m
		}
	}
	return p.Mode.Owner(), group, p.Mode.Other(), mask
}

// declaredMode is the mode a rule speaks of: the group digit is what the owning group gets, not
// the mask over all entries that a listing shows.
func (p POSIX) declaredMode() mode.Mode {
	o, g, x, mask := p.classes()
	if mask != nil {
		g &= *mask
	}
	return p.Mode.With(o, g, x)
}

// Names gives the names of a list's accounts on a host.
func Names(d *Directory) posixacl.NameFunc {
	return func(t posixacl.Tag, id uint32) string {
		if t == posixacl.User {
			return d.Name(UID(id))
		}
		return d.Name(GID(id))
	}
}

func (p POSIX) subjectMay(s posixacl.Subject) mode.Perm {
	return posixacl.Access(p.UID, p.GID, p.Mode, p.Access, s)
}

// rebuild makes mode and list agree with three classes and named entries.
func (p POSIX) rebuild(m mode.Mode, named posixacl.List, mask *mode.Perm) POSIX {
	p.Access = posixacl.Build(m.Owner(), m.Group(), m.Other(), named, mask)
	p.Mode = m
	if p.Access != nil {
		msk, _ := p.Access.Find(posixacl.Mask, posixacl.NoID)
		p.Mode = m.With(m.Owner(), msk, m.Other())
	}
	return p
}

func (p POSIX) view(d *Directory) View {
	name := Names(d)
	v := View{Owner: d.Name(UID(p.UID)), Group: d.Name(GID(p.GID)), Mode: p.Mode.String(), Letters: p.Mode.Letters(), Flags: p.Flags.Words()}
	for _, e := range p.Access {
		if e.Tag != posixacl.UserObj && e.Tag != posixacl.Other {
			v.Entries = append(v.Entries, e.Text(name))
		}
	}
	for _, e := range p.Default {
		v.Defaults = append(v.Defaults, e.Text(name))
	}
	if d.Account(UID(p.UID)) == nil {
		v.Unknown = append(v.Unknown, string(AspectOwner))
	}
	if d.Account(GID(p.GID)) == nil {
		v.Unknown = append(v.Unknown, string(AspectGroup))
	}
	return v
}

// Narrow is the state between before and after that opens nothing to anybody: whatever order
// owner, mode and entries are changed in, each account has at most what it had before or gets
// afterwards. Entries of one side stay as they are, since their accounts have exactly that on
// that side; what both sides say is met; a sticky bit of either side holds. A change of owner
// clears set-ID bits and capabilities of what is no folder, so they are off between.
func Narrow(k Kind, before, after Set) (Set, error) {
	b, err := POSIXOf(before)
	if err != nil {
		return Set{}, err
	}
	a, err := POSIXOf(after)
	if err != nil {
		return Set{}, err
	}
	bo, bg, bx, bNamed := b.masked()
	ao, ag, ax, aNamed := a.masked()
	special := b.Mode & a.Mode & (mode.SetUID | mode.SetGID)
	special |= (b.Mode | a.Mode) & mode.Sticky
	// An account's own entry never counts while the account is the owner, so such an entry may
	// grant no more than the owner had, or will have.
	var named posixacl.List
	for _, e := range bNamed {
		if p, both := aNamed.Find(e.Tag, e.ID); both {
			e.Perm &= p
		} else if e.Tag == posixacl.User && e.ID == b.UID {
			e.Perm &= bo
		}
		named = append(named, e)
	}
	for _, e := range aNamed {
		if _, both := bNamed.Find(e.Tag, e.ID); both {
			continue
		}
		if e.Tag == posixacl.User && e.ID == a.UID {
			e.Perm &= ao
		}
		named = append(named, e)
	}
	// Where an owner has less than a group of one side, the account must not fall to that group's
	// entry while it is not the owner: an entry of its own, for the time between, holds it.
	hold := func(owner uint32, had mode.Perm, mine, others posixacl.List) {
		if _, ok := named.Find(posixacl.User, owner); ok || a.UID == b.UID {
			return
		}
		for _, e := range mine {
			if _, both := others.Find(e.Tag, e.ID); e.Tag == posixacl.Group && !both && e.Perm&^had != 0 {
				named = append(named, posixacl.Entry{Tag: posixacl.User, ID: owner, Perm: had})
				return
			}
		}
	}
	hold(b.UID, bo, bNamed, aNamed)
	hold(a.UID, ao, aNamed, bNamed)
	m := special.With(bo&ao, bg&ag, bx&ax)
	n := POSIX{UID: a.UID, GID: a.GID, Default: a.Default, Flags: b.Flags}.rebuild(m, named, nil)
	if a.Caps == b.Caps {
		n.Caps = a.Caps
	}
	if k != Folder && (a.UID != b.UID || a.GID != b.GID) { // the kernel clears them anyway
		n.Mode &^= mode.SetUID | mode.SetGID
		n.Caps = ""
	}
	return n.Set(), nil
}

// masked gives classes and named entries with the mask already taken off.
func (p POSIX) masked() (owner, group, other mode.Perm, named posixacl.List) {
	owner, group, other, mask := p.classes()
	named = slices.Clone(p.Access.Named())
	if mask != nil {
		group &= *mask
		for i := range named {
			named[i].Perm &= *mask
		}
	}
	return owner, group, other, named
}
