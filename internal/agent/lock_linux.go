package agent

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/private"
)

// system returns the name of the system that the agent runs on, and its uptime.
func system() (name string, up time.Duration) {
	var u unix.Utsname
	if unix.Uname(&u) == nil {
		name = unix.ByteSliceToString(u.Sysname[:]) + " " + unix.ByteSliceToString(u.Release[:]) + " " +
			unix.ByteSliceToString(u.Machine[:])
	}
	var since unix.Timespec
	if unix.ClockGettime(unix.CLOCK_BOOTTIME, &since) == nil {
		up = time.Duration(since.Nano())
	}
	return name, up
}

// lock keeps other processes from working with an agent's folder. The kernel releases it however this process ends.
func lock(folder string) (free func(), err error) {
	f, err := private.Open(filepath.Join(folder, "lock"), os.O_RDWR|os.O_CREATE|unix.O_NOFOLLOW)
	if err != nil {
		return nil, fmt.Errorf("agent's folder: %w", err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("another agent works with %s: stop it first: %w", folder, err)
	}
	return func() { f.Close() }, nil
}
