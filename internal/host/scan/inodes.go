//go:build linux

package scan

import (
	"math/bits"
	"sync/atomic"

	"idletally/internal/core/perm"
)

// Inodes remembers, by a few bits each, of which inodes there are files below some roots: what it does not know is
// surely not there; of what it knows, a few in a thousand are not there either. It tells whether a file that was
// changed by a name elsewhere can have a name here.
type Inodes struct {
	words []atomic.Uint64
	mask  uint64
}

const (
	bitsEach   = 12
	hashesEach = 5
)

// NewInodes makes room for so many.
func NewInodes(n int64) *Inodes {
	size := uint64(1) << max(12, bits.Len64(uint64(max(n, 1))*bitsEach-1))
	return &Inodes{make([]atomic.Uint64, size/64), size - 1}
}

// mix spreads a number over all bits (the finaliser of SplitMix64).
func mix(x uint64) uint64 {
	x ^= x >> 30
	x *= 0xbf58476d1ce4e5b9
	x ^= x >> 27
	x *= 0x94d049bb133111eb
	return x ^ x>>31
}

func (s *Inodes) add(ino uint64, k perm.Kind) {
	if s == nil || k == perm.Folder { // which has one name
		return
	}
	at, step := mix(ino), mix(ino+0x9e3779b97f4a7c15)|1
	for range hashesEach {
		s.words[at&s.mask/64].Or(1 << (at % 64))
		at += step
	}
}

// Has reports whether an inode may be there.
func (s *Inodes) Has(ino uint64) bool {
	if s == nil {
		return true
	}
	at, step := mix(ino), mix(ino+0x9e3779b97f4a7c15)|1
	for range hashesEach {
		if s.words[at&s.mask/64].Load()&(1<<(at%64)) == 0 {
			return false
		}
		at += step
	}
	return true
}
