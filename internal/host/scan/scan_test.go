//go:build linux

package scan

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
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
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
	"idletally/internal/host/spool"
	"idletally/internal/testkit/seeded"
)

func newSpool(t *testing.T) *spool.Spool {
	s, err := spool.New(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// plainWalk is an independent, obvious reading of a tree.
func plainWalk(t *testing.T, root string) map[string]perm.Set {
	out := map[string]perm.Set{}
	var dev uint64
	err := filepath.WalkDir(root, func(p string, d fs.DirEntry, err error) error {
		var st unix.Stat_t
		if e := unix.Lstat(p, &st); e != nil || err != nil {
			return errors.Join(err, e)
		}

		if dev == 0 {
			dev = st.Dev
		}

		s := posix.State{UID: st.Uid, GID: st.Gid, Mode: mode.Mode(st.Mode & 0o7777)}
		if st.Mode&unix.S_IFMT != unix.S_IFLNK {
			get := func(a string) []byte {
				b := make([]byte, 4096)
				n, err := unix.Lgetxattr(p, a, b)
				if err != nil {
					return nil
				}

				return b[:n]
			}

			var e1, e2 error
			s.Access, e1 = posixacl.DecodeXattr(get(posix.AttrAccess))
			s.Default, e2 = posixacl.DecodeXattr(get(posix.AttrDefault))
			s.Caps = string(get(posix.AttrCaps))
			if err := errors.Join(e1, e2); err != nil {
				return err
			}
		}

		out[p] = s.Set()
		if d.IsDir() && st.Dev != dev {
			return fs.SkipDir
		}

		return nil
	})

	if err != nil {
		t.Fatal(err)
	}

	return out
}

func compare(t *testing.T, root string) {
	t.Helper()
	want := plainWalk(t, root)
	sp := newSpool(t)
	h, stats, err := Scan(context.Background(), []string{root}, Options{}, sp)
	if err != nil {
		t.Fatal(err)
	}

	got := 0
	err = tree.Walk(context.Background(), sp, h, func(p string, e tree.Entry) error {
		got++
		if s, ok := want[p]; !ok || s != e.Set {
			return fmt.Errorf("%q: scanned %x, walked %x", p, e.Set.Bytes(), s.Bytes())
		}
		var st unix.Stat_t
		if err := unix.Lstat(p, &st); err != nil {
			return err
		}

		var extra tree.Extra
		if e.Kind != perm.Folder && st.Nlink > 1 {
			extra.Links = uint32(st.Nlink)
		}

		if e.Kind == perm.CharDevice || e.Kind == perm.BlockDevice {
			extra.Device = tree.Device{Major: unix.Major(st.Rdev), Minor: unix.Minor(st.Rdev)}
		}

		if e.Extra != extra && strings.HasPrefix(p, root) && p != root {
			return fmt.Errorf("%q: scanned %+v, walked %+v", p, e.Extra, extra)
		}

		return nil
	})

	if err != nil || got != len(want) || int(stats.Paths) != got {
		t.Errorf("%s: scanned %d (counted %d), walked %d, %v", root, got, stats.Paths, len(want), err)
	}
}

func grow(t *testing.T, r *rand.Rand, at string, depth int) {
	for i := range 1 + r.IntN(6) {
		name := filepath.Join(at, fmt.Sprintf("n%d\xff'\" \n", i))
		var err error
		switch r.IntN(8) {
		case 0:
			err = os.Symlink("nowhere", name)
		case 1:
			err = unix.Mkfifo(name, 0o600)
		case 2, 3, 4:
			if depth > 0 {
				if err = os.Mkdir(name, 0o755); err == nil {
					grow(t, r, name, depth-1)
				}
				break
			}
			fallthrough

		default:
			err = os.WriteFile(name, nil, 0o644)
		}

		if err != nil {
			t.Fatal(err)
		}

		var st unix.Stat_t
		if unix.Lstat(name, &st) == nil && st.Mode&unix.S_IFMT != unix.S_IFLNK {
			if r.IntN(3) == 0 {
				l := posixacl.Build(7, 5, 1, posixacl.List{{Tag: posixacl.User, ID: r.Uint32N(5), Perm: 6}}, nil)
				attr := posix.AttrAccess
				if st.Mode&unix.S_IFMT == unix.S_IFDIR && r.IntN(2) == 0 {
					attr = posix.AttrDefault
				}

				if err := unix.Setxattr(name, attr, l.AppendXattr(nil), 0); err != nil {
					t.Fatal(err)
				}
			}
		}

		if err := os.Lchown(name, r.IntN(3), r.IntN(3)); err != nil {
			t.Fatal(err)
		}
	}
}

func TestScanAgainstPlainWalk(t *testing.T) {
	r := seeded.Rand(t)
	for range 10 {
		dir := t.TempDir()
		grow(t, r, dir, 5)
		compare(t, dir)
	}
	compare(t, "/etc")
}

func TestScanWithoutXattrat(t *testing.T) {
	defer fsys.UseXattrat(fsys.UseXattrat(false))
	dir := t.TempDir()
	grow(t, rand.New(rand.NewPCG(1, 1)), dir, 4)
	compare(t, dir)
}

// The hash depends on nothing but names and permissions.
func TestHashIsOfPermissionsOnly(t *testing.T) {
	hash := func(dir string) tree.Hash {
		sp := newSpool(t)
		h, _, err := Scan(context.Background(), []string{dir}, Options{}, sp)
		if err != nil {
			t.Fatal(err)
		}

		e, _, err := tree.Lookup(context.Background(), sp, h, dir)
		if err != nil {
			t.Fatal(err)
		}

		return e.Child
	}

	a, b := t.TempDir(), t.TempDir()
	grow(t, rand.New(rand.NewPCG(7, 7)), a, 4)
	grow(t, rand.New(rand.NewPCG(7, 7)), b, 4)
	if err := os.WriteFile(filepath.Join(a, "late"), []byte("content"), 0o600); err != nil {
		t.Fatal(err)
	}

	if err := os.WriteFile(filepath.Join(b, "late"), []byte("other"), 0o600); err != nil {
		t.Fatal(err)
	}

	if hash(a) != hash(b) {
		t.Error("equal trees have different hashes")
	}

	if err := os.Chmod(filepath.Join(b, "late"), 0o640); err != nil {
		t.Fatal(err)
	}

	if hash(a) == hash(b) {
		t.Error("a changed mode does not show")
	}
}

func TestGaps(t *testing.T) {
	dir := t.TempDir()
	mnt := filepath.Join(dir, "mnt")
	if err := os.Mkdir(mnt, 0o755); err != nil {
		t.Fatal(err)
	}

	if err := unix.Mount("tmpfs", mnt, "tmpfs", 0, "size=64k"); err != nil {
		t.Fatalf("mount (the tests need root): %v", err)
	}
	defer unix.Unmount(mnt, 0)

	sp := newSpool(t)
	h, stats, err := Scan(context.Background(), []string{dir, dir + "-none"}, Options{}, sp)
	if err != nil {
		t.Fatal(err)
	}

	e, _, err := tree.Lookup(context.Background(), sp, h, mnt)
	if err != nil || e.Gap != tree.Mount {
		t.Errorf("mount: %+v, %v", e, err)
	}

	e, _, err = tree.Lookup(context.Background(), sp, h, dir+"-none")
	if err != nil || e.Gap != tree.Vanished || len(stats.Denied) != 2 ||
		!strings.Contains(stats.Denied[0].Reason, "no longer there") &&
			!strings.Contains(stats.Denied[1].Reason, "no longer there") {
		t.Errorf("missing root: %+v, %v, %+v", e, err, stats)
	}

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, _, err := Scan(ctx, []string{"/usr"}, Options{}, newSpool(t)); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled scan: %v", err)
	}
}
