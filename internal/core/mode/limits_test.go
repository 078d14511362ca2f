package mode

import (
	"strings"
	"testing"
)

func TestLimits(t *testing.T) {
	for _, c := range []struct {
		limits string
		m      Mode
		meets  bool
		mended Mode
		broken string
	}{
		{"g+r,o-w", 0o644, true, 0o644, ""},
		{"g+r,o-w", 0o602, false, 0o640, "the group must have read; others must not have write"},
		{"o-rwx", 0o751, false, 0o750, "others must not have execute"},
		{"ug-s,+t", 0o6755, false, 0o1755,
			"it must not have set-user-ID; it must not have set-group-ID; it must have sticky"},
		{"a+r", 0o444, true, 0o444, ""},
	} {
		t.Run(c.limits, func(t *testing.T) {
			l, err := ParseLimits(c.limits)
			if err != nil {
				t.Errorf("%s: %v", c.limits, err)
				return
			}

			if got := l.Meets(c.m); got != c.meets {
				t.Errorf("%s on %s: %v, want %v", c.limits, c.m, got, c.meets)
			}

			if got := l.Mend(c.m); got != c.mended || !l.Meets(got) {
				t.Errorf("%s on %s mends to %s, want %s", c.limits, c.m, got, c.mended)
			}

			if got := strings.Join(l.Broken(c.m), "; "); got != c.broken {
				t.Errorf("%s on %s: %q, want %q", c.limits, c.m, got, c.broken)
			}

			if back, err := ParseLimits(l.String()); err != nil || back != l {
				t.Errorf("%s came back as %v, %v", l, back, err)
			}
		})
	}

	for s, want := range map[string]string{
		"g=r": "exact mode", "g+X": "depend on the mode", "g+u": "depend on the mode", "o+s": "no permission is named",
		"o+r,o-r": "and forbid it", "g": "ends where", "g+q": "character 3",
	} {
		t.Run(s, func(t *testing.T) {
			if _, err := ParseLimits(s); err == nil || !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v, want %q in it", s, err, want)
			}
		})
	}
}

func FuzzParseLimits(f *testing.F) {
	f.Add("g+r,o-w")
	f.Fuzz(func(t *testing.T, s string) {
		l, err := ParseLimits(s)
		if err != nil {
			return
		}
		if back, err := ParseLimits(l.String()); err != nil || back != l {
			t.Fatalf("%q is %v, which came back as %v, %v", s, l, back, err)
		}
	})
}
