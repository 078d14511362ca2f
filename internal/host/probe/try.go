//go:build linux

package probe

import (
	"errors"
	"fmt"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/host/fsys"
)

type capHeader struct {
	version uint32
	pid     int32
}

type capData struct{ effective, permitted, inheritable uint32 }

const capVersion3 = 0x20080522 // _LINUX_CAPABILITY_VERSION_3

// setCapabilities leaves a process, in all of its threads, with exactly these.
func setCapabilities(keep uint64) error {
	h := capHeader{version: capVersion3}
	d := [2]capData{{uint32(keep), uint32(keep), 0}, {uint32(keep >> 32), uint32(keep >> 32), 0}}
	return everyThread(unix.SYS_CAPSET, uintptr(unsafe.Pointer(&h)), uintptr(unsafe.Pointer(&d[0])), 0)
}

// attempt tries each operation with the ids that the process has.
func attempt(ask Ask) []access.Try {
	out := make([]access.Try, 0, len(ask.Operations))
	path := string(ask.Path)
	name := pathname.Base(path)
	if name == "" {
		name = "."
	}

	dir, err := unix.Openat2(unix.AT_FDCWD, pathname.Folder(path), &unix.OpenHow{
		Flags:   unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_SYMLINKS,
	})
	if err == nil {
		defer unix.Close(dir)
		// The folder has to allow traversing it, even where everything that is asked can be asked from above.
		err = unix.Faccessat2(dir, ".", unix.X_OK, unix.AT_EACCESS)
	}

	for _, op := range ask.Operations {
		if err != nil {
			out = append(out, access.Try{
				Operation: op,
				Call:      answer("open "+pathname.Escape(pathname.Folder(path)), err),
			})
			continue
		}
		out = append(out, tryOne(dir, name, ask.Kind, op))
	}

	return out
}

func answer(call string, err error) string {
	if err == nil {
		return call + ": done"
	}
	var e unix.Errno
	if errors.As(err, &e) {
		return fmt.Sprintf("%s: %s (%s)", call, unix.ErrnoName(e), e)
	}
	return call + ": " + err.Error()
}

// tryOne tries one operation. If doing it would change something, the call is made in a way that the kernel checks
// like the real thing, and that then fails for another reason.
func tryOne(dir int, name string, k perm.Kind, op access.Operation) access.Try {
	var st unix.Statx_t
	if err := unix.Statx(dir, name, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_TYPE, &st); err != nil {
		return access.Try{Operation: op, Call: answer("statx", err)}
	}
	if got := fsys.KindOf(uint32(st.Mode)); got != k {
		return access.Try{Operation: op, Untried: "the path was a " + k.String() + " and is a " + got.String() + " now"}
	}

	result := func(call string, err error, alsoAllowed ...error) access.Try {
		if why := untried(err); why != "" {
			return access.Try{Operation: op, Untried: why, Call: answer(call, err)}
		}

		allowed := err == nil
		for _, e := range alsoAllowed {
			allowed = allowed || errors.Is(err, e)
		}

		return access.Try{Operation: op, Allowed: allowed, Call: answer(call, err)}
	}

	open := func(call string, flags int, alsoAllowed ...error) access.Try {
		fd, err := unix.Openat(dir, name, flags|unix.O_NOFOLLOW|unix.O_NONBLOCK|unix.O_NOCTTY|unix.O_CLOEXEC, 0o600)
		if err == nil {
			unix.Close(fd)
		}
		return result(call, err, alsoAllowed...)
	}

	ask := func(mode uint32) access.Try {
		var fs unix.Statfs_t
		if k == perm.CharDevice || k == perm.BlockDevice {
			if err := unix.Fstatfs(dir, &fs); err != nil || fs.Flags&unix.ST_NODEV != 0 {
				return access.Try{
					Operation: op,
					Untried: "whether a device can be opened on a no-dev file system is found out only by opening " +
						"it, which can have effects",
				}
			}
		}

		return result("faccessat2", unix.Faccessat2(dir, name, mode, unix.AT_EACCESS|unix.AT_SYMLINK_NOFOLLOW))
	}

	switch op {
	case access.Read:
		if k != perm.File { // opening a pipe or a device can have effects
			return ask(unix.R_OK)
		}
		return open("open to read", unix.O_RDONLY)
	case access.Write:
		if k != perm.File {
			return ask(unix.W_OK)
		}
		return open("open to write", unix.O_WRONLY, unix.ETXTBSY) // a program that runs right now was permitted
	case access.List:
		return open("open the folder to read", unix.O_RDONLY|unix.O_DIRECTORY)
	case access.Enter:
		return ask(unix.X_OK)
	case access.Execute:
		if t, ok := tryExec(dir, name); ok {
			return result("execveat with AT_EXECVE_CHECK", t, unix.ENOEXEC)
		}
		return ask(unix.X_OK)
	case access.Create: // a file that never gets a name
		t := open("open with O_TMPFILE", unix.O_TMPFILE|unix.O_WRONLY)
		if strings.Contains(t.Call, "EOPNOTSUPP") {
			return ask(unix.W_OK | unix.X_OK)
		}
		return t

	case access.Delete, access.Rename: // within one folder the kernel asks the same for both
		if name == "." || st.Attributes&unix.STATX_ATTR_MOUNT_ROOT != 0 {
			return access.Try{Operation: op, Untried: "a file system is mounted here"}
		}
		if k == perm.Folder { // permitted, unlink finds that it is a folder
			return result("unlink of a folder", unix.Unlinkat(dir, name, 0), unix.EISDIR)
		}
		return result("rmdir of what is no folder", unix.Unlinkat(dir, name, unix.AT_REMOVEDIR), unix.ENOTDIR)

	case access.Change:
		if k == perm.Link {
			break
		}

		err := setIncompleteList(dir, name)
		if errors.Is(err, unix.EOPNOTSUPP) {
			return access.Try{
				Operation: op,
				Untried: "the file system keeps no access lists, and the kernel cannot be asked otherwise " +
					"without a change",
			}
		}

		// Permitted, the kernel finds the list incomplete.
		return result("setxattr of an incomplete access list", err, unix.EINVAL)

	case access.Own:
		return access.Try{Operation: op, Untried: "the kernel cannot be asked without the owner being changed"}
	}

	return access.Try{Operation: op, Untried: "there is no such thing with a " + k.String()}
}

// untried says why a call tells nothing of permissions, however it ended; "" if it does.
func untried(err error) string {
	switch {
	case errors.Is(err, unix.EAGAIN):
		return "somebody holds a lease or a lock on it, so that it cannot be tried now"
	case errors.Is(err, unix.EINTR), errors.Is(err, unix.ETIMEDOUT), errors.Is(err, unix.EIO),
		errors.Is(err, unix.ESTALE),
		errors.Is(err, unix.ENOMEM), errors.Is(err, unix.ENFILE), errors.Is(err, unix.EMFILE):
		return "the file system or the kernel did not answer the question"
	}
	return ""
}

const atExecveCheck = 0x10000 // AT_EXECVE_CHECK, Linux 6.14 on

// tryExec asks whether a file could be executed; false says that the kernel is too old to ask.
func tryExec(dir int, name string) (error, bool) {
	p, err := unix.BytePtrFromString(name)
	if err != nil {
		return err, true
	}
	argv := []*byte{p, nil}
	_, _, e := unix.Syscall6(unix.SYS_EXECVEAT, uintptr(dir), uintptr(unsafe.Pointer(p)),
		uintptr(unsafe.Pointer(&argv[0])),
		uintptr(unsafe.Pointer(&argv[1])), unix.AT_SYMLINK_NOFOLLOW|atExecveCheck, 0)
	switch e {
	case 0:
		return nil, true
	case unix.EINVAL:
		return nil, false
	}
	return e, true
}

// setIncompleteList asks for an access list that has an owner's entry only.
func setIncompleteList(dir int, name string) error {
	list := []byte{2, 0, 0, 0, 1, 0, 7, 0, 0xff, 0xff, 0xff, 0xff}
	if err := unix.Fchdir(dir); err != nil {
		return err
	}
	return unix.Lsetxattr(name, posix.AttrAccess, list, 0)
}
