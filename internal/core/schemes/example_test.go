package schemes_test

import (
	"fmt"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/perm/posix"
	_ "idletally/internal/core/schemes"
)

// Two states are compared without a look at what scheme they are of.
func Example() {
	before := posix.State{UID: 1000, GID: 100, Mode: 0o640}.Set()
	after := posix.State{UID: 1000, GID: 100, Mode: 0o644}.Set()
	fmt.Println(perm.Between(perm.File, before, after, nil))
	// Output: opens for everyone: read
}

// A state of a share is shown by its list.
func Example_share() {
	d, err := ntsd.ParseSDDL("O:BAD:(D;;FW;;;WD)(A;;FA;;;BA)")
	if err != nil {
		panic(err)
	}
	s, err := nt.SetOf(d)
	if err != nil {
		panic(err)
	}
	for _, g := range perm.Describe(perm.File, s, nil).Grants {
		fmt.Println(g)
	}
	// Output:
	// deny everyone: write, read-permissions
	// allow administrators: full
}
