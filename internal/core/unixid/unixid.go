// Package unixid writes the numbers of a Unix host's accounts and groups as principals. Every scheme that such a host
// has names the same accounts by them.
//
//	unixid.UID(1001)             // "u1001"
//	unixid.Number("g100")        // 100, true
//	unixid.Parse("1001", false)  // "u1001", true
package unixid

import (
	"strconv"
	"strings"

	"idletally/internal/core/perm"
)

// UID makes the principal of a POSIX account.
func UID(id uint32) perm.Principal { return perm.Principal("u" + strconv.FormatUint(uint64(id), 10)) }

// GID makes the principal of a POSIX group.
func GID(id uint32) perm.Principal { return perm.Principal("g" + strconv.FormatUint(uint64(id), 10)) }

// Number returns the number of an account or group.
func Number(p perm.Principal) (uint32, bool) {
	if len(p) < 2 || p[0] != 'u' && p[0] != 'g' {
		return 0, false
	}
	n, err := strconv.ParseUint(string(p[1:]), 10, 32)
	return uint32(n), err == nil
}

// Parse reads the bare number of an account or group.
func Parse(text string, group bool) (perm.Principal, bool) {
	n, err := strconv.ParseUint(text, 10, 32)
	switch {
	case err != nil || n == 1<<32-1: // (uid_t)-1 stands for no change
		return "", false
	case group:
		return GID(uint32(n)), true
	}
	return UID(uint32(n)), true
}

// IsGroup reports whether a principal is a group of a POSIX host.
func IsGroup(p perm.Principal) bool { return strings.HasPrefix(string(p), "g") }
