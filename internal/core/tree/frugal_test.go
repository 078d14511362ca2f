//go:build linux

package tree

import (
	"encoding/binary"
	"fmt"
	"testing"

	"idletally/internal/core/perm"
	"idletally/internal/testkit/frugal"
)

// The worst that a node can be made to be takes no more memory than 64 MiB besides its own bytes.
func TestDecodeIsFrugal(t *testing.T) {
	numbers := func(b []byte, list ...uint64) []byte {
		for _, n := range list {
			b = binary.AppendUvarint(b, n)
		}
		return b
	}

	folder := func(list ...uint64) []byte { return numbers([]byte{folderMark, plainNode}, list...) }
	for name, c := range map[string]struct {
		make  func() []byte
		sound bool
	}{
		"counts of what is not there": {
			func() []byte { return append(folder(MaxNode-16), make([]byte, MaxNode-16)...) },
			false,
		},
		"zeros": {func() []byte { return append(folder(0, MaxNode/minEntry-16), make([]byte, MaxNode-16)...) },
			false},
		"as many entries as there may be": {func() []byte { return Encode(Node{Entries: shortNames(MaxEntries)}) },
			true},
		"one more": {func() []byte { return Encode(Node{Entries: shortNames(MaxEntries + 1)}) },
			false},
		"as many sets as there may be": {func() []byte { return Encode(Node{Entries: ownSets(MaxSets)}) },
			true},
		"one more set": {func() []byte { return Encode(Node{Entries: ownSets(MaxSets + 1)}) },
			false},
		"many entries that have all they can":  {func() []byte { return Encode(Node{Entries: rich(300_000)}) }, true},
		"more bytes than a node has":           {func() []byte { return make([]byte, MaxNode+1) }, false},
		"the same set, as often as there room": {func() []byte { return sameSets(MaxSets) }, false},
	} {
		t.Run(name, func(t *testing.T) {
			b := c.make()
			frugal.Run(t, 64<<20, func() {
				if _, err := Decode(b); (err == nil) != c.sound {
					panic(fmt.Sprintf("decoded with %v", err))
				}
			})
		})
	}
}

// shortNames returns entries with names as short as so many different ones can be.
func shortNames(n int) []Entry {
	out := make([]Entry, n)
	for i := range out {
		name := []byte{byte(0x80 | i>>14), byte(0x80 | i>>7&0x7f), byte(0x80 | i&0x7f)}
		out[i] = Entry{Name: string(name), Kind: perm.File, Set: set(0, 0o644)}
	}
	return out
}

func ownSets(n int) []Entry {
	out := shortNames(n)
	for i := range out {
		out[i].Set = set(uint32(i), 0o644)
	}
	return out
}

func rich(n int) []Entry {
	out := shortNames(n)
	for i := range out {
		out[i].Links = uint32(2 + i%5)
		if i%2 == 0 {
			out[i] = Entry{Name: out[i].Name, Kind: perm.Folder, Set: out[i].Set, Child: Hash{byte(i), byte(i >> 8)}}
		}
	}
	return out
}

// sameSets returns bytes that say a set again and again.
func sameSets(n int) []byte {
	b := binary.AppendUvarint([]byte{folderMark, plainNode}, uint64(n))
	for range n {
		enc := set(1, 0o644).Bytes()
		b = append(binary.AppendUvarint(b, uint64(len(enc))), enc...)
	}
	return append(b, 0)
}
