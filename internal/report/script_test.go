//go:build linux

package report

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/tree"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
)

// put makes a path as a set says.
func put(t *testing.T, path string, s perm.Set) {
	t.Helper()
	p, err := posix.Of(s)
	must(t, err)
	must(t, os.Lchown(path, int(p.UID), int(p.GID)))
	must(t, unix.Chmod(path, uint32(p.Mode)))
	if p.Access != nil {
		must(t, unix.Setxattr(path, "system.posix_acl_access", p.Access.AppendXattr(nil), 0))
		must(t, unix.Chmod(path, uint32(p.Mode)))
	}
	if p.Default != nil {
		must(t, unix.Setxattr(path, "system.posix_acl_default", p.Default.AppendXattr(nil), 0))
	}
	if p.Caps != "" {
		must(t, unix.Setxattr(path, "security.capability", []byte(p.Caps), 0))
	}
}

var must = testkit.Must

// how reads a path, in the words of the system.
func how(t *testing.T, path string) string {
	t.Helper()
	var st unix.Stat_t
	must(t, unix.Lstat(path, &st))
	out := fmt.Sprintf("%d:%d %o", st.Uid, st.Gid, st.Mode)
	for _, a := range []string{"system.posix_acl_access", "system.posix_acl_default", "security.capability"} {
		b := make([]byte, 4096)
		if n, err := unix.Lgetxattr(path, a, b); err == nil {
			out += fmt.Sprintf(" %x", b[:n])
		}
	}
	return out
}

// anyState is a random state for a kind of path.
func anyState(r *rand.Rand, k perm.Kind, lists bool) perm.Set {
	p := posix.State{UID: r.Uint32N(4), GID: r.Uint32N(4), Mode: 0o777}
	if k == perm.Link {
		return p.Set()
	}

	p.Mode = mode.Mode(r.UintN(0o10000))
	named := func() (l posixacl.List) {
		for id := range r.Uint32N(3) {
			l = append(l, posixacl.Entry{Tag: posixacl.User, ID: 10 + id, Perm: mode.Perm(r.UintN(8))})
		}
		return l
	}

	if !lists {
		return p.Set()
	}

	p.Access = posixacl.Build(p.Mode.Owner(), p.Mode.Group(), p.Mode.Other(), named(), nil)
	if p.Access != nil {
		p.Mode = p.Access.Mode(p.Mode)
	}

	if k == perm.Folder {
		p.Default = posixacl.Build(7, mode.Perm(r.UintN(8)), mode.Perm(r.UintN(8)), named(), nil)
	} else if r.IntN(3) == 0 {
		p.Caps = "\x01\x00\x00\x02\x00\x04\x00\x00" + strings.Repeat("\x00", 12)
	}

	return p.Set()
}

// A plan as a script, run by the system's own shell, does what the plan says and takes it back, whatever the
// names are; and it leaves alone what is no longer as it was reviewed.
func TestScript(t *testing.T) {
	r := seeded.Rand(t)
	for round := range 12 {
		root := t.TempDir()
		lists := round%3 != 0
		names := []string{
			"plain", "two words", "it's", "a\nb", "\xff\xfe", "-rf", "$(touch gone)", "`x`", "*", "\\n", "\"", "#",
		}
		var steps []plan.Step

		for _, n := range names {
			k := []perm.Kind{perm.File, perm.Folder, perm.Link}[r.IntN(3)]
			path := filepath.Join(root, n)
			switch k {
			case perm.File:
				must(t, os.WriteFile(path, nil, 0o600))
			case perm.Folder:
				must(t, os.Mkdir(path, 0o700))
			default:
				must(t, os.Symlink("nowhere", path))
			}

			s := plan.Step{Path: path, Kind: k, Before: anyState(r, k, lists), After: anyState(r, k, lists)}
			if k == perm.Link {
				must(t, os.Lchown(path, int(uid(s.Before)), int(gid(s.Before))))
			} else {
				put(t, path, s.Before)
			}

			if perm.Empowers(k, s.Before, s.After) {
				s.File = plan.Identity{Inode: inode(t, path), Content: tree.Sum(nil)}
			}

			if s.Before != s.After {
				steps = append(steps, s)
			}
		}

		slices.SortFunc(steps, func(a, b plan.Step) int { return pathname.Compare(a.Path, b.Path) })
		var before []string
		for _, s := range steps {
			before = append(before, how(t, s.Path))
		}

		// One is changed by somebody since.
		odd := r.IntN(len(steps))
		must(t, os.Lchown(steps[odd].Path, 77, 77))
		oddly := how(t, steps[odd].Path)
		var text bytes.Buffer
		must(t, Script(&text, plan.Manifest{ID: "p", Title: "a\ntitle; rm -rf /"}, "skiff", steps))
		dir := t.TempDir()
		file, kept := filepath.Join(dir, "plan.sh"), filepath.Join(dir, "kept")
		must(t, os.WriteFile(file, text.Bytes(), 0o600))
		run := func(way string) string {
			cmd := exec.Command("/bin/sh", file, way, kept)
			cmd.Dir = root
			out, err := cmd.CombinedOutput()
			if code := cmd.ProcessState.ExitCode(); code != 4 && (way == "do" || code != 0) {
				t.Fatalf("%s: %v\n%s", way, err, out)
			}

			return string(out)
		}

		out := run("do")
		if want := fmt.Sprintf("%d of %d paths were seen to be as planned, 1 are left or failed.", len(steps)-1,
			len(steps)); !strings.Contains(out, want) {
			t.Errorf("%s\nwant %q", out, want)
		}

		for i, s := range steps {
			if i == odd {
				if got := how(t, s.Path); got != oddly {
					t.Errorf("%q was changed by somebody, and then to %s", s.Path, got)
				}
				continue
			}

			other := filepath.Join(t.TempDir(), "x")
			switch s.Kind {
			case perm.File:
				must(t, os.WriteFile(other, nil, 0o600))
			case perm.Folder:
				must(t, os.Mkdir(other, 0o700))
			default:
				must(t, os.Symlink("nowhere", other))
				must(t, os.Lchown(other, int(uid(s.After)), int(gid(s.After))))
			}

			if s.Kind != perm.Link {
				put(t, other, s.After)
			}

			if got, want := how(t, s.Path), how(t, other); got != want {
				t.Errorf("%q (%s) is %s, want %s\n%s", s.Path, s.Kind, got, want, out)
			}
		}

		if again, err := exec.Command("/bin/sh", file, "do", kept).CombinedOutput(); err == nil {
			t.Errorf("originals were written over: %s", again)
		}

		run("undo")
		for i, s := range steps {
			if got := how(t, s.Path); i != odd && got != before[i] {
				t.Errorf("%q is %s afterwards, was %s", s.Path, got, before[i])
			}
		}

		if _, err := os.Stat(filepath.Join(root, "gone")); err == nil {
			t.Fatal("a name was run")
		}

		must(t, exec.Command("/bin/sh", "-n", file).Run())
	}
}

func uid(s perm.Set) uint32 { p, _ := posix.Of(s); return p.UID }
func gid(s perm.Set) uint32 { p, _ := posix.Of(s); return p.GID }

func inode(t *testing.T, path string) uint64 {
	var st unix.Stat_t
	must(t, unix.Lstat(path, &st))
	return st.Ino
}

// Somebody exchanges files for links, and for other files of equal state, while a script runs: what lies
// elsewhere is never changed, nor another file than the one that was reviewed, and the last line counts what
// was seen alone.
func TestScriptWhileFilesAreExchanged(t *testing.T) {
	root, outside := t.TempDir(), t.TempDir()
	victim := filepath.Join(outside, "victim")
	must(t, os.WriteFile(victim, nil, 0o600))
	before, after := posix.State{Mode: 0o600}.Set(), posix.State{UID: 7, Mode: 0o664}.Set()
	var steps []plan.Step

	for i := range 40 {
		path := filepath.Join(root, fmt.Sprintf("f%03d", i))
		must(t, os.WriteFile(path, nil, 0o600))
		steps = append(steps, plan.Step{
			Path:   path,
			Kind:   perm.File,
			Before: before,
			After:  after,
			File:   plan.Identity{Inode: inode(t, path)},
		})
	}

	// One is another file from the start.
	must(t, os.WriteFile(steps[5].Path+".new", nil, 0o600))
	must(t, os.Rename(steps[5].Path+".new", steps[5].Path))
	var text bytes.Buffer
	must(t, Script(&text, plan.Manifest{ID: "p"}, "skiff", steps))
	dir := t.TempDir()
	file := filepath.Join(dir, "plan.sh")
	must(t, os.WriteFile(file, text.Bytes(), 0o600))

	stop, stopped := make(chan struct{}), make(chan struct{})
	aside := filepath.Join(root, "aside")
	must(t, os.Symlink(victim, aside))
	go func() {
		defer close(stopped)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
				path := steps[30+n%10].Path
				for range 2 { // there, and back again
					_ = unix.Renameat2(unix.AT_FDCWD, aside, unix.AT_FDCWD, path, unix.RENAME_EXCHANGE)
				}
			}
		}
	}()

	for way, kept := range map[string]string{"do": filepath.Join(dir, "one")} {
		t.Run(way, func(t *testing.T) {
			out, err := exec.Command("/bin/sh", file, way, kept).CombinedOutput()
			if err == nil || !strings.Contains(string(out), "another file lies there") {
				t.Errorf("%v: %s", err, out)
			}

			changed := 0
			close(stop)
			<-stopped

			for _, s := range steps {
				if st, err := os.Lstat(s.Path); err == nil && st.Mode() == 0o664 {
					changed++
				}
			}

			var said int
			if i := strings.LastIndex(string(out), " of 40 paths were seen"); i < 0 {
				t.Fatalf("%s", out)
			} else if _, err := fmt.Sscan(string(out[strings.LastIndexByte(string(out[:i]), '\n')+1:i]),
				&said); err != nil ||
				said > changed || said < 25 {
				t.Errorf("it says %d, %d are changed: %v", said, changed, err)
			}
		})
	}

	if st, err := os.Stat(victim); err != nil || st.Mode() != 0o600 {
		t.Errorf("what lies elsewhere has %v, %v", st.Mode(), err)
	}
}
