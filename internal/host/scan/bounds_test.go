//go:build linux

package scan

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
	"idletally/internal/testkit"
	"idletally/internal/testkit/disk"
	"idletally/internal/testkit/frugal"
)

// memoryOnly mounts a file system in memory, so that a test makes many names quickly.
func memoryOnly(t *testing.T) string {
	dir := t.TempDir()
	if err := unix.Mount("tmpfs", dir, "tmpfs", 0, "size=1g,nr_inodes=0"); err != nil {
		t.Fatalf("mount (the tests need root): %v", err)
	}
	t.Cleanup(func() { _ = unix.Unmount(dir, unix.MNT_DETACH) })
	return dir
}

var must = testkit.Must

// manyNames returns a folder many long names, of few inodes.
func manyNames(t *testing.T, dir string, n int) {
	t.Helper()
	must(t, os.MkdirAll(dir, 0o755))
	one := filepath.Join(dir, "0")
	must(t, os.WriteFile(one, nil, 0o644))
	long := strings.Repeat("n", 240)
	for i := range n {
		must(t, os.Link(one, fmt.Sprintf("%s/%s%08d", dir, long, i)))
	}
}

// chain makes folders in each other, deeper than one call can name, and gives the innermost's path.
func chain(t *testing.T, dir, name string, deep int) string {
	t.Helper()
	at, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY, 0)
	must(t, err)
	for range deep {
		must(t, unix.Mkdirat(at, name, 0o755))
		next, err := unix.Openat(at, name, unix.O_PATH|unix.O_DIRECTORY, 0)
		must(t, err)
		must(t, unix.Close(at))
		at = next
	}
	must(t, unix.Close(at))
	return dir + strings.Repeat("/"+name, deep)
}

// gaps scans a folder and gives every gap, with the reason.
func gaps(t *testing.T, dir string, opt Options) (out map[string]string, paths map[string]tree.Entry) {
	t.Helper()
	sp := newSpool(t)
	h, stats, err := Scan(t.Context(), []string{dir}, opt, sp)
	must(t, err)
	out, paths = map[string]string{}, map[string]tree.Entry{}
	must(t, tree.Walk(t.Context(), sp, h, func(p string, e tree.Entry) error {
		paths[p] = e
		if e.Gap != tree.NoGap {
			out[p] = e.Gap.String()
		}
		return nil
	}))

	for _, d := range stats.Denied {
		out[string(d.Path)] += ": " + d.Reason
	}

	if int64(len(paths)) != stats.Paths || int64(len(out)) != stats.Gaps {
		t.Errorf("%d paths and %d gaps were counted, there are %d and %d", stats.Paths, stats.Gaps, len(paths),
			len(out))
	}

	return out, paths
}

// Whatever anybody makes below a root is a gap that says why, and all the rest is looked at.
func TestTooLargeIsAGap(t *testing.T) {
	for name, c := range map[string]struct {
		make func(dir string) string // gives the gap's path
		says string
	}{
		"many names": {func(dir string) string { manyNames(t, dir+"/upload", 70_000); return dir + "/upload" },
			"names"},
		"deep": {func(dir string) string { return chain(t, dir, "d", tree.MaxDepth+50)[:len(dir)+2*tree.MaxDepth] },
			"deep"},
		"a path without end": {func(dir string) string { chain(t, dir, strings.Repeat("p", 250), 200); return "" },
			"bytes"},
		"many folders' names": {func(dir string) string { nestedNames(t, dir, 4, 50_000); return "" }, "entries"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := memoryOnly(t)
			must(t, os.MkdirAll(dir+"/conf/sub", 0o755))
			must(t, os.WriteFile(dir+"/conf/sub/db.cfg", nil, 0o666))
			want := c.make(dir)
			got, paths := gaps(t, dir, Options{})
			if len(got) != 1 {
				t.Fatalf("%d gaps: %.300v", len(got), got)
			}

			for path, reason := range got {
				if want != "" && path != want || !strings.HasPrefix(reason, "too large: ") ||
					!strings.Contains(reason, c.says) {
					t.Errorf("%.300q: %.300s", path, reason)
				}
			}

			if e, ok := paths[dir+"/conf/sub/db.cfg"]; !ok || e.Set != set(t, dir+"/conf/sub/db.cfg") {
				t.Errorf("what is beside it: %+v, %t", e, ok)
			}
		})
	}
}

func nestedNames(t *testing.T, dir string, deep, n int) {
	for range deep {
		dir += "/a"
		manyNames(t, dir, n)
	}
}

func set(t *testing.T, path string) perm.Set {
	fd, err := unix.Open(path, unix.O_PATH|unix.O_NOFOLLOW, 0)
	must(t, err)
	defer unix.Close(fd)
	i, err := fsys.Look(fd)
	must(t, err)
	return i.Set
}

type discard struct{}

func (discard) Put(tree.Hash, []byte) error { return nil }

// The worst tree takes no more memory than an agent may have.
func TestScanIsFrugal(t *testing.T) {
	dir := memoryOnly(t)
	if os.Getenv("IDLETALLY_FRUGAL") == "" { // the other process finds it
		t.Setenv("IDLETALLY_FRUGAL_DIR", dir)
		for i := range 3 {
			nestedNames(t, fmt.Sprintf("%s/way%d", dir, i), 2, 30_000)
		}
	} else {
		dir = os.Getenv("IDLETALLY_FRUGAL_DIR")
	}

	frugal.Run(t, 320<<20, func() {
		past, err := OpenCache(filepath.Join(t.TempDir(), "past"), false)
		must(t, err)
		if _, stats, err := Scan(context.Background(), []string{dir}, Options{Cache: past}, discard{}); err != nil ||
			stats.Paths < 180_000 {
			panic(fmt.Sprint(stats.Paths, err))
		}
	})
}

// A file system that does not answer is a gap that names it; it delays nothing else, nor another scan, and is looked at
// again when it answers.
func TestSilentFileSystem(t *testing.T) {
	dir := t.TempDir()
	mnt := filepath.Join(dir, "b", "mnt")
	end := disk.Silent(t, mnt)
	for i := range 20 {
		must(t, os.MkdirAll(filepath.Join(dir, fmt.Sprintf("d%02d/sub", i)), 0o755))
	}

	if got, _ := gaps(t, dir, Options{}); len(got) != 1 || !strings.HasPrefix(got[mnt], "other file system") {
		t.Errorf("without going in: %v", got)
	}

	begun := time.Now()
	got, paths := gaps(t, dir, Options{Cross: true, Patience: time.Second})
	if len(got) != 1 || !strings.HasPrefix(got[mnt], "does not answer") || len(paths) != 43 {
		t.Errorf("going in: %v, %d paths", got, len(paths))
	}

	if took := time.Since(begun); took < time.Second || took > 10*time.Second {
		t.Errorf("it took %s", took)
	}

	got, _ = gaps(t, dir, Options{Cross: true, Patience: time.Hour})
	if len(got) != 1 || !strings.Contains(got[mnt], "since") {
		t.Errorf("once more: %v", got)
	}

	root, _ := gaps(t, mnt, Options{Patience: time.Second})
	if len(root) != 1 || !strings.HasPrefix(root[mnt], "does not answer") {
		t.Errorf("as a root: %v", root)
	}

	end()
	must(t, os.WriteFile(filepath.Join(mnt, "back"), nil, 0o600))
	for range 100 {
		got, paths = gaps(t, dir, Options{Cross: true, Patience: time.Hour})
		if len(got) == 0 {
			break
		}
		time.Sleep(50 * time.Millisecond) // what waited is being answered
	}

	if _, ok := paths[filepath.Join(mnt, "back")]; len(got) != 0 || !ok {
		t.Errorf("after it has gone: %v", got)
	}
}

// A scan that is given up while a file system does not answer ends with its patience.
func TestSilentAndCancelled(t *testing.T) {
	dir := t.TempDir()
	disk.Silent(t, filepath.Join(dir, "mnt"))
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	begun := time.Now()
	_, _, err := Scan(ctx, []string{dir}, Options{Cross: true, Patience: time.Second}, discard{})
	if !errors.Is(err, context.DeadlineExceeded) || time.Since(begun) > 10*time.Second {
		t.Errorf("%v after %s", err, time.Since(begun))
	}
}

// A file with more names of attributes than a list may have is read all the same.
func TestManyAttributes(t *testing.T) {
	dir := memoryOnly(t)
	file := dir + "/f"
	must(t, os.WriteFile(file, nil, 0o640))
	must(t, unix.Setxattr(file, posix.AttrAccess, testList(), 0))
	want := set(t, file)
	for i := range 400 {
		must(t, unix.Setxattr(file, fmt.Sprintf("user.%s%03d", strings.Repeat("a", 240), i), nil, 0))
	}

	_, err := unix.Llistxattr(file, make([]byte, 64<<10))
	if !errors.Is(err, unix.E2BIG) && !errors.Is(err, unix.ERANGE) {
		t.Fatalf("the list is not too long: %v", err)
	}

	for _, on := range []bool{true, false} {
		was := fsys.UseXattrat(on)
		got, paths := gaps(t, dir, Options{})
		if len(got) != 0 || paths[file].Set != want || set(t, file) != want {
			t.Errorf("%v, %+v", got, paths[file])
		}

		fsys.UseXattrat(was)
	}
}

// Lists that name somebody several times, which the kernel keeps and goes by, are read: nobody takes their
// file out of what is looked at.
func TestListsThatNameSomebodyTwice(t *testing.T) {
	dir := memoryOnly(t)
	twice := func(tag uint16, first, second uint16) []byte {
		b := binary.LittleEndian.AppendUint32(nil, 2)
		for _, e := range [][3]uint32{
			{1, 6, 1<<32 - 1},
			{uint32(tag), uint32(first), 7},
			{uint32(tag), uint32(second), 7},
			{4, 4, 1<<32 - 1},
			{16, 7, 1<<32 - 1},
			{32, 0, 1<<32 - 1},
		} {
			if tag == 8 && e[0] == 8 {
				continue // groups come after the owning one
			}

			b = binary.LittleEndian.AppendUint16(b, uint16(e[0]))
			b = binary.LittleEndian.AppendUint16(b, uint16(e[1]))
			b = binary.LittleEndian.AppendUint32(b, e[2])
			if tag == 8 && e[0] == 4 {
				for _, p := range []uint16{first, second} {
					b = binary.LittleEndian.AppendUint16(binary.LittleEndian.AppendUint16(b, 8), p)
					b = binary.LittleEndian.AppendUint32(b, 7)
				}
			}
		}

		return b
	}

	for name, c := range map[string]struct {
		tag           posixacl.Tag
		first, second uint16
		want          mode.Perm
	}{
		"an account, less first": {posixacl.User, 0, 6, 0},
		"an account, more first": {posixacl.User, 6, 0, 6},
		"a group":                {posixacl.Group, 4, 2, 6},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(dir, name)
			must(t, os.WriteFile(file, nil, 0o600))
			must(t, os.Chown(file, 41001, 41001))
			must(t, unix.Setxattr(file, posix.AttrAccess, twice(uint16(c.tag), c.first, c.second), 0))
			must(t, unix.Chmod(file, 0o4770))
			got, paths := gaps(t, dir, Options{})
			p, err := posix.Of(paths[file].Set)
			must(t, err)
			has, ok := p.Access.Find(c.tag, 7)
			if len(got) > 0 || p.UID != 41001 || p.Mode != 0o4770 || !ok || has != c.want {
				t.Errorf("%s: %v, %+v", name, got, p)
			}

			must(t, os.Remove(file))
		})
	}
}

func testList() []byte {
	return posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 7, Perm: 6}}, nil).AppendXattr(nil)
}
