package auth

import (
	"strings"
	"testing"
)

func TestPasswords(t *testing.T) {
	h := Hash("correct tide table")
	if !Check(h, "correct tide table") || Check(h, "Correct tide table") || Check("", "nobody has this password") || Check("$x$", "") {
		t.Error("passwords are not told apart")
	}
	if again := Hash("correct tide table"); again == h {
		t.Error("two hashes of one password are equal: no salt")
	}
	for pw, want := range map[string]string{"short": "too short", "the-purser-again": "your name", "long enough now": ""} {
		err := Acceptable(pw, "purser")
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", pw, err, want)
		}
	}
}

func TestCodesAndTokens(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		c := Code(4)
		if len(c) != 23 || seen[c] || strings.ContainsAny(c, "01oil") {
			t.Fatalf("code %q", c)
		}
		seen[c] = true
		tok, h := Token()
		if seen[tok] || HashToken(tok) != h {
			t.Fatalf("token %q", tok)
		}
		seen[tok] = true
	}
}
