package change

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// perSync is how many steps share one flush of the journal, and how many handles are held.
func perSync() int { return 256 }

// durable makes the content of a file survive a power cut.
func durable(f *os.File) error { return f.Sync() }

// full reports whether there is no room left.
func full(err error) bool {
	return errors.Is(err, windows.ERROR_DISK_FULL) || errors.Is(err, windows.ERROR_HANDLE_DISK_FULL) ||
		errors.Is(err, windows.ERROR_DISK_QUOTA_EXCEEDED)
}

// newLocal is for systems whose own paths have modes: here a run is given the file system that it works on.
func newLocal([]string, int) FileSystem { panic("a run on this system needs its reach") }
