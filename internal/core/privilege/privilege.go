// Package privilege holds what lets accounts of a file server pass over lists. It is told of accounts, and is part of
// no path's permissions.
//
//	p := privilege.Named("SeBackupPrivilege") | privilege.TakeOwnership
//	p.String() // "SeTakeOwnershipPrivilege, SeBackupPrivilege"
package privilege

import (
	"fmt"
	"slices"
	"strings"
)

// A Set is privileges, which let accounts pass over lists (MS-DTYP 2.5.3.2).
type Set uint8

// The privileges that matter to files.
const (
	TakeOwnership Set = 1 << iota // become owner of anything
	Backup                        // read anything, where it is opened for that
	Restore                       // write anything, and give ownership to anybody, where it is opened for that
	Security                      // read and change system lists
	Everything                    // no privilege of the standard: the server lets whoever has it do everything
)

// privilegeNames are those of the standard (MS-LSAD 3.1.1.2.1), in the order of the bits.
var privilegeNames = [...]string{
	"SeTakeOwnershipPrivilege", "SeBackupPrivilege", "SeRestorePrivilege", "SeSecurityPrivilege", "everything",
}

// String returns the names of the privileges, separated by commas.
func (p Set) String() string {
	var out []string
	for i, n := range privilegeNames {
		if p&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return strings.Join(out, ", ")
}

// Named returns the privilege of a name, and 0 for one that does not concern files.
func Named(name string) Set {
	if i := slices.Index(privilegeNames[:], name); i >= 0 {
		return 1 << i
	}
	return 0
}

// MarshalText returns what String does.
func (p Set) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what MarshalText gives.
func (p *Set) UnmarshalText(b []byte) error {
	*p = 0
	if len(b) == 0 {
		return nil
	}
	for name := range strings.SplitSeq(string(b), ", ") {
		one := Named(name)
		if one == 0 {
			return fmt.Errorf("%q is no privilege that bears on files", name)
		}
		*p |= one
	}
	return nil
}
