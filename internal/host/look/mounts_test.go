//go:build linux

package look

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/subtree"
	"idletally/internal/core/unixid"
	"idletally/internal/testkit"
	"idletally/internal/testkit/disk"
)

var must = testkit.Must

// root asks what root can do with a path.
func root(t *testing.T, path string, op access.Operation) access.Answer {
	t.Helper()
	f, err := Path(path)
	must(t, err)
	return access.NewAsker(access.SubjectOf(nil, unixid.UID(0))).May(f.Way, op, nil)
}

// What a subvolume that is read-only withholds nobody gets, by the kernel's word: writing, creating and
// deleting; and what lies in another one is as that is.
func TestReadOnlySubvolumes(t *testing.T) {
	at := disk.Mount(t, 128<<20, "rw", "mkfs.btrfs", "-q")
	run := func(argv ...string) {
		t.Helper()
		out, err := exec.Command("btrfs", argv...).CombinedOutput()
		if err != nil {
			t.Fatalf("%v: %v\n%s", argv, err, out)
		}
	}

	for _, name := range []string{"open", "shut", "shut/inner"} {
		run("subvolume", "create", filepath.Join(at, name))
		must(t, os.Mkdir(filepath.Join(at, name, "folder"), 0o777))
		must(t, os.WriteFile(filepath.Join(at, name, "folder", "file"), nil, 0o666))
	}

	// The top of a subvolume is no mount: it goes where its folder lets it.
	for folder, name := range map[string]string{"open": "open/empty", "shut": "shut/empty"} {
		t.Run(folder, func(t *testing.T) {
			run("subvolume", "create", filepath.Join(at, name))
			if folder == "shut" {
				run("property", "set", "-ts", filepath.Join(at, folder), "ro", "true")
			}

			_, below, err := Below(t.Context(), t.TempDir(), filepath.Join(at, folder), subtree.Query{
				Operation: access.Delete,
				Now:       access.NewAsker(access.SubjectOf(nil, unixid.UID(0))),
				Limit:     100,
			})
			must(t, err)
			held := slices.ContainsFunc(below.Paths, func(r subtree.Reached) bool {
				return string(r.Path) == filepath.Join(at, name)
			})
			got := root(t, filepath.Join(at, name), access.Delete)
			removed := os.Remove(filepath.Join(at, name))
			if got.Allowed != (removed == nil) || held != (removed == nil) {
				t.Errorf("%s: %+v, below %t; the kernel says %v", name, got, held, removed)
			}
		})
	}

	run("property", "set", "-ts", filepath.Join(at, "shut"), "ro", "true")

	for _, name := range []string{"open", "shut", "shut/inner"} {
		t.Run(name, func(t *testing.T) {
			folder := filepath.Join(at, name, "folder")
			file := filepath.Join(folder, "file")
			held := map[string]bool{}
			_, below, err := Below(t.Context(), t.TempDir(), filepath.Join(at, name), subtree.Query{
				Operation: access.Write,
				Now:       access.NewAsker(access.SubjectOf(nil, unixid.UID(0))),
				Limit:     100,
			})
			must(t, err)
			for _, r := range below.Paths {
				held[string(r.Path)] = true
			}

			fd, err := unix.Open(file, unix.O_WRONLY|unix.O_CLOEXEC, 0)
			if err == nil {
				unix.Close(fd)
			}

			if got := root(t, file, access.Write); got.Allowed != (err == nil) || held[file] != (err == nil) {
				t.Errorf("%s: %+v, below %t; the kernel says %v", file, got, held[file], err)
			}

			made := os.Mkdir(filepath.Join(folder, "new"), 0o700)
			if got := root(t, folder, access.Create); got.Allowed != (made == nil) {
				t.Errorf("%s: %+v; the kernel says %v", folder, got, made)
			}

			changed := os.Chmod(file, 0o600)
			if got := root(t, file, access.Change); got.Allowed != (changed == nil) {
				t.Errorf("%s: %+v; the kernel says %v", file, got, changed)
			}

			removed := os.Remove(file)
			if got := root(t, filepath.Dir(file), access.Create); got.Allowed != (removed == nil) {
				t.Errorf("%s: %+v; the kernel says %v", file, got, removed)
			}
		})
	}

	if got := root(t, filepath.Join(at, "shut/folder/file"), access.Delete); got.Allowed ||
		!strings.Contains(got.Reason, "a subvolume that is read-only (at "+at+"/shut)") {
		t.Errorf("%+v", got)
	}
}

// A file system below that does not answer takes no question with it, and only so many threads, however often
// somebody asks.
func TestBelowFileSystemsThatAreSilent(t *testing.T) {
	at := t.TempDir()
	end := disk.Silent(t, filepath.Join(at, "silent"))
	must(t, os.WriteFile(filepath.Join(at, "file"), nil, 0o644))
	var all sync.WaitGroup

	for range cap(waiting) + 3 {
		all.Go(func() {
			_, below, err := Below(t.Context(), t.TempDir(), at, subtree.Query{
				Operation: access.Change,
				Now:       access.NewAsker(access.SubjectOf(nil, unixid.UID(0))),
				Limit:     100,
			})
			if err != nil || below.Held != 2 || below.Unread != 1 ||
				slices.ContainsFunc(below.Paths, func(r subtree.Reached) bool {
					return strings.HasSuffix(string(r.Path), "silent")
				}) {
				t.Errorf("%+v, %v", below, err)
			}
		})
	}

	all.Wait()
	if n := len(waiting); n != cap(waiting) {
		t.Errorf("%d looks hang", n)
	}

	end()
	for len(waiting) > 0 { // they go as soon as the kernel tells them that nobody is there
		time.Sleep(time.Millisecond)
	}
}

// On mounts where the kernel follows no links no way leads through one.
func TestLinksThatAreNotFollowed(t *testing.T) {
	at := t.TempDir()
	must(t, unix.Mount("links", at, "tmpfs", 0, "size=1m"))
	defer unix.Unmount(at, 0)

	must(t,
		errors.Join(os.Chmod(at, 0o755), os.Mkdir(filepath.Join(at, "folder"), 0o755),
			os.WriteFile(filepath.Join(at, "folder", "file"), nil, 0o644),
			os.Symlink("folder", filepath.Join(at, "link"))))
	through := filepath.Join(at, "link", "file")
	for _, flags := range []uintptr{0, unix.MS_NOSYMFOLLOW} {
		must(t, unix.Mount("", at, "", unix.MS_REMOUNT|unix.MS_BIND|flags, ""))
		_, err := os.ReadFile(through)
		got := root(t, through, access.Read)
		if got.Allowed != (err == nil) ||
			err != nil && (got.Cause != access.ByNoFollow || !errors.Is(err, unix.ELOOP)) {
			t.Errorf("%+v; the kernel says %v", got, err)
		}

		end := root(t, filepath.Join(at, "link"), access.Read)
		if end.Cause != access.ByLink || (len(end.Notes) > 0) != (err != nil) {
			t.Errorf("%+v", end)
		}
	}
}
