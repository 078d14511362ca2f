package app

import (
	"bytes"
	"slices"
	"testing"

	"idletally/internal/service/auth"
	"idletally/internal/service/authority"
)

// What is kept of a spare code tells nothing of it to who has the database alone: it is by a key of the
// service's, and for its person.
func TestSpareCodes(t *testing.T) {
	with := func(secret byte) *App {
		return &App{authority: &authority.Authority{Secrets: bytes.Repeat([]byte{secret}, 32)}}
	}
	codes, hashes := with(1).newSpareCodes("purser")
	seen := map[[32]byte]bool{}

	for i, c := range codes {
		for _, other := range [][32]byte{
			auth.HashToken(c), with(2).spareHash("purser", c), with(1).spareHash("bosun", c),
		} {
			if other == hashes[i] {
				t.Errorf("%s is kept as anybody computes it", c)
			}
		}
		if hashes[i] != with(1).spareHash("purser", c) || seen[hashes[i]] {
			t.Errorf("%s: %x", c, hashes[i])
		}
		seen[hashes[i]] = true
	}
}

func TestHubWakesOnlyItsHost(t *testing.T) {
	h := newHub()
	a, b := h.wait("a"), h.wait("b")
	h.wake("a")
	select {
	case <-a:
	default:
		t.Error("the host's call was not woken")
	}
	select {
	case <-b:
		t.Error("another host's call was woken")
	default:
	}
	h.wake("nobody")
}

func TestNewsKinds(t *testing.T) {
	if kinds := newsKinds(); len(kinds) < 12 || !slices.IsSorted(kinds) || slices.Contains(kinds, "") {
		t.Errorf("%q", kinds)
	}
}
