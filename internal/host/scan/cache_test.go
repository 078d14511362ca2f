//go:build linux

package scan

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/tree"
	"idletally/internal/host/spool"
	"idletally/internal/testkit/seeded"
)

// shelf is what a service has: it takes nodes and never lets one go.
type shelf struct {
	*spool.Spool
	all tree.Memory
}

var shelves sync.Mutex

func (s shelf) Put(h tree.Hash, node []byte) error {
	shelves.Lock()
	defer shelves.Unlock()
	s.all[h] = append([]byte(nil), node...)
	return nil
}

// again scans with the cache, and keeps what it found. Trusting, it takes what changed just now for settled.
func again(t *testing.T, root, file string, all tree.Memory, whole, trusting bool) (tree.Hash, Stats) {
	t.Helper()
	return scanned(t, root, file, all, whole, trusting, Options{})
}

func scanned(t *testing.T, root, file string, all tree.Memory, whole, trusting bool, opt Options) (tree.Hash, Stats) {
	t.Helper()
	p, err := OpenCache(file, whole)
	if err != nil {
		t.Fatal(err)
	}

	if trusting {
		p.sure = math.MaxInt64
	}
	defer p.Close()

	opt.Cache = p
	h, stats, err := Scan(context.Background(), []string{root}, opt, shelf{newSpool(t), all})
	if err != nil {
		t.Fatal(err)
	}

	if err := stats.Store(p); err != nil {
		t.Fatal(err)
	}

	return h, stats
}

// flags sets an inode's flags, as chattr does.
func flags(t *testing.T, path string, on bool) {
	t.Helper()
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	v := 0
	if on {
		v = unix.STATX_ATTR_APPEND
	}
	if err := unix.IoctlSetPointerInt(int(f.Fd()), unix.FS_IOC_SETFLAGS, v); err != nil && err != unix.EOPNOTSUPP &&
		err != unix.ENOTTY {
		t.Fatal(err)
	}
}

// allWays are the ways in which meddle changes things; all but the last are told by the kernel to who
// watches.
const allWays = 17

// meddle changes something somewhere in one of so many ways.
func meddle(t *testing.T, r *rand.Rand, root string, ways int) {
	t.Helper()
	var files, folders []string
	err := filepath.WalkDir(root, func(p string, d os.DirEntry, err error) error {
		if d.IsDir() {
			folders = append(folders, p)
		} else if d.Type().IsRegular() {
			files = append(files, p)
		}
		return err
	})

	if err != nil {
		t.Fatal(err)
	}

	one := func(from []string) string { return from[r.IntN(len(from))] }
	any := func() string { return one(append(files[:len(files):len(files)], folders[1:]...)) }
	list := posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: uint32(r.IntN(4)), Perm: 4}},
		nil).AppendXattr(nil)
	must := func(err error) {
		t.Helper()
		if err != nil && !errors.Is(err, unix.EPERM) { // what is append-only does not go away
			t.Fatal(err)
		}
	}

	fresh := filepath.Join(one(folders), fmt.Sprintf("new%d", r.Uint64()))
	switch n := r.IntN(ways); n {
	case 0, 1:
		must(os.Chmod(any(), os.FileMode(r.IntN(0o1000))))
	case 2:
		must(os.Lchown(any(), r.IntN(3), r.IntN(3)))
	case 3:
		must(unix.Setxattr(any(), posix.AttrAccess, list, 0))
	case 4:
		must(unix.Setxattr(one(folders), posix.AttrDefault, list, 0))
	case 5:
		if err := unix.Removexattr(any(), posix.AttrAccess); err != unix.ENODATA {
			must(err)
		}
	case 6:
		must(unix.Setxattr(one(files), posix.AttrCaps,
			[]byte("\x01\x00\x00\x02\x00\x04\x00\x00"+strings.Repeat("\x00", 12)), 0))
	case 7:
		must(os.WriteFile(fresh, nil, 0o600))
	case 8:
		must(os.Mkdir(fresh, 0o700))
	case 9:
		must(os.Remove(one(files)))
	case 10: // two change places
		a, b := one(files), one(files)
		must(unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE))
	case 11: // another one in its place, with an old time
		at := one(files)
		must(os.Remove(at))
		must(os.WriteFile(at, nil, os.FileMode(r.IntN(0o1000))))
		old := time.Now().Add(-1000 * time.Hour)
		must(os.Chtimes(at, old, old))

	case 12: // changed and changed back, and its content only
		at := one(files)
		must(os.WriteFile(at, []byte("x"), 0)) // takes away a capability, which the kernel does not tell
		must(os.Chmod(at, 0o611))
	case 13: // a folder goes elsewhere with all that is in it
		from := one(folders[1:])
		if to := fresh; !strings.HasPrefix(to, from) {
			must(os.Rename(from, to))
		}
	case 14: // another name, and a change by one of them
		a, b := one(files), one(folders)+fmt.Sprintf("/link%d", r.Uint64())
		if err := os.Link(a, b); err != nil { // what is append-only gets none
			must(err)
			return
		}

		if r.IntN(2) == 0 {
			a, b = b, a
		}

		must(os.Chmod(a, os.FileMode(r.IntN(0o1000))))
		if r.IntN(3) == 0 {
			must(os.Remove(a))
		}

	case 15:
		must(unix.Chmod(one(folders), uint32(mode.SetGID)|0o750))
	default:
		flags(t, one(files), true)
	}
}

// However a tree is changed between scans, and however shortly after the last one, a scan that
// trusts the cache finds what one finds that trusts nothing; and the service has each node.
func TestAgainMissesNothing(t *testing.T) {
	r := seeded.Rand(t)
	kept := int64(0)
	for try := range 6 {
		trusting := try%2 == 0
		root := planted(t, r)
		file := filepath.Join(t.TempDir(), "past")
		all := tree.Memory{}

		for round := range 25 {
			for range r.IntN(3) {
				meddle(t, r, root, allWays)
			}

			got, stats := again(t, root, file, all, r.IntN(20) == 0, trusting)
			want, _, err := Scan(context.Background(), []string{root}, Options{}, newSpool(t))
			if err != nil {
				t.Fatal(err)
			}

			if got != want {
				t.Fatalf("round %d: another tree than a whole scan finds (%d of %d kept)", round, stats.Kept,
					stats.Paths)
			}

			kept += stats.Kept
			if trusting {
				time.Sleep(12 * time.Millisecond) // more than the clock of ctimes is coarse
			}

			n := 0
			if err := tree.Walk(context.Background(), all, got, func(string, tree.Entry) error {
				n++
				return nil
			}); err != nil ||
				int64(n) != stats.Paths {
				t.Fatalf("round %d: %d paths of %d, %v", round, n, stats.Paths, err)
			}
		}
	}

	if kept < 1000 {
		t.Errorf("only %d paths were taken as they were", kept)
	}
}

// What changes in the tick in which it was looked at is looked at again, however the stamps are.
func TestRacyChange(t *testing.T) {
	root, file := t.TempDir(), filepath.Join(t.TempDir(), "past")
	all := tree.Memory{}
	path := filepath.Join(root, "f")
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}

	for i := range 200 {
		if err := os.Chmod(path, os.FileMode(0o600+i%8)); err != nil {
			t.Fatal(err)
		}

		got, stats := again(t, root, file, all, false, false)
		e, _, err := tree.Lookup(context.Background(), all, got, path)
		if m, _ := perm.DeclaredMode(e.Set); err != nil || int(m) != 0o600+i%8 || stats.Kept != 0 {
			t.Fatalf("%d: mode %s, %d kept, %v", i, m, stats.Kept, err)
		}
	}
}

// A cache that is damaged anywhere is found out: the scan reads instead, and finds the same.
func TestDamagedPast(t *testing.T) {
	r := seeded.Rand(t)
	root, file := t.TempDir(), filepath.Join(t.TempDir(), "past")
	grow(t, r, root, 3)
	all := tree.Memory{}
	want, _ := again(t, root, file, all, true, true)
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}

	for i := range 300 {
		b := append([]byte(nil), whole...)
		switch at := r.IntN(len(b)); i % 3 {
		case 0:
			b[at] ^= 1 << r.IntN(8)
		case 1:
			b = b[:at]
		default:
			b = append(b, whole[:at]...)
		}

		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}

		if got, _ := again(t, root, file, all, false, true); got != want {
			t.Fatalf("damage %d: another tree", i)
		}
	}
}

// A scan that is not kept leaves the cache as it was.
func TestPastNotKept(t *testing.T) {
	root, file := t.TempDir(), filepath.Join(t.TempDir(), "past")
	if err := os.WriteFile(filepath.Join(root, "a"), nil, 0o600); err != nil {
		t.Fatal(err)
	}

	all := tree.Memory{}
	again(t, root, file, all, true, true)
	before, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}

	for _, whole := range []bool{false, true} {
		if err := os.WriteFile(filepath.Join(root, fmt.Sprint(whole)), nil, 0o600); err != nil {
			t.Fatal(err)
		}

		p, err := OpenCache(file, whole)
		if err != nil {
			t.Fatal(err)
		}

		if _, _, err := Scan(context.Background(), []string{
			root,
		}, Options{Cache: p}, shelf{newSpool(t), all}); err != nil {
			t.Fatal(err)
		}

		p.Close()
		if after, err := os.ReadFile(file); err != nil || string(after) != string(before) {
			t.Errorf("whole %t: the past is another one, %v", whole, err)
		}

		if names, _ := filepath.Glob(file + "*"); len(names) != 1 {
			t.Errorf("left: %v", names)
		}
	}

	if err := Forget(file); err != nil || Forget(file) != nil {
		t.Error(err)
	}
}
