package mode

import (
	"fmt"
	"strings"
	"testing"
)

func TestParseOctal(t *testing.T) {
	for _, c := range []struct {
		in   string
		want Mode
		err  string
	}{
		{"640", 0o640, ""}, {"0640", 0o640, ""}, {"0o640", 0o640, ""}, {"02750", 0o2750, ""}, {"7", 7, ""},
		{"2770", 0o2770, ""}, {"1777", 0o1777, ""}, {"0000", 0, ""},
		{"", 0, "1 to 4 octal digits"}, {"648", 0, "character 3 is '8'"}, {"12345", 0, "1 to 4"},
		{"-1", 0, "character 1"},
	} {
		t.Run(c.in, func(t *testing.T) {
			got, err := ParseOctal(c.in)
			if c.err == "" && (err != nil || got != c.want) {
				t.Errorf("ParseOctal(%q) = %v, %v, want %v", c.in, got, err, c.want)
			}
			if c.err != "" && (err == nil || !strings.Contains(err.Error(), c.err)) {
				t.Errorf("ParseOctal(%q) error %v, want %q in it", c.in, err, c.err)
			}
		})
	}
}

// Every one of the 4,096 modes survives both written forms.
func TestRoundTrips(t *testing.T) {
	for m := range All + 1 {
		if got, err := ParseOctal(m.String()); err != nil || got != m {
			t.Fatalf("octal %v came back as %v, %v", m, got, err)
		}
		if got, err := ParseLetters(m.Letters()); err != nil || got != m {
			t.Fatalf("letters %v of %v came back as %v, %v", m.Letters(), m, got, err)
		}
	}
}

func TestLetters(t *testing.T) {
	for m, want := range map[Mode]string{
		0o755: "rwxr-xr-x", 0o4755: "rwsr-xr-x", 0o4644: "rwSr--r--", 0o2750: "rwxr-s---",
		0o2640: "rw-r-S---", 0o1777: "rwxrwxrwt", 0o1770: "rwxrwx--T",
	} {
		t.Run(fmt.Sprint(m), func(t *testing.T) {
			if got := m.Letters(); got != want {
				t.Errorf("%v = %q, want %q", m, got, want)
			}
		})
	}
	for _, bad := range []string{"", "rwxr-xr-", "rwxrwxrws", "wrxr-xr-x", "rwtr-xr-x"} {
		t.Run(bad, func(t *testing.T) {
			if m, err := ParseLetters(bad); err == nil {
				t.Errorf("ParseLetters(%q) = %v, want an error", bad, m)
			}
		})
	}
}

func FuzzParseLetters(f *testing.F) {
	f.Add("rwxr-S--T")
	f.Fuzz(func(t *testing.T, s string) {
		if m, err := ParseLetters(s); err == nil && m.Letters() != s {
			t.Fatalf("%q parsed to %v, which writes %q", s, m, m.Letters())
		}
	})
}

func FuzzParseOctal(f *testing.F) {
	f.Add("0640")
	f.Fuzz(func(t *testing.T, s string) {
		if m, err := ParseOctal(s); err == nil {
			if again, err := ParseOctal(m.String()); err != nil || again != m {
				t.Fatalf("%q parsed to %v, which came back as %v, %v", s, m, again, err)
			}
		}
	})
}
