package agent

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/windows"

	"idletally/internal/host/fileserver"
	"idletally/internal/host/ntfs"
	"idletally/internal/private"
)

// remembered is what an agent of a Linux system keeps beside its settings: nothing here.
type remembered struct{}

// ownHost is the Windows system that the agent runs on: its volumes are treated as a file server's shares.
func ownHost(a *Agent) host {
	return &descriptors{a: a, dial: func(context.Context) (fileserver.Server, error) { return ntfs.Open() }}
}

// system returns the name of the system that the agent runs on, and its uptime.
func system() (name string, up time.Duration) {
	v := windows.RtlGetVersion()
	return fmt.Sprintf("Windows %d.%d.%d", v.MajorVersion, v.MinorVersion, v.BuildNumber), windows.DurationSinceBoot()
}

// lock keeps other processes from working with an agent's folder. The system releases it however this process ends.
func lock(folder string) (free func(), err error) {
	f, err := private.Open(filepath.Join(folder, "lock"), os.O_RDWR|os.O_CREATE)
	if err != nil {
		return nil, fmt.Errorf("agent's folder: %w", err)
	}
	const all = ^uint32(0)
	if err := windows.LockFileEx(windows.Handle(f.Fd()),
		windows.LOCKFILE_EXCLUSIVE_LOCK|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, all, all,
		&windows.Overlapped{}); err != nil {
		f.Close()
		return nil, fmt.Errorf("another agent works with %s: stop it first: %w", folder, err)
	}
	return func() { f.Close() }, nil
}
