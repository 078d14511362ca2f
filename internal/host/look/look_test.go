//go:build linux

package look

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/host/fsys"
)

func TestList(t *testing.T) {
	dir := t.TempDir()
	p := func(n string) string { return filepath.Join(dir, n) }
	acl := posixacl.Build(6, 4, 0, posixacl.List{{Tag: posixacl.User, ID: 7, Perm: 6}}, nil)
	for _, err := range []error{
		os.Mkdir(p("report.txt"), 0o750), os.WriteFile(p("report.txt/\xff\n"), []byte("12345"), 0o640),
		os.Symlink("/nowhere", p("link")), unix.Mkfifo(p("pipe"), 0o600), os.Mkdir(p("mnt"), 0o755),
		unix.Setxattr(p("report.txt/\xff\n"), fsys.AttrAccess, acl.AppendXattr(nil), 0),
		unix.Mount("tmpfs", p("mnt"), "tmpfs", 0, "size=64k"),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	defer unix.Unmount(p("mnt"), 0)
	var got []string
	var deep Entry
	refused, err := List(t.Context(), dir, true, func(e Entry) error {
		got = append(got, strings.TrimPrefix(e.Path, dir+"/")+" "+e.Kind.String())
		if e.Size > 0 {
			deep = e
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if s := strings.Join(got, "; "); s != "link link; mnt folder; pipe pipe; report.txt folder; report.txt/\xff\n file" {
		t.Errorf("listed %q", s)
	}
	if len(refused) != 1 || !strings.Contains(refused[0].Reason, "another file system") {
		t.Errorf("refused %v", refused)
	}
	if v := perm.Describe(deep.Set, nil); deep.Size != 5 || len(v.Entries) != 3 {
		t.Errorf("deep %+v %+v", deep, v)
	}
	e, err := One(p("link"))
	if err != nil || e.Target != "/nowhere" || e.Kind != perm.Link {
		t.Errorf("link %+v, %v", e, err)
	}
	if e, err := One("/"); err != nil || e.Kind != perm.Folder {
		t.Errorf("/ %+v, %v", e, err)
	}
	if _, err := One(p("none")); !errors.Is(err, unix.ENOENT) {
		t.Errorf("missing: %v", err)
	}
	if _, err := One("relative"); err == nil {
		t.Error("a relative path was taken")
	}
}
