package posix_test

import (
	"fmt"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
)

// A state becomes a set, which is compared by ==, and what going from one to another does is told without knowing
// what either holds.
func Example() {
	before := posix.State{UID: 1000, GID: 100, Mode: 0o640}.Set()
	after := posix.State{UID: 1000, GID: 100, Mode: 0o644}.Set()

	fmt.Println(before == posix.State{UID: 1000, GID: 100, Mode: 0o640}.Set())
	fmt.Println(perm.Between(perm.File, before, after, nil))
	// Output:
	// true
	// opens for everyone: read
}
