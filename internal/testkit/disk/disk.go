//go:build linux

// Package disk gives tests file systems of their own, of any type that the kernel and the system's packages have.
package disk

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// Mount makes a file system of so many bytes with a program such as mkfs.ext4, and mounts it with options until the
// test ends. It returns the folder where everybody can reach it. That needs root.
func Mount(t testing.TB, size int64, options string, program ...string) string {
	t.Helper()
	dir := t.TempDir()
	image, at := filepath.Join(dir, "image"), filepath.Join(dir, "at")
	if err := errors.Join(os.WriteFile(image, nil, 0o600), os.Truncate(image, size), os.Mkdir(at, 0o755),
		os.Chmod(dir, 0o755)); err != nil {
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

// Silent mounts a file system whose server greets and then does nothing any more, until the test ends or end is
// called. That needs root.
func Silent(t testing.TB, at string) (end func()) {
	t.Helper()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}

	must(os.MkdirAll(at, 0o755))
	fd, err := unix.Open("/dev/fuse", unix.O_RDWR|unix.O_CLOEXEC, 0)
	must(err)
	options := fmt.Sprintf("fd=%d,rootmode=40755,user_id=0,group_id=0,allow_other", fd)
	must(unix.Mount("silent", at, "fuse", unix.MS_NODEV|unix.MS_NOSUID, options))
	var once bool
	end = func() {
		if !once {
			once = true
			_ = unix.Unmount(at, unix.MNT_DETACH)
			must(unix.Close(fd)) // what waits for it is answered that the server has gone
		}
	}

	t.Cleanup(end)
	buf := make([]byte, 1<<16)
	n, err := unix.Read(fd, buf) // FUSE_INIT: length, opcode, unique, …
	must(err)
	if op := binary.NativeEndian.Uint32(buf[4:]); n < 40 || op != 26 {
		t.Fatalf("the kernel begins with %d", op)
	}

	answer := make([]byte, 16+64)
	binary.NativeEndian.PutUint32(answer, uint32(len(answer)))
	copy(answer[8:16], buf[8:16])
	binary.NativeEndian.PutUint32(answer[16:], 7)  // major
	binary.NativeEndian.PutUint32(answer[20:], 31) // minor
	binary.NativeEndian.PutUint32(answer[36:], 4096)
	_, err = unix.Write(fd, answer)
	must(err)
	return end
}
