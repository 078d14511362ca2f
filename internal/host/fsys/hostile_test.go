package fsys

import (
	"encoding/binary"
	"testing"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/testkit/seeded"
)

// A file system of somebody's own may tell any attributes. What is taken from it is a state that can be read back,
// and everything else is an error: a set that nothing can read would end the agent.
func TestHostileAttributes(t *testing.T) {
	r := seeded.Rand(t)
	list := func(n int, id uint32) []byte {
		b := binary.LittleEndian.AppendUint32(nil, 2)
		for i := range n {
			tag := []uint16{1, 2, 4, 8, 16, 32}[r.IntN(6)]
			b = binary.LittleEndian.AppendUint16(b, tag)
			b = binary.LittleEndian.AppendUint16(b, uint16(r.IntN(8)))
			b = binary.LittleEndian.AppendUint32(b, id-uint32(i))
		}
		return b
	}
	whole := func(named int, last uint32) []byte {
		l := posixacl.List{{Tag: posixacl.UserObj, ID: posixacl.NoID}, {Tag: posixacl.GroupObj, ID: posixacl.NoID},
			{Tag: posixacl.Mask, ID: posixacl.NoID}, {Tag: posixacl.Other, ID: posixacl.NoID}}
		for i := range named {
			l = append(l, posixacl.Entry{Tag: posixacl.User, ID: last - uint32(i)})
		}
		return l.AppendXattr(nil)
	}

	taken, refused := 0, 0
	try := func(name string, b []byte) {
		t.Helper()
		s, err := assemble(perm.Inode{}, func(a string) string {
			if a == name {
				return string(b)
			}
			return ""
		})
		if err != nil {
			refused++
			return
		}
		taken++
		if _, err := perm.ParseSet(s.Bytes()); err != nil {
			t.Fatalf("%s of %d bytes is taken, and cannot be read: %v", name, len(b), err)
		}
		perm.Mentioned(s, nil)
		perm.Describe(perm.File, s, nil)
	}

	for n := range 200 {
		try(posix.AttrCaps, make([]byte, n))
	}
	for _, name := range []string{posix.AttrAccess, posix.AttrDefault} {
		for _, n := range []int{0, 1, 3, posixacl.MaxEntries, posixacl.MaxEntries + 1, 8000} {
			try(name, whole(n, 1000))
			try(name, whole(n, posixacl.NoID))
			try(name, list(n, 7))
			try(name, list(n, posixacl.NoID))
		}
		for range 300 {
			try(name, list(r.IntN(12), uint32(r.IntN(20))))
		}
	}
	if taken < 50 || refused < 50 {
		t.Errorf("%d were taken, %d refused: the test sees too little", taken, refused)
	}
}
