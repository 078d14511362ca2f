//go:build linux

package rpc

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"slices"
	"testing"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/privilege"
	"idletally/internal/testkit/frugal"
)

// rogue is a server that answers each call as it likes.
type rogue struct {
	bytes.Buffer
	tells func(op uint16) []byte // nil for an answer of fragments without end
	spin  []byte
}

func (s *rogue) Write(b []byte) (int, error) {
	call := binary.LittleEndian.Uint32(b[12:])
	if b[2] == bind {
		s.Buffer.Write(packet(bindAck, firstFragment|lastFragment, call, make([]byte, 36)))
		return len(b), nil
	}

	body := s.tells(binary.LittleEndian.Uint16(b[22:]))
	if body == nil {
		s.Buffer.Write(packet(response, firstFragment, call, make([]byte, 8)))
		s.spin = packet(response, 0, call, make([]byte, 8))
		return len(b), nil
	}

	for flags := byte(firstFragment); flags&lastFragment == 0; {
		part := body[:min(len(body), 60_000)]
		body = body[len(part):]
		if len(body) == 0 {
			flags |= lastFragment
		}

		s.Buffer.Write(packet(response, flags, call, append(make([]byte, 8), part...)))
		flags &^= firstFragment
	}

	return len(b), nil
}

func (s *rogue) Read(b []byte) (int, error) {
	if s.Buffer.Len() == 0 && s.spin != nil {
		s.Buffer.Write(s.spin)
	}
	return s.Buffer.Read(b)
}

// enumerated is one page of an enumeration.
func enumerated(n int, name string, status uint32) []byte {
	w := &writer{}
	w.u32(1) // where to go on
	w.ref()
	w.u32(uint32(n))
	w.ref()
	w.u32(uint32(n))
	for range n {
		w.u32(7)
		w.text(name)
	}

	for range n {
		w.zeroEnded(name)
	}

	w.u32(uint32(n))
	w.u32(status)
	return w.b
}

// memberships is an answer to SamrGetGroupsForUser.
func memberships(n int) []byte {
	w := &writer{}
	w.ref()
	w.u32(uint32(n))
	w.ref()
	w.u32(uint32(n))
	for i := range n {
		w.u32(uint32(i))
		w.u32(7)
	}
	w.u32(0)
	return w.b
}

// A file server that tells of holders of privileges without end is left.
func TestHoldersAreBounded(t *testing.T) {
	page := func(n int, status uint32) []byte {
		w := &writer{}
		w.u32(1)
		w.sids(slices.Repeat([]ntsd.SID{ntsd.Everyone}, n))
		w.u32(status)
		return w.b
	}

	rights := &writer{}
	rights.u32(1)
	rights.ref()
	rights.u32(1)
	chars := rights.text("SeBackupPrivilege")
	rights.chars(chars)
	rights.u32(0)

	for name, c := range map[string]struct {
		holders []byte
		sound   bool
	}{
		"a usual one":       {page(3, 0), true},
		"nobody":            {page(0, noMoreEntries), true},
		"many":              {page(maxHolders+1, 0), false},
		"the same for ever": {page(1, moreEntries), true},
		"nothing":           {nil, false},
	} {
		t.Run(name, func(t *testing.T) {
			frugal.Run(t, 64<<20, func() {
				got, err := Privileges(&rogue{tells: func(op uint16) []byte {
					switch op {
					case 11:
						return c.holders
					case 36:
						return rights.b
					}
					return make([]byte, 24)
				}})

				if (err == nil) != c.sound || c.sound && name != "nobody" && got[ntsd.Everyone] != privilege.Backup {
					t.Errorf("%v, %v", got, err)
				}
			})
		})
	}
}

// A file server that tells of accounts without end is left, and takes no more than 64 MiB until then.
func TestAccountsAreFrugal(t *testing.T) {
	opened := make([]byte, 24) // a handle, and no error
	domain := &writer{}
	domain.ref()
	domain.sid(ntsd.NewSID(5, 21, 1, 2, 3))
	domain.u32(0)
	long := string(bytes.Repeat([]byte{'x'}, 30_000))
	usual := func(op uint16) []byte {
		switch op {
		case 5: // SamrLookupDomainInSamServer
			return domain.b
		case 6: // SamrEnumerateDomainsInSamServer
			return enumerated(1, "d", 0)
		case 11, 13, 15:
			return enumerated(500, "a", 0)
		case 16:
			return append(make([]byte, 8), 0, 0, 0, 0) // no aliases
		case 39:
			return memberships(10)
		}

		return opened
	}

	with := func(op uint16, answer []byte) func(uint16) []byte {
		return func(other uint16) []byte {
			if other == op {
				return answer
			}
			return usual(other)
		}
	}

	for name, c := range map[string]struct {
		tells func(uint16) []byte
		sound bool
	}{
		"a usual one":              {usual, true},
		"fragments with nothing":   {with(13, nil), false},
		"domains":                  {with(6, enumerated(5000, "d", 0)), false},
		"pages":                    {with(13, enumerated(1, "a", moreEntries)), false},
		"long names":               {with(13, enumerated(100, long, moreEntries)), false},
		"names as long as allowed": {with(13, enumerated(2000, long[:maxName-1], moreEntries)), false},
		"memberships":              {with(39, memberships(maxCount)), false},
	} {
		t.Run(name, func(t *testing.T) {
			frugal.Run(t, 64<<20, func() {
				if _, err := Accounts(&rogue{tells: c.tells}); (err == nil) != c.sound {
					panic(fmt.Sprintf("listed with %v", err))
				}
			})
		})
	}
}
