package http

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"idletally/internal/service/auth"
	"idletally/internal/service/authority"
)

// Whoever changes how somebody signs in tells them: each operation on people says by which line, or that it
// changes nothing of that.
func TestNewsOf(t *testing.T) {
	for name, op := range operations(bare()) {
		about := strings.HasPrefix(op.Path, "/api/v1/me") || strings.HasPrefix(op.Path, "/api/v1/people/{name}")
		if _, known := newsOf[op.OperationID]; about && op.Method != "GET" && !known {
			t.Errorf("%s: say in newsOf by which line of the history somebody is told of it", name)
		}
	}
	if kinds := newsKinds(); len(kinds) < 12 || !slices.IsSorted(kinds) || slices.Contains(kinds, "") {
		t.Errorf("%q", kinds)
	}
}

// What is kept of a code to spare tells nothing of it to who has the database alone: it is by a key of the
// service's, and for its person.
func TestSpareCodes(t *testing.T) {
	with := func(secret byte) *Server {
		return &Server{Config: Config{Authority: &authority.Authority{Secrets: bytes.Repeat([]byte{secret}, 32)}}}
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
