// Package perm is one path's permission state, whatever the kind of system it lives on: a small comparable value that
// snapshots intern, rules are held against and plans change.
//
// What a scheme means (modes and POSIX lists, security descriptors) stands behind the interface [Scheme], in a package
// of its own; everybody else sees sets, aspects and effects. A set of a scheme that nobody registered is never taken
// for harmless: [ParseSet] refuses it, and whatever else is asked of it panics.
//
//	before, after := posix.State{Mode: 0o640}.Set(), posix.State{Mode: 0o644}.Set()
//	perm.Between(perm.File, before, after, nil).String() // "opens for everyone: read"
package perm

import (
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
)

// A Kind is what a path is. It is always said in words: names and colours mislead.
type Kind uint8

// The kinds.
const (
	File Kind = 1 + iota
	Folder
	Link
	Socket
	Pipe
	CharDevice
	BlockDevice
)

var kindNames = [...]string{"", "file", "folder", "link", "socket", "pipe", "character device", "block device"}

// Valid reports whether k is one of the kinds.
func (k Kind) Valid() bool { return k >= File && k <= BlockDevice }

func (k Kind) String() string {
	if !k.Valid() {
		return "unknown kind " + strconv.Itoa(int(k))
	}
	return kindNames[k]
}

// MarshalText returns the kind's word.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }

// UnmarshalText reads the kind's word.
func (k *Kind) UnmarshalText(b []byte) error {
	i := slices.Index(kindNames[:], string(b))
	if i < 1 {
		return fmt.Errorf("kind %q is unknown", b)
	}
	*k = Kind(i)
	return nil
}

// MaxSet bounds the encoded form of a set in bytes.
const MaxSet = 128 << 10

// A Set is one path's permission state in canonical bytes, so that two sets are the same state
// exactly when they are ==. The zero Set is no state.
type Set struct{ enc string }

// Bytes returns the canonical encoding, the scheme's byte first.
func (s Set) Bytes() string { return s.enc }

// IsZero reports whether there is no state at all.
func (s Set) IsZero() bool { return s.enc == "" }

// MarshalText returns the encoding as base64.
func (s Set) MarshalText() ([]byte, error) {
	return base64.StdEncoding.AppendEncode(nil, []byte(s.enc)), nil
}

// UnmarshalText reads and checks what MarshalText gave; nothing is the zero Set.
func (s *Set) UnmarshalText(b []byte) error {
	raw, err := base64.StdEncoding.AppendDecode(nil, b)
	if err != nil {
		return fmt.Errorf("permission set: %w", err)
	}
	if len(raw) == 0 {
		*s = Set{}
		return nil
	}
	*s, err = ParseSet(string(raw))
	return err
}

// Scheme says how the set is to be read.
func (s Set) Scheme() SchemeID {
	if s.enc == "" {
		return 0
	}
	return SchemeID(s.enc[0])
}

// ParseSet checks an encoding that came from elsewhere.
func ParseSet(b string) (Set, error) {
	if len(b) > MaxSet {
		return Set{}, fmt.Errorf("permission set has %d bytes, at most %d are allowed", len(b), MaxSet)
	}

	s := Set{b}
	scheme := schemeOf(s.Scheme())
	if scheme == nil {
		return Set{}, fmt.Errorf("permission set has the unknown scheme %d", s.Scheme())
	}
	st, err := scheme.Decode(b[1:])
	if err != nil {
		return Set{}, err
	}
	if again, err := st.Encode(); err != nil || again != s {
		return Set{}, errors.New("permission set is not in canonical form")
	}
	return s, nil
}

// errNoState is what comes of making something of a path that could not be read.
var errNoState = errors.New("the path's permissions are not known")

// Flags are inode attributes that deny what the permissions grant, even to root.
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

// Narrow returns the state that a change passes through, in which everybody has at most what they have both before and
// after, whatever groups they are in:
//
//	before --narrow--> narrowed (old owner) --widen--> after (new owner)
//
// A run narrows every path of a plan before it widens the first, so that nobody ever has more than before, and, since
// what leads to a path is narrow by then, nobody has more than after. A change of owner clears set-ID bits and
// capabilities of anything but a folder (chown(2)), so they are off in between.
//
// A security descriptor changes at once, owner and list: there it returns after.
func Narrow(k Kind, before, after Set) (Set, error) {
	from, to, ok := states(before, after)
	if !ok {
		return Set{}, fmt.Errorf("nothing stands between states of scheme %s and %s", before.Scheme(), after.Scheme())
	}
	return from.Narrow(k, to)
}
