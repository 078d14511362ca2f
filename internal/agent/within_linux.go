package agent

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// refused reports whether nobody listens at a socket that is there.
func refused(err error) bool { return errors.Is(err, unix.ECONNREFUSED) }

// within gives do the path of a folder's socket in a form that is short enough for one (unix(7): 108 bytes).
func within(folder string, do func(short string) error) error {
	dir, err := os.Open(folder)
	if err != nil {
		return err
	}
	defer dir.Close()
	return do(filepath.Join(fmt.Sprintf("/proc/self/fd/%d", dir.Fd()), statusFile))
}
