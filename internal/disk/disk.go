//go:build linux

// Package disk gives tests file systems of their own, of any type that the kernel and the system's packages have.
package disk

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// Mount makes a file system of so many bytes with a program such as mkfs.ext4, and mounts it with options until the test
// ends. It gives the folder where everybody gets at it. That needs root.
func Mount(t testing.TB, size int64, options string, program ...string) string {
	t.Helper()
	dir := t.TempDir()
	image, at := filepath.Join(dir, "image"), filepath.Join(dir, "at")
	if err := errors.Join(os.WriteFile(image, nil, 0o600), os.Truncate(image, size), os.Mkdir(at, 0o755), os.Chmod(dir, 0o755)); err != nil {
		t.Fatal(err)
	}
	for _, argv := range [][]string{append(program, image), {"mount", "-o", "loop," + options, image, at}} {
		if out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v\n%s", argv, err, out)
		}
	}
	t.Cleanup(func() {
		if err := unix.Unmount(at, 0); err != nil {
			t.Errorf("unmount %s: %v", at, err)
		}
	})
	return at
}
