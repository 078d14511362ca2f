//go:build linux

package fsys

import (
	"errors"
	"fmt"

	"golang.org/x/sys/unix"

	"idletally/internal/core/perm"
)

// Apply makes the calls on what a descriptor points to, and calls before ahead of each, if it is given.
func Apply(fd int, calls []perm.Move, before func()) error {
	for _, m := range calls {
		if before != nil {
			before()
		}
		if err := do(fd, m.Call); err != nil {
			return fmt.Errorf("%s: %w", m.Call.What, why(err))
		}
	}
	return nil
}

func why(err error) error {
	switch {
	case errors.Is(err, unix.EPERM):
		return fmt.Errorf("not permitted: the path may be immutable, or the agent lacks the privilege: %w", err)
	case errors.Is(err, unix.EROFS):
		return fmt.Errorf("the file system is mounted read-only: %w", err)
	case errors.Is(err, unix.EOPNOTSUPP):
		return fmt.Errorf("the file system has no access lists: %w", err)
	}
	return err
}

func do(fd int, c perm.Call) error {
	switch {
	case c.Owner != nil:
		return unix.Fchownat(fd, "", int(c.Owner.UID), int(c.Owner.GID), unix.AT_EMPTY_PATH|unix.AT_SYMLINK_NOFOLLOW)
	case c.Mode != nil:
		err := unix.Fchmodat(fd, "", uint32(*c.Mode), unix.AT_EMPTY_PATH)
		if err == unix.EOPNOTSUPP { // a kernel before 6.6, or a file system without modes, which will say so again
			return unix.Chmod(magic(fd), uint32(*c.Mode))
		}
		return err
	case c.Set != nil:
		return unix.Setxattr(magic(fd), c.Set.Name, []byte(c.Set.Value), 0)
	case c.Drop != "":
		return drop(fd, c.Drop)
	}
	return errors.New("it changes nothing: this is a mistake in this program")
}

func drop(fd int, attr string) error {
	if err := unix.Removexattr(magic(fd), attr); err != nil && err != unix.ENODATA {
		return err
	}
	return nil
}
