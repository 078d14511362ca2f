package aclfs

import (
	"encoding/binary"
	"slices"
	"strconv"
	"strings"
)

// This file decides by a list as RFC 8881 says, and by nothing else of this program: what it is compared with has
// been written independently of it.

// The rights (RFC 8881 section 6.2.1.3).
const (
	readData        = 0x1
	writeData       = 0x2
	appendData      = 0x4
	execute         = 0x20
	deleteChild     = 0x40
	writeAttributes = 0x100
	deleteIt        = 0x10000
	readACL         = 0x20000
	writeACL        = 0x40000
	writeOwner      = 0x80000
)

// What types and flags are used of sections 6.2.1.1 and 6.2.1.4.
const (
	typeAllow       = 0
	typeDeny        = 1
	fileInherit     = 0x1
	dirInherit      = 0x2
	noPropagate     = 0x4
	inheritOnly     = 0x8
	identifierGroup = 0x40
	inherited       = 0x80
)

type entry struct {
	kind, flags, mask uint32
	who               string
}

// parse reads an attribute's value, and reports false if it is none.
func parse(b []byte) (list []entry, ok bool) {
	word := func() uint32 {
		if len(b) < 4 {
			ok = false
			return 0
		}
		n := binary.BigEndian.Uint32(b)
		b = b[4:]
		return n
	}

	ok = true
	n := word()
	for range min(n, 1024) {
		e := entry{kind: word(), flags: word(), mask: word()}
		size := int(word())
		whole := (size + 3) &^ 3
		if !ok || size > 256 || whole > len(b) {
			return nil, false
		}
		e.who, b = string(b[:size]), b[whole:]
		list = append(list, e)
	}
	return list, ok && len(b) == 0
}

func encode(list []entry) []byte {
	b := binary.BigEndian.AppendUint32(nil, uint32(len(list)))
	for _, e := range list {
		for _, n := range []uint32{e.kind, e.flags, e.mask, uint32(len(e.who))} {
			b = binary.BigEndian.AppendUint32(b, n)
		}
		b = append(b, e.who...)
		for len(b)%4 != 0 {
			b = append(b, 0)
		}
	}
	return b
}

// A caller is who asks.
type caller struct {
	uid  uint32
	gids []uint32
}

// An object is what is asked about.
type object struct {
	uid, gid uint32
	sticky   bool
	folder   bool
	list     []entry
}

// matches reports whether an entry is for a caller (section 6.2.1.5).
func (n *Names) matches(e entry, o *object, c caller) bool {
	switch e.who {
	case "OWNER@":
		return c.uid == o.uid
	case "GROUP@":
		return slices.Contains(c.gids, o.gid)
	case "EVERYONE@", "AUTHENTICATED@":
		return true
	}

	table := n.Users
	if e.flags&identifierGroup != 0 {
		table = n.Groups
	}
	id, known := uint32(0), false
	if number, err := strconv.ParseUint(e.who, 10, 32); err == nil {
		id, known = uint32(number), true
	} else if name, domain, ok := strings.Cut(e.who, "@"); ok && domain == n.Domain {
		id, known = table[name]
	}

	switch {
	case !known:
		return false
	case e.flags&identifierGroup != 0:
		return slices.Contains(c.gids, id)
	}
	return c.uid == id
}

// The answers about one right.
const (
	unsaid = iota
	granted
	refused
)

// says returns what a list says of one right (section 6.2.1): the first entry that speaks of it.
func (n *Names) says(o *object, c caller, right uint32) int {
	for _, e := range o.list {
		if e.kind > typeDeny || e.flags&inheritOnly != 0 || e.mask&right == 0 || !n.matches(e, o, c) {
			continue
		}
		if e.kind == typeAllow {
			return granted
		}
		return refused
	}
	return unsaid
}

// may reports whether a list grants all of some rights. Root is trusted, as on an export without root squashing.
func (n *Names) may(o *object, c caller, rights uint32) bool {
	for right := uint32(1); right != 0 && c.uid != 0; right <<= 1 {
		if rights&right != 0 && n.says(o, c, right) != granted {
			return false
		}
	}
	return true
}

// mayDelete decides taking something out of a folder (section 6.2.1.3.2).
func (n *Names) mayDelete(folder, o *object, c caller) bool {
	own, child := n.says(o, c, deleteIt), n.says(folder, c, deleteChild)
	switch {
	case c.uid == 0, own == granted, child == granted:
		return true
	case own == refused, child == refused:
		return false
	}
	owns := c.uid == o.uid || c.uid == folder.uid
	return n.says(folder, c, writeData) == granted && (!folder.sticky || owns)
}

// mode returns the nine bits that follow from a list (section 6.3.2).
func mode(list []entry) (bits uint32) {
	for i, who := range []string{"OWNER@", "GROUP@", "EVERYONE@"} {
		var allowed, denied uint32
		for _, e := range list {
			switch {
			case e.flags&inheritOnly != 0 || e.who != who && e.who != "EVERYONE@":
			case e.kind == typeAllow:
				allowed |= e.mask &^ denied
			case e.kind == typeDeny:
				denied |= e.mask &^ allowed
			}
		}

		class := uint32(0)
		if allowed&readData != 0 {
			class |= 4
		}
		if allowed&writeData != 0 && allowed&appendData != 0 {
			class |= 2
		}
		if allowed&execute != 0 {
			class |= 1
		}
		bits |= class << (6 - 3*i)
	}
	return bits
}

// ofMode returns a list that comes to a mode.
func ofMode(bits uint32, folder bool) (list []entry) {
	const always = readACL | 0x80 | 0x100000
	rights := func(class uint32) (m uint32) {
		for bit, right := range map[uint32]uint32{4: readData | 0x8, 2: writeData | appendData, 1: execute} {
			if class&bit != 0 {
				m |= right
			}
		}
		if folder && class&2 != 0 {
			m |= deleteChild
		}
		return m
	}
	owner, group, other := rights(bits>>6&7), rights(bits>>3&7), rights(bits&7)
	if less := (group | other) &^ owner; less != 0 {
		list = append(list, entry{typeDeny, 0, less, "OWNER@"})
	}
	list = append(list, entry{typeAllow, 0, owner | always | writeACL | writeAttributes | 0x10, "OWNER@"})
	if less := other &^ group; less != 0 {
		list = append(list, entry{typeDeny, identifierGroup, less, "GROUP@"})
	}
	return append(list, entry{typeAllow, identifierGroup, group | always, "GROUP@"},
		entry{typeAllow, 0, other | always, "EVERYONE@"})
}

// passedOn returns what something new inherits from a folder (section 6.2.1.4.1); none if its mode decides.
func passedOn(list []entry, folder bool) (out []entry) {
	for _, e := range list {
		switch {
		case !folder && e.flags&fileInherit != 0:
			e.flags = e.flags&identifierGroup | inherited
		case folder && e.flags&dirInherit != 0:
			e.flags = e.flags&^inheritOnly | inherited
			if e.flags&noPropagate != 0 {
				e.flags &^= fileInherit | dirInherit | noPropagate
			}
		case folder && e.flags&fileInherit != 0 && e.flags&noPropagate == 0:
			e.flags |= inheritOnly | inherited
		default:
			continue
		}
		out = append(out, e)
	}
	return out
}
