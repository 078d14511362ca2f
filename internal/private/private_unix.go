//go:build !windows

package private

import (
	"fmt"
	"os"
	"syscall"

	"idletally/internal/core/pathname"
)

// MkdirAll makes a folder, and those above that are not there. What exists stays as it is: that is for Check.
func MkdirAll(dir string) error { return os.MkdirAll(dir, 0o700) }

// Open is os.OpenFile for a file that is nobody else's.
func Open(name string, flag int) (*os.File, error) { return os.OpenFile(name, flag, 0o600) }

// CreateTemp is os.CreateTemp for a file that is nobody else's.
func CreateTemp(dir, pattern string) (*os.File, error) { return os.CreateTemp(dir, pattern) }

func exposed(at string, st os.FileInfo, secret bool) error {
	others, can := os.FileMode(0o022), "written to"
	if secret {
		others, can = 0o077, "read"
	}

	owner := int(st.Sys().(*syscall.Stat_t).Uid)
	switch {
	case owner != 0 && owner != os.Geteuid():
		return fmt.Errorf(
			"%s belongs to account %d, who could have this host told anything: give it to the account that the "+
				"agent runs as",
			pathname.Escape(at), owner)
	case st.Mode().Perm()&others != 0:
		return fmt.Errorf("%s has mode %04o, so that it can be %s by others: chmod go= %[1]s", pathname.Escape(at),
			st.Mode().Perm(), can)
	}

	return nil
}
