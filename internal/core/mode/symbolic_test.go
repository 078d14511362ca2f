package mode

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"idletally/internal/testkit/seeded"
)

func TestParseChangeErrors(t *testing.T) {
	for in, want := range map[string]string{
		"":       "ends where one of u g o a + - = is wanted",
		"u":      "ends where one of + - = is wanted",
		"z+r":    "character 1 is 'z'",
		"u+q":    "character 3 is 'q', want one of r w x X s t",
		"u+r,":   "ends where",
		"u+r,,g": "character 5 is ','",
		"u+rg":   "character 4 is 'g'",
		"u 0":    "character 2 is ' '",
	} {
		t.Run(in, func(t *testing.T) {
			if _, err := ParseChange(in); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v, want %q", in, err, want)
			}
		})
	}
}

func TestApply(t *testing.T) {
	for _, c := range []struct {
		change string
		from   Mode
		folder bool
		umask  Mode
		want   Mode
	}{
		{"u=rwx,go=rx", 0, false, 0, 0o755},
		{"a+X", 0o644, false, 0, 0o644},
		{"a+X", 0o744, false, 0, 0o755},
		{"a+X", 0o644, true, 0, 0o755},
		{"g=u", 0o640, false, 0, 0o660},
		{"o=g-w", 0o664, false, 0, 0o664},
		{"+w", 0o444, false, 0o022, 0o644},
		{"g+s,+t", 0o770, true, 0, 0o3770},
		{"u+s", 0o755, false, 0, 0o4755},
		{"g=rx", 0o2770, true, 0, 0o2750},
		{"g=rxs", 0o770, true, 0, 0o2750},
		{"go-rwx", 0o777, false, 0, 0o700},
		{"u+r-w+x", 0o200, false, 0, 0o500},
	} {
		t.Run(c.change, func(t *testing.T) {
			ch, err := ParseChange(c.change)
			if err != nil {
				t.Fatal(err)
			}
			if got := ch.Apply(c.from, c.folder, c.umask); got != c.want {
				t.Errorf("%s on %v: %v, want %v", c.change, c.from, got, c.want)
			}
		})
	}
}

// What is computed is what the system's own utility does to real files and folders.
func TestApplyAgainstSystem(t *testing.T) {
	r := seeded.Rand(t)
	dir := t.TempDir()
	file, folder := filepath.Join(dir, "file"), filepath.Join(dir, "folder")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}

	if err := os.Mkdir(folder, 0o700); err != nil {
		t.Fatal(err)
	}

	pick := func(from string, most int) (s string) {
		for range r.IntN(most + 1) {
			s += string(from[r.IntN(len(from))])
		}
		return s
	}

	for range 600 {
		var clauses []string
		for range 1 + r.IntN(3) {
			c := pick("ugoa", 2)
			for range 1 + r.IntN(2) {
				c += string("+-="[r.IntN(3)])
				if r.IntN(4) == 0 {
					c += string("ugo"[r.IntN(3)])
				} else {
					c += pick("rwxXst", 3)
				}
			}
			clauses = append(clauses, c)
		}

		text := strings.Join(clauses, ",")
		ch, err := ParseChange(text)
		if err != nil {
			t.Fatal(err)
		}

		from := Mode(r.UintN(0o10000))
		umask := []Mode{0, 0o022, 0o027, 0o077}[r.IntN(4)]
		for path, isFolder := range map[string]bool{file: false, folder: true} {
			t.Run(path, func(t *testing.T) {
				if err := syscall.Chmod(path, uint32(from)); err != nil {
					t.Fatal(err)
				}

				cmd := exec.Command("/bin/sh", "-c", `umask "$1"; exec chmod -- "$2" "$3"`, "sh", umask.String(), text,
					path)
				if out, err := cmd.CombinedOutput(); err != nil &&
					!strings.Contains(string(out), "new permissions are") {
					t.Fatalf("chmod %s: %v %s", text, err, out)
				}

				var st syscall.Stat_t
				if err := syscall.Stat(path, &st); err != nil {
					t.Fatal(err)
				}

				if got, want := ch.Apply(from, isFolder, umask), Mode(st.Mode&0o7777); got != want {
					t.Errorf("%s on %v, folder %v, umask %v: computed %v, the system made %v", text, from, isFolder,
						umask,
						got, want)
				}
			})
		}

		if t.Failed() {
			return
		}
	}
}

func TestSymbolicIsExact(t *testing.T) {
	for m := range All + 1 {
		c, err := ParseChange(m.Symbolic())
		if err != nil {
			t.Fatal(err)
		}
		if got := c.Apply(All&^m, false, 0o077); got != m {
			t.Fatalf("%s gives %v, want %v", m.Symbolic(), got, m)
		}
	}
}

func TestWordsAndArithmetic(t *testing.T) {
	for _, c := range []struct {
		m      Mode
		folder bool
		want   string
	}{
		{0o640, false, "The owner can read it and change it."},
		{0o640, true, "nothing in it can be reached"},
		{0o2770, true, "what is made in here gets this folder's group"},
		{0o4644, false, "a capital S"},
		{0o1777, true, "only by their owner"},
		{0o6755, false, "does so as its owner"},
	} {
		t.Run(c.want, func(t *testing.T) {
			if got := strings.Join(c.m.Words(c.folder), " "); !strings.Contains(got, c.want) {
				t.Errorf("%v: %q, want %q in it", c.m, got, c.want)
			}
		})
	}

	if got := strings.Join(Mode(0o2750).Arithmetic(), "; "); got != "special 2 = 2 (set-group-ID); owner 7 = 4 "+
		"(read) + 2 (write) + 1 (execute); group 5 = 4 (read) + 1 (execute); others 0 = nothing" {
		t.Errorf("arithmetic: %s", got)
	}
}

func FuzzParseChange(f *testing.F) {
	f.Add("u=rwx,g+s,o-w,a=X,=t,g=u")
	f.Fuzz(func(t *testing.T, s string) {
		if c, err := ParseChange(s); err == nil {
			if m := c.Apply(0o644, true, 0o022); m > All {
				t.Fatalf("%q gives %v", s, m)
			}
		}
	})
}
