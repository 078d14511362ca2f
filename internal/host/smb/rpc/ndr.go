package rpc

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"unicode/utf16"

	"idletally/internal/core/ntsd"
)

// A writer writes the arguments of a call, each at a multiple of its size.
type writer struct {
	b    []byte
	refs uint32
}

func (w *writer) align(n int) {
	for len(w.b)%n != 0 {
		w.b = append(w.b, 0)
	}
}

func (w *writer) u16(v uint16) { w.align(2); w.b = binary.LittleEndian.AppendUint16(w.b, v) }
func (w *writer) u32(v uint32) { w.align(4); w.b = binary.LittleEndian.AppendUint32(w.b, v) }

// ref writes a pointer; what it points to follows after the structure.
func (w *writer) ref() {
	w.refs++
	w.u32(0x0002_0000 + w.refs*4)
}

// text writes the head of a counted string, and chars what it points to.
func (w *writer) text(s string) []uint16 {
	units := utf16.Encode([]rune(s))
	w.u16(uint16(2 * len(units)))
	w.u16(uint16(2 * len(units)))
	w.ref()
	return units
}

func (w *writer) chars(units []uint16) {
	w.u32(uint32(len(units)))
	w.u32(0)
	w.u32(uint32(len(units)))
	for _, u := range units {
		w.u16(u)
	}
}

// zeroEnded writes a string that ends with a zero.
func (w *writer) zeroEnded(s string) { w.chars(append(utf16.Encode([]rune(s)), 0)) }

func (w *writer) sid(s ntsd.SID) {
	w.u32(uint32(len(s.Subs())))
	w.b = append(w.b, s.Bytes()...)
}

func (w *writer) handle(h handle) { w.align(4); w.b = append(w.b, h[:]...) }

// sids writes counted identifiers behind a pointer (MS-LSAT 2.2.18, MS-SAMR 2.2.3.7).
func (w *writer) sids(list []ntsd.SID) {
	w.u32(uint32(len(list)))
	w.ref()
	w.u32(uint32(len(list)))
	for range list {
		w.ref()
	}
	for _, s := range list {
		w.sid(s)
	}
}

// A handle stands for something that is open at the server.
type handle [20]byte

var errEnds = errors.New("the server's answer ends too early")

// maxCount bounds how many things a server may list in one answer.
const maxCount = 1 << 16

// A reader reads an answer. After an error everything is zero.
type reader struct {
	b   []byte
	at  int
	err error
}

func (r *reader) take(n int) []byte {
	if r.err == nil && (n < 0 || len(r.b)-r.at < n) {
		r.err = errEnds
	}
	if r.err != nil {
		return make([]byte, min(max(n, 0), 64))
	}
	r.at += n
	return r.b[r.at-n : r.at]
}

func (r *reader) align(n int) {
	if r.err == nil {
		r.take((n - r.at%n) % n)
	}
}

func (r *reader) u16() uint16 { r.align(2); return binary.LittleEndian.Uint16(r.take(2)) }
func (r *reader) u32() uint32 { r.align(4); return binary.LittleEndian.Uint32(r.take(4)) }

func (r *reader) count() int {
	n := r.u32()
	if r.err == nil && n > maxCount {
		r.err = fmt.Errorf("the server lists %d at once", n)
	}
	if r.err != nil {
		return 0
	}
	return int(n)
}

// ref reads a pointer, and reports whether it points to anything.
func (r *reader) ref() bool { return r.u32() != 0 && r.err == nil }

// text reads the head of a counted string, and reports whether a string follows.
func (r *reader) text() bool {
	r.align(4)
	r.u16()
	r.u16()
	return r.ref()
}

func (r *reader) chars() string {
	r.u32()
	skip, n := r.count(), r.count()
	if skip != 0 && r.err == nil {
		r.err = errors.New("the server sends a string that begins in its middle")
	}

	if r.err == nil && 2*n > len(r.b)-r.at {
		r.err = errEnds
	}

	if r.err != nil {
		return ""
	}

	units := make([]uint16, n)
	for i := range units {
		units[i] = r.u16()
	}

	return string(utf16.Decode(units))
}

// maxName is longer than any name of an account or domain is (MS-SAMR 2.2.3.1).
const maxName = 1024

// name reads the name of an account or domain.
func (r *reader) name() string {
	name := r.chars()
	if len(name) > maxName && r.err == nil {
		r.err = fmt.Errorf("the server sends a name of %d bytes", len(name))
	}
	return name[:min(len(name), maxName)]
}

// zeroEnded reads a string that ends with a zero.
func (r *reader) zeroEnded() string { return strings.TrimRight(r.chars(), "\x00") }

func (r *reader) sid() ntsd.SID {
	r.count()
	if r.err == nil && len(r.b)-r.at >= 8 && r.b[r.at] == 0 { // what stands for none
		r.take(8)
		return ntsd.SID{}
	}
	if r.err != nil {
		return ntsd.SID{}
	}
	s, n, err := ntsd.SIDFromBytes(r.b[r.at:])
	if err != nil {
		r.err = err
		return ntsd.SID{}
	}
	r.take(n)
	return s
}

func (r *reader) handle() (h handle) {
	r.align(4)
	copy(h[:], r.take(len(h)))
	return h
}

// Status codes that are answers (MS-ERREF 2.3.1).
const (
	someNotMapped = 0x0000_0107
	noneMapped    = 0xC000_0073
	moreEntries   = 0x0000_0105
	noSuchAlias   = 0xC000_0151
	noSuchUser    = 0xC000_0064
)

// status reads the code at an answer's end.
func (r *reader) status(fine ...uint32) (uint32, error) {
	code := r.u32()
	if r.err != nil {
		return 0, r.err
	}
	if code == 0 {
		return 0, nil
	}
	for _, f := range fine {
		if code == f {
			return code, nil
		}
	}
	return code, fmt.Errorf("the server refuses it with status %#x", code)
}
