package pathname

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

func TestEscape(t *testing.T) {
	for in, want := range map[string]string{
		"/srv/plain name":       "/srv/plain name",
		"/srv/Fähre ⛴":          "/srv/Fähre ⛴",
		"/a\nb":                 `/a\x0ab`,
		"/\x1b[31mred":          `/\x1b[31mred`,
		"/back\\slash":          `/back\\slash`,
		"/\xff\xfe":             `/\xff\xfe`,
		"/rtl\u202egpj.exe":     `/rtl\xe2\x80\xaegpj.exe`,
		"/no\u00a0break":        `/no\xc2\xa0break`,
		"/quote'\"`$(x)":        "/quote'\"`$(x)",
		"/tab\there":            `/tab\x09here`,
		"/zero\u200bwidth":      `/zero\xe2\x80\x8bwidth`,
		"/replacement\ufffd ok": "/replacement\ufffd ok",
	} {
		t.Run(in, func(t *testing.T) {
			if got := Escape(in); got != want {
				t.Errorf("Escape(%q) = %q, want %q", in, got, want)
			}
		})
	}

	for _, bad := range []string{`\`, `a\x1`, `\n`, `\xzz`} {
		t.Run(bad, func(t *testing.T) {
			if got, err := Unescape(bad); err == nil {
				t.Errorf("Unescape(%q) = %q, want an error", bad, got)
			}
		})
	}
}

func FuzzEscape(f *testing.F) {
	f.Add("/srv/\xff\\x41\n")
	f.Fuzz(func(t *testing.T, s string) {
		back, err := Unescape(Escape(s))
		if err != nil || back != s {
			t.Fatalf("%q came back as %q, %v", s, back, err)
		}
		j, err := json.Marshal(Path(s))
		var p Path
		if err != nil || json.Unmarshal(j, &p) != nil || string(p) != s {
			t.Fatalf("%q came back from JSON %s as %q, %v", s, j, p, err)
		}
	})
}

func TestCheck(t *testing.T) {
	for p, want := range map[string]string{
		"/": "", "/srv/app": "", "/srv/..hidden": "",
		"": "not absolute", "srv": "not absolute", "/srv/": "empty part", "/srv//app": "empty part",
		"/srv/../etc": `".."`, "/./a": `"."`, "/a\x00b": "NUL", "/" + strings.Repeat("n", 256): "256 bytes",
	} {
		t.Run(p, func(t *testing.T) {
			err := Check(p)
			if (want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), want) {
				t.Errorf("Check(%q) = %v, want %q", p, err, want)
			}
		})
	}
}

func TestCompareIsWalkOrder(t *testing.T) {
	walk := []string{"/a", "/a/b", "/a/b/c", "/a/b!", "/a!", "/a!/x", "/b"}
	mixed := slices.Clone(walk)
	slices.Reverse(mixed)
	slices.SortFunc(mixed, Compare)
	if !slices.Equal(mixed, walk) {
		t.Errorf("sorted to %q, want %q", mixed, walk)
	}
}

func TestUnder(t *testing.T) {
	for _, c := range []struct {
		p, folder string
		want      bool
	}{{"/a", "/a", true}, {"/a/b", "/a", true}, {"/ab", "/a", false}, {"/x", "/", true}, {"/", "/a", false}} {
		t.Run(c.p, func(t *testing.T) {
			if got := Under(c.p, c.folder); got != c.want {
				t.Errorf("Under(%q, %q) = %v", c.p, c.folder, got)
			}
		})
	}
}

func TestWiden(t *testing.T) {
	for _, c := range []struct{ folder, p, want string }{
		{"/a/b", "/a/b/c", "/a/b"}, {"/a/b", "/a/b", "/a/b"}, {"/a/b", "/a/bc", "/a"}, {"/a/b", "/a/c/d", "/a"},
		{"/a/b", "/x", "/"}, {"/", "/x", "/"},
	} {
		t.Run(c.folder, func(t *testing.T) {
			if got := Widen(c.folder, c.p); got != c.want {
				t.Errorf("Widen(%q, %q) = %q, want %q", c.folder, c.p, got, c.want)
			}
			if got := Widen(Path(c.folder), []byte(c.p)); string(got) != c.want {
				t.Errorf("Widen(%q, bytes of %q) = %q, want %q", c.folder, c.p, got, c.want)
			}
		})
	}

	folder, path := Path("/srv/a/folder/that/is/longer/than/a/small/buffer"),
		[]byte("/srv/a/folder/that/is/longer/than/a/small/buffer/name")
	if n := testing.AllocsPerRun(100, func() { Widen(folder, path) }); n != 0 {
		t.Errorf("holding a path in bytes costs %v allocations", n)
	}
}
