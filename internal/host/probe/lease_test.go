//go:build linux

package probe

import (
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// A file's owner holds a lease on it, so that every open waits: whether somebody may is then not known, and
// that is said. Without the lease it is.
func TestLeasedIsUntried(t *testing.T) {
	dir, err := os.MkdirTemp("", "lease-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)

	file := filepath.Join(dir, "f")
	for _, err := range []error{os.Chmod(dir, 0o755), os.WriteFile(file, nil, 0o666), os.Chmod(file, 0o666)} {
		if err != nil {
			t.Fatal(err)
		}
	}

	try := func() []access.Try {
		tries, err := Run(t.Context(), Ask{
			UID:        41002,
			Groups:     []uint32{41002},
			Path:       pathname.Path(file),
			Kind:       perm.File,
			Operations: []access.Operation{access.Read, access.Write},
		})

		if err != nil || len(tries) != 2 {
			t.Fatalf("%+v, %v", tries, err)
		}

		return tries
	}

	fd, err := unix.Open(file, unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		t.Fatal(err)
	}

	if _, err := unix.FcntlInt(uintptr(fd), unix.F_SETLEASE, unix.F_WRLCK); err != nil {
		t.Fatal(err)
	}

	for _, x := range try() {
		if x.Untried == "" || x.Allowed {
			t.Errorf("with a lease: %+v", x)
		}
	}

	unix.Close(fd)
	for _, x := range try() {
		if x.Untried != "" || !x.Allowed {
			t.Errorf("without: %+v", x)
		}
	}
}
