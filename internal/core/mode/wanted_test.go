package mode

import (
	"strings"
	"testing"
)

func TestWanted(t *testing.T) {
	for _, c := range []struct {
		text   string
		m      Mode
		folder bool
		want   Mode
	}{
		{"0640", 0o777, false, 0o640},
		{"rw-r-----", 0o777, false, 0o640},
		{"g+r,o-w", 0o602, false, 0o640},
		{"g+r,o-w", 0o2750, true, 0o2750},
		{"u=rwX,g=rX,o=", 0o666, false, 0o640},
		{"u=rwX,g=rX,o=", 0o616, false, 0o750},
		{"u=rwX,g=rX,o=", 0o2700, true, 0o2750},
		{"go-rwx,u-x", 0o500, false, 0o400},
		{"a-s", 0o6755, false, 0o755},
	} {
		t.Run(c.text, func(t *testing.T) {
			w, err := ParseWanted(c.text)
			if err != nil {
				t.Errorf("%s: %v", c.text, err)
				return
			}

			if got := w.Apply(c.m, c.folder); got != c.want {
				t.Errorf("%s from %s: %s, want %s", c.text, c.m, got, c.want)
			}

			if back, err := ParseWanted(w.String()); err != nil || back.Apply(c.m, c.folder) != c.want {
				t.Errorf("%s came back as %v, %v", c.text, back, err)
			}
		})
	}

	w, _ := ParseWanted("o-w,g+r")
	if w.Apply(All, false) != All&^0o002 || w.Least(false) != 0o040 {
		t.Errorf("at most %s, at least %s", w.Apply(All, false), w.Least(false))
	}

	for s, want := range map[string]string{
		"0698": "character 3 is '9'", "": "want 1 to 4", "+x": "a declaration has no umask",
		"u=g,g=o,o=u": "contradicts itself", "rwz": "neither octal digits nor nine letters",
	} {
		t.Run(s, func(t *testing.T) {
			if _, err := ParseWanted(s); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v, want %q in it", s, err, want)
			}
		})
	}
}

func FuzzParseWanted(f *testing.F) {
	f.Add("u=rwX,g=rX,o=", uint16(0o640))
	f.Fuzz(func(t *testing.T, s string, m uint16) {
		w, err := ParseWanted(s)
		if err != nil {
			return
		}
		for _, folder := range []bool{false, true} {
			once := w.Apply(Mode(m)&All, folder)
			if w.Apply(once, folder) != once {
				t.Fatalf("%q is not settled after %s", s, once)
			}
		}
	})
}
