//go:build linux

package look

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/subtree"
)

func TestKinds(t *testing.T) {
	dir := t.TempDir()
	p := func(n string) string { return filepath.Join(dir, n) }
	acl := posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 7, Perm: 6}}, nil)

	for _, err := range []error{
		os.Mkdir(p("report.txt"), 0o750), os.WriteFile(p("report.txt/\xff\n"), []byte("12345"), 0o640),
		os.Symlink("/nowhere", p("link")), unix.Mkfifo(p("pipe"), 0o600), os.Mkdir(p("mnt"), 0o755),
		unix.Setxattr(p("report.txt/\xff\n"), posix.AttrAccess, acl.AppendXattr(nil), 0),
		unix.Mount("tmpfs", p("mnt"), "tmpfs", 0, "size=64k"),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	defer unix.Unmount(p("mnt"), 0)

	var got []string
	f, err := Folder(t.Context(), dir, "", 100)
	if err != nil {
		t.Fatal(err)
	}

	for _, e := range f.Entries {
		got = append(got, fmt.Sprintf("%s %s %v", base(e), e.Kind, e.Top))
	}

	if s := strings.Join(got, "; "); s != "link link false; mnt folder true; pipe pipe false; report.txt folder false" {
		t.Errorf("listed %q", s)
	}

	deep, err := Folder(t.Context(), p("report.txt"), "", 100)
	if err != nil || len(deep.Entries) != 1 || deep.Entries[0].Size != 5 ||
		len(perm.Describe(perm.File, deep.Entries[0].Set, nil).Entries) != 3 {
		t.Errorf("deep %+v %v", deep, err)
	}

	if f, err := Path(p("link")); err != nil || f.Seen.Target != "/nowhere" || f.Seen.Kind != perm.Link {
		t.Errorf("link %+v, %v", f.Seen, err)
	}

	if f, err := Path("/"); err != nil || f.Seen.Kind != perm.Folder || len(f.Way) != 1 {
		t.Errorf("/ %+v, %v", f, err)
	}

	if _, err := Path(p("none")); !errors.Is(err, unix.ENOENT) {
		t.Errorf("missing: %v", err)
	}

	if _, err := Path("relative"); err == nil {
		t.Error("a relative path was taken")
	}
}

func TestFolder(t *testing.T) {
	dir := t.TempDir()
	for _, n := range []string{"b", "a", "\xff", "c"} {
		t.Run(n, func(t *testing.T) {
			if err := os.WriteFile(filepath.Join(dir, n), nil, 0o640); err != nil {
				t.Fatal(err)
			}
		})
	}

	var got []string
	for after := ""; ; {
		f, err := Folder(t.Context(), dir, after, 3)
		if err != nil {
			t.Fatal(err)
		}

		for _, e := range f.Entries {
			got = append(got, base(e))
		}

		after = string(f.Next)
		if after == "" {
			break
		}
	}

	if s := strings.Join(got, ","); s != "a,b,c,\xff" {
		t.Errorf("listed %q", s)
	}

	if _, err := Folder(t.Context(), filepath.Join(dir, "a"), "", 3); err == nil ||
		!strings.Contains(err.Error(), "not a folder") {
		t.Errorf("a file was listed: %v", err)
	}
}

// A way goes where the kernel would go: links on it are followed, their folders are part of it,
// and what lies behind has its real path.
func TestWay(t *testing.T) {
	dir := t.TempDir()
	p := func(n string) string { return filepath.Join(dir, n) }
	for _, err := range []error{
		os.MkdirAll(p("quay/berth/slip"), 0o755), os.Symlink("quay/berth/../berth", p("short")),
		os.Symlink(p("quay"), p("far")),
		os.Symlink("loop", p("loop")), os.WriteFile(p("quay/berth/slip/log"), nil, 0o600),
		os.Symlink("short", p("again")),
		os.Symlink("..", p("quay/back")), os.Symlink(".", p("quay/self")), os.Symlink("quay/berth/", p("slashed")),
		os.Symlink("quay/berth/slip/log", p("file")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}

	for _, c := range []struct{ path, want string }{
		{"quay/berth", "quay,quay/berth"},
		{"short/slip/log", "short,quay,quay/berth,quay/berth/slip,quay/berth/slip/log"},
		{"far/berth", "far,quay,quay/berth"},
		{"again/slip", "again,short,quay,quay/berth,quay/berth/slip"},
		{"short", "short"},
		// What is led back to stands at the end, too: it is what is asked about.
		{"quay/back/quay", "quay,quay/back,quay"},
		{"quay/back/quay/berth", "quay,quay/back,quay/berth"},
		{"quay/self/berth/../self/", "quay,quay/self,quay/berth,quay"},
		{"quay/back/", "quay,quay/back,."},
		{"quay/back", "quay,quay/back"},
		{"short/../back/quay/", "short,quay,quay/berth,quay/back,quay"},
		{"short/", "short,quay,quay/berth"},
		{"short/.", "short,quay,quay/berth"},
		{"slashed/slip", "slashed,quay,quay/berth,quay/berth/slip"},
		{"quay/../quay/./berth//slip", "quay,quay/berth,quay/berth/slip"},
	} {
		t.Run(c.path, func(t *testing.T) {
			f, err := Path(dir + "/" + c.path)
			if err != nil {
				t.Errorf("%s: %v", c.path, err)
				return
			}

			var got []string
			for _, x := range f.Way {
				if rel, ok := strings.CutPrefix(string(x.Path), dir+"/"); ok {
					got = append(got, rel)
				}
				if string(x.Path) == dir && len(got) > 0 {
					got = append(got, ".")
				}
			}

			if s := strings.Join(got, ","); s != c.want {
				t.Errorf("%s leads through %s, want %s", c.path, s, c.want)
			}

			if last := f.Way[len(f.Way)-1]; last.Path != f.Seen.Path || last.Kind != f.Seen.Kind {
				t.Errorf("%s ends at %s (%s), its way at %s", c.path, f.Seen.Path, f.Seen.Kind, last.Path)
			}

			// The kernel comes to the same.
			var here, there unix.Stat_t
			if err := errors.Join(unix.Lstat(p(".")+"/"+c.path, &here),
				unix.Lstat(string(f.Seen.Path), &there)); err != nil ||
				here.Ino != there.Ino {
				t.Errorf("%s leads to %s: %v", c.path, f.Seen.Path, err)
			}
		})
	}

	if _, err := Path(p("loop/x")); err == nil || !strings.Contains(err.Error(), "more than 40 links") {
		t.Errorf("a loop: %v", err)
	}

	// What others ask for is in its shortest form, and nobody's path is longer than one may be.
	for _, path := range []string{
		"/quay/../quay", "/quay/", "/quay/./berth", "//quay", strings.Repeat("/quay/..", 2000),
	} {
		t.Run(path, func(t *testing.T) {
			if _, err := (Bounds{Pass: func(string) bool { return true }}).Path(dir + path); err == nil {
				t.Errorf("%.20s is looked at for others", path)
			}
		})
	}

	if _, err := Path(dir + strings.Repeat("/quay/..", pathname.MaxPath/8+1)); err == nil ||
		!strings.Contains(err.Error(), "at most") {
		t.Errorf("a path that is too long: %v", err)
	}

	for _, path := range []string{
		"quay/berth/slip/log/x", "quay/berth/slip/log/", "quay/berth/slip/log/.", "quay/berth/slip/log/..", "file/",
		"file/..",
	} {
		t.Run(path, func(t *testing.T) {
			if _, err := Path(dir + "/" + path); !errors.Is(err, unix.ENOTDIR) {
				t.Errorf("%s: a file on the way: %v", path, err)
			}
		})
	}
}

func TestBelow(t *testing.T) {
	dir := t.TempDir()
	for _, err := range []error{
		os.MkdirAll(filepath.Join(dir, "open/deep"), 0o755), os.MkdirAll(filepath.Join(dir, "shut/deep"), 0o755),
		os.WriteFile(filepath.Join(dir, "open/deep/a"), nil, 0o644),
		os.WriteFile(filepath.Join(dir, "shut/deep/b"), nil, 0o644),
		os.Chmod(filepath.Join(dir, "shut"), 0o700), os.Chmod(dir, 0o755), os.Chmod(filepath.Dir(dir), 0o755),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}

	_, got, err := Below(t.Context(), t.TempDir(), dir, subtree.Query{
		Operation: access.Read,
		Now:       access.NewAsker(access.Subject{ID: perm.Everyone}),
		Limit:     10,
	})
	if err != nil {
		t.Fatal(err)
	}

	if got.Held != 1 || got.Closed != 1 || len(got.Paths) != 1 ||
		string(got.Paths[0].Path) != filepath.Join(dir, "open/deep/a") {
		t.Errorf("%+v", got)
	}
}
