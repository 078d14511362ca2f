// Package posixacl holds POSIX.1e draft 17 access control lists: their kernel encoding, their
// text, their mask arithmetic and the access check of section 23.1.5.
package posixacl

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"idletally/internal/core/mode"
)

// A Tag says whom an entry speaks of. The values are the kernel's.
type Tag uint16

// The tags of POSIX.1e.
const (
	UserObj  Tag = 0x01 // the owner
	User     Tag = 0x02 // a named account
	GroupObj Tag = 0x04 // the owning group
	Group    Tag = 0x08 // a named group
	Mask     Tag = 0x10 // the most that User, GroupObj and Group entries can grant
	Other    Tag = 0x20 // everybody else
)

// NoID stands in entries whose tag names nobody.
const NoID = ^uint32(0)

// An Entry is one line of a list.
type Entry struct {
	Tag  Tag
	ID   uint32 // NoID unless Tag is User or Group
	Perm mode.Perm
}

// A List is an access list in canonical order (tag, then id); nil where a path has a mode only.
type List []Entry

// MaxEntries bounds a list; an ext4 block holds fewer.
const MaxEntries = 8192

// Sort brings a list into canonical order.
func (l List) Sort() {
	slices.SortFunc(l, compareEntries)
}

func compareEntries(a, b Entry) int {
	return cmp.Or(cmp.Compare(a.Tag, b.Tag), cmp.Compare(a.ID, b.ID))
}

// Validate checks section 23.1.2: one owner, one owning-group and one other entry, no id named
// twice, and a mask wherever there are named entries.
func (l List) Validate() error {
	if len(l) > MaxEntries {
		return fmt.Errorf("access list has %d entries, at most %d are allowed", len(l), MaxEntries)
	}

	count := map[Tag]int{}
	for i, e := range l {
		switch e.Tag {
		case UserObj, GroupObj, Mask, Other:
			if e.ID != NoID {
				return fmt.Errorf("access list entry %d names id %d where none belongs", i+1, e.ID)
			}
		case User, Group:
			if e.ID == NoID {
				return fmt.Errorf("access list entry %d names nobody", i+1)
			}
		default:
			return fmt.Errorf("access list entry %d has the unknown tag %#x", i+1, uint16(e.Tag))
		}

		if e.Perm > 7 {
			return fmt.Errorf("access list entry %d has permission %#x, want 0 to 7", i+1, uint8(e.Perm))
		}
		if i > 0 && (l[i-1].Tag > e.Tag || l[i-1].Tag == e.Tag && l[i-1].ID >= e.ID) {
			return fmt.Errorf("access list entry %d stands twice or out of order", i+1)
		}

		count[e.Tag]++
	}

	for _, need := range []struct {
		tag  Tag
		what string
	}{{UserObj, "owner (user::)"}, {GroupObj, "owning group (group::)"}, {Other, "other (other::)"}} {
		if count[need.tag] != 1 {
			return fmt.Errorf("access list has %d entries for the %s, want exactly one", count[need.tag], need.what)
		}
	}

	if count[User]+count[Group] > 0 && count[Mask] != 1 {
		return errors.New("access list names accounts but has no mask entry (mask::)")
	}

	return nil
}

// Find returns the entry for a tag and id.
func (l List) Find(tag Tag, id uint32) (mode.Perm, bool) {
	for _, e := range l {
		if e.Tag == tag && e.ID == id {
			return e.Perm, true
		}
	}
	return 0, false
}

// Has reports whether a list has an entry for the one that another is for.
func (l List) Has(e Entry) bool {
	_, ok := l.Find(e.Tag, e.ID)
	return ok
}

// Classes returns what owner, owning group and others have in a list.
func (l List) Classes() (owner, group, other mode.Perm) {
	owner, _ = l.Find(UserObj, NoID)
	group, _ = l.Find(GroupObj, NoID)
	other, _ = l.Find(Other, NoID)
	return owner, group, other
}

// Named returns the entries for named accounts and groups.
func (l List) Named() List {
	var out List
	for _, e := range l {
		if e.Tag == User || e.Tag == Group {
			out = append(out, e)
		}
	}
	return out
}

// FromMode returns the minimal list, of three entries, that says what a mode says: the minimum ACL of POSIX.1e.
func FromMode(m mode.Mode) List {
	return List{
		{Tag: UserObj, ID: NoID, Perm: m.Owner()},
		{Tag: GroupObj, ID: NoID, Perm: m.Group()},
		{Tag: Other, ID: NoID, Perm: m.Other()},
	}
}

// Build makes a whole list of the three classes and named entries, with the mask given, or with
// the union of what it limits (the usual calculation, POSIX.1e acl_calc_mask). It returns nil
// where no named entry makes a list necessary.
func Build(owner, group, other mode.Perm, named List, mask *mode.Perm) List {
	if len(named) == 0 && mask == nil {
		return nil
	}

	union := group
	for _, e := range named {
		union |= e.Perm
	}

	// Linux passes over a list whose mask is empty (see Check): entries that grant nothing would
	// no longer keep their accounts out. A mask that grants nothing more keeps the list in force.
	if mask == nil && union == 0 {
		union = other
	}

	if mask != nil {
		union = *mask
	}

	l := List{{UserObj, NoID, owner}, {GroupObj, NoID, group}, {Mask, NoID, union}, {Other, NoID, other}}
	l = append(l, named...)
	l.Sort()
	return l
}

const xattrVersion = 2 // POSIX_ACL_XATTR_VERSION of linux/posix_acl_xattr.h

// AppendXattr appends the kernel's extended-attribute form (little endian, version 2).
func (l List) AppendXattr(b []byte) []byte {
	if len(l) == 0 {
		return b
	}
	b = binary.LittleEndian.AppendUint32(b, xattrVersion)
	for _, e := range l {
		b = binary.LittleEndian.AppendUint16(b, uint16(e.Tag))
		b = binary.LittleEndian.AppendUint16(b, uint16(e.Perm))
		b = binary.LittleEndian.AppendUint32(b, e.ID)
	}
	return b
}

// DecodeXattr reads the kernel's extended-attribute form; no bytes are no list.
//
// Anybody can give a file of theirs a list that names one account or group several times, which no other form of a list
// can: setxattr(2) takes it. It is read as the kernel goes by it: of an account the first entry counts, and a group has
// what any of its entries grants.
func DecodeXattr(b []byte) (List, error) {
	if len(b) == 0 {
		return nil, nil
	}
	if len(b) < 4 || (len(b)-4)%8 != 0 {
		return nil, fmt.Errorf("access list attribute has %d bytes, want 4 + 8 for each entry", len(b))
	}
	if v := binary.LittleEndian.Uint32(b); v != xattrVersion {
		return nil, fmt.Errorf("access list attribute has version %d, want %d", v, xattrVersion)
	}

	l := make(List, 0, (len(b)-4)/8)
	for b = b[4:]; len(b) > 0; b = b[8:] {
		p := binary.LittleEndian.Uint16(b[2:])
		if p > 7 {
			return nil, fmt.Errorf("access list attribute has permission %#x, want 0 to 7", p)
		}

		e := Entry{Tag(binary.LittleEndian.Uint16(b)), binary.LittleEndian.Uint32(b[4:]), mode.Perm(p)}
		if e.Tag != User && e.Tag != Group {
			e.ID = NoID // the kernel leaves it undefined
		}

		l = append(l, e)
	}

	slices.SortStableFunc(l, compareEntries)
	if len(l) == 0 {
		return nil, nil
	}

	once := l[:1]
	for _, e := range l[1:] {
		last := &once[len(once)-1]
		switch {
		case e.Tag != last.Tag || e.ID != last.ID || e.Tag != User && e.Tag != Group:
			once = append(once, e)
		case e.Tag == Group:
			last.Perm |= e.Perm
		}
	}

	return once, once.Validate()
}
