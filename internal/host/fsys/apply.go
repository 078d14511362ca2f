//go:build linux

package fsys

import (
	"errors"
	"fmt"

	"golang.org/x/sys/unix"
)

// Apply makes the calls on what a descriptor points to, and before each calls what it was given for that, if
// anything.
func Apply(fd int, ops []Op, before func()) error {
	for _, o := range ops {
		if before != nil {
			before()
		}
		if err := o.do(fd); err != nil {
			return fmt.Errorf("%s: %w", o, why(err))
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

func (o Op) do(fd int) error {
	switch o.what {
	case setAccess:
		return unix.Setxattr(magic(fd), AttrAccess, o.to.Access.AppendXattr(nil), 0)
	case dropAccess:
		return drop(fd, AttrAccess)
	case setOwner:
		return unix.Fchownat(fd, "", int(o.to.UID), int(o.to.GID), unix.AT_EMPTY_PATH|unix.AT_SYMLINK_NOFOLLOW)
	case setDefault:
		if o.to.Default == nil {
			return drop(fd, AttrDefault)
		}
		return unix.Setxattr(magic(fd), AttrDefault, o.to.Default.AppendXattr(nil), 0)
	case setMode:
		err := unix.Fchmodat(fd, "", uint32(o.to.Mode), unix.AT_EMPTY_PATH)
		if err == unix.EOPNOTSUPP { // a kernel before 6.6, or a file system without modes, which will say so again
			return unix.Chmod(magic(fd), uint32(o.to.Mode))
		}
		return err

	case setCaps:
		if o.to.Caps == "" {
			return drop(fd, AttrCaps)
		}
		return unix.Setxattr(magic(fd), AttrCaps, []byte(o.to.Caps), 0)
	}

	return fmt.Errorf("unknown change %d", o.what)
}

func drop(fd int, attr string) error {
	if err := unix.Removexattr(magic(fd), attr); err != nil && err != unix.ENODATA {
		return err
	}
	return nil
}
