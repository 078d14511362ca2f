// Package ntsd holds NT security descriptors (MS-DTYP): owner, group and discretionary list, in binary form
// and as SDDL text; what they grant to whom, and what children inherit of them.
package ntsd

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// A SID is a security identifier (MS-DTYP 2.4.2): an account, a group or a well-known identity. It is
// comparable; the zero SID is none.
type SID struct{ enc string } // as it stands in a packet

const maxSubs = 15 // MS-DTYP 2.4.2.2

// NewSID makes a SID of an authority, of 48 bits, and sub-authorities, 15 at most.
func NewSID(authority uint64, subs ...uint32) SID {
	b := make([]byte, 8, 8+4*len(subs))
	binary.BigEndian.PutUint64(b, authority)
	b[0], b[1] = 1, byte(len(subs))
	for _, s := range subs {
		b = binary.LittleEndian.AppendUint32(b, s)
	}
	return SID{string(b)}
}

// IsZero reports whether it is none.
func (s SID) IsZero() bool { return s.enc == "" }

// Bytes returns the binary form.
func (s SID) Bytes() string { return s.enc }

// SIDFromBytes reads a binary form, and tells how many bytes it takes.
func SIDFromBytes(b []byte) (SID, int, error) {
	if len(b) < 8 {
		return SID{}, 0, errors.New("security identifier ends too early")
	}
	n := 8 + 4*int(b[1])
	switch {
	case b[0] != 1:
		return SID{}, 0, fmt.Errorf("security identifier has the revision %d, want 1", b[0])
	case b[1] > maxSubs:
		return SID{}, 0, fmt.Errorf("security identifier has %d parts, at most %d are allowed", b[1], maxSubs)
	case len(b) < n:
		return SID{}, 0, errors.New("security identifier ends too early")
	}
	return SID{string(b[:n])}, n, nil
}

// Authority returns the identifier authority.
func (s SID) Authority() uint64 {
	if s.IsZero() {
		return 0
	}
	return binary.BigEndian.Uint64([]byte(s.enc[:8])) & (1<<48 - 1)
}

// Subs returns the sub-authorities.
func (s SID) Subs() []uint32 {
	var out []uint32
	for at := 8; at < len(s.enc); at += 4 {
		out = append(out, binary.LittleEndian.Uint32([]byte(s.enc[at:at+4])))
	}
	return out
}

// RID returns the last sub-authority, which tells accounts of a domain apart, and the rest, which is the domain.
func (s SID) RID() (domain SID, rid uint32, ok bool) {
	subs := s.Subs()
	if len(subs) < 2 {
		return SID{}, 0, false
	}
	return NewSID(s.Authority(), subs[:len(subs)-1]...), subs[len(subs)-1], true
}

// String returns the usual text, S-1-5-32-544 (MS-DTYP 2.4.2.1).
func (s SID) String() string {
	if s.IsZero() {
		return ""
	}
	b := []byte("S-1-")
	if a := s.Authority(); a < 1<<32 {
		b = strconv.AppendUint(b, a, 10)
	} else {
		b = fmt.Appendf(b, "0x%012x", a)
	}
	for _, sub := range s.Subs() {
		b = append(b, '-')
		b = strconv.AppendUint(b, uint64(sub), 10)
	}
	return string(b)
}

// ParseSID reads the usual text.
func ParseSID(text string) (SID, error) {
	fail := func(why string) (SID, error) {
		return SID{}, fmt.Errorf("security identifier %q: %s", text, why)
	}
	parts := strings.Split(text, "-")
	if len(parts) < 3 || parts[0] != "S" && parts[0] != "s" {
		return fail("want S-1-AUTHORITY-PART…, such as S-1-5-32-544")
	}
	if parts[1] != "1" {
		return fail("the revision is not 1")
	}
	if len(parts)-3 > maxSubs {
		return fail(fmt.Sprintf("it has %d parts, at most %d are allowed", len(parts)-3, maxSubs))
	}

	digits, base := parts[2], 10
	if hex, ok := strings.CutPrefix(digits, "0x"); ok {
		digits, base = hex, 16
	}

	authority, err := strconv.ParseUint(digits, base, 48)
	if err != nil {
		return fail("the authority is no number of 48 bits")
	}

	var subs []uint32
	for _, p := range parts[3:] {
		n, err := strconv.ParseUint(p, 10, 32)
		if err != nil {
			return fail(fmt.Sprintf("%q is no number of 32 bits", p))
		}
		subs = append(subs, uint32(n))
	}

	return NewSID(authority, subs...), nil
}

// MarshalText returns the usual text.
func (s SID) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads it.
func (s *SID) UnmarshalText(b []byte) (err error) {
	if len(b) == 0 {
		*s = SID{}
		return nil
	}
	*s, err = ParseSID(string(b))
	return err
}

// Identities that are the same everywhere (MS-DTYP 2.4.2.4).
var (
	Nobody         = NewSID(0, 0)
	Everyone       = NewSID(1, 0)
	CreatorOwner   = NewSID(3, 0) // in what is inherited: who makes the child
	CreatorGroup   = NewSID(3, 1)
	OwnerRights    = NewSID(3, 4) // the present owner, instead of what owners may by themselves
	Network        = NewSID(5, 2)
	Interactive    = NewSID(5, 4)
	Anonymous      = NewSID(5, 7)
	Self           = NewSID(5, 10)
	Authenticated  = NewSID(5, 11)
	System         = NewSID(5, 18)
	LocalService   = NewSID(5, 19)
	NetworkService = NewSID(5, 20)
	Administrators = NewSID(5, 32, 544)
	Users          = NewSID(5, 32, 545)
	Guests         = NewSID(5, 32, 546)
	PowerUsers     = NewSID(5, 32, 547)
	AccountOps     = NewSID(5, 32, 548)
	ServerOps      = NewSID(5, 32, 549)
	PrintOps       = NewSID(5, 32, 550)
	BackupOps      = NewSID(5, 32, 551)
)

// known are well-known identities with the words people read, and the two letters of SDDL (MS-DTYP 2.5.1.1).
var known = []struct {
	sid     SID
	name    string
	letters string
}{
	{Nobody, "nobody", ""},
	{Everyone, "everyone", "WD"},
	{CreatorOwner, "creator owner", "CO"},
	{CreatorGroup, "creator group", "CG"},
	{OwnerRights, "owner rights", "OW"},
	{Network, "network", "NU"},
	{Interactive, "interactive", "IU"},
	{Anonymous, "anonymous", "AN"},
	{Self, "self", "PS"},
	{Authenticated, "authenticated", "AU"},
	{System, "system", "SY"},
	{LocalService, "local service", "LS"},
	{NetworkService, "network service", "NS"},
	{Administrators, "administrators", "BA"},
	{Users, "users", "BU"},
	{Guests, "guests", "BG"},
	{PowerUsers, "power users", "PU"},
	{AccountOps, "account operators", "AO"},
	{ServerOps, "server operators", "SO"},
	{PrintOps, "print operators", "PO"},
	{BackupOps, "backup operators", "BO"},
}

// SystemAccount reports whether an identity is an account of the system below a Samba server: that of
// S-1-22-1-1000 is the one whose number is 1000 there.
func (s SID) SystemAccount() bool {
	return s.Authority() == 22 && len(s.Subs()) == 2 && s.Subs()[0] == 1
}

// Known returns the words for a well-known identity.
func (s SID) Known() (name string, ok bool) {
	for _, k := range known {
		if k.sid == s {
			return k.name, true
		}
	}
	return "", false
}

// KnownSID finds a well-known identity by its words.
func KnownSID(name string) (SID, bool) {
	for _, k := range known {
		if k.name == name {
			return k.sid, true
		}
	}
	return SID{}, false
}
