// Package schemes is the table of the ways in which systems keep permissions. A program that imports it knows all of
// them; nobody but a scheme's own readers and writers needs to know one by name.
//
// To add one: write its package beside the others, have its tests run schemetest, and add it here.
package schemes

import (
	_ "idletally/internal/core/perm/nfs4"  // NFSv4 lists
	_ "idletally/internal/core/perm/nt"    // security descriptors of file shares
	_ "idletally/internal/core/perm/posix" // modes and POSIX.1e lists
)
