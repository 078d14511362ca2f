//go:build linux

package watch

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/testkit"
)

func listen(t *testing.T, roots ...string) *Watch {
	t.Helper()
	w, err := Open(roots, false)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	return w
}

// hears returns what comes of doing something.
func hears(t *testing.T, w *Watch, do func()) Changes {
	t.Helper()
	if _, err := w.Take(); err != nil {
		t.Fatal(err)
	}
	do()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := w.Wait(ctx); err != nil {
		t.Fatal(err)
	}
	c, err := w.Take()
	if err != nil {
		t.Fatal(err)
	}
	return c
}

var must = testkit.Must

func TestHears(t *testing.T) {
	t.Parallel()
	top := t.TempDir()
	root := filepath.Join(top, "in")
	at := func(name string) string { return filepath.Join(root, name) }
	must(t, os.MkdirAll(at("d/e"), 0o755))
	must(t, os.MkdirAll(filepath.Join(top, "out"), 0o755))
	write := func(name string) { must(t, os.WriteFile(at(name), nil, 0o644)) }
	write("f")
	write("d/g")
	write("d/one")
	must(t, os.Link(at("d/one"), at("d/two")))
	write("d/far")
	must(t, os.Link(at("d/far"), filepath.Join(top, "out/far")))
	ours := map[uint64]bool{}

	for _, name := range []string{"d/one", "d/far", "f", "d/g"} {
		var st unix.Stat_t
		must(t, unix.Lstat(at(name), &st))
		ours[st.Ino] = true
	}

	w := listen(t, root)
	for _, c := range []struct {
		name   string
		do     func()
		want   string // what is to be looked at again, apart by blanks
		linked bool
	}{
		{"chmod of a file", func() { must(t, os.Chmod(at("d/g"), 0o600)) }, "d/g", false},
		{"chmod of a folder", func() { must(t, os.Chmod(at("d"), 0o700)) }, "d", false},
		{"chmod of the root", func() { must(t, os.Chmod(root, 0o750)) }, ".", false},
		{"chown", func() { must(t, os.Lchown(at("f"), 1, 1)) }, "f", false},
		{"through a descriptor", func() {
			f, err := os.Open(at("f"))
			must(t, err)
			must(t, errors.Join(f.Chmod(0o640), f.Close()))
		}, "f", false},
		{"attribute", func() {
			must(t,
				unix.Setxattr(at("f"), "security.capability",
					[]byte("\x01\x00\x00\x02\x00\x04\x00\x00"+strings.Repeat("\x00", 12)), 0))
		}, "f", false},
		{"written to by somebody who is not root", func() { // which takes the set-user-ID bit away
			must(t,
				errors.Join(os.Chown(at("f"), 4321, 4321), unix.Chmod(at("f"), 0o4755), os.Chmod(top, 0o755),
					os.Chmod(filepath.Dir(top), 0o755)))
			_, err := w.Take()
			must(t, err)
			must(t, exec.Command("setpriv", "--reuid=4321", "--clear-groups", "sh", "-c", "echo >>"+at("f")).Run())
			if st, err := os.Stat(at("f")); err != nil || st.Mode()&os.ModeSetuid != 0 {
				t.Errorf("%v, %v", st.Mode(), err)
			}
		}, "f", false},
		{"made", func() { write("d/e/new") }, "d/e/new", false},
		{"removed", func() { must(t, os.Remove(at("d/e/new"))) }, "d/e/new", false},
		{"changed and renamed", func() {
			write("d/tmp")
			must(t, os.Chmod(at("d/tmp"), 0o600))
			must(t, os.Rename(at("d/tmp"), at("d/g")))
		}, "d/g d/tmp", false},
		{"changed and removed", func() {
			write("d/tmp")
			must(t, os.Chmod(at("d/tmp"), 0o600))
			must(t, os.Remove(at("d/tmp")))
		}, "d/tmp", false},
		{"folder renamed", func() { must(t, os.Rename(at("d/e"), at("d/h"))) }, "d/e d/h", false},
		{"two names", func() { must(t, os.Chmod(at("d/one"), 0o600)) }, "d/one", true},
		{"of two names one changed and removed", func() {
			must(t, os.Chmod(at("d/one"), 0o640))
			must(t, os.Remove(at("d/one")))
		}, "d/one", true},
		{"by a name elsewhere", func() { must(t, os.Chmod(filepath.Join(top, "out/far"), 0o600)) }, "", true},
		{"by a name elsewhere that goes then", func() {
			must(t, os.Chmod(filepath.Join(top, "out/far"), 0o640))
			must(t, os.Remove(filepath.Join(top, "out/far")))
		}, "", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := hears(t, w, c.do)
			var names []string
			for _, p := range got.Paths {
				rel, err := filepath.Rel(root, p)
				must(t, err)
				names = append(names, rel)
			}

			// others change files, too
			linked := slices.ContainsFunc(got.Linked, func(ino uint64) bool { return ours[ino] })
			if s := strings.Join(names, " "); s != c.want || linked != c.linked || got.All != "" {
				t.Errorf("%s: %q, linked %t, all %q; want %q, linked %t", c.name, s, linked, got.All, c.want, c.linked)
			}
		})
	}

	if c := hears(t, w, func() { must(t, os.Chmod(top, 0o711)) }); !c.Around || len(c.Paths) > 0 || c.All != "" {
		t.Errorf("chmod above the root: %+v", c)
	}
}

// Whoever changes something is told while the kernel tells.
func TestActor(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	file := filepath.Join(root, "f")
	must(t, os.WriteFile(file, nil, 0o644))
	must(t, os.Lchown(file, 4321, 0))
	w := listen(t, root)
	var pid int
	c := hears(t, w, func() {
		cmd := exec.Command("setpriv", "--reuid=4321", "--clear-groups", "sh", "-c", "chmod 600 "+file)
		if os.Chmod(filepath.Dir(root), 0o755) != nil || cmd.Run() != nil {
			t.Fatal("chmod failed")
		}
		pid = cmd.Process.Pid
	})

	if len(c.Doings) != 1 {
		t.Fatalf("%+v", c)
	}

	d := c.Doings[0]

	// How much of it the kernel still told depends on how fast the process was gone; what is told is right.
	if d.Path != file || d.What != "changed" || d.PID < pid ||
		d.Command != "" && (d.UID != 4321 || d.Command != "chmod" && d.Command != "sh") {
		t.Errorf("%+v", d)
	}

	c = hears(t, w, func() { must(t, os.Chmod(file, 0o611)) }) // this process stays
	if len(c.Doings) != 1 || c.Doings[0].PID != os.Getpid() || c.Doings[0].Program == "" ||
		c.Doings[0].UID != uint32(os.Getuid()) {
		t.Errorf("%+v", c.Doings)
	}
}

// Who touches a path after somebody else has changed it does not stand for it alone, and who does much does
// not drown what others do.
func TestSeveralActors(t *testing.T) {
	n := news{}
	at := func(i int) place { return place{folder: handle{id: "f"}, name: fmt.Sprint(i)} }
	by := func(uid uint32) FileEvent {
		return FileEvent{What: "changed", Actor: Actor{UID: uid, Command: "c", PID: int(uid)}}
	}
	for _, uid := range []uint32{41001, 41002, 41001, 41003, 41004, 41005, 41006} {
		n.note(at(0), by(uid))
	}

	var got []uint32
	for _, d := range n.doings[at(0)] {
		got = append(got, d.UID)
	}

	if !slices.Equal(got, []uint32{41001, 41002, 41003, 41006}) {
		t.Errorf("kept %v", got)
	}

	for i := range 2 * maxDoings {
		n.note(at(i+1), by(41001))
	}

	n.note(at(0), by(41002))
	n.note(at(1_000_000), by(41002))
	if list := n.doings[at(1_000_000)]; len(list) != 1 || list[0].UID != 41002 {
		t.Errorf("what another did is drowned: %v", list)
	}

	root := t.TempDir()
	file := filepath.Join(root, "f")
	must(t, os.WriteFile(file, nil, 0o644))
	w := listen(t, root)
	c := hears(t, w, func() {
		must(t, os.Chmod(file, 0o647))
		must(t, exec.Command("setpriv", "--reuid=0", "chown", "41002", file).Run())
	})
	if len(c.Doings) != 2 || c.Doings[0].PID != os.Getpid() || c.Doings[1].PID == os.Getpid() {
		t.Errorf("%+v", c.Doings)
	}
}

// More than is followed one by one is said to be so; and afterwards it goes on.
func TestFlood(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	w := listen(t, root)
	c := hears(t, w, func() {
		for i := range maxPlaces + 100 {
			must(t, os.Mkdir(filepath.Join(root, "x"), 0o700))
			must(t,
				os.Rename(filepath.Join(root, "x"),
					filepath.Join(root,
						string(rune('a'+i%26))+strings.Repeat("y", i%200)+time.Now().Format("150405.000000000"))))
		}
	})

	if c.All == "" || len(c.Paths) > 0 || len(c.Doings) > maxDoings {
		t.Fatalf("all %q, %d paths, %d doings", c.All, len(c.Paths), len(c.Doings))
	}

	c = hears(t, w, func() { must(t, os.Chmod(root, 0o711)) })
	if c.All != "" || len(c.Paths) != 1 {
		t.Fatalf("afterwards: %+v", c)
	}
}

func TestNothingToHear(t *testing.T) {
	t.Parallel()
	if w, err := Open([]string{filepath.Join(t.TempDir(), "none")}, false); err == nil {
		w.Close()
		t.Error("a root that is not there is watched")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	w := listen(t, t.TempDir())
	// Other tests change the same file system; what they do is not in this root.
	for w.Wait(ctx) == nil {
		if c, err := w.Take(); err != nil || len(c.Paths) > 0 || len(c.Doings) > 0 {
			t.Fatalf("%+v, %v", c, err)
		}
	}
}

// What is mounted below a root is heard of, where it is to be crossed into; and mounting ends a watch.
func TestMounts(t *testing.T) {
	root := t.TempDir()
	at := filepath.Join(root, "m nt") // a blank, which the kernel writes in octal
	must(t, os.Mkdir(at, 0o755))
	mounted := func() {
		must(t, unix.Mount("tmpfs", at, "tmpfs", 0, "size=64k"))
		t.Cleanup(func() { _ = unix.Unmount(at, unix.MNT_DETACH) })
	}
	mounted()
	must(t, os.WriteFile(filepath.Join(at, "f"), nil, 0o600))
	deaf, err := Open([]string{root}, false)
	must(t, err)
	defer deaf.Close()

	w, err := Open([]string{root}, true)
	must(t, err)
	defer w.Close()

	c := hears(t, w, func() { must(t, os.Chmod(filepath.Join(at, "f"), 0o611)) })
	if len(c.Paths) != 1 || c.Paths[0] != filepath.Join(at, "f") {
		t.Errorf("%+v", c)
	}

	if c, err := deaf.Take(); err != nil || len(c.Paths) > 0 {
		t.Errorf("%+v, %v", c, err)
	}

	must(t, unix.Unmount(at, 0))
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()

	for err = nil; err == nil; {
		if err = w.Wait(ctx); err == nil {
			_, err = w.Take()
		}
	}

	if !errors.Is(err, ErrMounts) {
		t.Errorf("unmounted: %v", err)
	}
}

func FuzzEvent(f *testing.F) {
	f.Add(make([]byte, metadataSize))
	f.Add(append([]byte{
		52, 0, 0, 0, 3, 0, 24, 0, 4, 0, 0, 0, 0, 0, 0, 0, 255, 255, 255, 255, 1, 0, 0, 0, 2, 0, 28, 0, 1, 2, 3, 4, 5,
		6, 7, 8, 4, 0, 0, 0, 1, 0, 0, 0, 9, 9, 9, 9,
	},
		"abc\x00"...))
	f.Fuzz(func(t *testing.T, b []byte) {
		e, size, err := parse(b)
		if err == nil && (size < metadataSize || size > len(b) || strings.Contains(e.name, "\x00")) {
			t.Fatalf("%+v, %d of %d", e, size, len(b))
		}
	})
}
