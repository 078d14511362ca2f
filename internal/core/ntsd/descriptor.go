package ntsd

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"

	"idletally/internal/core/ace"
)

// A Type says what an entry does.
type Type uint8

// The types that this package understands (MS-DTYP 2.4.4.1); others are kept as they are.
const (
	Allow         Type = 0
	Deny          Type = 1
	callbackAllow Type = 9 // with a condition
	callbackDeny  Type = 10
)

// An Entry allows or denies rights to somebody. It is comparable.
type Entry struct {
	Type  Type
	Flags ace.Flags
	Mask  ace.Mask
	SID   SID
	Extra string // of other types than Allow and Deny: what follows the mask, or all of it
}

// Foreign reports whether this package keeps the entry without understanding it.
func (e Entry) Foreign() bool { return e.Type != Allow && e.Type != Deny }

// Control says how a list came about (MS-DTYP 2.4.6). Only the bits that decide something are kept.
type Control uint16

// The control bits that are kept.
const (
	Protected     Control = 0x1000 // it takes nothing from above
	AutoInherited Control = 0x0400 // what came from above is marked so

	daclPresent  Control = 0x0004
	saclPresent  Control = 0x0010
	selfRelative Control = 0x8000
	keptControl          = Protected | AutoInherited

	// Whoever sets a list has to ask for the mark, or the server takes it off (MS-DTYP 2.5.3.4.5).
	autoInheritRequest Control = 0x0100
)

// A Descriptor is who owns something, and who may do what with it.
type Descriptor struct {
	Owner, Group SID
	Control      Control
	Open         bool    // there is no list: everybody may do everything
	Entries      []Entry // none, and not open: nobody may do anything but the owner
}

// MaxList bounds a list in bytes: its size is a number of 16 bits (MS-DTYP 2.4.5).
const MaxList = 1<<16 - 1

// MaxDescriptor bounds a whole descriptor in bytes, a system list that is not kept included.
const MaxDescriptor = 192 << 10

// Append writes the self-relative form (MS-DTYP 2.4.6).
func (d Descriptor) Append(b []byte) ([]byte, error) {
	at := len(b)
	control := d.Control&keptControl | selfRelative | daclPresent
	if control&AutoInherited != 0 {
		control |= autoInheritRequest
	}

	b = append(b, 1, 0)
	b = binary.LittleEndian.AppendUint16(b, uint16(control))
	b = append(b, make([]byte, 16)...)
	place := func(field int) { binary.LittleEndian.PutUint32(b[at+field:], uint32(len(b)-at)) }
	if !d.Owner.IsZero() {
		place(4)
		b = append(b, d.Owner.enc...)
	}

	if !d.Group.IsZero() {
		place(8)
		b = append(b, d.Group.enc...)
	}

	if d.Open {
		return b, nil
	}

	place(16)
	list := len(b)
	b = append(b, 2, 0, 0, 0)
	b = binary.LittleEndian.AppendUint16(b, uint16(len(d.Entries)))
	b = append(b, 0, 0)

	for _, e := range d.Entries {
		entry := len(b)
		b = append(b, byte(e.Type), byte(e.Flags), 0, 0)
		if !e.Foreign() {
			b = binary.LittleEndian.AppendUint32(b, uint32(e.Mask))
			b = append(b, e.SID.enc...)
		} else {
			b[list] = 4
		}

		b = append(b, e.Extra...)
		for (len(b)-entry)%4 != 0 {
			b = append(b, 0)
		}

		if len(b)-entry > MaxList {
			return nil, fmt.Errorf("an entry has %d bytes, at most %d are allowed", len(b)-entry, MaxList)
		}

		binary.LittleEndian.PutUint16(b[entry+2:], uint16(len(b)-entry))
	}

	if len(b)-list > MaxList {
		return nil, fmt.Errorf("the list has %d bytes, at most %d are allowed: put several people into one group",
			len(b)-list, MaxList)
	}

	binary.LittleEndian.PutUint16(b[list+2:], uint16(len(b)-list))
	return b, nil
}

// Parse reads a self-relative form, checking every bound: it comes from a server that may be hostile.
func Parse(b []byte) (Descriptor, error) {
	var d Descriptor
	if len(b) > MaxDescriptor {
		return d, fmt.Errorf("security descriptor has %d bytes, at most %d are allowed", len(b), MaxDescriptor)
	}
	if len(b) < 20 {
		return d, errors.New("security descriptor ends too early")
	}

	control := Control(binary.LittleEndian.Uint16(b[2:]))
	switch {
	case b[0] != 1:
		return d, fmt.Errorf("security descriptor has the revision %d, want 1", b[0])
	case control&selfRelative == 0:
		return d, errors.New("security descriptor is not self-relative")
	}

	part := func(field int) ([]byte, error) {
		offset := binary.LittleEndian.Uint32(b[field:])
		switch {
		case offset == 0:
			return nil, nil
		case offset < 20 || uint64(offset) > uint64(len(b)):
			return nil, errors.New("security descriptor points outside itself")
		}
		return b[offset:], nil
	}

	for field, to := range map[int]*SID{4: &d.Owner, 8: &d.Group} {
		p, err := part(field)
		if err == nil && p != nil {
			*to, _, err = SIDFromBytes(p)
		}
		if err != nil {
			return Descriptor{}, err
		}
	}

	d.Control = control & keptControl
	list, err := part(16)
	if err != nil {
		return Descriptor{}, err
	}

	if control&daclPresent == 0 || list == nil {
		d.Open = true
		return d, nil
	}

	d.Entries, err = parseList(list)
	return d, err
}

func parseList(b []byte) ([]Entry, error) {
	if len(b) < 8 {
		return nil, errors.New("access list ends too early")
	}

	size, count := int(binary.LittleEndian.Uint16(b[2:])), int(binary.LittleEndian.Uint16(b[4:]))
	switch {
	case b[0] != 2 && b[0] != 4:
		return nil, fmt.Errorf("access list has the revision %d, want 2 or 4", b[0])
	case size < 8 || size > len(b):
		return nil, errors.New("access list ends too early")
	}

	b = b[8:size]
	out := make([]Entry, 0, min(count, len(b)/8))
	for range count {
		if len(b) < 4 {
			return nil, errors.New("access list ends too early")
		}
		n := int(binary.LittleEndian.Uint16(b[2:]))
		if n < 4 || n > len(b) {
			return nil, errors.New("entry of an access list has an impossible size")
		}

		e := Entry{Type: Type(b[0]), Flags: ace.Flags(b[1])}
		body := b[4:n]
		b = b[n:]
		if e.Foreign() {
			for len(body)%4 != 0 {
				body = append(slices.Clip(body), 0)
			}

			e.Extra = string(body)
			out = append(out, e)
			continue
		}

		if len(body) < 4 {
			return nil, errors.New("entry of an access list ends too early")
		}

		e.Mask = ace.Mask(binary.LittleEndian.Uint32(body))
		var err error
		if e.SID, _, err = SIDFromBytes(body[4:]); err != nil {
			return nil, err
		}

		out = append(out, e)
	}

	return out, nil
}

// SIDs returns whom it speaks of, each once: owner, group, and those of its entries.
func (d *Descriptor) SIDs() (out []SID) {
	see := func(s SID) {
		if !s.IsZero() && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	see(d.Owner)
	see(d.Group)
	for _, e := range d.Entries {
		see(e.SID)
	}
	return out
}

// Equal reports whether two descriptors say the same.
func (d Descriptor) Equal(o Descriptor) bool {
	return d.Owner == o.Owner && d.Group == o.Group && d.Control&keptControl == o.Control&keptControl &&
		d.Open == o.Open && slices.Equal(d.Entries, o.Entries)
}

// rank orders entries as they are to stand (MS-DTYP 2.4.5): own before inherited ones, of the own first those
// that deny.
func (e Entry) rank() int {
	switch {
	case e.Flags&ace.Inherited != 0:
		return 2
	case e.Type == Deny || e.Type == callbackDeny:
		return 0
	}
	return 1
}

// Canonical reports whether entries stand in the usual order, in which those that deny come before those that allow.
// Inherited ones stand as their folders had them.
func Canonical(list []Entry) bool {
	return slices.IsSortedFunc(list, func(a, b Entry) int { return a.rank() - b.rank() })
}

// Sort brings entries into the usual order, and leaves equals in theirs.
func Sort(list []Entry) {
	slices.SortStableFunc(list, func(a, b Entry) int { return a.rank() - b.rank() })
}
