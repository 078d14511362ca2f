// Package mode holds the twelve permission bits of POSIX.1-2024 <sys/stat.h>: nine for owner,
// group and others, three special ones (set-user-ID, set-group-ID, sticky).
package mode

import (
	"fmt"
	"strings"
)

// A Mode is twelve permission bits; the file type is not part of it.
type Mode uint16

// The special bits.
const (
	SetUID Mode = 0o4000
	SetGID Mode = 0o2000
	Sticky Mode = 0o1000
	All    Mode = 0o7777
)

// A Perm is three bits: read 4, write 2, execute (on a folder: pass through) 1.
type Perm uint8

// The bits of a Perm.
const (
	Read    Perm = 4
	Write   Perm = 2
	Execute Perm = 1
)

const permLetters = "rwx"

// String returns three letters, a hyphen for each bit that is off.
func (p Perm) String() string {
	b := []byte("---")
	for i := range b {
		if p&(4>>i) != 0 {
			b[i] = permLetters[i]
		}
	}
	return string(b)
}

// ParsePerm reads letters out of "rwx" and hyphens, in any order, or one octal digit.
func ParsePerm(s string) (Perm, error) {
	if s == "" {
		return 0, fmt.Errorf("permission is empty: want letters out of r, w, x, such as \"r-x\"")
	}
	if len(s) == 1 && s[0] >= '0' && s[0] <= '7' {
		return Perm(s[0] - '0'), nil
	}

	var p Perm
	for i := range len(s) {
		switch s[i] {
		case 'r':
			p |= Read
		case 'w':
			p |= Write
		case 'x':
			p |= Execute
		case '-':
		default:
			return 0, fmt.Errorf("permission %q: character %d is %q, want r, w, x or -", s, i+1, s[i])
		}
	}

	return p, nil
}

// ParseOctal reads one to four octal digits. A leading 0 or 0o changes nothing: digits are
// always octal here, because nobody means a decimal mode.
func ParseOctal(s string) (Mode, error) {
	digits := strings.TrimPrefix(s, "0o")
	if len(digits) == 5 && digits[0] == '0' { // 02750
		digits = digits[1:]
	}

	if digits == "" || len(digits) > 4 {
		return 0, fmt.Errorf("mode %q: want 1 to 4 octal digits, such as 0640", s)
	}

	var m Mode
	for i := range len(digits) {
		c := digits[i]
		if c < '0' || c > '7' {
			return 0, fmt.Errorf("mode %q: character %d is %q, want an octal digit 0 to 7", s, len(s)-len(digits)+i+1,
				c)
		}
		m = m<<3 | Mode(c-'0')
	}

	return m, nil
}

// String returns four octal digits.
func (m Mode) String() string { return fmt.Sprintf("%04o", uint16(m&All)) }

// Letters returns the nine letters of a listing, set-ID and sticky bits included (s, S, t, T: a
// capital where the execute bit under it is off).
func (m Mode) Letters() string {
	b := []byte(m.Owner().String() + m.Group().String() + m.Other().String())
	special := func(on bool, at int, set byte) {
		switch {
		case !on:
		case b[at] == 'x':
			b[at] = set
		default:
			b[at] = set - 'a' + 'A'
		}
	}
	special(m&SetUID != 0, 2, 's')
	special(m&SetGID != 0, 5, 's')
	special(m&Sticky != 0, 8, 't')
	return string(b)
}

// ParseLetters reads the nine letters of a listing.
func ParseLetters(s string) (Mode, error) {
	if len(s) != 9 {
		return 0, fmt.Errorf("mode %q: want nine letters, such as rw-r-----", s)
	}

	var m Mode
	for i := range 9 {
		bit := Mode(0o400) >> i
		special := [3]Mode{SetUID, SetGID, Sticky}[i/3]
		low := byte("sst"[i/3])

		switch c := s[i]; {
		case c == '-':
		case c == permLetters[i%3]:
			m |= bit
		case i%3 == 2 && c == low:
			m |= bit | special
		case i%3 == 2 && c == low-'a'+'A':
			m |= special
		default:
			return 0, fmt.Errorf("mode %q: character %d is %q, want %c or -", s, i+1, c, permLetters[i%3])
		}
	}

	return m, nil
}

// Owner is what the owner class may do.
func (m Mode) Owner() Perm { return Perm(m >> 6 & 7) }

// Group is what the group class may do; on a path with an access list it is the mask.
func (m Mode) Group() Perm { return Perm(m >> 3 & 7) }

// Other is what everybody else may do.
func (m Mode) Other() Perm { return Perm(m & 7) }

// With puts the three classes together, keeping the special bits of m.
func (m Mode) With(owner, group, other Perm) Mode {
	return m&^0o777 | Mode(owner)<<6 | Mode(group)<<3 | Mode(other)
}
