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
	for pw, want := range map[string]string{"short": "too short", "the-purser-again": "your name", "long enough now": "", "日本語でだめ": "too short", "日本語なら十二文字で足りる": "",
		"password1234": "guessed first", "Password123456!": "guessed first", "aaaaaaaaaaaa": "different characters", "            ": "different characters", "123456789012": "guessed first",
		"qwertyuiop12": "guessed first", "letmeinletmein": "guessed first", "tidetidetide": "different characters", "harbourharbour": "guessed first", "ebb and flow at six": "", "it was used before": "the old one"} {
		err := Acceptable(pw, "purser", "it was used before")
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
