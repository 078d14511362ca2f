// Package posix is the scheme of POSIX hosts: owner, group and mode (POSIX.1-2024 section 4.7), the access lists of
// POSIX.1e draft 17, and what Linux keeps beside them, flags of the inode and capabilities of files.
//
//	s := posix.State{UID: 1000, GID: 100, Mode: 0o640}.Set()
//	perm.Between(perm.File, s, posix.State{UID: 1000, GID: 100, Mode: 0o600}.Set(), nil).Word() // "closes"
package posix

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"slices"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

// ID is modes and POSIX.1e lists.
const ID perm.SchemeID = 1

// State is the state of a path on a POSIX host. Mode and lists are as the kernel gives them:
// on a path with an access list the mode's group digit is the list's mask.
type State struct {
	UID, GID uint32
	Mode     mode.Mode
	Access   posixacl.List // nil where the mode says it all
	Default  posixacl.List // folders only
	Caps     string        // the raw security.capability attribute of a program
	Flags    perm.Flags
}

// In the encoding the flags stand above the mode's twelve bits, so that states without any are
// written as they were before there were flags.
const flagShift = 12

// MaxCaps bounds a capability attribute in bytes. What is longer is none: struct vfs_ns_cap_data has 24 bytes.
const MaxCaps = 64

// Set returns the canonical value.
func (p State) Set() perm.Set {
	b := make([]byte, 0, 32)
	b = append(b, byte(ID))
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
	return perm.Encoded(append(b, p.Caps...))
}

var errShort = errors.New("permission set ends too early")

// Of reads a set of the POSIX scheme, checking every bound: it may come from a hostile agent.
func Of(s perm.Set) (State, error) {
	if s.Scheme() != ID {
		return State{}, fmt.Errorf("permission set has scheme %d, want %d (POSIX)", s.Scheme(), ID)
	}

	return decode(s.Bytes()[1:])
}

// decode reads what follows the scheme's byte.
func decode(enc string) (State, error) {
	r := reader{left: []byte(enc)}
	var p State
	p.UID, p.GID = uint32(r.number(1<<32-1)), uint32(r.number(1<<32-1))

	bits := binary.LittleEndian.Uint16(r.take(2))
	p.Mode, p.Flags = mode.Mode(bits)&mode.All, perm.Flags(bits>>flagShift)
	if p.Flags > perm.Immutable|perm.AppendOnly {
		return State{}, fmt.Errorf("permission set has the unknown flags %#x", uint8(p.Flags))
	}

	p.Access, p.Default = r.list(), r.list()
	n := r.number(MaxCaps)
	if r.err == nil && uint64(len(r.left)) != n {
		r.err = errShort
	}
	if r.err != nil {
		return State{}, r.err
	}

	p.Caps = string(r.left)
	return p, nil
}

// A reader reads the parts of an encoded set. After an error it reads zeros.
type reader struct {
	left []byte
	err  error
}

// take returns the next n bytes, at most two.
func (r *reader) take(n int) []byte {
	if r.err == nil && len(r.left) < n {
		r.err = errShort
	}
	if r.err != nil {
		return []byte{0, 0}
	}
	b := r.left[:n]
	r.left = r.left[n:]
	return b
}

// number returns the next number, which is limit at most.
func (r *reader) number(limit uint64) uint64 {
	v, n := binary.Uvarint(r.left)
	if r.err == nil && (n <= 0 || v > limit) {
		r.err = errShort
	}
	if r.err != nil {
		return 0
	}
	r.left = r.left[n:]
	return v
}

// list returns the next list, and nil for one without entries.
func (r *reader) list() (l posixacl.List) {
	n := r.number(posixacl.MaxEntries)
	if n > 0 {
		l = make(posixacl.List, 0, min(n, uint64(len(r.left)/2))) // an entry has two bytes at least
	}
	for range n {
		b := r.take(2)
		if r.err != nil {
			return nil
		}
		e := posixacl.Entry{Tag: posixacl.Tag(b[0]), ID: posixacl.NoID, Perm: mode.Perm(b[1])}
		if e.Tag == posixacl.User || e.Tag == posixacl.Group {
			e.ID = uint32(r.number(1<<32 - 2))
		}
		l = append(l, e)
	}
	if r.err == nil && l != nil {
		r.err = l.Validate()
	}
	return l
}

// classes returns what the three classes get on their own, the mask apart: owner, owning group
// and others.
func (p State) classes() (owner, group, other mode.Perm, mask *mode.Perm) {
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
func (p State) declaredMode() mode.Mode {
	o, g, x, mask := p.classes()
	if mask != nil {
		g &= *mask
	}
	return p.Mode.With(o, g, x)
}

// DeclaredMode is that mode, which every path of a POSIX host has.
func (p State) DeclaredMode() (mode.Mode, bool) { return p.declaredMode(), true }

// Names returns the names of a list's accounts on a host.
func Names(d *perm.Directory) posixacl.NameFunc {
	return func(t posixacl.Tag, id uint32) string {
		if t == posixacl.User {
			return d.Name(unixid.UID(id))
		}
		return d.Name(unixid.GID(id))
	}
}

func (p State) subjectMay(s posixacl.Subject) mode.Perm {
	return posixacl.Access(p.UID, p.GID, p.Mode, p.Access, s)
}

// rebuild makes mode and list agree with three classes and named entries.
func (p State) rebuild(m mode.Mode, named posixacl.List, mask *mode.Perm) State {
	p.Access = posixacl.Build(m.Owner(), m.Group(), m.Other(), named, mask)
	p.Mode = m
	if p.Access != nil {
		msk, _ := p.Access.Find(posixacl.Mask, posixacl.NoID)
		p.Mode = m.With(m.Owner(), msk, m.Other())
	}
	return p
}

// Scheme is the scheme of POSIX hosts: owner, group and mode (POSIX.1-2024 4.7), and the lists of POSIX.1e.
type Scheme struct{}

func init() { perm.Register(Scheme{}) }

func (Scheme) ID() perm.SchemeID                  { return ID }
func (Scheme) String() string                     { return "posix" }
func (Scheme) GroupsOwn() bool                    { return false }
func (Scheme) FromAbove() bool                    { return false }
func (Scheme) Desire(w *perm.Desired) perm.Desire { return newDesired(w) }

func (Scheme) Aspects() []perm.Aspect {
	return []perm.Aspect{
		perm.AspectOwner,
		perm.AspectGroup,
		perm.AspectMode,
		perm.AspectEntries,
		perm.AspectDefaults,
		perm.AspectCaps,
		perm.AspectFlags,
	}
}

func (Scheme) Decode(enc string) (perm.State, error) { return decode(enc) }

// Identify knows the numbers of accounts and groups.
func (Scheme) Identify(id perm.Principal) (perm.Identity, bool) {
	if _, ok := unixid.Number(id); !ok {
		return perm.Identity{}, false
	}
	return perm.Identity{Scheme: ID, Text: string(id[1:]), Name: string(id[1:]), Group: unixid.IsGroup(id),
		Sure: true}, true
}

// Parse reads a bare number, as chown has it: what no account is called, and is a number, is one.
func (Scheme) Parse(text string, group bool) (perm.Principal, bool) { return unixid.Parse(text, group) }

// Known is false: no account has the same name on every host.
func (Scheme) Known(string) (perm.Principal, bool) { return "", false }

func (p State) Encode() (perm.Set, error) { return p.Set(), nil }

// Astray is empty: paths inherit only when they are made.
func (p State) Astray(perm.Found, *perm.Directory) string { return "" }
func (p State) TakesAnew(perm.State) bool                 { return false }

func (p State) Traits() (t perm.Traits) {
	if p.Mode&0o111 != 0 {
		t |= perm.Executable
	}
	if len(p.Access.Named()) > 0 {
		t |= perm.WithEntries
	}
	return t
}

func (p State) View(_ perm.Kind, d *perm.Directory) perm.View {
	name := Names(d)
	v := perm.View{
		Scheme:  ID.String(),
		Owner:   d.Name(unixid.UID(p.UID)),
		Group:   d.Name(unixid.GID(p.GID)),
		Mode:    p.Mode.String(),
		Letters: p.Mode.Letters(),
		Flags:   p.Flags.Words(),
	}

	for _, e := range p.Access {
		if e.Tag != posixacl.UserObj && e.Tag != posixacl.Other {
			v.Entries = append(v.Entries, e.Text(name))
		}
	}

	for _, e := range p.Default {
		v.Defaults = append(v.Defaults, e.Text(name))
	}

	if d.Account(unixid.UID(p.UID)) == nil {
		v.Unknown = append(v.Unknown, string(perm.AspectOwner))
	}

	if d.Account(unixid.GID(p.GID)) == nil {
		v.Unknown = append(v.Unknown, string(perm.AspectGroup))
	}

	return v
}

// Narrow returns the state that a change passes through; see [Narrow].
func (b State) Narrow(k perm.Kind, to perm.State) (perm.Set, error) {
	a := to.(State)
	sb, sa := b.sides(), a.sides()
	chowns := a.UID != b.UID || a.GID != b.GID
	special := (b.Mode | a.Mode) & mode.Sticky
	if !chowns || k == perm.Folder {
		special |= b.Mode & a.Mode & (mode.SetUID | mode.SetGID)
	}

	owner := sb.user(b.UID) & sa.user(b.UID) & sa.owner
	group := sb.group(b.GID) & sa.group(b.GID) & sa.group(a.GID)
	other := sb.other & sa.other

	// Whoever is named on one side keeps an entry; owners and owning groups get one where they would get too much
	// without. Where neither side has entries everybody gets less instead: not every file system has lists.
	plain := b.Access == nil && a.Access == nil
	both := sb.with(sa)
	var named posixacl.List
	most := mode.Perm(0) // that an account can get by its groups

	for _, gid := range both.groups {
		p := sb.group(gid) & sa.group(gid)
		switch {
		case plain && a.GID != b.GID:
			other &= p
		case plain:
		case gid == b.GID:
			if a.GID != b.GID && other&^group != 0 { // for when another group owns it
				named = append(named, posixacl.Entry{Tag: posixacl.Group, ID: gid, Perm: group})
			}
		case p != other:
			named = append(named, posixacl.Entry{Tag: posixacl.Group, ID: gid, Perm: p})
			most |= p
		}
	}

	for _, uid := range both.users {
		p := sb.user(uid) & sa.user(uid)
		switch changes := a.UID != b.UID; {
		case plain && changes:
			group, other = group&p, other&p
		case plain, uid == b.UID && !changes:
		case (group|other|most)&^p != 0, uid != b.UID && p != other:
			named = append(named, posixacl.Entry{Tag: posixacl.User, ID: uid, Perm: p})
		}
	}

	named.Sort()
	n := State{UID: b.UID, GID: b.GID, Default: b.Default, Flags: b.Flags}.rebuild(special.With(owner, group, other),
		named, nil)
	if a.Caps == b.Caps && !(chowns && k != perm.Folder) {
		n.Caps = a.Caps
	}

	return n.quiet(k, b, a).Set(), nil
}

// quiet returns what a change passes through without a set-group-ID bit that has an effect on neither side: the mask in
// between could give it one.
func (p State) quiet(k perm.Kind, before, after State) State {
	if k != perm.Folder && p.runsAsGroup() && !before.runsAsGroup() && !after.runsAsGroup() {
		p.Mode &^= mode.SetGID
	}
	return p
}

// runsAsGroup reports whether a program with this state runs with its group's identity: without execute in the mode's
// group digit the bit has no effect on that (inode(7)).
func (p State) runsAsGroup() bool { return p.Mode&mode.SetGID != 0 && p.Mode&0o010 != 0 }

// Within reports whether a state gives nobody, whatever groups they are in, what neither before nor after gives them.
// It speaks of modes alone: where there are lists, set-ID bits or capabilities it says no.
func (p State) Within(before, after State) bool {
	for _, s := range []State{p, before, after} {
		if s.Access != nil || s.Caps != "" || s.Mode&(mode.SetUID|mode.SetGID) != 0 {
			return false
		}
	}

	if owned := p.UID == before.UID || p.UID == after.UID; !owned { // an owner may do more than the mode says
		return false
	}

	stranger := uint32(0)
	for stranger == before.UID || stranger == after.UID {
		stranger++
	}

	for _, uid := range []uint32{before.UID, after.UID, stranger} {
		for _, groups := range [][]uint32{
			nil,
			{before.GID},
			{after.GID},
			{before.GID, after.GID},
			{p.GID},
			{p.GID, before.GID},
			{p.GID, after.GID},
		} {
			who := posixacl.Subject{UID: uid, Groups: groups}
			if p.subjectMay(who)&^(before.subjectMay(who)|after.subjectMay(who)) != 0 {
				return false
			}
		}
	}

	return true
}

// A side is what one state surely gives to accounts and groups, whatever other groups they are in.
type side struct {
	p             State
	owner, other  mode.Perm
	named         posixacl.List // with the owning group's, and the mask taken off
	all           mode.Perm     // what every group that is spoken of has
	users, groups []uint32
}

func (p State) sides() side {
	o, g, x, named := p.masked()
	s := side{p: p, owner: o, other: x, named: named, all: g, users: []uint32{p.UID}, groups: []uint32{p.GID}}
	found := false

	for i, e := range s.named {
		switch {
		case e.Tag == posixacl.User:
			s.users = append(s.users, e.ID)
			continue
		case e.ID == p.GID:
			// Its members may use either entry. To add to a folder takes two rights of one and the same entry, so
			// that both entries together are more than they surely have.
			if bits.OnesCount8(uint8(g)) > bits.OnesCount8(uint8(e.Perm)) {
				s.named[i].Perm = g
			}
			found = true
		default:
			s.groups = append(s.groups, e.ID)
		}
		s.all &= e.Perm
	}

	if !found {
		s.named = append(s.named, posixacl.Entry{Tag: posixacl.Group, ID: p.GID, Perm: g})
	}

	return s
}

// user returns what an account surely has; a group that it may be in may give it more.
func (s side) user(uid uint32) mode.Perm {
	if uid == s.p.UID {
		return s.owner
	}
	if p, ok := s.named.Find(posixacl.User, uid); ok {
		return p
	}
	return s.all & s.other
}

func (s side) group(gid uint32) mode.Perm {
	if p, ok := s.named.Find(posixacl.Group, gid); ok {
		return p
	}
	return s.all & s.other
}

// with returns whom either side speaks of.
func (s side) with(t side) side {
	out := side{users: append(slices.Clone(s.users), t.users...), groups: append(slices.Clone(s.groups), t.groups...)}
	slices.Sort(out.users)
	slices.Sort(out.groups)
	out.users, out.groups = slices.Compact(out.users), slices.Compact(out.groups)
	return out
}

// masked returns classes and named entries with the mask already taken off.
func (p State) masked() (owner, group, other mode.Perm, named posixacl.List) {
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
