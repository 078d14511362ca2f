package nfs4

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"idletally/internal/core/ace"
)

// Attribute is the extended attribute of Linux that holds a list: the XDR of fattr4_acl (RFC 8881 section 6.2).
const Attribute = "system.nfs4_acl"

// A Type says what an entry does (RFC 8881 section 6.2.1.1).
type Type uint32

// The types. Audit and Alarm decide nothing about access; they are kept as they are.
const (
	Allow Type = 0
	Deny  Type = 1
	Audit Type = 2
	Alarm Type = 3
)

// Flags say whom an entry is for, and where it came from (RFC 8881 section 6.2.1.4). The first four are those of
// [ace.Flags].
type Flags uint32

// The flags.
const (
	FileInherit     Flags = 0x01
	FolderInherit   Flags = 0x02
	NoPropagate     Flags = 0x04
	InheritOnly     Flags = 0x08
	SuccessfulUse   Flags = 0x10 // of Audit and Alarm
	FailedUse       Flags = 0x20 // of Audit and Alarm
	IdentifierGroup Flags = 0x40
	Inherited       Flags = 0x80

	allFlags Flags = 0xff
	reaching       = FileInherit | FolderInherit | NoPropagate | InheritOnly
)

// The who of entries that stand for no account (RFC 8881 section 6.2.1.5).
const (
	Owner         = "OWNER@"
	Group         = "GROUP@"
	Everyone      = "EVERYONE@"
	Authenticated = "AUTHENTICATED@"
	Anonymous     = "ANONYMOUS@"
)

// special lists every who of that section. Of those without a constant above, only the server knows whom they mean:
// they say how somebody signed in.
var special = map[string]bool{
	Owner: true, Group: true, Everyone: true, Authenticated: true, Anonymous: true,
	"INTERACTIVE@": true, "NETWORK@": true, "DIALUP@": true, "BATCH@": true, "SERVICE@": true,
}

// An Entry is one nfsace4. It is comparable.
type Entry struct {
	Type  Type
	Flags Flags
	Mask  ace.Mask
	Who   string // OWNER@ and the like, name@domain, or a number
}

// group reports whether the entry names a group. The who that stand for no account need no flag to say so.
func (e Entry) group() bool {
	if special[e.Who] {
		return e.Who == Group
	}
	return e.Flags&IdentifierGroup != 0
}

// decides reports whether an entry has a part in what somebody can do with the path itself.
func (e Entry) decides() bool { return (e.Type == Allow || e.Type == Deny) && e.Flags&InheritOnly == 0 }

// A List is a path's access list, in the order in which it counts.
type List []Entry

// Bounds of what is read: a list of more is refused.
const (
	MaxEntries = 1024
	MaxWho     = 256 // bytes
)

var errShort = errors.New("the NFSv4 list ends too early")

// DecodeXattr reads the value of the attribute. It checks every bound: a hostile file system may return anything.
func DecodeXattr(b []byte) (List, error) {
	r := reader{left: b}
	n := r.word()
	if n > MaxEntries {
		return nil, fmt.Errorf("the NFSv4 list has %d entries, at most %d are understood", n, MaxEntries)
	}

	l := List{}
	for range n {
		e := Entry{Type: Type(r.word()), Flags: Flags(r.word()), Mask: ace.Mask(r.word())}
		e.Who = r.text()
		if r.err != nil {
			return nil, r.err
		}
		if err := e.check(); err != nil {
			return nil, err
		}
		l = append(l, e)
	}
	if r.err == nil && len(r.left) > 0 {
		r.err = fmt.Errorf("the NFSv4 list is followed by %d bytes that are no part of it", len(r.left))
	}
	return l, r.err
}

// check refuses what RFC 8881 does not define: an entry that is not understood cannot be evaluated.
func (e Entry) check() error {
	switch {
	case e.Type > Alarm:
		return fmt.Errorf("the NFSv4 list has an entry of the unknown type %d", e.Type)
	case e.Flags&^allFlags != 0:
		return fmt.Errorf("the NFSv4 list has an entry with the unknown flags %#x", uint32(e.Flags&^allFlags))
	case e.Who == "" || len(e.Who) > MaxWho || !utf8.ValidString(e.Who) ||
		strings.ContainsFunc(e.Who, func(c rune) bool { return !unicode.IsGraphic(c) }):
		return fmt.Errorf("the NFSv4 list has an entry for %q, which names nobody", e.Who)
	}
	return nil
}

// AppendXattr appends the value of the attribute.
func (l List) AppendXattr(b []byte) []byte {
	b = binary.BigEndian.AppendUint32(b, uint32(len(l)))
	for _, e := range l {
		for _, n := range []uint32{uint32(e.Type), uint32(e.Flags), uint32(e.Mask), uint32(len(e.Who))} {
			b = binary.BigEndian.AppendUint32(b, n)
		}
		b = append(b, e.Who...)
		b = append(b, make([]byte, padding(len(e.Who)))...)
	}
	return b
}

// padding is how many bytes XDR puts behind n bytes of text (RFC 4506 section 4.11).
func padding(n int) int { return (4 - n%4) % 4 }

// A reader reads XDR. After an error it reads zeros.
type reader struct {
	left []byte
	err  error
}

func (r *reader) take(n int) []byte {
	if r.err == nil && len(r.left) < n {
		r.err = errShort
	}
	if r.err != nil {
		return make([]byte, min(n, 4))
	}
	b := r.left[:n]
	r.left = r.left[n:]
	return b
}

func (r *reader) word() uint32 { return binary.BigEndian.Uint32(r.take(4)) }

func (r *reader) text() string {
	n := r.word()
	if n > MaxWho {
		r.err = fmt.Errorf("the NFSv4 list names somebody in %d bytes, at most %d are understood", n, MaxWho)
	}
	if r.err != nil {
		return ""
	}
	s := string(r.take(int(n)))
	for _, c := range r.take(padding(int(n))) {
		if c != 0 && r.err == nil {
			r.err = errors.New("the NFSv4 list has text that is not filled up with zeros")
		}
	}
	return s
}
