//go:build linux

package aclfs

import (
	"fmt"
	"os"
	"runtime"

	"golang.org/x/sys/unix"
)

// private says that Private started this program anew.
const private = "SALTMARSH_PRIVATE_MOUNTS"

// Private starts the program anew in a mount namespace of its own, unless it is in one: whatever it mounts is gone
// when it ends, even if it is killed. It returns in the new one only, or with an error. It has to be called first.
func Private() error {
	if os.Getenv(private) != "" {
		return nil
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	runtime.LockOSThread() // a namespace is a thread's, and goes on in the program that the thread becomes
	if err := unix.Unshare(unix.CLONE_NEWNS); err != nil {
		return fmt.Errorf("make a mount namespace: %w", err)
	}
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return fmt.Errorf("keep mounts to this program: %w", err)
	}
	return unix.Exec(self, os.Args, append(os.Environ(), private+"=yes"))
}
