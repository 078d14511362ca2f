package agent

import (
	"errors"
	"path/filepath"

	"golang.org/x/sys/windows"
)

// refused reports whether nobody listens at a socket that is there.
func refused(err error) bool { return errors.Is(err, windows.WSAECONNREFUSED) }

// within gives do the path of a folder's socket.
func within(folder string, do func(short string) error) error {
	return do(filepath.Join(folder, statusFile))
}
