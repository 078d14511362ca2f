package change

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// perSync is how many steps share one fdatasync, and how many descriptors are held: a quarter of those that this
// process may have.
func perSync() int {
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil {
		return 256
	}
	return int(min(max(limit.Cur/4, 64), 1024))
}

// durable makes the content of a file survive a power cut.
func durable(f *os.File) error { return unix.Fdatasync(int(f.Fd())) }

// full reports whether there is no room left.
func full(err error) bool { return errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) }
