//go:build linux

package fsys

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"

	"idletally/internal/core/tree"
)

// MaxContent bounds the size, in bytes, of a file whose content is read to know it again.
const MaxContent = 1 << 30

// Digest returns the SHA-256 of the regular file that a descriptor points to.
func Digest(fd int) (tree.Hash, error) {
	f, err := reopen(fd)
	if err != nil {
		return tree.Hash{}, err
	}
	defer f.Close()
	return digest(f)
}

func reopen(fd int) (*os.File, error) {
	got, err := unix.Open(magic(fd), unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
	if err != nil {
		return nil, fmt.Errorf("read what is in it: %w", err)
	}
	return os.NewFile(uintptr(got), "a file of a plan"), nil
}

func digest(f *os.File) (h tree.Hash, err error) {
	sum := sha256.New()
	n, err := io.Copy(sum, io.LimitReader(f, MaxContent+1))
	switch {
	case err != nil:
		return h, fmt.Errorf("read what is in it: %w", err)
	case n > MaxContent:
		return h, fmt.Errorf("it has more than %d MiB, which is more than is read to know it again", MaxContent>>20)
	}
	return tree.Hash(sum.Sum(nil)), nil
}

// A Lease keeps a file as it is: nobody has it open for writing, and whoever opens it so waits until the lease is
// released.
type Lease struct {
	f       *os.File
	Content tree.Hash // SHA-256 of what is in it
}

// TakeLease takes a lease on a regular file that a descriptor points to, and reads it. ErrWritten says that somebody
// has it open for writing, or mapped: a mapping that is written to outlives its descriptor, and no mode shows it. An
// agent that is not root needs CAP_LEASE for the files of others.
func TakeLease(fd int) (*Lease, error) {
	f, err := reopen(fd)
	if err != nil {
		return nil, err
	}

	_, err = unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_RDLCK)
	switch {
	case errors.Is(err, unix.EAGAIN):
		err = ErrWritten
	case err != nil:
		err = fmt.Errorf("make sure that nobody has it open for writing: %w", err)
	}

	l := &Lease{f: f}
	if err == nil {
		l.Content, err = digest(f)
	}

	if err != nil {
		f.Close()
		return nil, err
	}

	return l, nil
}

// Kept reports whether nobody has begun to open the file for writing since the lease was taken.
func (l *Lease) Kept() bool {
	kind, err := unix.FcntlInt(l.f.Fd(), unix.F_GETLEASE, 0)
	return err == nil && kind == unix.F_RDLCK
}

// Release releases the lease: whoever waits to write may go on.
func (l *Lease) Release() { _ = l.f.Close() }
