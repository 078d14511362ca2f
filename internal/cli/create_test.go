//go:build linux

package cli

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// Whatever a file is called that a command writes: what is no plain file stays what it is, and a plain one is
// replaced whole or not at all.
func TestCreateReplacesPlainFilesAlone(t *testing.T) {
	dir := t.TempDir()
	in := func(name string) string { return filepath.Join(dir, name) }
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}

	words := func(w io.Writer) error { _, err := io.WriteString(w, "new"); return err }
	read := func(name string) string { b, _ := os.ReadFile(in(name)); return string(b) }

	must(os.WriteFile(in("plain"), []byte("old"), 0o644))
	must(os.Symlink("plain", in("link")))
	must(os.Symlink("nothing", in("astray")))
	must(os.Mkdir(in("folder"), 0o755))
	must(unix.Mkfifo(in("pipe"), 0o600))
	must(unix.Mknod(in("null"), unix.S_IFCHR|0o666, int(unix.Mkdev(1, 3))))

	broken := errors.New("broken off")
	for _, name := range []string{"plain", "link"} {
		t.Run(name, func(t *testing.T) {
			if err := create(in(name), func(w io.Writer) error {
				return errors.Join(words(w),
					broken)
			}); !errors.Is(err,
				broken) ||
				read("plain") != "old" {
				t.Errorf("%s, broken off: %v, %q", name, err, read("plain"))
			}
		})
	}

	must(create(in("link"), words))
	if st, err := os.Lstat(in("link")); err != nil || st.Mode()&os.ModeSymlink == 0 || read("plain") != "new" {
		t.Errorf("a link: %v, %v, %q", st.Mode(), err, read("plain"))
	}

	must(create(in("fresh"), words))
	if read("fresh") != "new" {
		t.Errorf("a new file: %q", read("fresh"))
	}

	for name, says := range map[string]string{"folder": "is a folder", "astray": "leads nowhere"} {
		t.Run(name, func(t *testing.T) {
			if err := create(in(name), words); err == nil || !strings.Contains(err.Error(), says) {
				t.Errorf("%s: %v", name, err)
			}
		})
	}

	if err := create("", words); err == nil || !strings.Contains(err.Error(), "no name") ||
		strings.Contains(err.Error(), "closed") {
		t.Errorf("no name: %v", err)
	}

	must(create(in("null"), words))
	got := make(chan string, 1)
	go func() { got <- read("pipe") }()
	must(create(in("pipe"), words))
	if s := <-got; s != "new" {
		t.Errorf("through a pipe comes %q", s)
	}

	for name, kind := range map[string]os.FileMode{"null": os.ModeCharDevice, "pipe": os.ModeNamedPipe} {
		t.Run(name, func(t *testing.T) {
			if st, err := os.Lstat(in(name)); err != nil || st.Mode()&kind == 0 {
				t.Errorf("%s is %v now, %v", name, st.Mode(), err)
			}
		})
	}

	if list, err := filepath.Glob(in(".*-*")); err != nil || len(list) != 0 {
		t.Errorf("left behind: %q, %v", list, err)
	}
}
