package plan_test

import (
	"fmt"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
)

// A plan's steps are encoded in chunks, which its manifest names by hash: whoever has the manifest's digest has all
// of it, and finds every change of a chunk.
func Example() {
	chunk := plan.EncodeChunk([]plan.Step{{
		Path:   "/srv/ticketing/ledger",
		Kind:   perm.File,
		Before: posix.State{Mode: 0o666}.Set(),
		After:  posix.State{Mode: 0o640}.Set(),
	}})
	hash := plan.Digest(chunk)

	steps, err := plan.CheckChunk(chunk, hash, []string{"/srv/ticketing"})
	fmt.Println(len(steps), err)

	chunk[len(chunk)-1] ^= 1
	_, err = plan.CheckChunk(chunk, hash, []string{"/srv/ticketing"})
	fmt.Println(err != nil)
	// Output:
	// 1 <nil>
	// true
}
