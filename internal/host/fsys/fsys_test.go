//go:build linux

package fsys

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/testkit/seeded"
)

func randomState(r *rand.Rand, k perm.Kind) posix.State {
	p := posix.State{UID: 1000 + r.Uint32N(3), GID: 2000 + r.Uint32N(3), Mode: mode.Mode(r.Uint32N(0o10000))}
	named := func() posixacl.List {
		l := posixacl.List{}
		for id := range uint32(3) {
			if r.IntN(2) == 0 {
				l = append(l, posixacl.Entry{Tag: posixacl.User, ID: 1000 + id, Perm: mode.Perm(r.UintN(8))})
			}
		}
		return l
	}

	if r.IntN(2) == 0 {
		mask := mode.Perm(r.UintN(8))
		p.Access = posixacl.Build(p.Mode.Owner(), mode.Perm(r.UintN(8)), p.Mode.Other(), named(), &mask)
		p.Mode = p.Mode.With(p.Mode.Owner(), mask, p.Mode.Other())
	}

	if k == perm.Folder && r.IntN(2) == 0 {
		p.Default = posixacl.Build(7, 5, 0, named(), nil)
	}

	if k == perm.File && r.IntN(3) == 0 { // cap_net_bind_service, version 2
		p.Caps = "\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"
	}

	return p
}

// Every call of a sequence does to a real path exactly what the simulation says, and the last
// one leads to the wanted state.
func TestSequenceAgainstKernel(t *testing.T) {
	r := seeded.Rand(t)
	dir := t.TempDir()
	root, err := OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()

	for name, k := range map[string]perm.Kind{"file": perm.File, "folder": perm.Folder, "pipe": perm.Pipe} {
		t.Run(name, func(t *testing.T) {
			p := filepath.Join(dir, name)
			switch k {
			case perm.Folder:
				err = os.Mkdir(p, 0o700)
			case perm.Pipe:
				err = unix.Mkfifo(p, 0o600)
			default:
				err = os.WriteFile(p, nil, 0o600)
			}

			if err != nil {
				t.Fatal(err)
			}

			fd, err := root.Open(p)
			if err != nil {
				t.Fatal(err)
			}
			defer unix.Close(fd)
			for range 1500 {
				now, err := Look(fd)
				if err != nil {
					t.Fatal(err)
				}

				at, to := now.Set, randomState(r, k)
				for _, m := range now.Set.State().(perm.Stepwise).Sequence(k, to) {
					if err := do(fd, m.Call); err != nil {
						t.Fatalf("%s %s from %+v to %+v: %v", k, m.Call.What, at.State(), to, err)
					}

					now, err := Look(fd)
					if err != nil || now.Set != m.State {
						t.Fatalf("%s: %s made %+v of %+v, simulated %+v, %v", k, m.Call.What, now.Set.State(),
							at.State(),
							m.State.State(), err)
					}

					at = m.State
				}

				if at != to.Set() {
					t.Fatalf("%s ended at %+v, wanted %+v", k, at.State(), to)
				}
			}
		})
	}
}

func TestOpenFollowsNothing(t *testing.T) {
	dir := t.TempDir()
	outside := t.TempDir()
	for _, err := range []error{
		os.MkdirAll(filepath.Join(dir, "real", "sub"), 0o755),
		os.Symlink(outside, filepath.Join(dir, "away")),
		os.Symlink("real", filepath.Join(dir, "near")),
		os.WriteFile(filepath.Join(outside, "secret"), nil, 0o600),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}

	root, err := OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()

	for path, want := range map[string]error{
		"/real/sub":        nil,
		"/away":            nil, // the link itself
		"/away/secret":     unix.ELOOP,
		"/near/sub":        unix.ELOOP,
		"/real/../../..":   unix.EXDEV,
		"/real/none":       unix.ENOENT,
		"/real/sub/x/y":    unix.ENOENT,
		"/" + deep(3, 100): unix.ENOENT,
	} {
		t.Run(path, func(t *testing.T) {
			fd, err := root.Open(dir + path)
			if !errors.Is(err, want) {
				t.Errorf("%s: %v, want %v", path, err, want)
			}
			if err == nil {
				unix.Close(fd)
			}
		})
	}

	if fd, err := root.Open(dir + "x"); err == nil {
		unix.Close(fd)
		t.Error("a path beside the root was opened")
	}

	if r, err := OpenRoot(filepath.Join(dir, "near", "sub")); err == nil {
		r.Close()
		t.Error("a root behind a link was opened")
	}
}

func deep(n, length int) string {
	parts := make([]string, n)
	for i := range parts {
		parts[i] = strings.Repeat("d", length)
	}
	return strings.Join(parts, "/")
}

// A path longer than PATH_MAX is opened piece by piece.
func TestLongPath(t *testing.T) {
	dir := t.TempDir()
	fd, err := unix.Open(dir, unix.O_PATH, 0)
	if err != nil {
		t.Fatal(err)
	}

	name := strings.Repeat("d", 200)
	for range 40 {
		if err := unix.Mkdirat(fd, name, 0o700); err != nil {
			t.Fatal(err)
		}

		next, err := unix.Openat(fd, name, unix.O_PATH, 0)
		unix.Close(fd)
		if err != nil {
			t.Fatal(err)
		}

		fd = next
	}

	unix.Close(fd)
	root, err := OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()

	got, err := root.Open(dir + "/" + deep(40, 200))
	if err != nil {
		t.Fatal(err)
	}

	unix.Close(got)
}
